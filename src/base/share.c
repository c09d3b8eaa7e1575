/* One number for the process: memory is the process's, and those who size caches know nothing of
 * each other, or of whoever started them. */
#include "base/share.h"

#include <glib.h>

static size_t divisor = 1;

void wdr_share_between(size_t by)
{
	divisor = MAX(by, 1);
}

bool wdr_share_is_one_of_several(void)
{
	return divisor > 1;
}

size_t wdr_share_of(size_t usual)
{
	return MAX(usual / divisor, 1);
}
