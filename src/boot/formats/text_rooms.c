/* Finds and fills texts inside files that keep their size. */
#include "boot/formats/text_rooms.h"

#include "base/cursor.h"
#include "boot/formats/efi_program.h"
#include "boot/formats/mention.h"

#include <string.h>

static void add(GArray *all, const WdrEfiSpan *s, const char *what)
{
	WdrTextRoom room = { s->at, s->bytes, s->room, s->length_at, '\0', what };

	if (s->bytes > 0)
		g_array_append_val(all, room);
}

/* The text ends where only padding follows, behind a line's end. */
static void add_environment(GArray *all, const char *bytes, size_t len)
{
	size_t end = len;

	while (end > 0 && bytes[end - 1] == '#')
		end--;
	WdrTextRoom room = { 0, end, len, 0, '#', "GRUB's environment" };
	g_array_append_val(all, room);
}

static int by_place(const void *a, const void *b)
{
	size_t x = ((const WdrTextRoom *)a)->at;
	size_t y = ((const WdrTextRoom *)b)->at;

	return x < y ? -1 : x > y;
}

GArray *wdr_text_rooms(const char *bytes, size_t len)
{
	g_autoptr(GArray) all = g_array_new(FALSE, FALSE, sizeof(WdrTextRoom));
	size_t begin = strlen(wdr_grub_env_begin);
	WdrEfiProgram p;

	if (len >= begin && memcmp(bytes, wdr_grub_env_begin, begin) == 0) {
		add_environment(all, bytes, len);
		return g_steal_pointer(&all);
	}
	if (!wdr_efi_program_parse(bytes, len, &p, NULL))
		return NULL;
	for (unsigned i = 0; p.kind == WDR_EFI_UNIFIED && i < p.n_arguments; i++)
		add(all, &p.arguments[i], "kernel arguments");
	if (p.kind == WDR_EFI_GRUB)
		add(all, &p.config, "configuration inside GRUB");
	g_array_sort(all, by_place);
	return g_steal_pointer(&all);
}

bool wdr_text_room_fill(
	const WdrTextRoom *room, char *bytes, const char *text, size_t len, GError **error)
{
	if (len > room->room)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the new %s take %zu bytes, and the file has room for %zu", room->what, len,
			room->room);
	memcpy(bytes + room->at, text, len);
	memset(bytes + room->at + len, room->padding, room->room - len);
	if (room->length_at > 0)
		wdr_put_le32((uint8_t *)bytes + room->length_at, (uint32_t)len);
	return true;
}
