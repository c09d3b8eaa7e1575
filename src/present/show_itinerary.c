/* An itinerary, and the result of a move, as text and JSON. */
#include "present/show_itinerary.h"

#include "base/command.h"
#include "base/json.h"
#include "base/text.h"
#include "boot/board/boot_support.h"
#include "plan/second_machine.h"
#include "present/show_catchup.h"
#include "present/show_diff.h"
#include "present/show_steps.h"
#include "present/show_trouble.h"

#include <string.h>

static char *disk_line(const WdrItineraryDisk *d)
{
	g_autofree char *size = wdr_format_size(d->size);
	g_autofree char *model = d->model ? wdr_escape(d->model) : NULL;
	g_autofree char *serial = d->serial ? wdr_escape(d->serial) : NULL;

	return g_strdup_printf("%s  (%s, %s%s%s%s%s%s%s)", d->name, d->medium,
		d->link ? d->link : "", d->link ? ", " : "", size, model ? ", " : "",
		model ? model : "", serial ? ", serial " : "", serial ? serial : "");
}

/* A blank disk has nothing that could be lost. */
static const char *emptiness(const WdrItinerary *it)
{
	const WdrTargetContent *only =
		it->target_contents->len == 1 ? it->target_contents->pdata[0] : NULL;

	if (it->target_contents->len == 0)
		return "no partitions";
	return only && !only->fs && only->is_blank ? "nothing" : NULL;
}

static void show_ends(const WdrOut *out, const WdrItinerary *it)
{
	g_autofree char *from = disk_line(&it->source);
	g_autofree char *to = disk_line(&it->target);

	wdr_out_text(out, WDR_STYLE_PLAIN, "from  ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 6, from);
	wdr_out_text(out, WDR_STYLE_PLAIN, "to    ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 6, to);
	if (it->into)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"into  its partition %u; everything else on it stays\n", it->into);
	if (emptiness(it))
		wdr_out_text(out, WDR_STYLE_PLAIN, "has   %s\n", emptiness(it));
	wdr_out_text(out, WDR_STYLE_PLAIN, "what  %s\n\n",
		it->what == WDR_MOVE_ROOT ? "root alone; boot stays on the source" : "everything");
}

static void show_occupants(const WdrOut *out, const WdrItinerary *it)
{
	static const WdrColumn columns[] = { { "ERASED", false }, { "FILE SYSTEM", false },
		{ "LABEL", false }, { "SIZE", true }, { "USED", true } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));
	WdrDisk disk = { .name = it->target.name };

	for (guint i = 0; i < it->target_contents->len; i++) {
		const WdrTargetContent *o = it->target_contents->pdata[i];
		g_autofree char *name = o->number ? wdr_disk_partition_name(&disk, o->number)
						  : g_strdup(it->target.name);
		g_autofree char *label = wdr_escape(o->label ? o->label : "");
		g_autofree char *size = wdr_format_size(o->size);
		g_autofree char *used = o->has_used ? wdr_format_size(o->used) : NULL;
		const char *cells[] = { name, wdr_target_content_kind(o), label, size, used };
		wdr_grid_row(g, o->fs ? WDR_STYLE_WARNING : WDR_STYLE_PLAIN, cells);
	}
	wdr_grid_print(g, out);
	fputc('\n', out->file);
}

static void show_parts(const WdrOut *out, const WdrItinerary *it)
{
	static const WdrColumn columns[] = { { "PART", true }, { "ROLE", false },
		{ "FILE SYSTEM", false }, { "SIZE NOW", true }, { "NEW SIZE", true },
		{ "TO COPY", true }, { "ENTRIES", true }, { "FREE", true }, { "ACTIVE", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		g_autofree char *number = g_strdup_printf("%u", p->number);
		g_autofree char *from = wdr_format_size(p->from.size);
		g_autofree char *to = wdr_format_size(p->to.size);
		g_autofree char *bytes = wdr_format_size(p->bytes);
		g_autofree char *entries = wdr_format_count(p->entries);
		g_autofree char *spare = wdr_format_size(p->spare);
		const char *cells[] = { number, wdr_role_name(p->role), p->fs, from, to, bytes,
			entries, spare, p->is_active ? "yes" : NULL };
		wdr_grid_row(g, WDR_STYLE_PLAIN, cells);
	}
	wdr_grid_print(g, out);
}

static void identifier_row(
	WdrGrid *g, unsigned number, const char *kind, const char *from, const char *to)
{
	g_autofree char *what = number ? g_strdup_printf("%u  %s", number, kind) : g_strdup(kind);
	g_autofree char *was = wdr_escape(from ? from : "");
	g_autofree char *is =
		g_strcmp0(from, to) == 0 ? g_strdup("kept") : wdr_escape(to ? to : "");
	const char *cells[] = { what, was, is };

	if ((from && *from) || (to && *to))
		wdr_grid_row(g, WDR_STYLE_PLAIN, cells);
}

static void show_identifiers(const WdrOut *out, const WdrItinerary *it)
{
	static const WdrColumn columns[] = { { "IDENTIFIER", false }, { "NOW", false },
		{ "NEW", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));
	g_autofree char *was = g_strdup_printf("%s %s", wdr_table_kind_name(it->source.table),
		it->source.table_id ? it->source.table_id : "");
	g_autofree char *is =
		g_strdup_printf("%s %s", wdr_table_kind_name(it->table), it->table_id);

	identifier_row(g, 0, "disk", was, is);
	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		identifier_row(g, p->number, "UUID", p->from.uuid, p->to.uuid);
		identifier_row(g, p->number, "PARTUUID", p->from.partuuid, p->to.partuuid);
		identifier_row(g, p->number, "LABEL", p->from.label, p->to.label);
		identifier_row(g, p->number, "PARTLABEL", p->from.partlabel, p->to.partlabel);
	}
	fputc('\n', out->file);
	wdr_grid_print(g, out);
}

static bool show_diffs(const WdrOut *out, const WdrItinerary *it, bool on_source)
{
	bool has_any = false;

	for (guint i = 0; i < it->diffs->len && i < it->edits->len; i++) {
		if (((const WdrEdit *)it->edits->pdata[i])->is_on_source != on_source)
			continue;
		wdr_present_diff(out, it->diffs->pdata[i]);
		has_any = true;
	}
	return has_any;
}

static void show_edits(const WdrOut *out, const WdrItinerary *it)
{
	if (it->what == WDR_MOVE_ROOT) {
		wdr_out_text(out, WDR_STYLE_HEADING,
			"\nEDITS ON THE SOURCE, in place (each original is kept)\n");
		if (!show_diffs(out, it, true))
			fputs("none\n", out->file);
	}
	wdr_out_text(out, WDR_STYLE_HEADING,
		it->what == WDR_MOVE_NOTHING ? "\nEDITS IN PLACE (each original is kept)\n"
					     : "\nEDITS ON THE TARGET\n");
	if (!show_diffs(out, it, false))
		fputs("none: every reference stays correct\n", out->file);
}

static void show_left(const WdrOut *out, const WdrItinerary *it)
{
	static const WdrColumn columns[] = { { "LEFT BEHIND", false }, { "ENTRIES", true },
		{ "SIZE", true } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));
	bool has_rows = false;

	for (guint i = 0; i < it->left->len; i++) {
		const WdrLeft *l = it->left->pdata[i];
		/* What a second machine must not have, and the source has not either. */
		if (l->entries == 0 && wdr_second_machine_is_pattern(l->pattern))
			continue;
		g_autofree char *pattern = wdr_escape(l->pattern);
		g_autofree char *entries = g_strdup_printf("%" G_GUINT64_FORMAT, l->entries);
		g_autofree char *size = wdr_format_size(l->bytes);
		const char *cells[] = { pattern, entries, size };
		wdr_grid_row(g, l->entries ? WDR_STYLE_PLAIN : WDR_STYLE_WARNING, cells);
		has_rows = true;
	}
	if (!has_rows)
		return;
	fputc('\n', out->file);
	wdr_grid_print(g, out);
}

static void show_notes(const WdrOut *out, const WdrItinerary *it)
{
	if (it->notes->len)
		wdr_out_text(out, WDR_STYLE_HEADING, "\nNOTES\n");
	for (guint i = 0; i < it->notes->len; i++)
		wdr_out_hanging(out, WDR_STYLE_WARNING, 0, it->notes->pdata[i]);
}

void wdr_present_itinerary(const WdrOut *out, const WdrItinerary *it)
{
	show_ends(out, it);
	if (!emptiness(it))
		show_occupants(out, it);
	show_parts(out, it);
	show_left(out, it);
	show_identifiers(out, it);
	show_edits(out, it);
	show_notes(out, it);
}

void wdr_present_erased(const WdrOut *out, const WdrItinerary *it)
{
	enum { INDENT = 10 };
	g_autofree char *disk = disk_line(&it->target);
	g_autoptr(GString) contents = g_string_new(NULL);

	for (guint i = 0; i < it->target_contents->len; i++) {
		const WdrTargetContent *c = it->target_contents->pdata[i];
		g_autofree char *what = wdr_target_content_text(c);
		if (!it->into || c->number == it->into)
			g_string_append_printf(contents, "%s%s", contents->len ? "; " : "", what);
	}
	wdr_out_text(out, WDR_STYLE_PLAIN, "\ntarget    %s\n", disk);
	wdr_out_text(out, WDR_STYLE_PLAIN, "contents  ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, INDENT,
		emptiness(it)   ? emptiness(it)
		: contents->len ? contents->str
				: "unknown");
}

static double rate(uint64_t bytes, double seconds)
{
	return (double)bytes / 1e6 / (seconds > 0.001 ? seconds : 0.001);
}

static void show_next(const WdrOut *out, const WdrItinerary *it)
{
	bool is_root = it->what == WDR_MOVE_ROOT;
	g_autofree char *arrive = wdr_command("arrive");

	wdr_out_text(out, WDR_STYLE_HEADING, "next:\n");
	if (it->target.is_image) {
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  write the image to its medium, or boot a board from it\n");
		return;
	}
	/* It is often soldered, so nobody can take it out. */
	bool stays = strcmp(it->source.medium, "eMMC") == 0 && !is_root;
	const char *word = wdr_medium_word(it->target.medium);
	g_autofree char *first = wdr_command("order", "--first", word ? word : "MEDIUM", "--write");
	if (stays)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  1. restart; if the board still boots from its eMMC: %s\n", first);
	else if (is_root)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  1. restart with both plugged in: the %s boots, root is on the new disk\n",
			it->source.medium);
	else
		wdr_out_text(out, WDR_STYLE_PLAIN, "  1. power off, take the %s out, power on\n",
			it->source.medium);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  2. on the new system: %s\n", arrive);
	if (stays)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"if the board stays dark: power off, take the %s out, power on; it boots as before\n",
			it->target.medium);
	else if (!is_root)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"if the board stays dark: power off, put the %s back in, power on; it "
			"boots as before\n",
			it->source.medium);
}

/* Of less it is chance how much was read when. */
#define SHORT_READ_BACK_BYTES (UINT64_C(64) << 20)

static void show_read_back(const WdrOut *out, const WdrMoveResult *r)
{
	g_autofree char *after = wdr_format_size(r->verify_bytes);

	if (r->behind_bytes >= SHORT_READ_BACK_BYTES)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  read back   while copying, the last %s after it in %.1f s\n", after,
			r->verify_s);
	else if (r->verify_bytes)
		wdr_out_text(out, WDR_STYLE_PLAIN, "  read back   in %.1f s (%.0f MB/s)\n",
			r->verify_s, rate(r->verify_bytes, r->verify_s));
}

/* Small moves are over before anybody asks where the time went, and have too little to share out.
 */
#define TIMES_KNOWN_AFTER_S 10.0

static void show_times(const WdrOut *out, const WdrMoveResult *r)
{
	const struct {
		const char *what;
		double seconds;
	} all[] = { { "looking", r->look_s }, { "copying", r->copy_s },
		{ "reading back", r->verify_s }, { "checking", r->check_s },
		{ "rehearsing", r->rehearse_s } };
	double rest = r->all_s;

	if (r->all_s < TIMES_KNOWN_AFTER_S)
		return;
	wdr_out_text(out, WDR_STYLE_PLAIN, "  times       ");
	for (size_t i = 0; i < G_N_ELEMENTS(all); i++) {
		wdr_out_text(out, WDR_STYLE_PLAIN, "%s %.1f s, ", all[i].what, all[i].seconds);
		rest -= all[i].seconds;
	}
	g_autofree char *total = wdr_format_duration((uint64_t)(r->all_s + 0.5));
	wdr_out_text(out, WDR_STYLE_PLAIN, "the rest %.1f s; %s in all\n", MAX(rest, 0.0), total);
}

/* Shorter copies say nothing of disks. */
#define LIMIT_KNOWN_AFTER_S 2.0
#define MOSTLY 0.5

/* Of most of the time one disk waited for the other. */
static char *limit_text(const WdrItinerary *it, const WdrMoveResult *r)
{
	double least = MOSTLY * r->copy_s;
	bool is_source = r->waits.for_source >= r->waits.for_target;
	double waited = is_source ? r->waits.for_source : r->waits.for_target;

	if (r->copy_s < LIMIT_KNOWN_AFTER_S || waited < least)
		return g_strdup("");
	return g_strdup_printf(", limited by %s %s", is_source ? "reading" : "writing",
		is_source ? it->source.name : it->target.name);
}

static void show_copied(const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r)
{
	g_autofree char *limit = limit_text(it, r);
	g_autofree char *bytes = wdr_format_size(r->bytes);
	g_autofree char *before = wdr_format_size(r->bytes_before);
	uint64_t now = r->bytes - r->bytes_before;

	g_autofree char *entries = wdr_format_count(r->entries);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  copied      %s entries, %s", entries, bytes);
	if (r->bytes_before)
		wdr_out_text(out, WDR_STYLE_PLAIN, ", %s of it before the interruption",
			now ? before : "all");
	if (now)
		wdr_out_text(out, WDR_STYLE_PLAIN, "%s in %.1f s (%.0f MB/s%s)",
			r->bytes_before ? ", the rest" : "", r->copy_s, rate(now, r->copy_s),
			limit);
	wdr_out_text(out, WDR_STYLE_PLAIN, "\n");
	show_read_back(out, r);
}

char *wdr_present_what_starts(const WdrItinerary *it)
{
	return it->what == WDR_MOVE_ROOT
		       ? g_strdup_printf("%s with root on %s", it->source.name, it->target.name)
		       : g_strdup(it->target.name);
}

/* What is going to happen at the restart, and what to do. */
static void show_outlook(const WdrOut *out, const WdrItinerary *it, const WdrRehearsal *rehearsal)
{
	g_autofree char *starts = wdr_present_what_starts(it);
	g_autofree char *all = wdr_command("rehearse", wdr_itinerary_disk_word(&it->target));

	if (rehearsal)
		wdr_present_verdict(out, "rehearsed", starts, rehearsal);
	if (!rehearsal || rehearsal->verdict <= WDR_VERDICT_WARNINGS)
		show_next(out, it);
	else
		wdr_out_text(out, WDR_STYLE_HEADING,
			"next: see above; for all steps of the boot: %s\n", all);
}

void wdr_present_moved(const WdrOut *out, const WdrItinerary *it, const WdrMoveResult *r,
	const WdrRehearsal *rehearsal)
{
	if (r->missing->len)
		wdr_out_text(out, WDR_STYLE_WARNING,
			"\ndone, with damage: all that could be read of %s was read back from %s\n",
			it->source.name, it->target.name);
	else
		wdr_out_text(out, WDR_STYLE_GOOD,
			"\ndone: everything was read back from %s and is as it was copied\n",
			it->target.name);
	show_copied(out, it, r);
	show_times(out, r);
	wdr_present_caught_up(out, &r->caught_up);
	if (r->missing->len) {
		wdr_out_text(out, WDR_STYLE_BAD,
			"  damaged     %u file%s could not be read completely; unreadable ranges "
			"were filled with zeros\n",
			r->missing->len, r->missing->len == 1 ? " or folder" : "s or folders");
		wdr_present_unreadable(out, r->missing);
	}
	g_autofree char *undo = wdr_command("rewind", r->state);
	if (r->has_changed_source)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  source      the boot files of %s were changed; to restore them:\n"
			"              %s\n",
			it->source.name, undo);
	else if (r->has_taken_steps)
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  source      %s was changed by the steps of --with; the move itself only read\n"
			"              it; to restore it: %s\n",
			it->source.name, undo);
	else
		wdr_out_text(out, WDR_STYLE_PLAIN,
			"  source      %s is unchanged and still bootable\n", it->source.name);
	wdr_out_text(out, WDR_STYLE_PLAIN, "  records     %s\n\n", r->state);
	show_outlook(out, it, rehearsal);
}

void wdr_present_moved_json(
	FILE *file, const WdrItinerary *it, const WdrMoveResult *r, const WdrRehearsal *rehearsal)
{
	g_autofree char *plan = wdr_itinerary_to_json(it);
	g_autoptr(json_t) root = json_pack(
		"{s:s, s:s, s:s?, s:I, s:I, s:I, s:f, s:I, s:f, s:f, s:f, s:f, s:f, s:o, s:o, s:o, "
		"s:o}",
		"format", "wanderitas-move/2", "result", "done", "rehearsed",
		rehearsal ? wdr_verdict_name(rehearsal->verdict) : NULL, "entries",
		(json_int_t)r->entries, "bytes", (json_int_t)r->bytes, "bytes_before",
		(json_int_t)r->bytes_before, "copy_seconds", r->copy_s,
		"read_back_while_copying_bytes", (json_int_t)r->behind_bytes, "read_back_seconds",
		r->verify_s, "looking_seconds", r->look_s, "checking_seconds", r->check_s,
		"rehearsing_seconds", r->rehearse_s, "total_seconds", r->all_s, "caught_up",
		wdr_present_caught_up_json(&r->caught_up), "unreadable",
		wdr_present_unreadable_json(r->missing), "records", wdr_json_text(r->state),
		"itinerary", json_loads(plan, 0, NULL));

	wdr_json_print(root, file);
}

/* ---- readdress ---- */

void wdr_present_readdress(const WdrOut *out, const WdrReaddress *r, bool renews)
{
	const WdrItinerary *it = wdr_readdress_itinerary(r);
	g_autofree char *disk = disk_line(&it->source);

	wdr_out_text(out, WDR_STYLE_PLAIN, "disk  %s\n", disk);
	if (renews)
		show_identifiers(out, it);
	show_edits(out, it);
	wdr_present_file_plans(out, wdr_readdress_files(r));
	show_notes(out, it);
}

void wdr_present_readdress_json(FILE *file, const WdrReaddress *r, const char *state)
{
	g_autofree char *plan = wdr_itinerary_to_json(wdr_readdress_itinerary(r));
	g_autoptr(json_t) root = json_pack("{s:s, s:s, s:o, s:i, s:o, s:o}", "format",
		"wanderitas-readdress/2", "result", state ? "done" : "shown", "records",
		wdr_json_text(state), "unresolved", (int)wdr_readdress_left(r), "itinerary",
		json_loads(plan, 0, NULL), "files",
		wdr_present_file_plans_json(wdr_readdress_files(r)));

	wdr_json_print(root, file);
}

void wdr_present_readdressed(
	const WdrOut *out, const WdrReaddress *r, const char *state, bool as_json)
{
	if (as_json) {
		wdr_present_readdress_json(out->file, r, state);
		return;
	}
	wdr_out_text(out, WDR_STYLE_GOOD, "\ndone: every change was read back\n");
	g_autofree char *undo = wdr_command("rewind", state);
	wdr_out_text(out, WDR_STYLE_PLAIN, "to restore everything: %s\n", undo);
}
