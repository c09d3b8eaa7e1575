/* What an NVMe drive says of itself when it is asked: its health log, and the power that it may
 * draw. Formats: NVM Express Base Specification 1.4, section 5.14.1.2 (SMART / Health Information)
 * and figure 247 and 248 (Identify Controller, Power State Descriptor). Only reads. */
#pragma once

#include "disk/disks.h"

enum { WDR_NVME_LOG_BYTES = 512, WDR_NVME_IDENTIFY_BYTES = 4096 };

typedef struct {
	bool is_low_on_spares, is_unreliable, is_read_only; /* as the drive itself judges */
	unsigned spare, spare_threshold;                    /* percent */
	unsigned used;                       /* percent of its life; above 100: more */
	int degrees;                         /* Celsius; 0: it does not tell */
	uint64_t media_errors, power_losses; /* UINT64_MAX: that many or more */
	unsigned max_milliwatts;             /* 0: it does not tell */
} WdrNvmeHealth;

/* log: WDR_NVME_LOG_BYTES, identify: WDR_NVME_IDENTIFY_BYTES. */
void wdr_nvme_health_decode(const uint8_t *log, const uint8_t *identify, WdrNvmeHealth *ret);
/* Asks the drive. On a bench its controller (dev/nvme0) is a file with both answers, one after the
 * other. False: it is no NVMe drive, or it cannot be asked. */
bool wdr_nvme_health_ask(const WdrWorld *world, const WdrDisk *disk, WdrNvmeHealth *ret);
