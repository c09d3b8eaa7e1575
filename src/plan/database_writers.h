/* Programs that hold files of a database, or of something else that is written to all the time,
 * open for writing. Their files are copied as a power cut would leave them. */
#pragma once

#include "world/world.h"

typedef struct {
	char *name;   /* of the process */
	char *folder; /* "/var/lib/mysql" */
	unsigned files;
	char *unit; /* the service that it belongs to; NULL: unknown */
} WdrWriter;

/* WdrWriter, by name. Processes that we may not look at are passed over. */
GPtrArray *wdr_writers_find(const WdrWorld *world);
