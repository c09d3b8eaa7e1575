/* Any bytes for a reader of mentions, that of FUZZ_FORMAT: it must not crash, every mention must
 * lie within the text, and an edit without splices must give the same bytes. */
#include "boot/formats/extlinux.h"

#include "boot/formats/search.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void check(const WdrReading *r)
{
	for (guint i = 0; i < r->mentions->len; i++) {
		const WdrMention *m = r->mentions->pdata[i];
		g_assert(m->offset <= r->len && m->len <= r->len - m->offset);
		g_assert(memcmp(r->text + m->offset, m->text, m->len) == 0);
		g_assert(m->line > 0 && m->column > 0);
	}
}

/* A second way to start: refused, or a file in which it is the one that starts. */
static void check_choice(const char *text, size_t len)
{
	static const WdrExtlinuxChoice choice = { "SD card", "NVMe", "PARTUUID=9d8e7f60-02" };
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, "file", wdr_hash(text, len));
	g_autoptr(GBytes) bytes = NULL;
	size_t new_len = 0;

	if (!wdr_extlinux_add_choice(text, len, &choice, edit, NULL))
		return;
	bool is_applied = wdr_edit_apply(edit, text, len, &bytes, NULL);
	/* Splices are texts: what has 0 bytes in it cannot be spliced. */
	g_assert(is_applied || memchr(text, 0, len));
	if (!is_applied)
		return;
	const char *data = g_bytes_get_data(bytes, &new_len);
	g_autofree char *copy = g_malloc0(new_len + 1);
	memcpy(copy, data, new_len);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { "file", copy, new_len, 0, mentions, warnings };
	bool is_read = wdr_extlinux_read(&r, NULL);
	g_assert(is_read);
	bool starts = false;
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		starts |= m->is_default && strcmp(m->text, choice.new_root) == 0;
	}
	g_assert(starts || memchr(text, 0, len));
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	static const WdrIdentity id = { "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30", "reed bed",
		"4c1fa2b0-02", "root", 2, "mmcblk0", "0x2f41c7aa" };
	g_autofree char *text = g_malloc0(size + 1);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(WdrSearch) search = wdr_search_new(&id, 1);
	g_autoptr(GError) error = NULL;

	if (size > 0)
		memcpy(text, data, size);
	WdrReading r = { "file", text, size, 0, mentions, warnings };
	bool is_fine = wdr_format_find(FUZZ_FORMAT)->read(&r, &error);
	g_assert(is_fine == (error == NULL));
	check(&r);
	wdr_search_text(search, &r, 0, "left");
	check(&r);
	if (strcmp(FUZZ_FORMAT, "extlinux") == 0)
		check_choice(text, size);
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, "file", wdr_hash(text, size));
	g_autoptr(GBytes) same = NULL;
	bool is_applied = wdr_edit_apply(edit, text, size, &same, NULL);
	g_assert(is_applied && g_bytes_get_size(same) == size);
	g_assert(size == 0 || memcmp(g_bytes_get_data(same, NULL), data, size) == 0);
	return 0;
}
