/* Programs that run beside this one: started, listened to, told to stop. Several at a time. */
#pragma once

#include "base/error.h"

typedef struct WdrChild WdrChild;

/* What it prints goes to two files. It has a pipe as descriptor WDR_CHILD_SAYS, on which it says
 * how far it is, a line at a time; it ends itself where nobody reads that. Signals of the terminal
 * do not reach it: wdr_child_stop() does. */
enum { WDR_CHILD_SAYS = 3 };
bool wdr_child_start(const char *program, const char *const *argv, const char *out_path,
	const char *err_path, WdrChild **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The child goes on where it still runs; nobody listens to it then. */
void wdr_child_free(WdrChild *c);

/* Waits until any of these (WdrChild) said something or ended, for so long at most. */
void wdr_children_wait(const GPtrArray *children, int milliseconds);
/* The last whole line that it said; NULL: none. Borrowed until the next wait. */
const char *wdr_child_said(const WdrChild *c);
bool wdr_child_is_over(const WdrChild *c);
int wdr_child_exit_code(const WdrChild *c); /* 128 + N when ended by signal N */
/* As Ctrl-C would, once. */
void wdr_child_stop(WdrChild *c);
