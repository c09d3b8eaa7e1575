/* The state of one thing that was looked at. Every checklist uses these four, as text and in JSON.
 */
#pragma once

typedef enum {
	WDR_STATE_OK,
	WDR_STATE_WARNING,
	WDR_STATE_STOP,    /* before a move: it is refused, unless the user names the check; in a
			      rehearsal: the boot ends here; afterwards: not as planned */
	WDR_STATE_UNKNOWN, /* it cannot be known from what can be read */
} WdrState;
const char *wdr_state_name(WdrState state); /* "ok", "warning", "stop", "unknown" */
