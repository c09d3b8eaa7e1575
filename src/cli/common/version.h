/* What --version prints. */
#pragma once

/* The version, the commit it was built from, and the libraries as they are loaded now, a line each,
 * on stdout. */
void wdr_print_version(void);
