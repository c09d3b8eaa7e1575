/* Changing what lies outside of volumes: bytes of a flash or at a place of a disk, and the
 * firmware's settings. As with files the original is kept and the logbook told first; rewind.h
 * takes it back, also when the power was cut in the middle. */
#pragma once

#include "change/efi_order.h"
#include "disk/flash.h"
#include "journal/logbook.h"

typedef struct {
	const WdrWorld *world;
	WdrLogbook *logbook; /* owned */
	char *state;         /* its folder */
	unsigned next;       /* number of the next change */
	bool has_begun;      /* something may have been changed */
	bool has_unread;     /* and something that was cannot be read back yet */
} WdrRawChange;
/* Begins a logbook in the folder `state`, which is made. */
bool wdr_raw_change_begin(const WdrWorld *world, const char *state, WdrRawChange *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_raw_change_clear(WdrRawChange *o);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrRawChange, wdr_raw_change_clear)
/* The logbook's last word: it is done, or stopped by this error, which is taken over and handed on.
 * Returns whether there was none. */
bool wdr_raw_change_end(WdrRawChange *o, GError *failure, GError **error);
/* Where the records of such work are kept unless the user says otherwise. The caller's. */
char *wdr_raw_change_state(const WdrWorld *world, const char *what);

/* Bytes of a disk are changed only between its table and its first partition, between two, or in a
 * partition that is a boot loader's own.
 * Flash, eMMC boot partitions and plain files are free; of other devices (a partition) nothing is.
 * REFUSED, UNSUPPORTED. */
bool wdr_raw_change_check(const WdrWorld *world, const char *device, uint64_t offset, uint64_t len,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Of an image: nobody has it attached. Others may well be in use. REFUSED. */
bool wdr_raw_change_check_rest(
	const WdrWorld *world, const char *device, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts bytes at a place of a device ("/dev/mtd0") that was checked, see wdr_flash_write(). */
bool wdr_raw_change_write(WdrRawChange *o, const char *device, uint64_t offset, GBytes *bytes,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Hands the firmware settings, in place of `before`. */
bool wdr_raw_change_settings(WdrRawChange *o, const char *before, const char *after,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts an entry of UEFI firmware first, and makes it before. */
bool wdr_raw_change_efi_order(WdrRawChange *o, const WdrEfiSettings *before,
	const WdrEfiFirst *first, GError **error) G_GNUC_WARN_UNUSED_RESULT;
