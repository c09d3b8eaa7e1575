/* A root that moves while boot stays on the source. */
#pragma once

#include "plan/itinerary.h"

/* Where the new root mounts the old one. */
#define WDR_OLD_ROOT "/mnt/old-root"

/* Where the boot files are a folder of the old root: lines for the new root's fstab that mount the
 * old root aside and bind its boot folder over the new one, so that kernel updates reach the files
 * that are booted. REFUSED when that cannot work: no fstab, or kernels without their modules. */
bool wdr_root_only_edit(
	WdrItinerary *it, WdrSystem *system, GError **error) G_GNUC_WARN_UNUSED_RESULT;
