/* The boot entries that a loader finds on a disk: which files it would load and with which kernel
 * arguments, in the order in which it tries them. Only what the loader's configuration says;
 * whether the files are any good is not looked at here. */
#pragma once

#include "boot/board/board.h"
#include "boot/formats/includes.h"
#include "boot/system/system.h"

/* A file that the loader shall load. */
typedef struct {
	char *path; /* on the boot part's volume, without a leading slash; NULL: none is asked for
		     */
	char *said; /* where: "extlinux/extlinux.conf:12"; NULL: the loader's own default */
	size_t at, bytes; /* inside a unified kernel image; bytes 0: all of the file */
} WdrBootEntryFile;

typedef struct {
	char *name;          /* "entry l0", "kernel8.img"; for messages */
	WdrSystemPart *part; /* that its files are on, where it is not the one of the list; NULL */
	WdrBootEntryFile kernel, initramfs, device_tree;
	GPtrArray *early; /* char *: initramfs archives that are loaded in front of that one; NULL:
			     none */
	bool has_tree_folder; /* device_tree is a folder to look for the board's own in */
	char *arguments;      /* NULL: nobody says */
	char *arguments_said; /* where: "cmdline.txt:1" */
	char *doubt; /* what cannot be told without running the loader: a line and why; NULL:
			nothing */
} WdrBootEntry;

typedef struct {
	const WdrBoard *board;   /* that the loader runs on; borrowed; NULL: not known */
	const GPtrArray *others; /* disks beside it; borrowed; NULL: none */
	WdrSystemPart *part;     /* that the loader reads; borrowed from the system; NULL: none */
	/* UEFI: the program that the firmware starts, and its entry for that; NULL: none. The entry
	 * is borrowed from the board. */
	char *program;
	const WdrEfiOption *option;
	GPtrArray *steps;     /* char *: which program starts which */
	bool misses_names;    /* GRUB searches for what no partition is called */
	bool switches_pcie;   /* config.txt has the firmware switch a PCIe connector on */
	GPtrArray *list;      /* WdrBootEntry, the first is what starts by itself */
	GPtrArray *faults;    /* char *: why there is no entry, or one that was passed over */
	GPtrArray *warnings;  /* char * */
	WdrIncludes includes; /* files of the loader's configuration that were read */
} WdrBootEntries;

/* Never fails: what is missing is a fault. `board` is borrowed; NULL: not known. `others` (const
 * WdrSystem *, may be NULL): disks that are plugged in beside it. */
WdrBootEntries *wdr_boot_entries_find(
	const WdrSystem *s, const WdrBoard *board, const GPtrArray *others);
void wdr_boot_entries_free(WdrBootEntries *w);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBootEntries, wdr_boot_entries_free)

/* The part that an entry's files are on. */
const WdrSystemPart *wdr_boot_entry_part(const WdrBootEntries *w, const WdrBootEntry *entry);

/* ---- one function a boot flow (boot_entry_firmware.c, boot_entry_menu.c, boot_entry_script.c,
 * boot_entry_efi.c) ---- */

void wdr_boot_entries_of_firmware(const WdrSystem *s, WdrBootEntries *ret);
void wdr_boot_entries_of_menu(const WdrSystem *s, WdrBootEntries *ret);
void wdr_boot_entries_of_script(const WdrSystem *s, WdrBootEntries *ret);
void wdr_boot_entries_of_efi(const WdrSystem *s, WdrBootEntries *ret);
/* A new entry, which the list owns. */
WdrBootEntry *wdr_boot_entries_add(WdrBootEntries *w);
/* The text of a boot file; NULL: it is not there. The caller's. */
char *wdr_boot_entries_text(const WdrBootEntries *w, const char *path, size_t *ret_len);
/* The same of one that another may include; a warning tells, once, that there are too many. */
char *wdr_boot_entries_included(WdrBootEntries *w, const char *path, size_t *ret_len);
bool wdr_boot_entries_has(const WdrBootEntries *w, const char *path);
