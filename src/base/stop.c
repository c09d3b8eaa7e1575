/* The flag that a signal sets and that long loops ask for.
 *
 * A handler may do next to nothing. So it sets the flag, and each long loop asks for it between two
 * steps, where nothing is half done. */
#include "base/stop.h"

#include <signal.h>
#include <stdatomic.h>
#include <string.h>

static atomic_int asked;
static atomic_bool careful;

void wdr_stop_request(int signal_number)
{
	atomic_store(&asked, signal_number);
}

void wdr_stop_clear(void)
{
	atomic_store(&asked, 0);
}

void wdr_stop_needs_care(void)
{
	atomic_store(&careful, true);
}

bool wdr_stop_is_careful(void)
{
	return atomic_load(&careful);
}

bool wdr_stop_check(GError **error)
{
	int signal_number = atomic_load_explicit(&asked, memory_order_relaxed);

	if (G_LIKELY(signal_number == 0))
		return true;
	if (signal_number == SIGINT)
		return wdr_error_set(error, WDR_ERROR_STOPPED, "stopped by Ctrl-C");
	const char *name = sigabbrev_np(signal_number);
	return wdr_error_set(error, WDR_ERROR_STOPPED, "stopped by SIG%s", name ? name : "?");
}
