/* Any bytes as a logbook: refused, or changes that say what they are about, and how far a move
 * came. */
#include "journal/move_progress.h"

#include "change/renew_identifiers.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autofree char *text = g_strndup((const char *)data, size);
	g_autoptr(GPtrArray) changes = NULL;
	g_auto(WdrMoveProgress) logged = { 0 };

	if (wdr_move_progress_parse("logbook", text, &logged, NULL)) {
		for (guint i = 0; i < logged.missing->len; i++) {
			const WdrUnreadable *m = logged.missing->pdata[i];
			g_assert(m->partition > 0 && (!m->ranges || m->ranges->len > 0));
		}
	}
	if (!wdr_logbook_parse("logbook", text, &changes, NULL))
		return 0;
	for (guint i = 0; i < changes->len; i++) {
		const WdrChange *c = changes->pdata[i];
		g_autoptr(WdrIdentifiers) ids = NULL;
		g_assert(c->disk && (c->file || c->identifiers || c->region || c->is_settings));
		g_assert(!c->original || !strchr(c->original, '/'));
		bool is_read =
			c->identifiers && wdr_identifiers_from_json(c->identifiers, &ids, NULL);
		g_assert(!is_read || ids);
	}
	return 0;
}
