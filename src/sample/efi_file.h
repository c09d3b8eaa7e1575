/* UEFI programs as far as anybody looks: the headers and sections by which loaders are recognised,
 * with made-up code. The same bytes every time. */
#pragma once

#include <glib.h>
#include <stdint.h>

enum { WDR_SAMPLE_AA64 = 0xaa64, WDR_SAMPLE_X64 = 0x8664 };

typedef struct {
	const char *name; /* at most 8 characters */
	const void *bytes;
	size_t len;
} WdrSampleSection;

/* With these sections behind one of code. The caller's. */
GBytes *wdr_sample_efi(uint16_t machine, const WdrSampleSection *sections, size_t n);
/* A GRUB with this configuration (NULL: none) and folder inside. */
GBytes *wdr_sample_grub(uint16_t machine, const char *config, const char *prefix);
GBytes *wdr_sample_shim(uint16_t machine);
GBytes *wdr_sample_systemd_boot(uint16_t machine);
/* A unified kernel image. */
GBytes *wdr_sample_unified(
	uint16_t machine, const char *arguments, GBytes *kernel, GBytes *initramfs);
