/* How fast a disk can be reached: the rate of the slowest link on the way that the kernel tells. */
#pragma once

#include "disk/disks.h"

typedef struct {
	char *text;    /* "PCIe 5.0 GT/s x1", "SD bus, SDR104, 200 MHz x 4"; NULL: unknown */
	uint64_t rate; /* bytes a second that it allows, without the encoding; 0: unknown */
} WdrLink;
void wdr_link_clear(WdrLink *link);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrLink, wdr_link_clear)

WdrLink wdr_disk_link(const WdrWorld *world, const WdrDisk *disk);

/* The rate of a link as WdrDisk.link tells it; 0: unknown. */
uint64_t wdr_link_rate(const char *text);
/* A card's bus as the kernel's "ios" file of its host tells it. */
WdrLink wdr_link_of_card_bus(const char *ios);
/* The disk that a device of this number is, or is a partition of: its name; NULL: unknown. The
 * caller's. */
char *wdr_disk_name_of_device(const WdrWorld *world, dev_t device);

/* Bytes that were read from and written to the disk since the start, by whomever. False: nobody
 * counts. */
bool wdr_disk_traffic(
	const WdrWorld *world, const char *name, uint64_t *ret_read, uint64_t *ret_written);
/* The hottest that the disk says of itself, in degrees Celsius; false: it does not say. */
bool wdr_disk_temperature(const WdrWorld *world, const char *name, int *ret);
