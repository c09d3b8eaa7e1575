/* The kernel's words about files, with 64-bit times on every processor. */
#include "base/stat.h"

#include <errno.h>
#include <fcntl.h>
#include <sys/syscall.h>
#include <sys/sysmacros.h>
#include <unistd.h>

/* stat(2) mounts nothing on the way; statx(2) has to be told. */
enum { HOW = AT_NO_AUTOMOUNT | AT_STATX_SYNC_AS_STAT, WHAT = STATX_BASIC_STATS | STATX_BTIME };

int wdr_stat(const char *path, WdrStat *ret)
{
	return statx(AT_FDCWD, path, HOW, WHAT, ret);
}

int wdr_lstat(const char *path, WdrStat *ret)
{
	return wdr_stat_below(AT_FDCWD, path, ret);
}

int wdr_fstat(int fd, WdrStat *ret)
{
	return statx(fd, "", HOW | AT_EMPTY_PATH, WHAT, ret);
}

int wdr_stat_below(int folder, const char *name, WdrStat *ret)
{
	return statx(folder, name, HOW | AT_SYMLINK_NOFOLLOW, WHAT, ret);
}

dev_t wdr_stat_device(const WdrStat *st)
{
	return makedev(st->stx_dev_major, st->stx_dev_minor);
}

dev_t wdr_stat_node(const WdrStat *st)
{
	return makedev(st->stx_rdev_major, st->stx_rdev_minor);
}

int64_t wdr_stat_mtime_ns(const WdrStat *st)
{
	return st->stx_mtime.tv_sec * 1000000000 + st->stx_mtime.tv_nsec;
}

bool wdr_is_folder(const char *path)
{
	WdrStat st;

	return wdr_stat(path, &st) == 0 && S_ISDIR(st.stx_mode);
}

bool wdr_is_file(const char *path)
{
	WdrStat st;

	return wdr_stat(path, &st) == 0 && S_ISREG(st.stx_mode);
}

int wdr_set_mtime(int fd, int64_t seconds, uint32_t nanoseconds)
{
#ifdef SYS_utimensat_time64
	/* struct __kernel_timespec: two 64-bit fields for each time. */
	const int64_t times[2][2] = { { 0, UTIME_OMIT }, { seconds, nanoseconds } };
	if (syscall(SYS_utimensat_time64, fd, NULL, times, 0) == 0)
		return 0;
	if (errno != ENOSYS)
		return -1;
	if (seconds < INT32_MIN || seconds > INT32_MAX) {
		errno = EOVERFLOW;
		return -1;
	}
#endif
	const struct timespec short_times[2] = { { .tv_nsec = UTIME_OMIT },
		{ (time_t)seconds, (long)nanoseconds } };
	return futimens(fd, short_times);
}
