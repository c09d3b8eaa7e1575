/* What --help prints. The texts are made from docs/manual when the program is built, together with
 * the manual pages and the completions. */
#pragma once

#include <stdbool.h>

typedef struct {
	const char *name;        /* of the command, or "wanderitas"; NULL: the end */
	const char *const *help; /* lines of at most 80 columns, NULL-ended */
} WdrManual;
extern const WdrManual wdr_manual[];

/* Prints the help of a command on stdout; "wanderitas" means the program itself. False: there
 * is none. */
bool wdr_manual_print(const char *name);
