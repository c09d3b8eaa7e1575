/* Any bytes as lines of a packing list: refused, or read so that the line can be made again; and as
 * the head of a swap area. */
#include "copy/list_entry.h"

#include "volume/swap.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void try_line(const char *line)
{
	g_auto(WdrListEntry) packed = { 0 };
	g_auto(WdrListEntry) again = { 0 };
	g_autoptr(GString) text = g_string_new(NULL);

	if (!wdr_list_entry_from_line(line, &packed, NULL))
		return;
	wdr_list_entry_to_line(&packed, text);
	g_assert_true(wdr_list_entry_from_line(text->str, &again, NULL));
	g_autofree char *difference = wdr_list_entry_difference(&packed, &again);
	g_assert_null(difference);
	g_assert_cmpint(wdr_list_entry_order(packed.path, again.path), ==, 0);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autofree char *text = g_strndup((const char *)data, size);
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	WdrSwap swap;

	for (size_t i = 0; lines[i]; i++)
		try_line(lines[i]);
	if (wdr_swap_parse(data, size, &swap)) {
		g_autofree uint8_t *head = g_malloc(swap.page_bytes);
		g_assert_true(wdr_swap_make(&swap, UINT64_C(1) << 40, head));
	}
	return 0;
}
