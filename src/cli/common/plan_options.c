/* The options that draw an itinerary, shared by draft, ready and move. */
#include "cli/common/plan_options.h"

#include "base/command.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"
#include "boot/system/survey.h"
#include "cli/common/move_steps.h"
#include "disk/users.h"
#include "plan/second_machine.h"

#include <string.h>

static void drop_scratch(WdrPlanOptions *o)
{
	if (o->scratch)
		wdr_remove_folder(o->scratch);
	g_clear_pointer(&o->scratch, g_free);
}

static void drop_source(WdrPlanOptions *o)
{
	g_clear_pointer(&o->source, wdr_source_free);
	drop_scratch(o);
}

void wdr_plan_options_clear(WdrPlanOptions *o)
{
	drop_source(o);
	g_free(o->from);
	g_free(o->to);
	g_free(o->what);
	g_free(o->table);
	g_free(o->leave_free);
	g_free(o->boot_size);
	g_free(o->into);
	g_free(o->with);
	g_strfreev(o->leave_behind);
	g_strfreev(o->pause);
	g_strfreev(o->all_behind);
	g_free(o->second);
	g_free(o->name_by);
	g_free(o->state);
}

GOptionEntry *wdr_plan_options_entries(WdrPlanOptions *o, const GOptionEntry *more)
{
	const GOptionEntry own[] = {
		WDR_OPTION("from", 0, FILENAME, &o->from),
		WDR_OPTION("to", 0, FILENAME, &o->to),
		WDR_OPTION("what", 0, STRING, &o->what),
		WDR_OPTION("into", 0, FILENAME, &o->into),
		WDR_OPTION("table", 0, STRING, &o->table),
		WDR_OPTION("leave-free", 0, STRING, &o->leave_free),
		WDR_OPTION("boot-size", 0, STRING, &o->boot_size),
		WDR_OPTION("leave-behind", 0, FILENAME_ARRAY, &o->leave_behind),
		WDR_OPTION("pause", 0, STRING_ARRAY, &o->pause),
		WDR_OPTION("as-second-machine", 0, STRING, &o->second),
		WDR_OPTION("name-by", 0, STRING, &o->name_by),
		WDR_OPTION("keep-identifiers", 0, NONE, &o->keep_identifiers),
		WDR_OPTION("with", 0, STRING, &o->with),
		WDR_OPTION("sector-size", 0, INT, &o->sector_size),
		WDR_OPTION("state", 0, FILENAME, &o->state),
	};
	size_t n = 0;

	while (more[n].long_name)
		n++;
	GOptionEntry *all = g_new0(GOptionEntry, G_N_ELEMENTS(own) + n + 1);
	memcpy(all, own, sizeof(own));
	memcpy(all + G_N_ELEMENTS(own), more, n * sizeof(*more));
	return all;
}

static bool parse_table(const char *text, WdrTableKind *ret, GError **error)
{
	*ret = WDR_TABLE_NONE;
	if (!text || strcmp(text, "same") == 0)
		return true;
	*ret = strcmp(text, "mbr") == 0   ? WDR_TABLE_MBR
	       : strcmp(text, "gpt") == 0 ? WDR_TABLE_GPT
					  : WDR_TABLE_NONE;
	return *ret != WDR_TABLE_NONE ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "--table is same, mbr or gpt, not '%s'", text);
}

static bool parse_steps(WdrPlanOptions *o, WdrDraftOptions *ret, GError **error)
{
	g_auto(GStrv) steps = g_strsplit(o->with ? o->with : "", ",", -1);

	for (size_t i = 0; steps[i]; i++) {
		WdrMoveSteps step = 0;
		const char *changes = NULL;
		if (strcmp(steps[i], "loader") == 0) {
			ret->with_loader = true;
			continue;
		}
		if (!wdr_move_step_named(steps[i], &step, &changes))
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"--with knows loader, drivers, order and firmware, not '%s'",
				steps[i]);
		o->steps |= step;
		if (o->takes_steps)
			continue;
		wdr_error_set(error, WDR_ERROR_USAGE, "--with %s is a step of move, and changes %s",
			steps[i], changes);
		bool is_drivers = step == WDR_STEP_DRIVERS;
		g_autofree char *look = wdr_command(
			steps[i], is_drivers ? "--for" : "", is_drivers && o->to ? o->to : "");
		wdr_error_hint(error, "to see what it would do: %s", look);
		return false;
	}
	return true;
}

static bool convert(WdrPlanOptions *o, WdrDraftOptions *ret, GError **error)
{
	*ret = (WdrDraftOptions){ .leave_free = o->leave_free,
		.boot_size = o->boot_size,
		.into = o->into,
		.leave_behind = o->leave_behind,
		.pause = o->pause,
		.second_name = o->second,
		.looked_at = o->looked_at,
		.keep_identifiers = o->keep_identifiers != 0 };
	if (!parse_table(o->table, &ret->table, error) ||
		(o->second && !wdr_second_machine_check_name(o->second, error)))
		return false;
	if (o->second) {
		g_strfreev(o->all_behind);
		o->all_behind = wdr_second_machine_patterns(o->leave_behind);
		ret->leave_behind = o->all_behind;
	}
	if (o->what && (!wdr_what_parse(o->what, &ret->what) || ret->what == WDR_MOVE_NOTHING))
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "--what is everything or root, not '%s'", o->what);
	ret->has_name_by = o->name_by != NULL;
	if (o->name_by && !wdr_cli_name_by(o->name_by, &ret->name_by, error))
		return false;
	if (o->sector_size != 0 && o->sector_size != 512 && o->sector_size != 4096)
		return wdr_error_set(error, WDR_ERROR_USAGE, "--sector-size is 512 or 4096, not %d",
			o->sector_size);
	ret->sector_size = (uint32_t)o->sector_size;
	return parse_steps(o, ret, error);
}

bool wdr_cli_name_by(const char *text, WdrIdentifierKind *ret, GError **error)
{
	return wdr_identifier_kind_parse(text, ret) ||
	       wdr_error_set(error, WDR_ERROR_USAGE,
		       "--name-by is partuuid, uuid, label, partlabel or path, not '%s'", text);
}

static bool no_running_disk(const WdrWorld *world, GError **error)
{
	g_autofree char *type = NULL;
	g_autofree char *source = NULL;

	if (!wdr_root_mount(world, &type, &source)) {
		wdr_error_set(
			error, WDR_ERROR_USAGE, "it is unknown which disk the system runs from");
		wdr_error_hint(error, "name the source with --from DISK");
		return false;
	}
	g_autofree char *from = wdr_escape(source);
	wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
		"the system runs from %s (%s), which is no partition of a disk", from, type);
	wdr_error_hint(error,
		"an overlay, a RAM disk, a network root, LUKS, LVM and RAID cannot be moved; "
		"boot the system with root on a partition, or name another source with --from "
		"DISK");
	return false;
}

bool wdr_cli_running_disk(const WdrWorld *world, char **ret, GError **error)
{
	g_autoptr(GPtrArray) disks = NULL;

	if (!wdr_disks_list(world, &disks, error))
		return false;
	for (guint i = 0; i < disks->len; i++) {
		const WdrDisk *d = disks->pdata[i];
		if (wdr_disk_has_root(world, d)) {
			*ret = g_strdup(d->name);
			return true;
		}
	}
	return no_running_disk(world, error);
}

bool wdr_cli_source_disk(const WdrWorld *world, const char *from, WdrDisk **ret, GError **error)
{
	g_autofree char *running = NULL;

	return (from || wdr_cli_running_disk(world, &running, error)) &&
	       wdr_disk_find_source(world, from ? from : running, ret, error);
}

bool wdr_plan_options_draft(
	const WdrWorld *world, WdrPlanOptions *o, WdrItinerary **ret, GError **error)
{
	WdrDraftOptions options;
	g_autofree char *running = NULL;
	g_autoptr(GError) local = NULL;

	if (!o->to) {
		wdr_error_set(error, WDR_ERROR_USAGE, "no target was named");
		g_autofree char *look = wdr_command("survey");
		wdr_error_hint(error, "name it with --to DISK; to list the disks: %s", look);
		return false;
	}
	if (!convert(o, &options, error) ||
		(!o->from && !wdr_cli_running_disk(world, &running, error)))
		return false;
	g_autofree char *scratch =
		o->state && wdr_is_folder(o->state)
			? g_build_filename(o->state, WDR_DRAFT_PREFIX "XXXXXX", NULL)
			: NULL;
	if (scratch ? !g_mkdtemp(scratch)
		    : !(scratch = g_dir_make_tmp("wanderitas-XXXXXX", &local)))
		return wdr_error_set(error, WDR_ERROR_IO,
			"no folder for scratch files can be made%s%s", local ? ": " : "",
			local ? local->message : "");
	options.from = o->from ? o->from : running;
	options.to = o->to;
	drop_source(o);
	o->scratch = g_steal_pointer(&scratch);
	options.scratch = o->scratch;
	bool is_fine = wdr_itinerary_draft(
		world, &options, ret, o->keeps_source ? &o->source : NULL, error);
	if (!o->source || !o->source->scratch)
		drop_scratch(o);
	return is_fine;
}
