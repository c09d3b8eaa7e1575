/* Reading contents from media that fail in places.
 *
 * A request that fails is halved down to 4 KiB, and each piece is tried three times. What still
 * fails becomes zeros, and its range is noted. A thousand failures in a row mean that the medium is
 * gone: that ends the move. */
#include "volume/volume.h"

#include <errno.h>
#include <string.h>

enum {
	SMALLEST_BYTES = 4096, /* a sector of any medium */
	TRIES = 3,
};

bool wdr_content_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	return content->ops->next(content, buf, cap, ret, error);
}

bool wdr_content_next_from(
	WdrContent *content, void *buf, size_t cap, uint64_t from, WdrPiece *ret, GError **error)
{
	if (content->ops->skip)
		content->ops->skip(content, from);
	do {
		if (!wdr_content_next(content, buf, cap, ret, error))
			return false;
	} while (ret->len > 0 && ret->offset + ret->len <= from);
	if (ret->len == 0 || ret->offset >= from)
		return true;
	uint64_t before = from - ret->offset;
	ret->offset = from;
	ret->len -= before;
	if (!ret->is_unwritten)
		memmove(buf, (uint8_t *)buf + before, (size_t)ret->len);
	return true;
}

typedef struct {
	WdrContent content;
	uint64_t size;
} Hole;

static bool hole_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	(void)buf;
	(void)cap;
	(void)error;
	*ret = (WdrPiece){ .offset = WDR_DERIVED(content, Hole, content)->size };
	return true;
}

static void hole_free(WdrContent *content)
{
	g_free(content);
}

WdrContent *wdr_content_hole(uint64_t size)
{
	static const WdrContentOps ops = { hole_next, hole_free, NULL, NULL };
	Hole *h = g_new0(Hole, 1);

	h->content.ops = &ops;
	h->size = size;
	return &h->content;
}

typedef struct {
	WdrContent content;
	GBytes *bytes;
	size_t pos;
} Bytes;

static bool bytes_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	Bytes *b = WDR_DERIVED(content, Bytes, content);
	size_t size = 0;
	const uint8_t *data = g_bytes_get_data(b->bytes, &size);
	size_t len = MIN(size - b->pos, cap);

	(void)error;
	if (len > 0)
		memcpy(buf, data + b->pos, len);
	*ret = (WdrPiece){ .offset = b->pos, .len = len };
	b->pos += len;
	return true;
}

static void bytes_free(WdrContent *content)
{
	g_bytes_unref(WDR_DERIVED(content, Bytes, content)->bytes);
	g_free(content);
}

WdrContent *wdr_content_bytes(GBytes *bytes)
{
	static const WdrContentOps ops = { bytes_next, bytes_free, NULL, NULL };
	Bytes *b = g_new0(Bytes, 1);

	b->content.ops = &ops;
	b->bytes = g_bytes_ref(bytes);
	return &b->content;
}

uint64_t wdr_content_places(const WdrContent *content)
{
	return content->ops->places ? content->ops->places(content) : 0;
}

void wdr_content_free(WdrContent *content)
{
	if (content)
		content->ops->free(content);
}

bool wdr_error_is_medium(const GError *error)
{
	static const int codes[] = { EIO, EBADMSG, EILSEQ, ENODATA, EREMOTEIO, ETIMEDOUT, EUCLEAN };
	int err = wdr_error_get_errno(error);

	for (size_t i = 0; i < G_N_ELEMENTS(codes); i++) {
		if (err == codes[i])
			return true;
	}
	return false;
}

WdrDamage *wdr_damage_new(gint *failures)
{
	WdrDamage *d = g_new0(WdrDamage, 1);

	d->ranges = g_array_new(FALSE, FALSE, sizeof(WdrRange));
	d->failures = failures;
	return d;
}

void wdr_damage_free(WdrDamage *d)
{
	if (!d)
		return;
	g_array_unref(d->ranges);
	g_free(d);
}

static void add_range(WdrDamage *d, uint64_t offset, uint64_t len)
{
	WdrRange *last =
		d->ranges->len ? &g_array_index(d->ranges, WdrRange, d->ranges->len - 1) : NULL;
	WdrRange r = { offset, len };

	if (last && last->offset + last->len == offset)
		last->len += len;
	else
		g_array_append_val(d->ranges, r);
}

bool wdr_read_device(void *dev, void *buf, size_t len, uint64_t at, GError **error)
{
	return wdr_blockdev_read(dev, buf, len, at, error);
}

/* The smallest part: tried again, then given up. */
static bool read_smallest(
	const WdrCarefulRead *c, uint8_t *buf, size_t len, uint64_t from, GError **error)
{
	for (unsigned i = 0; i < TRIES; i++) {
		g_autoptr(GError) local = NULL;
		if (c->read(c->self, buf, len, c->at + from, &local)) {
			g_atomic_int_set(c->damage->failures, 0);
			return true;
		}
		bool is_over = g_atomic_int_add(c->damage->failures, 1) >= WDR_FAILURES_MAX;
		if (!wdr_error_is_medium(local) || is_over) {
			g_propagate_error(error, g_steal_pointer(&local));
			return false;
		}
	}
	memset(buf, 0, len);
	add_range(c->damage, c->offset + from, len);
	return true;
}

/* Halves down to the smallest part, so that a single bad sector costs few requests. */
static bool read_halves(
	const WdrCarefulRead *c, uint8_t *buf, size_t len, uint64_t from, GError **error)
{
	g_autoptr(GError) local = NULL;

	if (len <= SMALLEST_BYTES)
		return read_smallest(c, buf, len, from, error);
	if (c->read(c->self, buf, len, c->at + from, &local)) {
		g_atomic_int_set(c->damage->failures, 0);
		return true;
	}
	if (!wdr_error_is_medium(local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	/* Cut where the medium's own sectors begin. */
	uint64_t middle = c->at + from + len / 2;
	size_t first = (size_t)(middle - middle % SMALLEST_BYTES - (c->at + from));
	first = first == 0 || first >= len ? len / 2 : first;
	return read_halves(c, buf, first, from, error) &&
	       read_halves(c, buf + first, len - first, from + first, error);
}

bool wdr_damage_read(const WdrCarefulRead *c, void *buf, size_t len, GError **error)
{
	if (!c->damage)
		return c->read(c->self, buf, len, c->at, error);
	return read_halves(c, buf, len, 0, error);
}
