/* Addresses: the ways to name a partition or volume in a boot or system file.
 *   UUID=… LABEL=… PARTUUID=… PARTLABEL=…  /dev/disk/by-uuid/… (and the like)  /dev/mmcblk0p2 */
#pragma once

#include "disk/parttable.h"
#include "disk/probe.h"

typedef enum {
	WDR_BY_UUID,
	WDR_BY_LABEL,
	WDR_BY_PARTUUID,
	WDR_BY_PARTLABEL,
	WDR_BY_PATH, /* a device node: not stable */
} WdrAddressKind;

typedef struct {
	WdrAddressKind kind;
	bool is_link; /* written as /dev/disk/by-… */
	char *value;  /* without tag or folder, unescaped */
} WdrAddress;

void wdr_address_clear(WdrAddress *a);
/* False: the text is no address of a block device (tmpfs, //server/share, …). */
bool wdr_address_parse(const char *text, WdrAddress *ret);
/* As it is written in a file; blanks and the like are escaped for links only. The caller's. */
char *wdr_address_format(const WdrAddress *a);
/* "partuuid", "uuid", … as on the command line. */
const char *wdr_address_kind_name(WdrAddressKind kind);
bool wdr_address_kind_parse(const char *text, WdrAddressKind *ret);

/* All addresses of one partition. Strings borrowed; NULL: it has none of this kind. */
typedef struct {
	const char *uuid, *label, *partuuid, *partlabel;
	unsigned number;
	const char *disk_name; /* "mmcblk0"; NULL: an image whose device name nobody knows */
} WdrIdentity;

/* Compares as people search: without regard to case. */
bool wdr_address_matches(const WdrAddress *a, const WdrIdentity *id);
/* For a device path: the disk's name and the partition's number ("mmcblk0", 2). */
bool wdr_address_split_path(const char *path, char **ret_disk, unsigned *ret_number);
