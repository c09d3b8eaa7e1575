/* Programs that UEFI firmware starts: which loader one is, and the texts inside it.
 * Format: Microsoft's PE/COFF specification ("PE Header", "Section Table"); the sections of unified
 * kernel images are those of the UAPI group's specification; the modules inside GRUB are those of
 * GRUB's include/grub/kernel.h.
 *   0x00  2 "MZ"     0x3c  4 where "PE\0\0" lies; behind it
 *   0x04  2 machine  0x06  2 number of sections  0x14  2 size of the optional header
 * A section header has 40 bytes: name (8), size in use (4), address (4), size in the file (4),
 * place in the file (4). All numbers are little-endian. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef enum {
	WDR_EFI_UNKNOWN,
	WDR_EFI_SHIM,     /* starts GRUB from its own folder */
	WDR_EFI_FALLBACK, /* shim's helper: starts what the BOOT*.CSV files name */
	WDR_EFI_GRUB,
	WDR_EFI_SYSTEMD_BOOT,
	WDR_EFI_UNIFIED, /* a kernel with initramfs and arguments in one file */
	WDR_EFI_KERNEL,  /* a kernel that is a program, too */
} WdrEfiKind;

/* Where something lies in the file. `bytes` 0: the program has no such thing. */
typedef struct {
	size_t at, bytes;
	size_t room;      /* that it may grow to */
	size_t length_at; /* of the 32-bit number that tells its length; 0: there is none */
} WdrEfiSpan;

enum { WDR_EFI_ARGUMENTS_MAX = 8 };

typedef struct {
	WdrEfiKind kind;
	uint16_t machine; /* as in the header: 0x8664, 0xaa64, … */
	bool is_signed;
	WdrEfiSpan kernel, initramfs; /* of a unified image, */
	WdrEfiSpan release;           /* and what it says of its system, like os-release */
	/* Its kernel arguments: the first are those that count without a choice, the others those
	 * of further profiles. */
	WdrEfiSpan arguments[WDR_EFI_ARGUMENTS_MAX];
	unsigned n_arguments;
	WdrEfiSpan config;  /* of GRUB: the configuration inside it */
	WdrEfiSpan prefix;  /* of GRUB: the folder of its configuration, "(,gpt2)/boot/grub" */
	WdrEfiSpan memdisk; /* of GRUB: a volume inside it */
	WdrEfiSpan version; /* what systemd's programs say of themselves: "systemd-boot 252" */
} WdrEfiProgram;

/* FORMAT: no such program, or a damaged one. */
bool wdr_efi_program_parse(const void *bytes, size_t len, WdrEfiProgram *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* "GRUB", "systemd-boot", …; static. */
const char *wdr_efi_kind_name(WdrEfiKind kind);
/* What the firmware of such a machine calls it in file names: "x64", "aa64"; NULL: unknown. */
const char *wdr_efi_machine_word(uint16_t machine);
