/* What the loaders that UEFI firmware starts have in common. Private to this folder. */
#pragma once

#include "boot/system/efi_boot.h"

/* One more entry, which the list owns. */
WdrEfiEntry *wdr_efi_boot_add(WdrEfiBoot *b);
void wdr_efi_entry_free(void *entry);

/* GRUB from where it has been started. */
typedef struct {
	const GPtrArray *others; /* const WdrSystem *; NULL: none */
	WdrSystemPart *part;     /* that it was started from */
	const char *folder;      /* of its program: "EFI/debian" */
	const char *prefix;      /* built into it: "/EFI/debian", "(,gpt2)/boot/grub"; NULL: none */
	const char *config;      /* built into it; NULL: none */
	const void *memdisk;     /* a volume built into it; NULL: none */
	size_t memdisk_bytes;
	const char *processor; /* "x86_64", "arm64" */
} WdrGrubStart;
void wdr_grub_follow(
	const WdrSystem *s, const WdrGrubStart *start, WdrEfiBoot *ret); /* grub_menu.c */
/* systemd-boot, started from `esp` */
void wdr_loader_entries_follow(const WdrSystem *s, WdrSystemPart *esp, WdrEfiBoot *ret);
/* An entry for a unified kernel image; false: it is none. */
bool wdr_efi_unified_take(WdrSystemPart *part, const char *path, WdrEfiEntry *ret);
