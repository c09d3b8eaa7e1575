/* GLib's errors of options in our words. */
#pragma once

#include <glib.h>

/* own: the options of the command, NULL: there is none; both lists end with an empty entry. The
 * caller's. */
char *wdr_option_error(const GError *error, const GOptionEntry *own, const GOptionEntry *global);
