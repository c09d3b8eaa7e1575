/* Writing to flash by its erase blocks. Interface: the kernel's include/uapi/mtd/mtd-abi.h.
 *
 * NOR flash is erased in blocks, and only erased bytes can be written. A power cut in between
 * leaves a board without a loader: so only the blocks that differ are touched, each is read back at
 * once, and the original is in the state folder before the first one is erased. */
#include "base/cleanup.h"

#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"
#include "disk/flash.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <mtd/mtd-user.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

/* What is written at a time where nothing needs to be erased. */
enum { STEP_BYTES = 64 * 1024 };

typedef struct {
	char *path;
	int fd;
	uint64_t size;
	uint64_t step;   /* bytes that are read, compared and written at a time */
	bool is_erased;  /* by MEMERASE before it is written */
	char *lock_file; /* force_ro of an eMMC boot partition; NULL: none */
} Flash;

/* Its lock is put back, whatever came of the rest; when that fails it is open until the restart. */
static void flash_clear(Flash *f)
{
	if (f->fd >= 0)
		close(f->fd);
	if (f->lock_file)
		(void)wdr_write_attribute(f->lock_file, "1\n");
	g_free(f->lock_file);
	g_free(f->path);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Flash, flash_clear)

static bool unlock(Flash *f, const WdrWorld *world, const char *device, GError **error)
{
	g_autofree char *name = g_path_get_basename(device);
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/force_ro", name);
	g_autofree char *path = wdr_world_path(world, in_sys);
	g_autofree char *is = wdr_read_line(path);

	if (!is || strcmp(is, "0") == 0)
		return true;
	if (!wdr_write_attribute(path, "0\n"))
		return wdr_error_set_errno(error, errno, "making %s writable", device);
	f->lock_file = g_steal_pointer(&path);
	return true;
}

static bool ask_size(Flash *f, GError **error)
{
	struct mtd_info_user info = { 0 };
	WdrStat st;

	if (wdr_fstat(f->fd, &st) != 0)
		return wdr_error_set_errno(error, errno, "%s", f->path);
	f->step = STEP_BYTES;
	if (S_ISCHR(st.stx_mode)) {
		if (ioctl(f->fd, MEMGETINFO, &info) != 0)
			return wdr_error_set_errno(error, errno, "asking %s what it is", f->path);
		f->size = info.size;
		f->is_erased = info.erasesize > 0 && !(info.flags & MTD_NO_ERASE);
		if (info.erasesize > 0)
			f->step = info.erasesize;
		return true;
	}
	off_t end = lseek(f->fd, 0, SEEK_END);
	if (end < 0)
		return wdr_error_set_errno(error, errno, "%s", f->path);
	f->size = (uint64_t)end;
	return true;
}

static bool open_flash(
	Flash *f, const WdrWorld *world, const char *device, int flags, GError **error)
{
	f->fd = -1;
	f->path = wdr_device_path(world, device);
	if ((flags & O_ACCMODE) == O_RDWR && !unlock(f, world, device, error))
		return false;
	f->fd = open(f->path, flags | O_CLOEXEC);
	if (f->fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s", f->path);
	return ask_size(f, error);
}

bool wdr_flash_size(const WdrWorld *world, const char *device, uint64_t *ret, GError **error)
{
	g_auto(Flash) f = { .fd = -1 };

	if (!open_flash(&f, world, device, O_RDONLY, error))
		return false;
	*ret = f.size;
	return true;
}

bool wdr_flash_erased(
	const WdrWorld *world, const char *device, uint64_t *offset, uint64_t *len, GError **error)
{
	g_auto(Flash) f = { .fd = -1 };

	if (!open_flash(&f, world, device, O_RDONLY, error))
		return false;
	if (!f.is_erased || *offset > f.size || *len > f.size - *offset)
		return true;
	uint64_t end = MIN(wdr_round_up(*offset + *len, f.step), f.size);
	*offset -= *offset % f.step;
	*len = end - *offset;
	return true;
}

static bool erase(const Flash *f, uint64_t at, GError **error)
{
	struct erase_info_user64 range = { at, f->step };

	if (!f->is_erased || ioctl(f->fd, MEMERASE64, &range) == 0)
		return true;
	return wdr_error_set_errno(error, errno,
		"%s: erasing %" G_GUINT64_FORMAT " bytes at %" G_GUINT64_FORMAT, f->path, f->step,
		at);
}

/* One block as it is to be; `block` has room for it. */
static bool put_block(const Flash *f, const WdrFlashWrite *w, uint64_t at, size_t block_len,
	uint8_t *block, GError **error)
{
	uint64_t from = MAX(at, w->offset);
	uint64_t to = MIN(at + block_len, w->offset + w->len);
	const uint8_t *bytes = w->bytes + (from - w->offset);

	if (!wdr_pread_all(f->fd, block, block_len, at, error))
		return false;
	if (memcmp(block + (from - at), bytes, (size_t)(to - from)) == 0)
		return true;
	memcpy(block + (from - at), bytes, (size_t)(to - from));
	return erase(f, at, error) && wdr_pwrite_all(f->fd, block, block_len, at, error);
}

/* What the kernel keeps of it in memory tells nothing of the medium. */
static bool forget_cached(const Flash *f, GError **error)
{
	WdrStat st;

	if (fsync(f->fd) != 0 && errno != EINVAL)
		return wdr_error_set_errno(error, errno, "flushing %s", f->path);
	if (wdr_fstat(f->fd, &st) == 0 && S_ISBLK(st.stx_mode))
		(void)ioctl(f->fd, BLKFLSBUF, 0);
	(void)posix_fadvise(f->fd, 0, 0, POSIX_FADV_DONTNEED);
	return true;
}

static bool read_back(const WdrWorld *world, const WdrFlashWrite *w, GError **error)
{
	g_autofree uint8_t *got = NULL;

	if (!wdr_flash_read_at(world, w->device, (int64_t)w->offset, w->len, &got, error))
		return false;
	for (size_t i = 0; i < w->len; i++) {
		if (got[i] != w->bytes[i])
			return wdr_error_set(error, WDR_ERROR_IO,
				"%s: byte %" G_GUINT64_FORMAT
				" read back is 0x%02x, and 0x%02x was "
				"written",
				wdr_device_name(w->device), w->offset + i, got[i], w->bytes[i]);
	}
	return true;
}

bool wdr_flash_write(const WdrWorld *world, const WdrFlashWrite *w, GError **error)
{
	const char *device = w->device;
	uint64_t offset = w->offset;
	size_t len = w->len;
	g_auto(Flash) f = { .fd = -1 };

	if (!open_flash(&f, world, device, O_RDWR, error))
		return false;
	if (offset > f.size || len > f.size - offset)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s has %" G_GUINT64_FORMAT " bytes, and bytes %" G_GUINT64_FORMAT
			" to %" G_GUINT64_FORMAT " were to be written",
			wdr_device_name(device), f.size, offset, offset + len);
	g_autofree uint8_t *block = g_malloc((size_t)f.step);
	for (uint64_t at = offset - offset % f.step; at < offset + len; at += f.step) {
		size_t block_len = (size_t)MIN(f.step, f.size - at);
		if (!put_block(&f, w, at, block_len, block, error)) {
			g_prefix_error(error, "%s: ", wdr_device_name(device));
			return false;
		}
		if (w->progress)
			w->progress(w->data, MIN(at + block_len, offset + len) - offset, len);
	}
	return forget_cached(&f, error) && read_back(world, w, error);
}
