/* How long the running system took to boot, as systemd counts it. */
#pragma once

#include "world/world.h"

/* Microseconds; 0: there was no such part, or nobody knows. */
typedef struct {
	int64_t firmware, loader; /* known where the firmware tells, as UEFI does */
	int64_t kernel, initramfs;
	int64_t services; /* from the first program on root to the last service that was waited for
			   */
} WdrBootTime;

/* False: it is unknown (another init, an image's bench), or the boot has not ended yet. */
bool wdr_boot_time_ask(const WdrWorld *world, WdrBootTime *ret);
int64_t wdr_boot_time_all(const WdrBootTime *t);
/* "kernel 4.6 s, services 12.3 s". The caller's. */
char *wdr_boot_time_parts(const WdrBootTime *t);
/* "21.3 s", "1 min 32 s". The caller's. */
char *wdr_boot_time_text(int64_t us);
