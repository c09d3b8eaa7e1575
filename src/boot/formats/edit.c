/* Edits as replaced columns of a file, checked against the file's hash.
 *
 * An edit replaces bytes at an offset, and everything else in the file stays byte for byte. It
 * holds the old text, too, and the hash of the whole file: any other content is refused. */
#include "boot/formats/edit.h"

#include "base/text.h"
#include "boot/formats/image.h"

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

bool wdr_edit_apply(const WdrEdit *edit, const char *text, size_t len, GBytes **ret, GError **error)
{
	g_autoptr(GByteArray) out = g_byte_array_new();
	size_t at = 0;

	if (!wdr_hash_equal(wdr_hash(text, len), edit->before)) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s on partition %u has changed since the itinerary was drawn", edit->file,
			edit->number);
		return false;
	}
	for (guint i = 0; i < edit->splices->len; i++) {
		const WdrSplice *s = edit->splices->pdata[i];
		if (s->offset < at || s->len > len || s->offset > len - s->len ||
			memcmp(text + s->offset, s->old_text, s->len) != 0)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"the edit of /%s at line %u does not fit the file", edit->file,
				s->line);
		g_byte_array_append(out, (const uint8_t *)text + at, (guint)(s->offset - at));
		g_byte_array_append(out, (const uint8_t *)s->new_text, (guint)strlen(s->new_text));
		at = s->offset + s->len;
	}
	g_byte_array_append(out, (const uint8_t *)text + at, (guint)(len - at));
	if (!seal(edit, text, len, out, error))
		return false;
	*ret = g_byte_array_free_to_bytes(g_steal_pointer(&out));
	return true;
}

void wdr_edit_shown(
	const WdrEdit *edit, const char *bytes, size_t len, const char **ret_text, size_t *ret_len)
{
	WdrLoaderImage image;

	*ret_text = bytes;
	*ret_len = len;
	if (!edit->is_image || !wdr_loader_image_parse(bytes, len, &image, NULL))
		return;
	*ret_text = bytes + image.text_at;
	*ret_len = image.text_bytes;
}
