/* A library to be loaded before a program (LD_PRELOAD) that stands in for a failing medium. Each
 * word of WDR_FAULTS is NAME:KIND:OFFSET:LENGTH, of a file whose path ends in NAME:
 *   read   reading these bytes fails with EIO
 *   once   so it does the first time
 *   lose   what is written there is told to be written, and is not
 *   deny   writing there fails with EIO
 *   wrap   what lies there lies at the disk's start, and further ones again and again: the disk has
 *          OFFSET bytes */
#include <dlfcn.h>
#include <errno.h>
#include <limits.h>
#include <stdatomic.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static atomic_uint once_done;

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

static bool find_fault(const char *kind, int fd, size_t len, off_t offset, Fault *ret)
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

static bool is_hit(const char *kind, int fd, size_t len, off_t offset)
{
	Fault f;

	return find_fault(kind, fd, len, offset, &f);
}

/* Where it really lies; a request does not reach over the end of what there is (*len is cut). */
static off_t true_place(int fd, size_t *len, off_t offset)
{
	Fault f;

	if (!find_fault("wrap", fd, *len, offset, &f))
		return offset;
	unsigned long long at = (unsigned long long)offset % f.offset;
	if (*len > f.offset - at)
		*len = (size_t)(f.offset - at);
	return (off_t)at;
}

static void *real(const char *name)
{
	return dlsym(RTLD_NEXT, name);
}

ssize_t pread(int fd, void *buf, size_t len, off_t offset)
{
	static ssize_t (*next)(int, void *, size_t, off_t);

	if (!next)
		*(void **)&next = real("pread64");
	bool fails = is_hit("read", fd, len, offset) ||
		     (is_hit("once", fd, len, offset) && atomic_fetch_add(&once_done, 1) == 0);
	if (fails) {
		errno = EIO;
		return -1;
	}
	offset = true_place(fd, &len, offset);
	return next(fd, buf, len, offset);
}

ssize_t pwrite(int fd, const void *buf, size_t len, off_t offset)
{
	static ssize_t (*next)(int, const void *, size_t, off_t);

	if (!next)
		*(void **)&next = real("pwrite64");
	if (is_hit("deny", fd, len, offset)) {
		errno = EIO;
		return -1;
	}
	if (is_hit("lose", fd, len, offset))
		return (ssize_t)len;
	offset = true_place(fd, &len, offset);
	return next(fd, buf, len, offset);
}

ssize_t pread64(int fd, void *buf, size_t len, off_t offset)
{
	return pread(fd, buf, len, offset);
}

ssize_t pwrite64(int fd, const void *buf, size_t len, off_t offset)
{
	return pwrite(fd, buf, len, offset);
}
