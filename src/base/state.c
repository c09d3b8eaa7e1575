/* The names of states. */
#include "base/state.h"

const char *wdr_state_name(WdrState state)
{
	static const char *const names[] = { "ok", "warning", "stop", "unknown" };

	return names[state];
}
