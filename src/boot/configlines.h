/* Lines of config.txt that are added and taken out. */
#pragma once

#include <glib.h>
#include <stdbool.h>

/* The text with a line more that holds on every board. */
GBytes *wdr_config_with_line(const char *text, size_t len, const char *line);
/* The text without the lines that are this one, in any section; NULL: there is none. */
GBytes *wdr_config_without_line(const char *text, size_t len, const char *line);
bool wdr_config_has_line(const char *text, size_t len, const char *line);
