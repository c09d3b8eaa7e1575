/* Whether all of a boot loader is there: a copy that was cut short leaves a board dark. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

/* FORMAT: a first stage or an image in these bytes says that it is longer, or its sum is wrong.
 * holds_all: the file is a whole loader, so an image of the second stage has to be among it. `file`
 * is for the message. What says nothing of its length (plain code, Rockchip's first stage) passes.
 */
bool wdr_loader_check_whole(const char *file, const uint8_t *bytes, size_t len, bool holds_all,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
