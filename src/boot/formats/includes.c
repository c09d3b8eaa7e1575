/* The bound on files that include each other. */
#include "boot/formats/includes.h"

#include "base/stop.h"

const char wdr_includes_ended[] =
	"boot files include each other in a circle, or more than 64 files: "
	"what lies beyond is not looked at";

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
