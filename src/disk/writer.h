/* Who may write to a disk while it is read. */
#pragma once

#include "disk/disks.h"

/* Who may write to the disk while it is only read, in words; NULL: nobody that can be seen. What is
 * mounted by this machine's own mounts is not meant: that is read through them. */
char *wdr_disk_writer(const WdrWorld *world, const WdrDisk *disk);
/* Whether a process ("/proc/812") may write through a descriptor of its. */
bool wdr_fd_is_writing(const char *process, const char *fd);
