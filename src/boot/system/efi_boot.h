/* What UEFI firmware starts from a disk: the chain of its programs (shim, GRUB, systemd-boot,
 * unified kernel images), and the entries that the last of them finds. Only reads; what cannot be
 * told without running a program is a doubt. */
#pragma once

#include "boot/formats/efi_program.h"
#include "boot/formats/includes.h"
#include "boot/system/system.h"

/* A file that is loaded, or a part of one. */
typedef struct {
	char *path;       /* on the entry's volume, without a leading slash; NULL: none */
	size_t at, bytes; /* inside a unified image; bytes 0: all of the file */
} WdrEfiFile;

typedef struct {
	char *name;          /* "menu entry 'Debian GNU/Linux'" */
	char *config;        /* the file that describes it: "boot/grub/grub.cfg" */
	unsigned number;     /* of the partition that this file is on */
	WdrSystemPart *part; /* that its files are on; borrowed */
	WdrEfiFile kernel, initramfs;
	GPtrArray *early;  /* char *: initramfs archives that are loaded in front of that one */
	char *device_tree; /* NULL: none */
	char *arguments;   /* NULL: nobody says */
	unsigned kernel_line, initramfs_line, arguments_line; /* in `config`; 0: unknown */
	int tries_left; /* boots that the loader still gives it; -1: it does not count */
	char *doubt;    /* NULL: nothing */
} WdrEfiEntry;

typedef struct {
	WdrEfiKind loader;   /* the last program of the chain */
	GPtrArray *steps;    /* char *: what starts what */
	GPtrArray *list;     /* WdrEfiEntry: the first is what starts by itself */
	GPtrArray *faults;   /* char *: why nothing starts */
	bool misses_names;   /* since GRUB searches for what no partition is called */
	GPtrArray *warnings; /* char * */
} WdrEfiBoot;

/* From a program on the EFI system partition, as it is written in the firmware's entry or by the
 * path for removable media. `others` (const WdrSystem *, may be NULL) are disks that are plugged in
 * beside it, where GRUB may find what it searches for. Never fails. */
WdrEfiBoot *wdr_efi_boot_follow(const WdrSystem *s, const GPtrArray *others, const char *program);
void wdr_efi_boot_free(WdrEfiBoot *b);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrEfiBoot, wdr_efi_boot_free)
