/* Access to a whole disk: a block device, an image file, or memory. Offsets and sizes are bytes.
 *
 * Every access is checked against the disk's size once, here. Reads and writes may come from
 * several threads at a time. Large page-aligned writes go past the page cache (O_DIRECT) where the
 * medium's driver or file system allows it, so that a write that returned is with the medium; see
 * wdr_blockdev_settle() for where it does not. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>
#include <sys/uio.h>

typedef struct WdrBlockDev WdrBlockDev;

typedef enum {
	WDR_OPEN_READ = 0,
	WDR_OPEN_WRITE = 1 << 0,  /* also takes an exclusive lock: flock, and O_EXCL on devices */
	WDR_OPEN_MEDIUM = 1 << 1, /* reads come from the medium, not from the page cache */
} WdrOpenFlags;

/* A back end. Members get in-bounds requests only. `zero` may be NULL (zeros are written then), and
 * so may `write_pieces`, `discard`, `settle`, `fd` and `is_past_cache`. */
typedef struct {
	bool (*read)(void *self, void *buf, size_t len, uint64_t offset, GError **error);
	bool (*write)(void *self, const void *buf, size_t len, uint64_t offset, GError **error);
	bool (*write_pieces)(void *self, const struct iovec *pieces, unsigned n, uint64_t offset,
		GError **error);
	bool (*zero)(void *self, uint64_t offset, uint64_t len, GError **error);
	bool (*discard)(void *self, uint64_t offset, uint64_t len);
	bool (*settle)(void *self, uint64_t offset, uint64_t len, GError **error);
	bool (*flush)(void *self, GError **error);
	int (*fd)(void *self);
	bool (*is_past_cache)(void *self);
	void (*free)(void *self);
} WdrBlockOps;

bool wdr_blockdev_open(const char *path, WdrOpenFlags flags, WdrBlockDev **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Any other back end; `self` is taken over. */
WdrBlockDev *wdr_blockdev_new(
	const char *name, uint64_t size, uint32_t sector_size, const WdrBlockOps *ops, void *self);
/* `size` bytes of zeros in memory. */
WdrBlockDev *wdr_blockdev_new_memory(const char *name, size_t size);
void wdr_blockdev_free(WdrBlockDev *dev);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBlockDev, wdr_blockdev_free)

const char *wdr_blockdev_name(const WdrBlockDev *dev);
/* For messages, where the path tells nobody anything. */
void wdr_blockdev_set_name(WdrBlockDev *dev, const char *name);
uint64_t wdr_blockdev_size(const WdrBlockDev *dev);
/* Of a device: what its driver says; of an image: 512 unless set. */
uint32_t wdr_blockdev_sector_size(const WdrBlockDev *dev);
void wdr_blockdev_set_sector_size(WdrBlockDev *dev, uint32_t bytes);
/* For libfdisk and libblkid, which want a descriptor; -1 when there is none. Borrowed. */
int wdr_blockdev_fd(const WdrBlockDev *dev);

bool wdr_blockdev_read(WdrBlockDev *dev, void *buf, size_t len, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_blockdev_write(WdrBlockDev *dev, const void *buf, size_t len, uint64_t offset,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Several pieces of memory that follow each other on the disk; one request where the medium takes
 * them so. */
bool wdr_blockdev_write_pieces(WdrBlockDev *dev, const struct iovec *pieces, unsigned n,
	uint64_t offset, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Makes a range read as zeros, by discarding where that is certain to give zeros. */
bool wdr_blockdev_zero(
	WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Tells the medium that nothing in the range is needed any more, where it can be told; what reads
 * there afterwards is anything. A wish: false where it was not fulfilled. */
bool wdr_blockdev_discard(WdrBlockDev *dev, uint64_t offset, uint64_t len);
/* Where in `raw`, which has WDR_DIRECT_BYTES more than is needed, such a read can put its data. */
enum { WDR_DIRECT_BYTES = 4096 };
uint8_t *wdr_blockdev_aligned(uint8_t *raw);
/* Large aligned reads are certain to come from the medium. */
bool wdr_blockdev_is_past_cache(const WdrBlockDev *dev);
/* Waits until a range that was written is with the medium (a no-op after direct writes). */
bool wdr_blockdev_settle(
	WdrBlockDev *dev, uint64_t offset, uint64_t len, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* All that was written is on the medium, its cache included. */
bool wdr_blockdev_flush(WdrBlockDev *dev, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The kernel looks at the partition table anew; false where it cannot, or for an image. It does so
 * for the one who has the disk exclusively. */
bool wdr_blockdev_reread_table(WdrBlockDev *dev);

/* A part of another device that holds back the first `held` bytes of the part: writes to them are
 * kept in memory (reads see them) until wdr_blockdev_release(). `base` is borrowed and must live
 * longer. Used so that a boot volume cannot be taken for one before all of it is there. */
WdrBlockDev *wdr_blockdev_new_held(WdrBlockDev *base, uint64_t offset, uint64_t size, size_t held);
/* Writes what was held back; a plain part from then on. */
bool wdr_blockdev_release(WdrBlockDev *part, GError **error) G_GNUC_WARN_UNUSED_RESULT;
