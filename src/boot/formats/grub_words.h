/* GRUB's configuration taken apart into words, as its shell does it.
 * Format: GRUB's manual, "Shell-like scripting"; grub-core/script/yylex.l. */
#pragma once

#include "boot/formats/lines.h"
#include "boot/formats/mention.h"

typedef enum {
	WDR_GRUB_WORD,
	WDR_GRUB_END, /* of a command: a line end or ; */
	WDR_GRUB_OPEN,
	WDR_GRUB_CLOSE,
} WdrGrubKind;

typedef struct {
	WdrGrubKind kind;
	WdrSpan span; /* in the text, quotes included */
	unsigned line;
} WdrGrubToken;

/* Of a text, the last one an END. What a quote opens and nothing closes is one word. The caller's.
 */
GArray *wdr_grub_tokens(const char *text, size_t len);
/* What a variable's name becomes; NULL: nothing. The caller's. */
typedef char *(*WdrGrubValue)(void *data, const char *name);
/* A word without its quotes, its variables filled in; `value` NULL: they stay as they are. The
 * caller's. */
char *wdr_grub_word(const char *text, const WdrGrubToken *token, WdrGrubValue value, void *data);

/* What a search command looks for: "search --fs-uuid --set=root UUID", "search.fs_uuid UUID root".
 */
typedef enum { WDR_GRUB_BY_NONE, WDR_GRUB_BY_UUID, WDR_GRUB_BY_LABEL, WDR_GRUB_BY_FILE } WdrGrubBy;
typedef struct {
	WdrGrubBy by;
	size_t name;    /* which of the words it is; 0: none */
	char *variable; /* that is set to what was found; NULL: none */
} WdrGrubSearch;
/* words: of the command, without quotes, NULL-ended. False: it is no search. */
bool wdr_grub_search_parse(char *const *words, WdrGrubSearch *ret);
/* "linux", "linuxefi" and the like: loads the kernel. */
bool wdr_grub_is_linux(const char *word);
bool wdr_grub_is_initrd(const char *word);
