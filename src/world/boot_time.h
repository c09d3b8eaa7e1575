/* How long the running system took to boot, as systemd counts it. */
#pragma once

#include "world/world.h"

/* The parts of a boot, in their order. The services run from the first program on root to the last
 * service that was waited for. Firmware and loader are known where the firmware tells, as UEFI
 * does. */
typedef enum {
	WDR_BOOT_FIRMWARE,
	WDR_BOOT_LOADER,
	WDR_BOOT_KERNEL,
	WDR_BOOT_INITRAMFS,
	WDR_BOOT_SERVICES,
	WDR_BOOT_PARTS
} WdrBootPart;

/* Microseconds; 0: there was no such part, or nobody knows. */
typedef struct {
	int64_t us[WDR_BOOT_PARTS];
} WdrBootTime;

/* Above it a clock or a program is wrong. */
#define WDR_BOOT_TIME_MAX_US (INT64_C(24) * 3600 * G_USEC_PER_SEC)

/* As documents call it: "kernel_us". */
const char *wdr_boot_part_key(WdrBootPart part);

/* False: it is unknown (another init, an image's bench), or the boot has not ended yet. */
bool wdr_boot_time_ask(const WdrWorld *world, WdrBootTime *ret);
int64_t wdr_boot_time_all(const WdrBootTime *t);
/* "kernel 4.6 s, services 12.3 s". The caller's. */
char *wdr_boot_time_parts(const WdrBootTime *t);
/* "21.3 s", "1 min 32 s". The caller's. */
char *wdr_boot_time_text(int64_t us);
