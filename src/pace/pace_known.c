/* Keeps the last figures of each disk, as a record of one thing: pace-SERIAL.json. */
#include "pace/pace_known.h"

#include "base/record.h"
#include "journal/state_folder.h"
#include "pace/pace_record.h"

#include <string.h>

static char *file_of(const WdrWorld *world, const char *serial)
{
	g_autofree char *folder = wdr_world_path(world, WDR_STATE_FOLDER);
	g_autofree char *word = g_strdup(serial);

	g_strcanon(word, G_CSET_A_2_Z G_CSET_a_2_z G_CSET_DIGITS "-_", '_');
	g_autofree char *name = g_strdup_printf("pace-%s.json", word);
	return g_build_filename(folder, name, NULL);
}

/* Of this disk; borrowed from the record. Serial numbers are not always those of one maker only. */
static const WdrPaced *find(const WdrPaceRecord *r, const char *model, const char *serial)
{
	for (guint i = 0; i < r->measured->len; i++) {
		const WdrPaced *p = r->measured->pdata[i];
		if (g_strcmp0(p->model, model) == 0 && g_strcmp0(p->serial, serial) == 0)
			return p;
	}
	return NULL;
}

static void take_figures(const WdrPaceFigure from[WDR_PACE_KINDS], WdrPaced *to)
{
	for (WdrPaceKind k = 0; k < WDR_PACE_KINDS; k++) {
		if (from[k].is_there)
			to->figures[k] = from[k];
	}
}

void wdr_pace_keep(const WdrWorld *world, const WdrPaced *p)
{
	if (!p->serial || !*p->serial || p->is_stand_in || p->failure || !wdr_paced_has_figures(p))
		return;
	g_autofree char *path = file_of(world, p->serial);
	g_autofree char *folder = g_path_get_dirname(path);
	g_autoptr(WdrPaceRecord) before = NULL;
	g_autoptr(WdrPaceRecord) now = wdr_pace_record_new(world, 0);
	WdrPaced *kept = wdr_paced_new(p->disk ? p->disk : p->name, "disk");
	const WdrPaced *was = wdr_pace_record_load(path, &before, NULL)
				      ? find(before, p->model, p->serial)
				      : NULL;

	kept->model = g_strdup(p->model);
	kept->serial = g_strdup(p->serial);
	kept->medium = g_strdup(p->medium);
	if (was)
		take_figures(was->figures, kept);
	take_figures(p->figures, kept);
	wdr_pace_record_add(now, kept);
	if (!wdr_make_private_folder(folder, NULL) || !wdr_pace_record_save(now, path, NULL))
		g_debug("%s: the figures are not kept for later", path);
}

WdrPaceRates wdr_pace_known(const WdrWorld *world, const char *model, const char *serial)
{
	WdrPaceRates none = { 0, 0 };

	if (!serial || !*serial)
		return none;
	g_autofree char *path = file_of(world, serial);
	g_autoptr(WdrPaceRecord) r = NULL;
	const WdrPaced *p = wdr_pace_record_load(path, &r, NULL) ? find(r, model, serial) : NULL;
	return p ? (WdrPaceRates){ p->figures[WDR_PACE_READ_IN_SEQUENCE].median,
		p->figures[WDR_PACE_WRITE_IN_SEQUENCE].median }
		 : none;
}
