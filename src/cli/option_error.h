/* GLib's errors of options in our words. */
#pragma once

#include <glib.h>

/* names: of all options, "--from", NULL-ended. The caller's. */
char *wdr_option_error(const GError *error, const char *const *names);
