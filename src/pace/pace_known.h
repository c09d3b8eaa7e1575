/* The last figures of each disk that was measured, kept in the folder where moves keep their state:
 * for a first estimate of how long a move takes. */
#pragma once

#include "pace/pace_figures.h"

/* Only what has a serial number can be told again, and a file in a disk's place is none. Where
 * nothing can be kept, nothing is: the figures were shown. Figures that `p` has not stay as they
 * were. */
void wdr_pace_keep(const WdrWorld *world, const WdrPaced *p);

/* Bytes a second in sequence; 0: not known. */
typedef struct {
	double read, write;
} WdrPaceRates;
WdrPaceRates wdr_pace_known(const WdrWorld *world, const char *model, const char *serial);
