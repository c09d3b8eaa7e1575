/* The firmware's settings in an EEPROM, as the operating system's command for them reads and
 * changes them: lines of KEY=VALUE in sections. A change is used from the next start on. */
#pragma once

#include "base/hash.h"
#include "world/world.h"

typedef struct {
	char *now;     /* that this start used; NULL: nobody can tell */
	char *waiting; /* that the next start will use, when they are others; NULL: the same */
} WdrEepromSettings;
void wdr_eeprom_settings_clear(WdrEepromSettings *s);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrEepromSettings, wdr_eeprom_settings_clear)

/* Never fails: what cannot be known stays NULL. */
void wdr_eeprom_read(const WdrWorld *world, WdrEepromSettings *ret);
/* There is the command to change them. */
bool wdr_eeprom_has_command(const WdrWorld *world);
/* The command takes the settings over, and they are read back where it keeps them. Where it wrote
 * them into the EEPROM at once nobody can read them before the next start: *ret_is_read false (it
 * may be NULL). UNSUPPORTED: there is no such command; IO: it failed, or what is read back is
 * something else. */
bool wdr_eeprom_apply(const WdrWorld *world, const char *settings, bool *ret_is_read,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Whatever ends them. */
bool wdr_eeprom_is_same(const char *a, const char *b);
WdrHash wdr_eeprom_hash(const char *settings);
/* The value of the last line of this key; NULL: there is none. The caller's. */
char *wdr_eeprom_value(const char *settings, const char *key);
/* The settings with this value: in the last line of the key, or in a new one that holds always. The
 * caller's. */
char *wdr_eeprom_with(const char *settings, const char *key, const char *value);
