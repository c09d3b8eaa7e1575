/* A rehearsal as text or JSON. */
#pragma once

#include "base/cleanup.h"
#include "boot/rehearse/rehearse.h"
#include "present/out.h"

/* name: the disk's; medium: what it is attached as; NULL: nobody knows. without: the one disk that
 * was treated as unplugged; NULL: all others were. */
void wdr_present_rehearsal(const WdrOut *out, const char *name, const char *medium,
	const char *without, const WdrRehearsal *r);
/* "rehearsed: NAME boots" and, if need be, why not, or the warnings: for the end of
 * another report. `how`: "rehearsed", or what it was else. */
void wdr_present_verdict(
	const WdrOut *out, const char *how, const char *name, const WdrRehearsal *r);
/* "wanderitas-rehearsal/2". The caller's. */
json_t *wdr_present_rehearsal_document(const char *name, const char *medium, const WdrRehearsal *r);
void wdr_present_rehearsal_json(
	FILE *file, const char *name, const char *medium, const WdrRehearsal *r);
