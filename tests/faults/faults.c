/* A library to be loaded before a program (LD_PRELOAD) that stands in for a failing medium. Each
 * word of WDR_FAULTS is NAME:KIND:OFFSET:LENGTH, of a file whose path ends in NAME:
 *   read   reading these bytes fails with EIO
 *   once   so it does the first time
 *   lose   what is written there is told to be written, and is not
 *   deny   writing there fails with EIO
 *   hang   writing there says "faults: hangs" and never comes back
 *   kill   the power is cut when something is to be written there: half of it still is
 *   nor    it is a NOR flash of LENGTH bytes as the kernel's MTD layer shows one: OFFSET bytes are
 *          erased at a time, and a write only makes ones to zeros
 *   slow   it transfers OFFSET bytes a second, one request after the other, each of which takes
 * LENGTH nanoseconds besides. Nothing waits: the clock of the program goes on by that, and by
 *          nothing else, so that it sees these times exactly, however busy the machine is
 *   wrap   what lies there lies at the disk's start, and further ones again and again: the disk has
 *          OFFSET bytes
 *   bare   looked at by its name, it has no links the first LENGTH times, as what is removed or
 *          replaced in that moment; NAME is the whole name */
#include <dlfcn.h>
#include <errno.h>
#include <limits.h>
#include <mtd/mtd-user.h>
#include <signal.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

static atomic_uint once_done;
static atomic_ullong clock_ns;

typedef struct {
	char name[256], kind[8];
	unsigned long long offset, len;
} Fault;

static bool next_fault(const char **at, Fault *ret)
{
	int used = 0;

	if (!*at || sscanf(*at, " %255[^:]:%7[^:]:%llu:%llu%n", ret->name, ret->kind, &ret->offset,
			    &ret->len, &used) != 4)
		return false;
	*at += used;
	return true;
}

static bool find_fault(const char *kind, int fd, size_t len, off64_t offset, Fault *ret)
{
	const char *at = getenv("WDR_FAULTS");
	char link[64];
	char path[PATH_MAX] = "";

	if (!at)
		return false;
	snprintf(link, sizeof(link), "/proc/self/fd/%d", fd);
	if (readlink(link, path, sizeof(path) - 1) < 0)
		return false;
	while (next_fault(&at, ret)) {
		size_t a = strlen(path);
		size_t b = strlen(ret->name);
		bool is_file = a >= b && strcmp(path + a - b, ret->name) == 0;
		if (is_file && strcmp(ret->kind, kind) == 0 &&
			(unsigned long long)offset < ret->offset + ret->len &&
			(unsigned long long)offset + len > ret->offset)
			return true;
	}
	return false;
}

static bool is_hit(const char *kind, int fd, size_t len, off64_t offset)
{
	Fault f;

	return find_fault(kind, fd, len, offset, &f);
}

/* Where it really lies; a request does not reach over the end of what there is (*len is cut). */
static off64_t true_place(int fd, size_t *len, off64_t offset)
{
	Fault f;

	if (!find_fault("wrap", fd, *len, offset, &f))
		return offset;
	unsigned long long at = (unsigned long long)offset % f.offset;
	if (*len > f.offset - at)
		*len = (size_t)(f.offset - at);
	return (off64_t)at;
}

static void *real(const char *name)
{
	return dlsym(RTLD_NEXT, name);
}

/* ---- a NOR flash ---- */

static bool find_flash(int fd, Fault *ret)
{
	return find_fault("nor", fd, SSIZE_MAX, 0, ret);
}

static atomic_uint bare_looks;

static bool is_bare(const char *name)
{
	const char *at = getenv("WDR_FAULTS");
	Fault f;

	while (next_fault(&at, &f)) {
		if (strcmp(f.kind, "bare") == 0 && strcmp(f.name, name) == 0)
			return bare_looks++ < f.len;
	}
	return false;
}

int statx(
	int folder, const char *restrict path, int flags, unsigned mask, struct statx *restrict st)
{
	static int (*next)(int, const char *, int, unsigned, struct statx *);
	Fault f;

	if (!next)
		*(void **)&next = real("statx");
	int result = next(folder, path, flags, mask, st);
	if (result == 0 && *path == 0 && find_flash(folder, &f))
		st->stx_mode = (uint16_t)((st->stx_mode & ~(mode_t)S_IFMT) | S_IFCHR);
	if (result == 0 && *path && is_bare(path))
		st->stx_nlink = 0;
	return result;
}

/* A block of ones; only whole ones can be erased. */
static int erase(int fd, const Fault *f, const struct erase_info_user64 *range)
{
	static ssize_t (*next)(int, const void *, size_t, off64_t);
	char ones[4096];

	if (!next)
		*(void **)&next = real("pwrite64");
	if (range->start % f->offset != 0 || range->length % f->offset != 0) {
		errno = EINVAL;
		return -1;
	}
	memset(ones, 0xff, sizeof(ones));
	for (unsigned long long at = 0; at < range->length; at += sizeof(ones)) {
		if (next(fd, ones, sizeof(ones), (off64_t)(range->start + at)) < 0)
			return -1;
	}
	return 0;
}

int ioctl(int fd, unsigned long request, ...)
{
	static int (*next)(int, unsigned long, ...);
	va_list args;
	Fault f;

	va_start(args, request);
	void *argument = va_arg(args, void *);
	va_end(args);
	if (!next)
		*(void **)&next = real("ioctl");
	if ((request != MEMGETINFO && request != MEMERASE64) || !find_flash(fd, &f))
		return next(fd, request, argument);
	if (request == MEMERASE64)
		return erase(fd, &f, argument);
	*(struct mtd_info_user *)argument = (struct mtd_info_user){ .type = MTD_NORFLASH,
		.flags = MTD_CAP_NORFLASH,
		.size = (unsigned)f.len,
		.erasesize = (unsigned)f.offset,
		.writesize = 1 };
	return 0;
}

/* What is written to cells that were not erased is the old and the new together. */
static ssize_t write_flash(int fd, const void *buf, size_t len, off64_t offset)
{
	static ssize_t (*read_it)(int, void *, size_t, off64_t);
	static ssize_t (*write_it)(int, const void *, size_t, off64_t);
	unsigned char cells[4096];
	size_t part = len < sizeof(cells) ? len : sizeof(cells);

	if (!read_it) {
		*(void **)&read_it = real("pread64");
		*(void **)&write_it = real("pwrite64");
	}
	if (read_it(fd, cells, part, offset) != (ssize_t)part) {
		errno = EIO;
		return -1;
	}
	for (size_t i = 0; i < part; i++)
		cells[i] &= ((const unsigned char *)buf)[i];
	return write_it(fd, cells, part, offset);
}

/* ---- a slow medium ---- */

static void take_time(int fd, size_t len)
{
	Fault f;

	if (find_fault("slow", fd, SSIZE_MAX, 0, &f))
		atomic_fetch_add(&clock_ns, f.len + len * 1000000000ULL / f.offset);
}

/* With WDR_CLOCK=SECONDS every clock stands still at that time, and random numbers are the same
 * each time, so that two runs do the same to the byte. */
static bool is_still(struct timespec *ret)
{
	const char *at = getenv("WDR_CLOCK");

	if (at)
		*ret = (struct timespec){ .tv_sec = (time_t)atoll(at) };
	return at != NULL;
}

void uuid_generate(unsigned char ret[16])
{
	static void (*next)(unsigned char *);

	if (!next)
		*(void **)&next = real("uuid_generate");
	if (getenv("WDR_CLOCK"))
		memset(ret, 0x5a, 16);
	else
		next(ret);
}

time_t time(time_t *ret)
{
	struct timespec now;

	clock_gettime(CLOCK_REALTIME, &now);
	if (ret)
		*ret = now.tv_sec;
	return now.tv_sec;
}

int gettimeofday(struct timeval *restrict ret, void *restrict zone)
{
	struct timespec now;

	(void)zone;
	clock_gettime(CLOCK_REALTIME, &now);
	*ret = (struct timeval){ .tv_sec = now.tv_sec, .tv_usec = now.tv_nsec / 1000 };
	return 0;
}

static bool is_slow(void)
{
	const char *faults = getenv("WDR_FAULTS");

	return faults && strstr(faults, ":slow:");
}

int clock_gettime(clockid_t id, struct timespec *ret)
{
	static int (*next)(clockid_t, struct timespec *);

	if (is_still(ret))
		return 0;
	if (!next)
		*(void **)&next = real("clock_gettime");
	if (id != CLOCK_MONOTONIC || !is_slow())
		return next(id, ret);
	unsigned long long now = atomic_load(&clock_ns);
	ret->tv_sec = (time_t)(now / 1000000000);
	ret->tv_nsec = (long)(now % 1000000000);
	return 0;
}

/* Its requests would pass us by. */
int io_uring_queue_init(unsigned entries, void *ring, unsigned flags)
{
	static int (*next)(unsigned, void *, unsigned);

	if (!next)
		*(void **)&next = real("io_uring_queue_init");
	return is_slow() ? -ENOSYS : next(entries, ring, flags);
}

ssize_t pread64(int fd, void *buf, size_t len, off64_t offset)
{
	static ssize_t (*next)(int, void *, size_t, off64_t);

	if (!next)
		*(void **)&next = real("pread64");
	bool fails = is_hit("read", fd, len, offset) ||
		     (is_hit("once", fd, len, offset) && atomic_fetch_add(&once_done, 1) == 0);
	if (fails) {
		errno = EIO;
		return -1;
	}
	offset = true_place(fd, &len, offset);
	take_time(fd, len);
	return next(fd, buf, len, offset);
}

/* WDR_SIGNAL is NUMBER:TEXT: this process gets the signal as soon as a logbook has a line with the
 * text, once, so that a test hits the same moment on any machine. */
static void signal_at(int fd, const void *buf, size_t len)
{
	static atomic_bool has_come;
	const char *wanted = getenv("WDR_SIGNAL");
	const char *text = wanted ? strchr(wanted, ':') : NULL;
	char link[64];
	char path[PATH_MAX] = "";

	snprintf(link, sizeof(link), "/proc/self/fd/%d", fd);
	if (!text || !memmem(buf, len, text + 1, strlen(text + 1)) ||
		readlink(link, path, sizeof(path) - 1) < 0 || !strstr(path, ".jsonl") ||
		atomic_exchange(&has_come, true))
		return;
	kill(getpid(), atoi(wanted));
}

static ssize_t write_at(int fd, const void *buf, size_t len, off64_t offset)
{
	static ssize_t (*next)(int, const void *, size_t, off64_t);

	if (!next)
		*(void **)&next = real("pwrite64");
	if (is_hit("deny", fd, len, offset)) {
		errno = EIO;
		return -1;
	}
	if (is_hit("hang", fd, len, offset))
		dprintf(STDERR_FILENO, "faults: hangs\n");
	while (is_hit("hang", fd, len, offset))
		pause();
	if (is_hit("lose", fd, len, offset))
		return (ssize_t)len;
	bool is_end = is_hit("kill", fd, len, offset);
	if (is_end)
		len /= 2;
	Fault flash;
	ssize_t done = 0;
	if (find_flash(fd, &flash)) {
		done = write_flash(fd, buf, len, offset);
	} else {
		offset = true_place(fd, &len, offset);
		done = next(fd, buf, len, offset);
	}
	if (is_end)
		raise(SIGKILL);
	signal_at(fd, buf, len);
	return done;
}

ssize_t pwrite64(int fd, const void *buf, size_t len, off64_t offset)
{
	take_time(fd, len);
	return write_at(fd, buf, len, offset);
}

/* A request, of which each piece is written by itself, up to one that fails or is cut short. */
ssize_t pwritev64(int fd, const struct iovec *pieces, int n, off64_t offset)
{
	ssize_t all = 0;

	for (int i = 0; i < n; i++) {
		ssize_t done = write_at(fd, pieces[i].iov_base, pieces[i].iov_len, offset + all);
		if (done < 0)
			return all > 0 ? all : -1;
		all += done;
		if (done < (ssize_t)pieces[i].iov_len)
			break;
	}
	take_time(fd, (size_t)all);
	return all;
}

ssize_t pwritev(int fd, const struct iovec *pieces, int n, off_t offset)
{
	return pwritev64(fd, pieces, n, offset);
}

ssize_t pread(int fd, void *buf, size_t len, off_t offset)
{
	return pread64(fd, buf, len, offset);
}

ssize_t pwrite(int fd, const void *buf, size_t len, off_t offset)
{
	return pwrite64(fd, buf, len, offset);
}

/* ---- a kernel before 5.2 ---- */

/* With WDR_OLD_KERNEL set there are no openat2(2), open_tree(2) and fsopen(2). */
static bool is_missing(void)
{
	errno = ENOSYS;
	return getenv("WDR_OLD_KERNEL") != NULL;
}

long syscall(long number, ...)
{
	static long (*next)(long, ...);
	va_list args;
	long a[6];

	if (number == SYS_openat2 && is_missing())
		return -1;
	if (!next)
		*(void **)&next = real("syscall");
	va_start(args, number);
	for (int i = 0; i < 6; i++)
		a[i] = va_arg(args, long);
	va_end(args);
	return next(number, a[0], a[1], a[2], a[3], a[4], a[5]);
}

int open_tree(int folder, const char *path, unsigned flags)
{
	static int (*next)(int, const char *, unsigned);

	if (is_missing())
		return -1;
	if (!next)
		*(void **)&next = real("open_tree");
	return next(folder, path, flags);
}

int fsopen(const char *type, unsigned flags)
{
	static int (*next)(const char *, unsigned);

	if (is_missing())
		return -1;
	if (!next)
		*(void **)&next = real("fsopen");
	return next(type, flags);
}
