/* Keeps a command's result as a file beside the records of the move. */
#include "cli/common/keep.h"

#include "base/record.h"
#include "journal/state_folder.h"

#include <string.h>

static bool write_document(
	const char *folder, const char *name, const json_t *document, GError **error)
{
	g_autofree char *path = g_build_filename(folder, name, NULL);
	g_autofree char *text = json_dumps(document, JSON_INDENT(2));

	return wdr_record_write(path, text, strlen(text), error);
}

void wdr_cli_keep(const WdrWorld *world, const char *folder, const char *name, json_t *document)
{
	g_autoptr(json_t) owned = document;
	g_autoptr(GError) error = NULL;

	if (!write_document(folder, name, owned, &error))
		wdr_world_note(world, "%s cannot be kept for the report: %s", name, error->message);
}

void wdr_cli_keep_ready(const WdrWorld *world, const json_t *document)
{
	g_autofree char *folder = wdr_world_path(world, WDR_STATE_FOLDER);

	if (!wdr_make_private_folder(folder, NULL) ||
		!write_document(folder, WDR_LAST_READY_FILE, document, NULL))
		g_debug("%s: what ready found is not kept", folder);
}
