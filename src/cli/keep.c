/* Keeps a command's result as a file beside the records of the move. */
#include "cli/keep.h"

#include "base/record.h"

#include <string.h>

void wdr_cli_keep(const WdrWorld *world, const char *folder, const char *name, json_t *document)
{
	g_autoptr(json_t) owned = document;
	g_autoptr(GError) error = NULL;
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *text = json_dumps(owned, JSON_INDENT(2));

	if (!wdr_record_write(path, text, strlen(text), &error))
		wdr_world_note(world, "%s cannot be kept for the report: %s", name, error->message);
}
