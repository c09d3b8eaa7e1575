/* Waits for a disk to be plugged in: "list, plug in, list again" in one command. */
#pragma once

#include "disk/disks.h"
#include "present/out.h"

/* Lists the disks that are there on `out`, then tells of each that is taken out or plugged in, and
 * ends with the first that is plugged in. STOPPED: somebody asked to stop. *ret is the caller's. */
bool wdr_cli_wait_for_disk(const WdrWorld *world, const WdrOut *out, WdrDisk **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
