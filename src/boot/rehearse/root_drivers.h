/* The drivers that a kernel needs before root is there, and where each of them is: built in, in the
 * initramfs, or only where it cannot be reached yet. Only reads. */
#pragma once

#include "boot/board/board.h"
#include "boot/kernel/initramfs.h"
#include "boot/kernel/modules.h"
#include "boot/system/system.h"

typedef enum {
	WDR_DRIVER_BUILT_IN,
	WDR_DRIVER_IN_INITRAMFS,
	WDR_DRIVER_ON_ROOT, /* a module, on root alone */
	WDR_DRIVER_ABSENT,  /* this kernel has none */
	WDR_DRIVER_UNKNOWN, /* nothing tells what this kernel has */
} WdrDriverLocation;

typedef struct {
	char *name; /* "nvme_core" */
	char *use;  /* what for: "NVMe", "root's file system", "nvme needs it" */
	bool is_needed_by_other;
	bool is_wish; /* of another, which loads without it but may not do its work */
	WdrDriverLocation where;
	char *file; /* in the initramfs, or below the folder of the kernel's modules on root; NULL
		     */
} WdrDriver;

/* Those of one kernel with its initramfs. */
typedef struct {
	char *started_by;          /* the boot entries: "entry brook, entry old" */
	const WdrSystemPart *boot; /* that both lie on */
	const WdrSystemPart *root; /* that has the modules; NULL: none */
	char *release;             /* "6.1.0-brook"; NULL: nothing tells */
	char *kernel;              /* path on boot */
	char *kernel_said;         /* what names it: "extlinux/extlinux.conf:6"; NULL: a default */
	char *file;      /* the initramfs: path on boot, links followed; NULL: it has none */
	bool is_inside;  /* a unified kernel image, which its own tools make anew */
	bool is_unnamed; /* it is there, but its loader is not told to load it */
	WdrInitramfs *initramfs;
	WdrModules *modules; /* NULL: nothing tells */
	char *problem;       /* why nothing can be told; the rest may be missing then */
	GPtrArray *list;     /* WdrDriver */
	unsigned missing;    /* how many are not in the initramfs, but on root, */
	unsigned absent;     /* and nowhere */
} WdrDrivers;

typedef struct {
	const char *medium;       /* that root will be on, as in WdrDisk; NULL: it is not known */
	const GPtrArray *modules; /* char *: what drives its buses on this machine; NULL: unknown */
	const WdrBoard *board;    /* NULL: not known */
} WdrDriversFor;

/* WdrDrivers, one for each kernel that a boot entry starts, the default first. */
GPtrArray *wdr_drivers_look(const WdrSystem *s, const WdrDriversFor *how);

/* The modules that such a medium needs besides its buses, NULL-ended; NULL: nobody knows. */
const char *const *wdr_medium_modules(const char *medium);
/* What the kernel of that release has, by the indexes on root; release NULL: of the only one that
 * root has. *ret_release is the caller's. NULL: nothing tells. */
WdrModules *wdr_drivers_modules(const WdrSystemPart *root, const char *release, char **ret_release);
/* initramfs may be NULL: none; modules too: nothing tells. */
WdrDriverLocation wdr_driver_location(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name);
/* What it needs and is in neither place. Borrowed; NULL: nothing. */
const char *wdr_driver_missing_need(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name);
/* What it asks for, the kernel has as modules alone, and none of which is in the initramfs, where
 * it cannot do its work without: ext4 and the checksum of its metadata. Borrowed; NULL: nothing. */
const WdrModuleWish *wdr_driver_missing_wish(
	const WdrModules *modules, const WdrInitramfs *initramfs, const char *name);
/* What drives USB bridges that speak UAS where the kernel has it as a module: usb_storage leaves
 * these to it. */
#define WDR_DRIVER_UAS "uas"
