/* Any bytes as the start of a disk, and its end: what libfdisk makes of them is checked as a table.
 */
#include "disk/disks.h"

#include "disk/parttable.h"

#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	enum { DISK_BYTES = 4 * 1024 * 1024, HEAD_BYTES = 40 * 1024 };
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrPartTable) table = NULL;
	int fd = memfd_create("fuzz", MFD_CLOEXEC);
	g_autofree char *path = g_strdup_printf("/proc/self/fd/%d", fd);
	size_t head = MIN(size, HEAD_BYTES);
	size_t tail = MIN(size - head, HEAD_BYTES);

	if (fd < 0 || ftruncate(fd, DISK_BYTES) != 0 ||
		pwrite(fd, data, head, 0) != (ssize_t)head ||
		pwrite(fd, data + head, tail, DISK_BYTES - (off_t)tail) != (ssize_t)tail)
		abort();
	if (wdr_blockdev_open(path, WDR_OPEN_READ, &dev, NULL) &&
		wdr_parttable_read(dev, &table, NULL) && wdr_parttable_check(table, dev, NULL)) {
		for (guint i = 0; i < table->partitions->len; i++) {
			const WdrPartition *p = table->partitions->pdata[i];
			if (p->size > DISK_BYTES || p->start > DISK_BYTES - p->size)
				abort();
		}
	}
	close(fd);
	return 0;
}
