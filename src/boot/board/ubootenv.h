/* U-Boot's environment: settings in flash, at a place of a disk, or in a file, as the system's
 * /etc/fw_env.config tells. Format: U-Boot's include/env_internal.h: a CRC32, where there are two
 * copies a flag byte, then NAME=VALUE with a 0 behind each and one more at the end. */
#pragma once

#include "world/world.h"

#include <stddef.h>

enum { WDR_ENV_COPIES_MAX = 2 };

/* One of at most two copies. */
typedef struct {
	char *device;   /* path of a device or file */
	int64_t offset; /* negative: from the end */
	uint64_t size;  /* bytes */
	bool is_sound;  /* its checksum is right */
	uint8_t flag;   /* of one of two */
	char *problem;  /* why it is not sound */
} WdrEnvCopy;

typedef struct {
	WdrEnvCopy copies[WDR_ENV_COPIES_MAX];
	size_t n;
	const WdrEnvCopy *current; /* that U-Boot takes; NULL: none is sound, and it takes what it
				      has built in */
	GHashTable *values;        /* of that one: NAME -> VALUE, both char *; NULL: none */
} WdrUbootEnv;

/* Of one copy. The caller's. FORMAT: its checksum is wrong, or it is none. ret_flag: of one of two
 * copies; NULL: it is alone. */
bool wdr_uboot_env_parse(const uint8_t *bytes, size_t len, GHashTable **ret, uint8_t *ret_flag,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A copy with these values, by name. flag: of one of two; negative: it is alone. NO_SPACE: they are
 * more than `size` bytes hold. The caller's. */
bool wdr_uboot_env_build(GHashTable *values, size_t size, int flag, GBytes **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Lines of NAME=VALUE, as the system's package for it brings them. The caller's. */
GHashTable *wdr_uboot_env_from_text(const char *text);

/* What this machine has. NULL: no file tells where it is. */
WdrUbootEnv *wdr_uboot_env_find(const WdrWorld *world);
void wdr_uboot_env_free(WdrUbootEnv *e);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrUbootEnv, wdr_uboot_env_free)
/* "/dev/mtd0 at 4063232". The caller's. */
char *wdr_uboot_env_location(const WdrEnvCopy *copy);
/* What starts by itself goes through boot_targets only where bootcmd is the usual one. */
bool wdr_uboot_env_is_usual(const WdrUbootEnv *e);
