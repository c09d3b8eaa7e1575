/* Lines of config.txt that are added and taken out. */
#pragma once

#include <glib.h>
#include <stdbool.h>

/* The text with a line more that holds on every board. */
GBytes *wdr_config_with_line(const char *text, size_t len, const char *line);
/* The text without the lines that are this one, in any section; NULL: there is none. */
GBytes *wdr_config_without_line(const char *text, size_t len, const char *line);
bool wdr_config_has_line(const char *text, size_t len, const char *line);

/* One setting: "usb_max_current_enable=1", or an item of dtparam's lists: "dtparam=pciex1_gen=3".
 */
typedef struct {
	const char *key;   /* "dtparam" */
	const char *item;  /* "pciex1_gen"; NULL: the key has the value itself */
	const char *value; /* "3"; NULL: the item has no value, or is "on" */
} WdrConfigSetting;

typedef enum {
	WDR_SETTING_OFF,
	WDR_SETTING_ELSEWHERE, /* on some boards, or nobody knows which board this is */
	WDR_SETTING_ON,
} WdrSettingState;
/* `board`: sections that hold on it, see wdr_config_parse(); NULL: not known. *ret_line is the line
 * that decides; 0: none. */
WdrSettingState wdr_config_state(const char *text, size_t len, const char *const *board,
	const WdrConfigSetting *s, unsigned *ret_line);
/* The text with the setting on, as a line at the end of the first section of this board's that
 * there is, or of one that holds always; or off, its lines and items that hold on this board taken
 * out. The caller's; the same text when there is nothing to do. */
GBytes *wdr_config_set(const char *text, size_t len, const char *const *board,
	const WdrConfigSetting *s, bool is_on);
