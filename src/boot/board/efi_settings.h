/* What UEFI firmware has stored: its boot entries and their order, as the kernel shows its
 * variables. Only reads.
 * Format: UEFI specification 2.10, 3.1.3 (load options) and 10.3 (device paths); the kernel puts 4
 * bytes of attributes before each variable (Documentation/filesystems/efivarfs.rst).
 *   0  4 attributes, bit 0: active     6  - description, UTF-16, ended by a 0
 *   4  2 length of the device path     then the path: nodes of type, subtype, length (2), data */
#pragma once

#include "world/world.h"

typedef struct {
	unsigned number; /* "Boot0001" */
	bool is_active;
	char *name;     /* for people: "debian" */
	char *partuuid; /* of the partition that it starts from, as the kernel writes it; NULL: none
			 */
	char *file;     /* "EFI/debian/shimx64.efi"; NULL: the firmware's own choice */
} WdrEfiOption;

typedef struct {
	GPtrArray *options; /* WdrEfiOption, by number */
	GArray *order;      /* unsigned: numbers, the first is tried first */
	int current, next;  /* numbers: what it booted by, what is tried once; -1: unknown, none */
	bool checks_signatures; /* Secure Boot is on */
	char *problem;          /* why the entries cannot be read; NULL: they can */
} WdrEfiSettings;

/* NULL: the machine was not started by UEFI firmware. The caller's. */
WdrEfiSettings *wdr_efi_settings_read(const WdrWorld *world);
void wdr_efi_settings_free(WdrEfiSettings *e);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrEfiSettings, wdr_efi_settings_free)
/* A variable's bytes as an entry; NULL: it is damaged. The caller's. */
WdrEfiOption *wdr_efi_option_parse(unsigned number, const void *bytes, size_t len);
void wdr_efi_option_free(WdrEfiOption *o);
/* NULL: there is none of that number. */
const WdrEfiOption *wdr_efi_option(const WdrEfiSettings *e, unsigned number);
