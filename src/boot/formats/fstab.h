/* The lines of an fstab as the system's mounting reads them: fstab(5). */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>

typedef struct {
	unsigned line;                         /* from 1 */
	char *device, *point, *type, *options; /* unescaped; options "" where there are none */
} WdrFstabLine;

/* WdrFstabLine; comments, and lines with too few fields, are passed over. */
GPtrArray *wdr_fstab_lines(const char *text, size_t len);
/* One of the options, without its =VALUE. */
bool wdr_fstab_has_option(const WdrFstabLine *l, const char *name);
