/* extlinux.conf: the menu that U-Boot and some vendors' loaders read.
 * Format: U-Boot's doc/README.pxe and boot/pxe_utils.c; tried with U-Boot 2023.01. Keywords in any
 * case, one a line, `#` starts a comment line. */
#pragma once

#include "boot/formats/edit.h"

typedef struct {
	char *label;
	unsigned line;
	size_t start, end;  /* of its lines in the text, from LABEL to the next entry or the end */
	WdrSpan menu_label; /* 0, 0: none */
	WdrSpan menu_default; /* the whole line with its end; 0, 0: none */
	WdrSpan label_name;
	bool has_initrd;
} WdrExtlinuxEntry;

typedef struct {
	GPtrArray *entries;  /* WdrExtlinuxEntry */
	GPtrArray *includes; /* char *: as written */
	char *default_name;  /* NULL: none */
	WdrSpan default_value, ontimeout_value, timeout_value, prompt_value; /* 0, 0: not there */
	unsigned timeout; /* tenths of a second */
	bool has_prompt;  /* and it is not 0 */
	bool has_title;   /* MENU TITLE before the first entry: what makes U-Boot show the menu */
} WdrExtlinux;

/* Never fails: unknown keywords and contradictions are warnings in `r`. */
WdrExtlinux *wdr_extlinux_parse(const WdrReading *r);
void wdr_extlinux_free(WdrExtlinux *x);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrExtlinux, wdr_extlinux_free)
/* The entry that starts by itself; NULL: there is none at all. */
const WdrExtlinuxEntry *wdr_extlinux_default(const WdrExtlinux *x);

/* Adds an entry with another root: a copy of the default entry in which the root= words in
 * `mentions` for it are replaced by new_root becomes the default; the old one stays under its own
 * label. Both get a menu label that names its medium, and the menu waits long enough to choose.
 * REFUSED: the file has no entry with a root=, or would have two defaults. */
typedef struct {
	const char *old_medium, *new_medium; /* in words: "SD card" */
	const char *new_root;                /* the value of root= */
} WdrExtlinuxChoice;
bool wdr_extlinux_add_choice(const char *text, size_t len, const WdrExtlinuxChoice *choice,
	WdrEdit *edit, GError **error) G_GNUC_WARN_UNUSED_RESULT;
