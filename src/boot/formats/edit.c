/* Edits as replaced columns of a file, checked against the file's hash.
 *
 * An edit replaces bytes at an offset, and everything else in the file stays byte for byte. It
 * holds the old text, too, and the hash of the whole file: any other content is refused. */
#include "boot/formats/edit.h"

#include "base/text.h"
#include "boot/formats/image.h"
#include "boot/formats/text_rooms.h"

#include <stdlib.h>
#include <string.h>

enum { CONTEXT = 3 };

static void splice_free(void *data)
{
	WdrSplice *s = data;

	g_free(s->old_text);
	g_free(s->new_text);
	g_free(s);
}

WdrEdit *wdr_edit_new(unsigned number, const char *file, WdrHash before)
{
	WdrEdit *e = g_new0(WdrEdit, 1);

	e->number = number;
	e->file = g_strdup(file);
	e->before = before;
	e->splices = g_ptr_array_new_with_free_func(splice_free);
	return e;
}

void wdr_edit_free(WdrEdit *edit)
{
	if (!edit)
		return;
	g_ptr_array_unref(edit->splices);
	g_free(edit->file);
	g_free(edit);
}

static int by_offset(const void *a, const void *b)
{
	const WdrSplice *x = *(WdrSplice *const *)a;
	const WdrSplice *y = *(WdrSplice *const *)b;

	return x->offset < y->offset ? -1 : x->offset > y->offset;
}

void wdr_edit_add(WdrEdit *edit, size_t offset, unsigned line, unsigned column,
	const char *old_text, const char *new_text)
{
	WdrSplice *s = g_new0(WdrSplice, 1);

	s->offset = offset;
	s->len = strlen(old_text);
	s->line = line;
	s->column = column;
	s->old_text = g_strdup(old_text);
	s->new_text = g_strdup(new_text);
	g_ptr_array_add(edit->splices, s);
	g_ptr_array_sort(edit->splices, by_offset);
}

bool wdr_edit_covers(const WdrEdit *edit, const WdrMention *m)
{
	for (guint i = 0; i < edit->splices->len; i++) {
		const WdrSplice *s = edit->splices->pdata[i];
		if (edit->number == m->number && strcmp(edit->file, m->file) == 0 &&
			s->offset == m->offset && s->len == m->len)
			return true;
	}
	return false;
}

/* The lengths and checksums of a loader image whose text is now another. */
static bool seal(const WdrEdit *edit, const char *text, size_t len, GByteArray *out, GError **error)
{
	WdrLoaderImage image;

	if (!edit->is_image)
		return true;
	if (!wdr_loader_image_parse(text, len, &image, error))
		return false;
	wdr_loader_image_seal(out->data, &image, (ptrdiff_t)out->len - (ptrdiff_t)len);
	return true;
}

/* The splices within [from, to) put into the text there; the caller's. NULL: they do not fit it. */
static GByteArray *splice(
	const WdrEdit *edit, const char *text, size_t from, size_t to, GError **error)
{
	g_autoptr(GByteArray) out = g_byte_array_new();
	size_t at = from;

	for (guint i = 0; i < edit->splices->len; i++) {
		const WdrSplice *s = edit->splices->pdata[i];
		/* What is added at the end lies behind the last byte. */
		if (s->offset < from || s->offset > to)
			continue;
		if (s->offset < at || s->len > to || s->offset > to - s->len ||
			memcmp(text + s->offset, s->old_text, s->len) != 0) {
			wdr_error_set(error, WDR_ERROR_FORMAT,
				"the edit of /%s at line %u does not fit the file", edit->file,
				s->line);
			return NULL;
		}
		g_byte_array_append(out, (const uint8_t *)text + at, (guint)(s->offset - at));
		g_byte_array_append(out, (const uint8_t *)s->new_text, (guint)strlen(s->new_text));
		at = s->offset + s->len;
	}
	g_byte_array_append(out, (const uint8_t *)text + at, (guint)(to - at));
	return g_steal_pointer(&out);
}

/* Texts inside a file that keeps its size. Whatever lies outside of them is no edit of ours. */
static bool apply_in_rooms(const WdrEdit *edit, const GArray *rooms, const char *text, size_t len,
	GBytes **ret, GError **error)
{
	g_autofree char *out = g_memdup2(text, len);
	guint fitting = 0;

	for (guint i = 0; i < rooms->len; i++) {
		const WdrTextRoom *room = &g_array_index(rooms, WdrTextRoom, i);
		g_autoptr(GByteArray) filled =
			splice(edit, text, room->at, room->at + room->bytes, error);
		if (!filled)
			return false;
		for (guint k = 0; k < edit->splices->len; k++) {
			const WdrSplice *s = edit->splices->pdata[k];
			fitting += s->offset >= room->at && s->offset - room->at <= room->bytes;
		}
		if (!wdr_text_room_fill(
			    room, out, (const char *)filled->data, filled->len, error)) {
			g_prefix_error(error, "/%s: ", edit->file);
			return false;
		}
	}
	if (fitting != edit->splices->len)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"an edit of /%s lies outside of the texts in it", edit->file);
	*ret = g_bytes_new_take(g_steal_pointer(&out), len);
	return true;
}

bool wdr_edit_apply(const WdrEdit *edit, const char *text, size_t len, GBytes **ret, GError **error)
{
	if (!wdr_hash_equal(wdr_hash(text, len), edit->before)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s on partition %u has changed since the itinerary was drawn", edit->file,
			edit->number);
		return false;
	}
	g_autoptr(GArray) rooms = wdr_text_rooms(text, len);
	if (rooms)
		return apply_in_rooms(edit, rooms, text, len, ret, error);
	for (guint i = 0; i < edit->splices->len; i++) {
		const WdrSplice *s = edit->splices->pdata[i];
		if (s->offset > len)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"the edit of /%s at line %u does not fit the file", edit->file,
				s->line);
	}
	g_autoptr(GByteArray) out = splice(edit, text, 0, len, error);
	if (!out || !seal(edit, text, len, out, error))
		return false;
	*ret = g_byte_array_free_to_bytes(g_steal_pointer(&out));
	return true;
}

/* The text that the first edit is in. */
static bool show_room(
	const WdrEdit *edit, const char *bytes, size_t len, const char **ret_text, size_t *ret_len)
{
	g_autoptr(GArray) rooms = wdr_text_rooms(bytes, len);

	for (guint i = 0; rooms && i < rooms->len && edit->splices->len > 0; i++) {
		const WdrTextRoom *room = &g_array_index(rooms, WdrTextRoom, i);
		const WdrSplice *s = edit->splices->pdata[0];
		if (s->offset < room->at || s->offset - room->at >= room->room)
			continue;
		*ret_text = bytes + room->at;
		*ret_len = room->bytes;
		return true;
	}
	return false;
}

void wdr_edit_shown(
	const WdrEdit *edit, const char *bytes, size_t len, const char **ret_text, size_t *ret_len)
{
	WdrLoaderImage image;

	*ret_text = bytes;
	*ret_len = len;
	if (show_room(edit, bytes, len, ret_text, ret_len) || !edit->is_image ||
		!wdr_loader_image_parse(bytes, len, &image, NULL))
		return;
	*ret_text = bytes + image.text_at;
	*ret_len = image.text_bytes;
}
