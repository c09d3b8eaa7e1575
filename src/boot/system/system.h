/* A disk read as a system: its partitions, what is on them, which is boot and which is root, and
 * every mention in its boot and system files with what it resolves to. Only reads. */
#pragma once

#include "boot/formats/mention.h"
#include "disk/disks.h"
#include "disk/parttable.h"
#include "disk/probe.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"

typedef enum {
	WDR_ROLE_NONE,
	WDR_ROLE_BOOT,
	WDR_ROLE_ROOT,
	WDR_ROLE_SWAP,
	WDR_ROLE_DATA,
} WdrRole;

typedef struct {
	WdrPartition
		*partition; /* borrowed from the table; of a disk without a table, of the system */
	WdrProbe probe;
	WdrRole role;
	bool is_unfinished; /* a move to it was begun and not ended */
	WdrVolume *volume;  /* NULL: not of a kind that we read, or `problem` */
	WdrBlockDev *dev;   /* the volume's own device, when it is not the disk; NULL otherwise */
	WdrVolume *on_disk; /* a mounted one as the disk has it: for its kind and features */
	char *mounted_at;   /* where, when it is read while the system runs; NULL: it is at rest */
	char *mounted_root; /* the folder of the volume that is shown there: "/" is all of it */
	char *problem;      /* why the volume cannot be read; NULL: it can */
	char *unseen; /* why the files that tell its role could not be looked for; NULL: they could
		       */
	bool has_usage;
	uint64_t used_bytes;
	WdrExtInfo ext; /* of an ext volume */
	WdrFatInfo fat; /* of a FAT volume */
} WdrSystemPart;

typedef struct {
	WdrBlockDev *dev;
	WdrPartTable *table;
	WdrPartition
		*whole;   /* a disk without a table, with one volume on all of it; NULL otherwise */
	GPtrArray *parts; /* WdrSystemPart, by start */
	WdrSystemPart *boot, *root; /* borrowed; NULL: not found */
	char *flow; /* "firmware", "extlinux", "loader script", "UEFI"; NULL: none recognised. With
		     * UEFI boot is the EFI system partition */
	WdrSystemPart *autoboot; /* the first FAT volume, when it has an autoboot.txt; borrowed;
				    NULL: it has none */
	unsigned autoboot_to, autoboot_trial; /* the partitions that this leads to, always and for
						 one trial; 0: it says none */
	WdrSystemPart *other_boot; /* UEFI: root or a volume that has more boot files (the menu, the
				      kernels); borrowed; NULL: none */
	const char *other_folder;  /* before paths of these: "" or "boot/"; NULL: none */
	const char *boot_folder; /* before paths of boot files: "", or "boot/" on the root volume */
	char *os_name, *host_name; /* from root; NULL: unknown */
	char *home;                /* the disk's own name in device paths; NULL: unknown */
	char *serial;              /* of the disk; NULL: unknown */
	char *medium;              /* as in WdrDisk; NULL: an image */
	GPtrArray *modules;        /* char *: see wdr_disk_modules() */
	bool has_initramfs;        /* what starts by default has one on every board */
	WdrMentions *mentions;
	WdrWarnings *warnings; /* broken lines and the like */
	/* char *: boot and system files that are known to name disks and could not be read: too
	 * large, damaged, no text. A warning tells why. */
	GPtrArray *unread;
	/* WdrIdentity: identifiers of another disk that text is searched for too, when it is looked
	 * through again; borrowed; NULL: none. */
	const GArray *sought;
} WdrSystem;

/* disk: its name is the one in device paths, unless it is an image. It is opened for reading.
 * Problems with single volumes are kept in the result; only a disk or table that cannot be read at
 * all is an error. Roles and mentions are empty until wdr_system_look(). */
bool wdr_system_read(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_system_free(WdrSystem *s);
/* Gives up what its volumes hold in memory, for one that only stays open: nothing of it may be read
 * any more. */
void wdr_system_close_volumes(WdrSystem *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSystem, wdr_system_free)
/* Puts a volume in the place of a part's own: the recovered copy of one whose journal was not
 * empty. dev and volume are taken over. */
void wdr_system_use_copy(WdrSystemPart *part, WdrBlockDev *dev, WdrVolume *volume);
/* The same with the mounted tree of a part; the volume itself is kept as on_disk. */
void wdr_system_use_tree(WdrSystemPart *part, WdrVolume *tree);
/* The same volume, read through another device (the medium, past the page cache), at its place. */
void wdr_system_use_device(WdrSystemPart *part, WdrBlockDev *dev, WdrVolume *volume);
/* The volume that tells block size, features and the like of an ext part. */
WdrVolume *wdr_system_part_ext(const WdrSystemPart *part);
/* Finds roles and mentions: once the parts have the volumes that they are to be read through, and
 * again when they get others. It reads each file that may name a disk, so it is called no oftener.
 * False if the user stopped it. */
bool wdr_system_look(WdrSystem *s, const WdrWorld *world, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The part that the boot files lie on: boot, or root. NULL: neither was found. */
WdrSystemPart *wdr_system_boot_part(const WdrSystem *s);

/* PRETTY_NAME of an os-release file's text (may be NULL); NULL: not there. The caller's. */
char *wdr_os_name(const char *release);
const char *wdr_role_name(WdrRole role); /* "boot", …; "" for none */
/* The file is there and could not be read: what it says is not known. */
bool wdr_system_is_unread(const WdrSystem *s, const char *file);
/* The part with this number; NULL: none. */
WdrSystemPart *wdr_system_part(const WdrSystem *s, unsigned number);
WdrIdentity wdr_system_identity(const WdrSystem *s, const WdrSystemPart *part);
/* The parts that an identifier names on this disk; *ret_count how many. The first, or NULL. */
WdrSystemPart *wdr_system_resolve(const WdrSystem *s, const WdrIdentifier *a, unsigned *ret_count);
/* ---- a disk as UEFI firmware sees it (efi_layout.c) ---- */

/* The paths of a volume's UEFI programs, in the order of names; the caller's. */
GPtrArray *wdr_efi_programs(const WdrSystemPart *esp);
/* The one that firmware starts on a disk that it knows nothing of, "EFI/BOOT/BOOTAA64.EFI"; of
 * several the one for a 64-bit processor. NULL: there is none. The caller's. */
char *wdr_efi_removable(const WdrSystemPart *esp);
/* The loader that an installation put there, for an entry of the firmware; failing it the one for
 * removable media. NULL: there is none. The caller's. */
char *wdr_efi_installed(const WdrSystemPart *esp);
/* The one for removable media; failing it, the one that an installed loader would be. NULL: there
 * is none. */
char *wdr_efi_first_program(const WdrSystemPart *esp);
/* It is an EFI system partition, by its type. */
bool wdr_efi_is_system_partition(const WdrSystem *s, const WdrPartition *p);
/* A folder that has boot files besides the EFI system partition: of the volume /boot (XBOOTLDR), or
 * "boot/" of root. *ret_folder is static. NULL: there is none. */
WdrSystemPart *wdr_efi_other_boot(const WdrSystem *s, const char **ret_folder);

/* Boot and system files larger than this are none. */
enum { WDR_BOOT_FILE_BYTES_MAX = 1024 * 1024 };
