/* Steps, progress and notes on stderr: one line that is drawn again each second on a terminal,
 * plain lines now and then when it is not one. */
#pragma once

#include "present/time_left.h"

void wdr_progress_attach(WdrWorld *world, bool no_color);
/* Instead: as JSON, a line each, on a descriptor (docs/manual/global.inc). */
void wdr_progress_say(WdrWorld *world, int descriptor);
/* Ends the line that is being drawn, so that other output can follow. */
void wdr_progress_end(void);
/* One progress as text: "62 %, 1.3 GiB of 2.1 GiB on the medium, 431 MB/s". The caller's. seconds:
 * since the step began. */
char *wdr_progress_text(const WdrProgress *p, double seconds);
