/* Firmware files on a boot volume, compared with those of a folder, and updated as the sets that
 * they belong to. */
#pragma once

#include "boot/board/board.h"
#include "boot/board/firmware_build.h"
#include "change/disk_session.h"

typedef struct {
	const char
		*from;  /* a folder of this machine; NULL: that of the system's package, on root */
	const char *on; /* disk or image with the boot volume */
} WdrFirmwareOptions;

typedef enum {
	WDR_FIRMWARE_SAME,
	WDR_FIRMWARE_MISSING, /* on the boot volume */
	WDR_FIRMWARE_OLDER,
	WDR_FIRMWARE_NEWER,
	WDR_FIRMWARE_DIFFERS, /* it does not say from when it is */
	WDR_FIRMWARE_EXTRA,   /* the folder has none */
} WdrFirmwareState;

typedef struct {
	char *name; /* as the folder has it, or the boot volume */
	WdrFirmwareSet set;
	WdrFirmwareState state;
	int64_t day_there, day_from; /* when it was built; 0: unknown */
	GBytes *from;                /* NULL: an extra */
} WdrFirmwareFile;

typedef struct {
	WdrDiskSession *site;
	WdrBoard *board;  /* NULL: not known */
	char *from;       /* in words */
	GPtrArray *list;  /* WdrFirmwareFile, by set and name */
	GPtrArray *files; /* WdrFilePlan */
	GPtrArray *left;  /* char * */
} WdrFirmwarePlan;

/* UNSUPPORTED: no boot volume that such firmware reads; USAGE: the folder has no such files. */
bool wdr_firmware_plan(const WdrWorld *world, const WdrFirmwareOptions *options,
	WdrFirmwarePlan **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_firmware_plan_free(WdrFirmwarePlan *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrFirmwarePlan, wdr_firmware_plan_free)
