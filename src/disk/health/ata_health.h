/* What a SATA disk says of its own health, also one behind a USB bridge that passes ATA commands
 * on. Formats: ATA/ATAPI Command Set 3 (ACS-3), sections 7.12 (IDENTIFY DEVICE), 7.48 (SMART) and
 * A.5.8 (device statistics of solid state disks); the table of attributes by SFF-8035i 2.0, as all
 * makers have it; SCSI/ATA Translation 3 (SAT-3), section 12.2 (ATA PASS-THROUGH). Only reads. */
#pragma once

#include "disk/disks.h"

enum { WDR_ATA_PAGE_BYTES = 512, WDR_ATA_SENSE_BYTES = 32 };

/* What the disk answered; all zeros: it did not. */
typedef struct {
	uint8_t identify[WDR_ATA_PAGE_BYTES];
	uint8_t attributes[WDR_ATA_PAGE_BYTES];
	uint8_t statistics[WDR_ATA_PAGE_BYTES]; /* the page of solid state disks */
	uint8_t status[WDR_ATA_SENSE_BYTES];    /* sense data with the registers behind SMART RETURN
						 * STATUS
						 */
} WdrAtaAnswers;

typedef struct {
	bool is_told;    /* it keeps watch over itself; otherwise nothing below counts */
	bool has_status; /* and gives its own verdict: */
	bool is_failing;
	bool has_attributes; /* sectors, which each maker counts: */
	uint64_t reallocated, pending, uncorrectable;
	bool has_used; /* of a solid state disk: */
	unsigned used; /* percent of its life; above 100: more */
} WdrAtaHealth;

void wdr_ata_health_decode(const WdrAtaAnswers *a, WdrAtaHealth *ret);

typedef enum {
	WDR_ATA_ANSWERED,
	WDR_ATA_NONE,       /* it is no ATA disk */
	WDR_ATA_BRIDGE,     /* it is behind a USB bridge that does not tell what it has behind it */
	WDR_ATA_UNANSWERED, /* it cannot be asked: without root, or it fails */
} WdrAtaResult;
/* Asks only disks that the kernel knows to be ATA disks: some USB bridges hang when they are sent
 * ATA commands. On a bench the file dev/NAME.ata has the answers, as in WdrAtaAnswers. */
WdrAtaResult wdr_ata_health_ask(const WdrWorld *world, const WdrDisk *disk, WdrAtaHealth *ret);
