/* Identifiers: the ways to name a partition or volume in a boot or system file.
 *   UUID=… LABEL=… PARTUUID=… PARTLABEL=…      tagged
 *   /dev/disk/by-uuid/… (and the like)         links
 *   dev-disk-by\x2duuid-….device               links as systemd's unit names
 *   /dev/mmcblk0p2  /dev/disk/by-id/…-part2    device nodes
 *   6d1c7a52-…                                 bare, where a key tells what it is */
#pragma once

#include "disk/parttable.h"
#include "disk/probe.h"

typedef enum {
	WDR_BY_UUID,
	WDR_BY_LABEL,
	WDR_BY_PARTUUID,
	WDR_BY_PARTLABEL,
	WDR_BY_PATH,   /* a device node: not stable */
	WDR_BY_NUMBER, /* of a partition on the same disk */
} WdrIdentifierKind;

typedef struct {
	WdrIdentifierKind kind;
	bool is_link;           /* written as /dev/disk/by-… */
	bool is_unit;           /* written as the name of a systemd unit */
	bool is_bare;           /* written without a tag */
	unsigned partitions_on; /* PARTUUID=…/PARTNROFF=N: the Nth partition behind that one */
	char *value;            /* without tag or folder, unescaped */
	char *node; /* of a link by bus or serial: the device node that it leads to; NULL: unknown
		     */
} WdrIdentifier;

void wdr_identifier_clear(WdrIdentifier *a);
/* False: the text is no identifier of a block device (tmpfs, //server/share, …). */
bool wdr_identifier_parse(const char *text, WdrIdentifier *ret);
/* As it is written in a file; blanks and the like are escaped for links only. The caller's. */
char *wdr_identifier_format(const WdrIdentifier *a);
/* With its tag, whatever it was written as. The caller's. */
char *wdr_identifier_tagged(const WdrIdentifier *a);
/* "partuuid", "uuid", … as on the command line. */
const char *wdr_identifier_kind_name(WdrIdentifierKind kind);
bool wdr_identifier_kind_parse(const char *text, WdrIdentifierKind *ret);

/* All identifiers of one partition. Strings borrowed; NULL: it has none of this kind. */
typedef struct {
	const char *uuid, *label, *partuuid, *partlabel;
	unsigned number;
	const char *disk_name; /* "mmcblk0"; NULL: an image whose device name nobody knows */
	const char *serial;    /* of the disk; NULL: unknown */
} WdrIdentity;

/* Compares as people search: without regard to case. */
bool wdr_identifier_matches(const WdrIdentifier *a, const WdrIdentity *id);
/* What matches, but only without regard to case, is found by the kernel, and not by programs that
 * go through /dev/disk. */
bool wdr_identifier_is_case_off(const WdrIdentifier *a, const WdrIdentity *id);
/* A device path that can be a disk's: not a terminal's, not /dev/null. Other kinds always are. */
bool wdr_identifier_is_disk(const WdrIdentifier *a);
/* For a device path: the disk's name and the partition's number ("mmcblk0", 2). */
bool wdr_identifier_split_path(const char *path, char **ret_disk, unsigned *ret_number);
/* The other way; number 0: the disk. The caller's. */
char *wdr_identifier_path(const char *disk, unsigned number);
