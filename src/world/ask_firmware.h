/* Questions to the board's firmware, through the operating system's command for them. */
#pragma once

#include "world/world.h"

/* The answer; NULL: there is nobody to ask, or it does not know. The caller's. */
char *wdr_firmware_ask(const WdrWorld *world, const char *question);
