/* The edits that put every mention right. */
#pragma once

#include "plan/itinerary.h"

/* Adds edits, diffs and notes to the itinerary, for the files of the system. REFUSED when what
 * would start has no root= that names its root, when an edit would make things worse, or when boot
 * files cannot stay where --what root leaves them. */
bool wdr_edits_make(WdrItinerary *it, WdrSystem *system, const WdrDraftOptions *options,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The new bytes of a file that is edited, from what the system has. REFUSED: it is gone, or not the
 * one that the edit was made for. */
bool wdr_edit_read(const WdrSystem *system, const WdrEdit *edit, GBytes **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
