/* Slots, their disks, and how their moves go. */
#pragma once

#include "present/out.h"
#include "roster/roster.h"

#include <jansson.h>

/* One table of all slots: each with the disk that fits it. */
void wdr_present_roster(const WdrOut *out, const WdrWorld *world, const WdrRoster *r);
json_t *wdr_present_roster_document(const WdrWorld *world, const WdrRoster *r);

/* One slot's move, for a table that is drawn again and again and for the summary. */
typedef struct {
	const WdrRosterSlot *slot;
	const char *stage;    /* "waiting", "moving", "moved", "moved-before", "failed" */
	const json_t *said;   /* the last progress; NULL: none */
	const json_t *result; /* what the move printed; NULL: nothing yet */
	double seconds;
} WdrSlotShown;
void wdr_present_slots(const WdrOut *out, const WdrSlotShown *slots, size_t n);
/* What failed, and why. */
void wdr_present_slot_failures(const WdrOut *out, const WdrSlotShown *slots, size_t n);
json_t *wdr_present_slots_document(const WdrRoster *r, const WdrSlotShown *slots, size_t n);
