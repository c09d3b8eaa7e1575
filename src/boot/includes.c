#include "boot/includes.h"

#include "base/stop.h"

bool wdr_includes_take(WdrIncludes *i, size_t bytes)
{
	if (i->files >= WDR_INCLUDES_MAX || bytes > WDR_INCLUDED_BYTES_MAX - i->bytes ||
		!wdr_stop_check(NULL)) {
		i->has_ended = true;
		return false;
	}
	i->files++;
	i->bytes += bytes;
	return true;
}
