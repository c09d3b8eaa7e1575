/* Whether this process is one of several that work side by side on one source. */
#pragma once

#include <stdbool.h>
#include <stddef.h>

/* It is: what is sized by wdr_share_of() from now on takes the `by`th part of what one alone has.
 * Before there are threads. */
void wdr_share_between(size_t by);
bool wdr_share_is_one_of_several(void);
/* Of the usual number of entries, or of bytes; at least 1. */
size_t wdr_share_of(size_t usual);
