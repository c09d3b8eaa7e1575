/* The block device back end over a device node or an image file.
 *
 * Two descriptors: one through the page cache, one past it (O_DIRECT). Reading back what was
 * written is worth nothing through the cache, so a device opened as a medium reads past it.
 * O_DIRECT wants everything aligned: long requests are cut into an aligned middle and ragged ends,
 * short ones go through an aligned buffer. A page is never written both ways, since the cache could
 * then bring back old bytes. */
#include "disk/blockdev.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"

#include <fcntl.h>
#include <linux/falloc.h>
#include <linux/fs.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>

enum {
	/* Direct requests are aligned to this on both sides: at least a page, so that no page is
	 * ever written both through the page cache and past it, and at least any sector. */
	DIRECT_ALIGN = 4096,
	DIRECT_MIN = 64 * 1024,
	BOUNCE_BYTES = 1024 * 1024,
};

typedef struct {
	int fd;        /* through the page cache */
	int direct_fd; /* past it; -1 where that does not work */
	bool is_device;
	bool is_medium; /* reads go past the page cache */
} File;

static bool is_aligned(const void *buf)
{
	return (uintptr_t)buf % DIRECT_ALIGN == 0;
}

static bool read_direct(const File *f, uint8_t *buf, size_t len, uint64_t offset, GError **error)
{
	/* Of its own for each call, since calls come from several threads; many ask for a few bytes
	 * only. */
	g_autofree uint8_t *bounce = NULL;
	size_t room = 0;

	while (len > 0) {
		uint64_t start = wdr_round_down(offset, DIRECT_ALIGN);
		size_t lead = (size_t)(offset - start);
		bool straight = lead == 0 && len >= DIRECT_ALIGN && is_aligned(buf);
		if (!straight && !bounce) {
			room = MIN(BOUNCE_BYTES,
				(size_t)wdr_round_up(MIN(len, BOUNCE_BYTES) + lead, DIRECT_ALIGN));
			bounce = aligned_alloc(DIRECT_ALIGN, room);
			if (!bounce)
				return wdr_error_set(error, WDR_ERROR_IO, "out of memory");
		}
		size_t want = straight ? (size_t)wdr_round_down(len, DIRECT_ALIGN)
				       : MIN(room, (size_t)wdr_round_up(
							   MIN(len, room) + lead, DIRECT_ALIGN));
		ssize_t got = pread(f->direct_fd, straight ? buf : bounce, want, (off_t)start);
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0 || (size_t)got <= lead)
			return wdr_error_set_errno(error, got < 0 ? errno : EIO,
				"reading at byte %" G_GUINT64_FORMAT, offset);
		size_t part = MIN(len, (size_t)got - lead);
		if (!straight)
			memcpy(buf, bounce + lead, part);
		buf += part;
		len -= part;
		offset += part;
	}
	return true;
}

static bool file_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	const File *f = self;

	if (f->is_medium && f->direct_fd >= 0)
		return read_direct(f, buf, len, offset, error);
	if (f->is_medium)
		posix_fadvise(f->fd, (off_t)offset, (off_t)len, POSIX_FADV_DONTNEED);
	return wdr_pread_all(f->fd, buf, len, offset, error);
}

/* The whole pages in the middle go past the page cache, the ragged ends through it. */
static bool file_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	const File *f = self;
	const uint8_t *at = buf;
	size_t lead = (size_t)(wdr_round_up(offset, DIRECT_ALIGN) - offset);

	if (f->direct_fd < 0 || len < DIRECT_MIN + lead || !is_aligned(at + lead))
		return wdr_pwrite_all(f->fd, buf, len, offset, error);
	size_t middle = (size_t)wdr_round_down(len - lead, DIRECT_ALIGN);
	size_t tail = len - lead - middle;
	return wdr_pwrite_all(f->direct_fd, at + lead, middle, offset + lead, error) &&
	       wdr_pwrite_all(f->fd, at, lead, offset, error) &&
	       wdr_pwrite_all(f->fd, at + lead + middle, tail, offset + lead + middle, error);
}

/* Of the first pieces, how many begin and end with a page, in memory as on the disk: they can go
 * past the page cache in one request. */
static unsigned count_whole(const File *f, const struct iovec *pieces, unsigned n, uint64_t offset)
{
	unsigned i = 0;

	if (f->direct_fd < 0 || offset % DIRECT_ALIGN != 0)
		return 0;
	while (i < n && is_aligned(pieces[i].iov_base) && pieces[i].iov_len % DIRECT_ALIGN == 0)
		i++;
	return i;
}

/* As one request; what the system did not take of it, by others. */
static bool write_whole(
	const File *f, const struct iovec *pieces, unsigned n, uint64_t offset, GError **error)
{
	ssize_t done = pwritev(f->direct_fd, pieces, (int)n, (off_t)offset);

	if (done < 0 && errno != EINTR)
		return wdr_error_set_errno(
			error, errno, "writing at byte %" G_GUINT64_FORMAT, offset);
	size_t before = (size_t)MAX(done, 0);
	for (unsigned i = 0; i < n; i++) {
		size_t len = pieces[i].iov_len;
		size_t skipped = MIN(before, len);
		const uint8_t *at = pieces[i].iov_base;
		if (skipped < len && !wdr_pwrite_all(f->direct_fd, at + skipped, len - skipped,
					     offset + skipped, error))
			return false;
		before -= skipped;
		offset += len;
	}
	return true;
}

/* The first piece may begin within a page, and the last one end within one. */
static bool file_write_pieces(
	void *self, const struct iovec *pieces, unsigned n, uint64_t offset, GError **error)
{
	while (n > 0) {
		unsigned whole = count_whole(self, pieces, n, offset);
		unsigned part = MAX(whole, 1);
		bool is_fine = whole > 1 ? write_whole(self, pieces, whole, offset, error)
					 : file_write(self, pieces->iov_base, pieces->iov_len,
						   offset, error);
		if (!is_fine)
			return false;
		for (; part > 0; part--, n--, pieces++)
			offset += pieces->iov_len;
	}
	return true;
}

static bool zero_by_writing(const File *f, uint64_t offset, uint64_t len, GError **error)
{
	static const uint8_t zeros[65536] __attribute__((aligned(DIRECT_ALIGN)));

	while (len > 0) {
		size_t part = (size_t)MIN(len, sizeof(zeros));
		if (!wdr_pwrite_all(f->fd, zeros, part, offset, error))
			return false;
		offset += part;
		len -= part;
	}
	return true;
}

static bool punch(const File *f, uint64_t offset, uint64_t len)
{
	return fallocate(f->fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, (off_t)offset,
		       (off_t)len) == 0;
}

static bool file_zero(void *self, uint64_t offset, uint64_t len, GError **error)
{
	const File *f = self;
	uint64_t range[2] = { offset, len };

	if (f->is_device ? ioctl(f->fd, BLKZEROOUT, range) == 0 : punch(f, offset, len))
		return true;
	return zero_by_writing(f, offset, len, error);
}

/* Flash that knows what is free writes faster and lives longer. */
static bool file_discard(void *self, uint64_t offset, uint64_t len)
{
	const File *f = self;
	uint64_t range[2] = { offset, len };

	return f->is_device ? ioctl(f->fd, BLKDISCARD, range) == 0 : punch(f, offset, len);
}

static bool file_is_past_cache(void *self)
{
	const File *f = self;

	return f->is_medium && f->direct_fd >= 0;
}

static bool file_settle(void *self, uint64_t offset, uint64_t len, GError **error)
{
	const File *f = self;

	if (f->direct_fd >= 0 && len >= DIRECT_MIN)
		return true;
	if (sync_file_range(f->fd, (off_t)offset, (off_t)len,
		    SYNC_FILE_RANGE_WAIT_BEFORE | SYNC_FILE_RANGE_WRITE |
			    SYNC_FILE_RANGE_WAIT_AFTER) != 0 &&
		errno != ESPIPE && errno != EINVAL && errno != ENOSYS)
		return wdr_error_set_errno(
			error, errno, "writing back at byte %" G_GUINT64_FORMAT, offset);
	return true;
}

static bool file_flush(void *self, GError **error)
{
	const File *f = self;

	if (fsync(f->fd) != 0)
		return wdr_error_set_errno(error, errno, "flushing");
	return true;
}

static int file_fd(void *self)
{
	return ((const File *)self)->fd;
}

static void file_free(void *self)
{
	File *f = self;

	if (f->direct_fd >= 0)
		close(f->direct_fd);
	close(f->fd);
	g_free(f);
}

static const WdrBlockOps file_ops = {
	.read = file_read,
	.write = file_write,
	.write_pieces = file_write_pieces,
	.zero = file_zero,
	.discard = file_discard,
	.settle = file_settle,
	.flush = file_flush,
	.fd = file_fd,
	.is_past_cache = file_is_past_cache,
	.free = file_free,
};

static bool geometry(
	int fd, const char *path, WdrStat *st, uint64_t *size, uint32_t *sector, GError **error)
{
	int logical = 512;

	if (wdr_fstat(fd, st) != 0)
		return wdr_error_set_errno(error, errno, "looking at %s", path);
	if (S_ISREG(st->stx_mode)) {
		*size = st->stx_size;
		*sector = 512;
		return true;
	}
	if (!S_ISBLK(st->stx_mode))
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "%s is neither a disk nor an image file", path);
	if (ioctl(fd, BLKGETSIZE64, size) != 0 || ioctl(fd, BLKSSZGET, &logical) != 0)
		return wdr_error_set_errno(error, errno, "asking %s for its size", path);
	*sector = (uint32_t)logical;
	return true;
}

bool wdr_blockdev_open(const char *path, WdrOpenFlags flags, WdrBlockDev **ret, GError **error)
{
	WdrStat before;
	bool is_writing = flags & WDR_OPEN_WRITE;

	if (wdr_stat(path, &before) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	int mode = (is_writing ? O_RDWR : O_RDONLY) | O_CLOEXEC;
	int exclusive = is_writing && S_ISBLK(before.stx_mode) ? O_EXCL : 0;
	/* O_NONBLOCK: a FIFO named by mistake must not hang us. */
	g_auto(WdrFd) fd = open(path, mode | exclusive | O_NONBLOCK);
	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	WdrStat st;
	uint64_t size = 0;
	uint32_t sector = 512;
	if (!geometry(fd, path, &st, &size, &sector, error))
		return false;
	if (is_writing && flock(fd, LOCK_EX | LOCK_NB) != 0) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "%s is in use by another program", path);
		return false;
	}
	File *f = g_new0(File, 1);
	/* The descriptor's own entry, so that it is the same file whatever happened to the path. */
	g_autofree char *same = g_strdup_printf("/proc/self/fd/%d", fd);
	f->direct_fd = flags ? open(same, mode | O_DIRECT) : -1;
	f->fd = wdr_fd_steal(&fd);
	f->is_device = S_ISBLK(st.stx_mode);
	f->is_medium = flags & WDR_OPEN_MEDIUM;
	*ret = wdr_blockdev_new(path, size, sector, &file_ops, f);
	return true;
}

bool wdr_blockdev_reread_table(WdrBlockDev *dev)
{
	int fd = wdr_blockdev_fd(dev);
	WdrStat st;

	return fd >= 0 && wdr_fstat(fd, &st) == 0 && S_ISBLK(st.stx_mode) &&
	       ioctl(fd, BLKRRPART) == 0;
}
