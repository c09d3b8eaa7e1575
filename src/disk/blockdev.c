/* Bounds, alignment and direct access for every kind of disk.
 *
 * All reads and writes of disks pass here, and an access beyond the end is refused before a back
 * end sees it (files, memory, a part of another device, the layer over a held start). */
#include "disk/blockdev.h"

#include <string.h>

struct WdrBlockDev {
	char *name;
	uint64_t size;
	uint32_t sector_size;
	const WdrBlockOps *ops;
	void *self;
};

WdrBlockDev *wdr_blockdev_new(
	const char *name, uint64_t size, uint32_t sector_size, const WdrBlockOps *ops, void *self)
{
	WdrBlockDev *dev = g_new0(WdrBlockDev, 1);

	dev->name = g_strdup(name);
	dev->size = size;
	dev->sector_size = sector_size;
	dev->ops = ops;
	dev->self = self;
	return dev;
}

void wdr_blockdev_free(WdrBlockDev *dev)
{
	if (!dev)
		return;
	dev->ops->free(dev->self);
	g_free(dev->name);
	g_free(dev);
}

void wdr_blockdev_set_name(WdrBlockDev *dev, const char *name)
{
	g_free(dev->name);
	dev->name = g_strdup(name);
}

const char *wdr_blockdev_name(const WdrBlockDev *dev)
{
	return dev->name;
}

uint64_t wdr_blockdev_size(const WdrBlockDev *dev)
{
	return dev->size;
}

uint32_t wdr_blockdev_sector_size(const WdrBlockDev *dev)
{
	return dev->sector_size;
}

void wdr_blockdev_set_sector_size(WdrBlockDev *dev, uint32_t bytes)
{
	dev->sector_size = bytes;
}

int wdr_blockdev_fd(const WdrBlockDev *dev)
{
	return dev->ops->fd ? dev->ops->fd(dev->self) : -1;
}

static bool in_bounds(const WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error)
{
	if (len <= dev->size && offset <= dev->size - len)
		return true;
	return wdr_error_set(error, WDR_ERROR_FORMAT,
		"%s: %" G_GUINT64_FORMAT " bytes at %" G_GUINT64_FORMAT
		" lie past its end (%" G_GUINT64_FORMAT " bytes)",
		dev->name, len, offset, dev->size);
}

bool wdr_blockdev_read(WdrBlockDev *dev, void *buf, size_t len, uint64_t offset, GError **error)
{
	if (!in_bounds(dev, offset, len, error))
		return false;
	if (dev->ops->read(dev->self, buf, len, offset, error))
		return true;
	g_prefix_error(error, "%s: ", dev->name);
	return false;
}

bool wdr_blockdev_write(
	WdrBlockDev *dev, const void *buf, size_t len, uint64_t offset, GError **error)
{
	if (!in_bounds(dev, offset, len, error))
		return false;
	if (dev->ops->write(dev->self, buf, len, offset, error))
		return true;
	g_prefix_error(error, "%s: ", dev->name);
	return false;
}

bool wdr_blockdev_write_pieces(
	WdrBlockDev *dev, const struct iovec *pieces, unsigned n, uint64_t offset, GError **error)
{
	uint64_t len = 0;

	for (unsigned i = 0; i < n; i++)
		len += pieces[i].iov_len;
	if (dev->ops->write_pieces) {
		if (!in_bounds(dev, offset, len, error))
			return false;
		if (dev->ops->write_pieces(dev->self, pieces, n, offset, error))
			return true;
		g_prefix_error(error, "%s: ", dev->name);
		return false;
	}
	for (unsigned i = 0; i < n; i++) {
		if (!wdr_blockdev_write(dev, pieces[i].iov_base, pieces[i].iov_len, offset, error))
			return false;
		offset += pieces[i].iov_len;
	}
	return true;
}

static bool write_zeros(WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error)
{
	static const uint8_t zeros[65536];

	while (len > 0) {
		size_t part = len < sizeof(zeros) ? (size_t)len : sizeof(zeros);
		if (!dev->ops->write(dev->self, zeros, part, offset, error))
			return false;
		offset += part;
		len -= part;
	}
	return true;
}

bool wdr_blockdev_zero(WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error)
{
	if (!in_bounds(dev, offset, len, error))
		return false;
	if (len == 0)
		return true;
	if (dev->ops->zero ? dev->ops->zero(dev->self, offset, len, error)
			   : write_zeros(dev, offset, len, error))
		return true;
	g_prefix_error(error, "%s: ", dev->name);
	return false;
}

bool wdr_blockdev_discard(WdrBlockDev *dev, uint64_t offset, uint64_t len)
{
	return dev->ops->discard && len > 0 && in_bounds(dev, offset, len, NULL) &&
	       dev->ops->discard(dev->self, offset, len);
}

uint8_t *wdr_blockdev_aligned(uint8_t *raw)
{
	return raw + (WDR_DIRECT_BYTES - (uintptr_t)raw % WDR_DIRECT_BYTES);
}

bool wdr_blockdev_is_past_cache(const WdrBlockDev *dev)
{
	return dev->ops->is_past_cache && dev->ops->is_past_cache(dev->self);
}

bool wdr_blockdev_settle(WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error)
{
	if (!dev->ops->settle || dev->ops->settle(dev->self, offset, len, error))
		return true;
	g_prefix_error(error, "%s: ", dev->name);
	return false;
}

bool wdr_blockdev_flush(WdrBlockDev *dev, GError **error)
{
	if (dev->ops->flush(dev->self, error))
		return true;
	g_prefix_error(error, "%s: ", dev->name);
	return false;
}

/* ---- memory ---- */

static bool memory_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	(void)error;
	memcpy(buf, (const uint8_t *)self + offset, len);
	return true;
}

static bool memory_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	(void)error;
	memcpy((uint8_t *)self + offset, buf, len);
	return true;
}

static bool memory_flush(void *self, GError **error)
{
	(void)self;
	(void)error;
	return true;
}

WdrBlockDev *wdr_blockdev_new_memory(const char *name, size_t size)
{
	static const WdrBlockOps ops = {
		.read = memory_read, .write = memory_write, .flush = memory_flush, .free = g_free
	};

	return wdr_blockdev_new(name, size, 512, &ops, g_malloc0(size));
}

/* ---- a part whose head is held back ---- */

typedef struct {
	WdrBlockDev *base;
	uint64_t offset;
	size_t held; /* 0 once released */
	uint8_t *head;
} Held;

static bool held_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	Held *h = self;
	size_t from_head = offset < h->held ? MIN(len, h->held - (size_t)offset) : 0;

	memcpy(buf, h->head + (from_head ? offset : 0), from_head);
	return len == from_head || wdr_blockdev_read(h->base, (uint8_t *)buf + from_head,
					   len - from_head, h->offset + offset + from_head, error);
}

static bool held_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	Held *h = self;
	size_t to_head = offset < h->held ? MIN(len, h->held - (size_t)offset) : 0;

	memcpy(h->head + (to_head ? offset : 0), buf, to_head);
	return len == to_head || wdr_blockdev_write(h->base, (const uint8_t *)buf + to_head,
					 len - to_head, h->offset + offset + to_head, error);
}

static bool held_write_pieces(
	void *self, const struct iovec *pieces, unsigned n, uint64_t offset, GError **error)
{
	Held *h = self;

	for (; n > 0 && offset < h->held; n--, pieces++) {
		if (!held_write(h, pieces->iov_base, pieces->iov_len, offset, error))
			return false;
		offset += pieces->iov_len;
	}
	return n == 0 || wdr_blockdev_write_pieces(h->base, pieces, n, h->offset + offset, error);
}

static bool held_zero(void *self, uint64_t offset, uint64_t len, GError **error)
{
	Held *h = self;
	size_t to_head = offset < h->held ? (size_t)MIN(len, h->held - offset) : 0;

	memset(h->head + (to_head ? offset : 0), 0, to_head);
	return wdr_blockdev_zero(h->base, h->offset + offset + to_head, len - to_head, error);
}

static bool held_settle(void *self, uint64_t offset, uint64_t len, GError **error)
{
	Held *h = self;

	return wdr_blockdev_settle(h->base, h->offset + offset, len, error);
}

static bool held_flush(void *self, GError **error)
{
	return wdr_blockdev_flush(((Held *)self)->base, error);
}

static void held_free(void *self)
{
	g_free(((Held *)self)->head);
	g_free(self);
}

static const WdrBlockOps held_ops = {
	.read = held_read,
	.write = held_write,
	.write_pieces = held_write_pieces,
	.zero = held_zero,
	.settle = held_settle,
	.flush = held_flush,
	.free = held_free,
};

WdrBlockDev *wdr_blockdev_new_held(WdrBlockDev *base, uint64_t offset, uint64_t size, size_t held)
{
	Held *h = g_new0(Held, 1);

	h->base = base;
	h->offset = offset;
	h->held = held;
	h->head = g_malloc0(MAX(held, 1));
	return wdr_blockdev_new(base->name, size, base->sector_size, &held_ops, h);
}

bool wdr_blockdev_release(WdrBlockDev *part, GError **error)
{
	Held *h = part->self;

	g_return_val_if_fail(part->ops == &held_ops, false);
	if (!wdr_blockdev_write(h->base, h->head, h->held, h->offset, error) ||
		!wdr_blockdev_flush(h->base, error))
		return false;
	h->held = 0;
	return true;
}
