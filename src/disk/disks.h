/* The disks of a world: block devices of this machine, images in a bench's dev/, image files named
 * by the user; what the kernel says of each, and who uses it. */
#pragma once

#include "base/error.h"
#include "disk/mounts.h"
#include "world/world.h"

#include <stdint.h>
#include <sys/types.h>

typedef struct {
	char *name;           /* "nvme0n1", or the image's path as given */
	char *path;           /* what to open */
	char *medium;         /* "SD card", "eMMC", "NVMe", "USB disk", "disk", "image", … */
	char *link;           /* "PCIe 5.0 GT/s x1", "USB 480 Mbit/s"; NULL: unknown */
	char *model, *serial; /* NULL: unknown */
	uint64_t size;        /* bytes; 0: unknown */
	bool is_image;        /* a file named by the user, not one of the world's disks */
	bool is_read_only;
} WdrDisk;

void wdr_disk_free(WdrDisk *disk);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrDisk, wdr_disk_free)

/* All of the world's disks (WdrDisk *), by name; virtual ones without content left out. */
bool wdr_disks_list(
	const WdrWorld *world, GPtrArray **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A disk by its name, its path, or as an image file. Links are followed. */
bool wdr_disk_find(const WdrWorld *world, const char *text, WdrDisk **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The name of one of its partitions: nvme0n1 -> nvme0n1p2, sda -> sda2. The caller's. */
char *wdr_disk_partition_name(const WdrDisk *disk, unsigned number);

/* The fastest link that an NVMe drive can have, as WdrDisk.link tells it; NULL: unknown. The
 * caller's. */
char *wdr_disk_best_link(const WdrWorld *world, const WdrDisk *disk);
/* The kernel modules that drive the disk and every bus between it and the processor (char *), as
 * the running kernel has them; what it has built in is not told. Empty: unknown, or an image. */
GPtrArray *wdr_disk_modules(const WdrWorld *world, const WdrDisk *disk);
/* The kernel driver of a USB disk's bridge ("uas", "usb-storage"); NULL: unknown, or no USB disk.
 * The caller's. */
char *wdr_disk_usb_driver(const WdrWorld *world, const WdrDisk *disk);

/* Vendor and product of a USB disk's bridge, as the kernel's options name it: "152d:0578"; NULL: it
 * is no USB disk, or does not tell. The caller's. */
char *wdr_disk_usb_ids(const WdrWorld *world, const WdrDisk *disk);
/* The swap areas in use, as the kernel names them: devices and files. The caller's. */
char **wdr_swaps(const WdrWorld *world);
/* Who uses the disk or one of its partitions, in words ("/dev/sda1 is mounted at /mnt"); NULL:
 * nobody. */
char *wdr_disk_user(const WdrWorld *world, const WdrDisk *disk);
/* Who uses this one partition, or the whole of an image. */
char *wdr_disk_partition_user(const WdrWorld *world, const WdrDisk *disk, unsigned number);
/* The partition is mounted somewhere in a way that can be written to. */
bool wdr_disk_is_written(const WdrWorld *world, const WdrDisk *disk, unsigned number);
/* The file system of the partition is mounted with this option ("data=journal"). */
bool wdr_disk_has_mount_option(
	const WdrWorld *world, const WdrDisk *disk, unsigned number, const char *option);
/* Mount points below a mount point, relative to it. The caller's, with g_strfreev(). */
char **wdr_mounts_below(const WdrWorld *world, const char *point);
/* File system type and device that "/" is mounted from; false: nobody says. The caller's. */
bool wdr_root_mount(const WdrWorld *world, char **ret_type, char **ret_source);
/* Where the partition is mounted as a whole, or failing that a folder of it (bench: as its proc
 * says); number 0: the whole disk. The caller's. */
char *wdr_disk_mount_point(const WdrWorld *world, const WdrDisk *disk, unsigned number);
/* The mount that shows most of the partition; NULL: it is not mounted. The caller's. */
WdrMount *wdr_disk_mount(const WdrWorld *world, const WdrDisk *disk, unsigned number);
/* UNSUPPORTED: something is mounted over it, or it shows a folder of its file system only. */
bool wdr_disk_mount_shows_all(
	const WdrWorld *world, const WdrMount *mount, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A loop device over the disk's bytes, in words; NULL: none. */
char *wdr_disk_loop_user(const WdrWorld *world, const WdrDisk *disk);
/* The image file that the disk's bytes come from: its own, or that of a loop device; NULL: none.
 * The caller's. */
char *wdr_disk_file(const WdrWorld *world, const WdrDisk *disk);
/* Who may write to the disk while it is only read, in words; NULL: nobody that can be seen. What is
 * mounted by this machine's own mounts is not meant: that is read through them. */
char *wdr_disk_writer(const WdrWorld *world, const WdrDisk *disk);
/* Whether a process ("/proc/812") may write through a descriptor of its. */
bool wdr_fd_is_writing(const char *process, const char *fd);
/* The system runs from one of its partitions, or from the whole of it. */
bool wdr_disk_has_root(const WdrWorld *world, const WdrDisk *disk);
