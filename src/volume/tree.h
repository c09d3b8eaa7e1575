/* A mounted tree as a volume, read through the kernel: rooted at a folder handle, it never leaves
 * that folder's file system and never follows a symbolic link. */
#pragma once

#include "volume/volume.h"

bool wdr_tree_volume_open(
	const char *folder, WdrVolume **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
