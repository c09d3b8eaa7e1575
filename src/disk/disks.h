/* The disks of a world: block devices of this machine, images in a bench's dev/, image files named
 * by the user; what the kernel says of each. */
#pragma once

#include "base/error.h"
#include "disk/blockdev.h"
#include "world/world.h"

#include <stdint.h>
#include <sys/types.h>

typedef struct {
	char *name;              /* "nvme0n1", or the image's path as given */
	char *path;              /* what to open */
	char *packed;            /* the packed image that `path` was made from; NULL: none */
	const char *packed_kind; /* "xz", …; NULL as well */
	char *medium;            /* "SD card", "eMMC", "NVMe", "USB disk", "disk", "image", … */
	char *link;              /* "PCIe 5.0 GT/s x1", "USB 480 Mbit/s"; NULL: unknown */
	char *model, *serial;    /* NULL: unknown */
	uint64_t size;           /* bytes; 0: unknown */
	bool is_image;           /* a file named by the user, not one of the world's disks */
	bool is_read_only;
} WdrDisk;

void wdr_disk_free(WdrDisk *disk);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrDisk, wdr_disk_free)

/* All of the world's disks (WdrDisk *), by name; virtual ones without content left out. */
bool wdr_disks_list(
	const WdrWorld *world, GPtrArray **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A disk by its name, its path, or as an image file. Links are followed. A packed image is refused:
 * it cannot be written to. */
bool wdr_disk_find(const WdrWorld *world, const char *text, WdrDisk **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same for a disk that is only read: a packed image is unpacked into a scratch file, and `path`
 * is valid as long as the world then. */
bool wdr_disk_find_source(const WdrWorld *world, const char *text, WdrDisk **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Opens it for reading; messages name a packed image, not what it was unpacked into. */
bool wdr_disk_open_source(
	const WdrDisk *disk, WdrBlockDev **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What a command calls it: its name, or an image's path. Borrowed. */
const char *wdr_disk_word(const WdrDisk *disk);
/* The path that was named: an image's, packed or not, or a device's. Borrowed. */
const char *wdr_disk_file_named(const WdrDisk *disk);
/* The name of one of its partitions: nvme0n1 -> nvme0n1p2, sda -> sda2. The caller's. */
char *wdr_disk_partition_name(const WdrDisk *disk, unsigned number);
/* A volume as e2fsprogs take it: the partition's own device, or the place on the disk where there
 * is none. The caller's. */
char *wdr_disk_volume_word(const WdrDisk *disk, unsigned number, uint64_t start);

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
/* Where it is plugged in, which stays the same for whatever is plugged in there: "usb 1-1.2", "pci
 * 0000:01:00.0", "mmc mmc1"; NULL: unknown, or an image. The caller's. */
char *wdr_disk_port(const WdrWorld *world, const WdrDisk *disk);
/* The image file that the disk's bytes come from: its own, or that of a loop device; NULL: none.
 * The caller's. */
char *wdr_disk_file(const WdrWorld *world, const WdrDisk *disk);
/* A card or eMMC, which the chip of a board reads by itself; NULL: none. */
bool wdr_medium_is_card(const char *medium);
