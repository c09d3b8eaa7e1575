/* Putting mentions right: splices of a file's bytes, and showing them as a unified diff. */
#pragma once

#include "base/hash.h"
#include "boot/formats/mention.h"

typedef struct {
	size_t offset, len; /* of the old text in the file */
	unsigned line, column;
	char *old_text, *new_text;
} WdrSplice;

/* All splices of one file, by offset, none overlapping. */
typedef struct {
	unsigned number; /* of the partition */
	char *file;      /* path on its volume */
	const WdrFormat *format;
	bool is_image;      /* a loader image: its checksums are computed again */
	bool is_on_source;  /* made in place on the source, whose original is kept; else on the way
			     */
	WdrHash before;     /* of the whole file as it must be found */
	GPtrArray *splices; /* WdrSplice */
} WdrEdit;

WdrEdit *wdr_edit_new(unsigned number, const char *file, WdrHash before);
void wdr_edit_free(WdrEdit *edit);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrEdit, wdr_edit_free)
/* new_text as it will be in the file, see wdr_rewrite(). */
void wdr_edit_add(WdrEdit *edit, size_t offset, unsigned line, unsigned column,
	const char *old_text, const char *new_text);

/* One of its splices is what becomes of the mention. */
bool wdr_edit_covers(const WdrEdit *edit, const WdrMention *m);
/* The file's new bytes. REFUSED when the file is not the one that the edit was made for. */
bool wdr_edit_apply(const WdrEdit *edit, const char *text, size_t len, GBytes **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* A unified diff with three lines of context. Bytes that are no text are escaped. The caller's. */
/* The part of a file that can be shown as lines: of a loader image the script in it. */
void wdr_edit_shown(
	const WdrEdit *edit, const char *bytes, size_t len, const char **ret_text, size_t *ret_len);
char *wdr_diff(const char *name, const char *old_text, size_t old_len, const char *new_text,
	size_t new_len);
