/* Which files of a system name disks, and in which format: a built-in table, and what the user adds
 * to it in /etc/wanderitas/places.d/NAME.conf, on the machine that runs this program or in the
 * system that is moved.
 *
 * One row a line, # starts a comment:
 *   [boot:|root:]PATTERN FORMAT
 * PATTERN is a path on the boot or (without a word before it) the root volume, with * ? [ ] as in a
 * shell, none of which match a slash. FORMAT is a name from wdr_formats. */
#pragma once

#include "boot/formats/mention.h"

typedef struct {
	bool is_boot; /* of the boot volume; otherwise of the root volume */
	char *pattern;
	const WdrFormat *format;
} WdrPlaceRow;

/* GPtrArray of WdrPlaceRow. Later rows win. */
typedef GPtrArray WdrPlaces;
WdrPlaces *wdr_places_new(void); /* with the built-in rows */
void wdr_places_add(WdrPlaces *p, bool is_boot, const char *pattern, const WdrFormat *format);
/* Rows that make no sense are left out with a warning. */
void wdr_places_read(WdrPlaces *p, const WdrReading *r);
/* path: on its volume, without a leading slash. NULL: no row names it. */
const WdrFormat *wdr_places_find(const WdrPlaces *p, bool is_boot, const char *path);

/* Files that a package makes anew at each kernel update, and the settings that it makes them from:
 * an edit of the made file alone would be lost. */
typedef struct {
	const char *made;     /* on the boot volume; * ? [ ] as in places */
	const char *settings; /* on the root volume */
	const char *maker;    /* in words */
} WdrMadeFile;
extern const WdrMadeFile wdr_made_files[];
extern const size_t wdr_n_made_files;
