/* Who uses a disk: mounts, swap, RAID and LVM, loop devices. Texts are the caller's. */
#pragma once

#include "disk/disks.h"
#include "disk/mounts.h"

/* Who uses the disk or one of its partitions, in words ("/dev/sda1 is mounted at /mnt"); NULL:
 * nobody. */
char *wdr_disk_user(const WdrWorld *world, const WdrDisk *disk);
/* Who uses this one partition, or the whole of an image. */
char *wdr_disk_partition_user(const WdrWorld *world, const WdrDisk *disk, unsigned number);
/* To the error that a disk is in use: `unchanged` says what was not done, and the command that ends
 * the uses (umount, swapoff, losetup) follows. Where there is none, `otherwise`: the system runs
 * from the disk, another mount namespace, RAID or LVM uses it, or it is a stand-in of a bench. */
void wdr_disk_hint_at_release(const WdrWorld *world, const WdrDisk *disk, const char *unchanged,
	const char *otherwise, GError **error);
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
/* The system runs from one of its partitions, or from the whole of it. */
bool wdr_disk_has_root(const WdrWorld *world, const WdrDisk *disk);
/* Its files have to be changed through the running system. A bench's disks are at rest, whatever
 * its proc says. */
bool wdr_disk_is_live(const WdrWorld *world, const WdrDisk *disk);
