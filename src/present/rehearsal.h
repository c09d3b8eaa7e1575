/* A rehearsal as text or JSON. */
#pragma once

#include "boot/rehearse.h"
#include "present/out.h"

/* name: the disk's; medium: what it is attached as; NULL: nobody knows. without: the one disk that
 * was thought away; NULL: all others were. */
void wdr_present_rehearsal(const WdrOut *out, const char *name, const char *medium,
	const char *without, const WdrRehearsal *r);
void wdr_present_rehearsal_json(
	FILE *file, const char *name, const char *medium, const WdrRehearsal *r);
/* "rehearsed: boots" and, if need be, why not: for the end of another report. */
void wdr_present_verdict(const WdrOut *out, const char *name, const WdrRehearsal *r);
