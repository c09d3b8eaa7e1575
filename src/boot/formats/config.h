/* config.txt: what the firmware of boards with a FAT boot volume reads. Lines of KEY=VALUE (and
 * "initramfs FILE PLACE", without =) in sections that hold until the next one: filters of different
 * kinds add up, [all] takes them all away. */
#pragma once

#include "boot/formats/mention.h"

typedef enum {
	WDR_APPLIES_ALWAYS,
	WDR_APPLIES_SOMETIMES, /* on some boards, or with some hardware attached */
	WDR_APPLIES_NEVER,     /* [none], another board's, or what only a try-boot reads */
} WdrApplies;

typedef struct {
	char *key, *value;
	unsigned line, column;
	char *section; /* "[pi4]"; "": none */
	WdrApplies applies;
} WdrConfigLine;

/* GPtrArray of WdrConfigLine. */
typedef GPtrArray WdrConfig;
WdrConfig *wdr_config_new(void);
/* Adds the file's lines; warnings on what the firmware would not understand or cut off. `board`:
 * the sections that hold on one board ("pi4", …), NULL-ended; NULL: it is not known which board. */
void wdr_config_parse(const WdrReading *r, const char *const *board, WdrConfig *ret);

/* What the firmware would make of it. Strings borrowed from the configuration; NULL: its default.
 */
typedef struct {
	const char *cmdline, *os_prefix;
	bool has_initramfs;                   /* on every board */
	const WdrConfigLine *maybe_initramfs; /* loads one, for some boards only; NULL: none */
} WdrConfigMeaning;
WdrConfigMeaning wdr_config_mean(const WdrConfig *config);

/* The partition that autoboot.txt leads to: at each boot, or at one that was asked for as a trial
 * ([tryboot]); 0: it says none. Of several lines the last counts. */
unsigned wdr_autoboot_partition(const char *text, size_t len, bool is_trial);
