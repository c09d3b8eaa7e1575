/* Mentions: the places in a file where an address stands, with exact columns, so that putting one
 * right is a splice and every other byte stays as it is. One reader a format. */
#pragma once

#include "boot/address.h"

typedef enum {
	WDR_USE_ROOT,
	WDR_USE_BOOT,
	WDR_USE_SWAP,
	WDR_USE_RESUME,
	WDR_USE_OTHER,
} WdrUse;

typedef struct {
	unsigned number;       /* of the partition whose volume holds the file */
	char *file;            /* path on that volume */
	unsigned line, column; /* from 1; the column counts bytes */
	size_t offset, len;    /* of the address's text in the file */
	char *text;            /* as it stands there */
	WdrAddress address;
	WdrUse use;
	char *what;      /* "root=", or a mount point */
	bool is_escaped; /* the file's format writes blanks as \040 */
} WdrMention;

/* GPtrArray of WdrMention. */
typedef GPtrArray WdrMentions;
WdrMentions *wdr_mentions_new(void);
const char *wdr_use_name(WdrUse use);

/* What a reader saw that is worth telling (GPtrArray of char *): broken lines, doubled words. */
typedef GPtrArray WdrRemarks;
WdrRemarks *wdr_remarks_new(void);

/* The words of a kernel command line that name devices. The firmware reads the first line only:
 * what follows is remarked on, not read. FORMAT when it is empty. */
bool wdr_kernel_args_read(const char *file, const char *text, size_t len, WdrMentions *mentions,
	WdrRemarks *remarks, GError **error);
/* fstab: lines that cannot be read are remarked on and skipped, as mount does. */
bool wdr_fstab_read(const char *file, const char *text, size_t len, WdrMentions *mentions,
	WdrRemarks *remarks, GError **error);

/* Where the files are, and which reader each has. A volume has the role "boot" or "root". */
typedef struct {
	const char *role, *file;
	bool (*read)(const char *file, const char *text, size_t len, WdrMentions *mentions,
		WdrRemarks *remarks, GError **error);
} WdrPlaceOfMentions;
extern const WdrPlaceOfMentions wdr_places[];
extern const size_t wdr_n_places;
