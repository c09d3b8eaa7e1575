/* Writes and reads marks that show whether a disk has the size that it claims.
 *
 * Marks at doubling distances and at the end, each of another content, are written first and read
 * afterwards. On a disk that begins anew at a power of two, or that loses what is written beyond
 * its end, one of them is gone. Other false sizes are found at the end of the move, see
 * disk/spot_checks.c. */
#include "disk/true_size.h"

#include "base/cursor.h"
#include "base/text.h"

#include <string.h>

enum {
	MARK_BYTES = 4096, /* any disk's sector, or several */
	MARK_WORD = 8,     /* the mark is this over and over: the run's number, the place */
	FIRST_AT = 1024 * 1024,
};

static void make_mark(uint8_t *mark, uint64_t run, uint64_t at)
{
	for (size_t i = 0; i < MARK_BYTES; i += 2 * MARK_WORD) {
		wdr_put_le64(mark + i, run);
		wdr_put_le64(mark + i + MARK_WORD, at);
	}
}

/* Rising; the last one ends the disk. */
static GArray *places(uint64_t size)
{
	GArray *list = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	uint64_t last = wdr_round_down(size, MARK_BYTES) - MARK_BYTES;

	for (uint64_t step = 0; size > MARK_BYTES && FIRST_AT + step < last;
		step = step ? 2 * step : FIRST_AT) {
		uint64_t at = FIRST_AT + step;
		g_array_append_val(list, at);
	}
	if (size > MARK_BYTES)
		g_array_append_val(list, last);
	return list;
}

static bool put_marks(WdrBlockDev *dev, const GArray *list, uint64_t run, GError **error)
{
	uint8_t mark[MARK_BYTES];

	for (guint i = 0; i < list->len; i++) {
		uint64_t at = g_array_index(list, uint64_t, i);
		make_mark(mark, run, at);
		if (!wdr_blockdev_write(dev, mark, sizeof(mark), at, error))
			return false;
	}
	return wdr_blockdev_flush(dev, error);
}

bool wdr_truesize_advise(GError **error)
{
	wdr_error_hint(error,
		"do not use this disk: it loses what is written to it. Its old contents are gone; the "
		"source is as it was");
	return false;
}

static bool lies(
	const WdrBlockDev *dev, uint64_t at, const uint8_t *found, uint64_t run, GError **error)
{
	WdrCursor c = wdr_cursor(found + MARK_WORD, MARK_WORD);
	uint64_t from = wdr_cursor_le64(&c);
	uint8_t mark[MARK_BYTES];
	g_autofree char *size = wdr_format_size(wdr_blockdev_size(dev));
	g_autofree char *place = wdr_format_size(at);

	make_mark(mark, run, from);
	g_autofree char *other =
		memcmp(mark, found, MARK_BYTES) == 0 ? wdr_format_size(from) : NULL;
	if (other)
		wdr_error_set(error, WDR_ERROR_IO,
			"%s is smaller than the %s that it says: what was written %s into it was found "
			"%s into it",
			wdr_blockdev_name(dev), size, other, place);
	else
		wdr_error_set(error, WDR_ERROR_IO,
			"%s is smaller than the %s that it says: what was written %s into it did not "
			"stay there",
			wdr_blockdev_name(dev), size, place);
	return wdr_truesize_advise(error);
}

static bool check_marks(WdrBlockDev *medium, const GArray *list, uint64_t run, GError **error)
{
	uint8_t mark[MARK_BYTES];
	uint8_t found[MARK_BYTES];

	for (guint i = 0; i < list->len; i++) {
		uint64_t at = g_array_index(list, uint64_t, i);
		make_mark(mark, run, at);
		if (!wdr_blockdev_read(medium, found, sizeof(found), at, error))
			return false;
		if (memcmp(mark, found, MARK_BYTES) != 0)
			return lies(medium, at, found, run, error);
	}
	return true;
}

bool wdr_truesize_prove(WdrBlockDev *dev, WdrBlockDev *medium, GError **error)
{
	/* Marks of an earlier run must not pass for this one's. */
	uint64_t run = (uint64_t)g_random_int() << 32 | g_random_int();
	g_autoptr(GArray) list = places(wdr_blockdev_size(dev));

	if (!put_marks(dev, list, run, error) || !check_marks(medium, list, run, error))
		return false;
	for (guint i = 0; i < list->len; i++) {
		if (!wdr_blockdev_zero(dev, g_array_index(list, uint64_t, i), MARK_BYTES, error))
			return false;
	}
	return true;
}
