/* Errors of the core: a GError of one domain with few codes that a caller can act on, which also
 * has an errno (0: none) and a hint: one sentence that tells the user what to do.
 *
 * A function that can fail returns bool or a pointer and takes GError **error last; false or NULL
 * means that error is set, always. */
#pragma once

#include <glib.h>
#include <stdbool.h>

typedef enum {
	WDR_ERROR_IO,          /* the medium or the operating system failed */
	WDR_ERROR_FORMAT,      /* data on a disk or in a file is not what it should be */
	WDR_ERROR_UNSUPPORTED, /* sound, but of a kind we cannot handle */
	WDR_ERROR_NO_SPACE,    /* does not fit */
	WDR_ERROR_REFUSED,     /* possible, but would be wrong; nothing was changed */
	WDR_ERROR_USAGE,       /* the words of the command line */
	WDR_ERROR_STOPPED,     /* the user or the system asked us to stop */
} WdrErrorCode;

typedef struct {
	int err;
	char *hint;
} WdrErrorPrivate;

#define WDR_ERROR (wdr_error_quark())
GQuark wdr_error_quark(void);

/* All setters return false, so that setting and returning are one statement. */
bool wdr_error_set(GError **error, WdrErrorCode code, const char *format, ...) G_GNUC_PRINTF(3, 4);
/* Adds ": " and the text of err. ENOSPC becomes WDR_ERROR_NO_SPACE, all else WDR_ERROR_IO. */
bool wdr_error_set_errno(GError **error, int err, const char *format, ...) G_GNUC_PRINTF(3, 4);

/* Sets the hint of an error of our domain, unless a lower layer has set one. */
void wdr_error_hint(GError **error, const char *format, ...) G_GNUC_PRINTF(2, 3);
const char *wdr_error_get_hint(const GError *error); /* borrowed; NULL: none */
int wdr_error_get_errno(const GError *error);        /* 0: none */
/* What was there a moment ago is not any more, or is something else: a running system does that. */
bool wdr_errno_is_gone(int err);
