/* U-Boot's environment: settings in flash, at a place of a disk, or in a file, as the system's
 * /etc/fw_env.config tells. Format: U-Boot's include/env_internal.h: a CRC32, where there are two
 * copies a flag byte, then NAME=VALUE with a 0 behind each and one more at the end. */
#pragma once

#include "world/world.h"

#include <stddef.h>

/* Of one copy. NAME -> VALUE, both char *; the caller's. FORMAT: its checksum is wrong, or it is
 * none. ret_flag: of one of two copies; NULL: it is alone. */
bool wdr_uboot_env_parse(const uint8_t *bytes, size_t len, GHashTable **ret, uint8_t *ret_flag,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The one that counts on this machine. *ret NULL: no file tells where it is. ret_place: in words,
 * the caller's. FORMAT: no copy is sound, and U-Boot takes what it has built in. */
bool wdr_uboot_env_read(const WdrWorld *world, GHashTable **ret, char **ret_place,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
