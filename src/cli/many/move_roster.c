/* From a roster to moves: fits disks to slots, draws every itinerary and makes every check before
 * anything is written, asks once, and runs all of them.
 *
 * An itinerary is written only once its disk was agreed to. So --resume can begin the slots that a
 * power cut left out without asking again: an itinerary is refused for any other disk than the one
 * that was shown, and for one whose contents changed since. */
#include "cli/many/move_roster.h"

#include "base/cleanup.h"
#include "base/command.h"
#include "base/io.h"
#include "base/json.h"
#include "base/record.h"
#include "base/stat.h"
#include "base/stop.h"
#include "base/text.h"
#include "check/planned_boot.h"
#include "cli/common/plan_options.h"
#include "cli/common/progress.h"
#include "cli/many/roster_run.h"
#include "disk/backing.h"
#include "disk/blockdev.h"
#include "journal/move_progress.h"
#include "journal/state_folder.h"
#include "move/move.h"
#include "present/show_itinerary.h"
#include "present/show_ready.h"
#include "present/show_roster.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

typedef struct {
	const WdrGlobals *globals;
	const WdrMoveRoster *options;
	WdrWorld *world;
	WdrRoster *roster;
	WdrDisk *source;
	/* The kernel forgets what it has of a device in memory when nobody has it open: this keeps
	 * it, so that it is read once for all. */
	WdrBlockDev *held;
	WdrSource *looked_at; /* the source as the first slot's itinerary was drawn of it */
	char *scratch;        /* the folder that it has files in; NULL: none */
	char *state;          /* the roster's folder */
	int lock;        /* its; until the end: two at once would erase and fill the same disks */
	GPtrArray *runs; /* WdrSlotRun */
	GHashTable *others; /* of slots that this run leaves alone: name, folder of its move */
	unsigned lines;     /* of the table that is on the terminal */
	bool is_live;
} Many;

/* ---- what is to be done ---- */

static bool is_done(const WdrSlotRun *run)
{
	g_autofree char *path = g_build_filename(run->state, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) progress = { 0 };

	return wdr_move_progress_read(path, &progress, NULL) && progress.is_done;
}

/* Where an earlier run left it. */
static bool take_stage(const Many *m, WdrSlotRun *run, GError **error)
{
	if (is_done(run)) {
		run->stage = WDR_SLOT_MOVED_BEFORE;
		return true;
	}
	if (!wdr_move_was_begun(run->state, &run->is_begun, error))
		return false;
	if (!run->is_begun || m->options->is_resuming)
		return true;
	g_autofree char *resume = wdr_command("move", "--roster", m->roster->path, "--resume");
	g_autofree char *anew =
		wdr_command("move", "--roster", m->roster->path, "--slot", run->slot->name);
	wdr_error_set(
		error, WDR_ERROR_REFUSED, "the move of slot '%s' was interrupted", run->slot->name);
	wdr_error_hint(
		error, "to move another disk in its place: %s; to continue all: %s", anew, resume);
	return false;
}

/* What it would erase has not been agreed to. */
static bool has_to_be_drawn(const Many *m, const WdrSlotRun *run)
{
	g_autofree char *plan = wdr_slot_run_plan(run);

	return run->stage == WDR_SLOT_WAITING && !run->is_begun &&
	       !(m->options->is_resuming && g_file_test(plan, G_FILE_TEST_EXISTS));
}

/* A slot that is moved anew: what an earlier disk left there is kept, out of the way. */
static bool set_aside(const WdrSlotRun *run, GError **error)
{
	g_autofree char *aside = g_strdup_printf(
		"%s.before-%" G_GINT64_FORMAT, run->state, g_get_real_time() / G_USEC_PER_SEC);

	return !wdr_is_folder(run->state) || rename(run->state, aside) == 0 ||
	       wdr_error_set_errno(error, errno, "renaming %s", run->state);
}

static bool choose_slots(Many *m, GError **error)
{
	const char *only = m->options->slot;

	if (only && !wdr_roster_slot(m->roster, only))
		return wdr_error_set(
			error, WDR_ERROR_USAGE, "%s has no slot '%s'", m->roster->path, only);
	for (guint i = m->roster->slots->len; only && i > 0; i--) {
		const WdrRosterSlot *slot = m->roster->slots->pdata[i - 1];
		if (strcmp(slot->name, only) == 0)
			continue;
		g_hash_table_insert(
			m->others, g_strdup(slot->name), wdr_roster_slot_state(m->roster, slot));
		g_ptr_array_remove_index(m->roster->slots, i - 1);
	}
	for (guint i = 0; i < m->roster->slots->len; i++) {
		WdrSlotRun *run = g_new0(WdrSlotRun, 1);
		run->slot = m->roster->slots->pdata[i];
		run->state = wdr_roster_slot_state(m->roster, run->slot);
		g_ptr_array_add(m->runs, run);
		if (!only && !take_stage(m, run, error))
			return false;
	}
	return true;
}

/* A rule that is too wide, with one slot alone, may fit the disk that another slot has by now. */
static bool check_not_taken(const Many *m, const WdrRosterSlot *slot, const char *other,
	const char *state, GError **error)
{
	g_autofree char *plan = g_build_filename(state, "itinerary.json", NULL);
	g_autoptr(WdrItinerary) it = NULL;
	g_autoptr(WdrDisk) theirs = NULL;

	if (!wdr_is_file(plan) || !wdr_itinerary_load(plan, &it, NULL) ||
		!wdr_itinerary_disk_find(m->world, &it->target, &theirs, NULL) ||
		!wdr_disk_is_same(m->world, theirs, slot->disk))
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s:%u: slot '%s' fits %s, to which slot '%s' was moved", m->roster->path,
		slot->line, slot->name, wdr_disk_word(slot->disk), other);
	wdr_error_hint(error,
		"nothing was written; give slot '%s' rules that fit its new disk alone",
		slot->name);
	return false;
}

static bool check_others(const Many *m, GError **error)
{
	GHashTableIter all;
	void *name = NULL;
	void *state = NULL;

	g_hash_table_iter_init(&all, m->others);
	while (g_hash_table_iter_next(&all, &name, &state)) {
		const WdrSlotRun *run = m->runs->pdata[0];
		if (!check_not_taken(m, run->slot, name, state, error))
			return false;
	}
	return true;
}

static bool check_ready(const Many *m, WdrSlotRun *run, const WdrItinerary *it, GError **error)
{
	g_autoptr(GPtrArray) checks = wdr_ready_checks(m->world, it, WDR_BOOTS_ELSEWHERE, NULL);
	const WdrCheck *stop = wdr_ready_stop(checks, m->options->despite);
	g_autoptr(json_t) document = wdr_present_ready_document(it->target.name, checks);

	run->ready = json_dumps(document, JSON_INDENT(2));
	if (!stop)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "the check '%s' stops the move: %s", stop->name,
		stop->text);
	wdr_error_hint(error, "no disk was written%s%s", stop->hint ? "; to fix it: " : "",
		stop->hint ? stop->hint : "");
	return false;
}

static bool draw(Many *m, WdrSlotRun *run, GError **error)
{
	const WdrRoster *r = m->roster;
	g_auto(WdrPlanOptions) o = { .from = g_strdup(wdr_disk_word(m->source)),
		.to = g_strdup(wdr_disk_word(run->slot->disk)),
		.second = g_strdup(run->slot->host_name),
		.table = g_strdup(r->table),
		.leave_free = g_strdup(r->leave_free),
		.boot_size = g_strdup(r->boot_size),
		.name_by = g_strdup(r->name_by),
		.leave_behind = g_strdupv(r->leave_behind),
		.state = g_strdup(m->state),
		.looked_at = m->looked_at,
		.keeps_source = !m->looked_at };
	g_autoptr(WdrItinerary) it = NULL;

	bool is_drawn = wdr_plan_options_draft(m->world, &o, &it, error);
	if (o.source) {
		m->looked_at = g_steal_pointer(&o.source);
		m->looked_at->is_shared = true;
		m->scratch = g_steal_pointer(&o.scratch);
	}
	if (!is_drawn || !check_ready(m, run, it, error)) {
		g_prefix_error(error, "slot '%s': ", run->slot->name);
		return false;
	}
	/* An older answer was for what was there then. */
	g_autofree char *plan = wdr_slot_run_plan(run);
	wdr_record_remove(plan);
	run->drawn = g_steal_pointer(&it);
	return true;
}

/* ---- the one question ---- */

static const char *word_to_agree(const WdrRosterSlot *slot)
{
	return slot->disk->serial ? slot->disk->serial : wdr_disk_word(slot->disk);
}

/* Every disk has to be named, and nothing else. */
static bool is_agreed_by_words(const Many *m, GError **error)
{
	g_auto(GStrv) words = g_strsplit(m->options->erase, ",", -1);

	for (guint i = 0; i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		const char *word = word_to_agree(run->slot);
		if (run->stage == WDR_SLOT_WAITING &&
			!g_strv_contains((const char *const *)words, word))
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"--erase does not name %s, the disk of slot '%s'", word,
				run->slot->name);
	}
	for (size_t k = 0; words[k]; k++) {
		bool is_known = false;
		for (guint i = 0; i < m->runs->len; i++)
			is_known |= strcmp(word_to_agree(((WdrSlotRun *)m->runs->pdata[i])->slot),
					    words[k]) == 0;
		if (!is_known)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"--erase names '%s', which is the disk of no slot", words[k]);
	}
	return true;
}

static bool is_agreed_by_hand(const Many *m, unsigned disks, GError **error)
{
	WdrOut out = wdr_out(stderr, true);
	char answer[64] = "";
	char number[16];

	snprintf(number, sizeof(number), "%u", disks);
	for (guint i = 0; i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		if (run->drawn)
			wdr_present_erased(&out, run->drawn);
	}
	wdr_out_text(&out, WDR_STYLE_PLAIN,
		"Everything on these disks will be erased. Type how many they are (%s) to continue: ",
		number);
	fflush(stderr);
	if (!fgets(answer, sizeof(answer), stdin) || !wdr_stop_check(NULL)) {
		fputc('\n', stderr);
		return wdr_error_set(error, WDR_ERROR_REFUSED, "cancelled");
	}
	answer[strcspn(answer, "\n")] = '\0';
	return strcmp(answer, number) == 0 ||
	       wdr_error_set(error, WDR_ERROR_REFUSED,
		       "'%s' is not the number of disks that would be erased", answer);
}

/* The disk between the table and the answer: another one, or with other contents. */
static bool is_unchanged(const Many *m, WdrSlotRun *run, GError **error)
{
	g_autoptr(GPtrArray) changes = NULL;

	if (wdr_move_look_at_target(m->world, run->drawn, &changes, error)) {
		if (changes->len == 0)
			return true;
		wdr_error_set(error, WDR_ERROR_REFUSED, "%s has changed since it was shown: %s",
			run->drawn->target.name, (const char *)changes->pdata[0]);
	}
	g_prefix_error(error, "slot '%s': ", run->slot->name);
	return false;
}

static bool keep_plan(const Many *m, const WdrSlotRun *run, GError **error)
{
	g_autofree char *text = wdr_itinerary_to_json(run->drawn);
	g_autofree char *plan = wdr_slot_run_plan(run);

	return (!m->options->slot || set_aside(run, error)) &&
	       wdr_record_write(plan, text, strlen(text), error);
}

static bool ask(const Many *m, GError **error)
{
	unsigned disks = 0;

	for (guint i = 0; i < m->runs->len; i++)
		disks += ((WdrSlotRun *)m->runs->pdata[i])->drawn ? 1 : 0;
	if (disks == 0)
		return true;
	bool is_fine = m->options->erase ? is_agreed_by_words(m, error)
					 : is_agreed_by_hand(m, disks, error);
	for (guint i = 0; is_fine && i < m->runs->len; i++) {
		WdrSlotRun *run = m->runs->pdata[i];
		is_fine = !run->drawn || is_unchanged(m, run, error);
	}
	for (guint i = 0; is_fine && i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		is_fine = !run->drawn || keep_plan(m, run, error);
	}
	if (!is_fine)
		wdr_error_hint(error, "nothing was written");
	return is_fine;
}

/* ---- while they run ---- */

static WdrSlotShown *shown_slots(const Many *m)
{
	WdrSlotShown *all = g_new0(WdrSlotShown, m->runs->len);

	for (guint i = 0; i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		all[i] = (WdrSlotShown){ run->slot, wdr_slot_stage_name(run->stage), run->said,
			run->result, run->seconds };
	}
	return all;
}

static void clear_table(const Many *m)
{
	if (m->lines > 0)
		fprintf(stderr, "\033[%uA\033[J", m->lines);
	fflush(stderr);
}

/* On a terminal the table is drawn again in its place. */
static void draw_table(void *data)
{
	Many *m = data;
	g_autofree WdrSlotShown *all = shown_slots(m);
	WdrOut out = wdr_out(stderr, m->globals->no_color);

	if (!m->is_live)
		return;
	clear_table(m);
	wdr_present_slots(&out, all, m->runs->len);
	fflush(stderr);
	m->lines = m->runs->len + 1;
}

static void tell(const Many *m)
{
	g_autofree WdrSlotShown *all = shown_slots(m);
	WdrOut out = wdr_cli_stdout(m->globals);

	clear_table(m);
	if (m->globals->json) {
		g_autoptr(json_t) document =
			wdr_present_slots_document(m->roster, all, m->runs->len);
		wdr_json_print(document, stdout);
		return;
	}
	wdr_present_slots(&out, all, m->runs->len);
	wdr_present_slot_failures(&out, all, m->runs->len);
}

static int summary(const Many *m)
{
	WdrOut out = wdr_cli_stdout(m->globals);
	unsigned failed = 0;

	for (guint i = 0; i < m->runs->len; i++)
		failed += ((WdrSlotRun *)m->runs->pdata[i])->stage == WDR_SLOT_FAILED ? 1 : 0;
	tell(m);
	if (m->globals->json)
		return failed ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
	wdr_out_text(&out, failed ? WDR_STYLE_BAD : WDR_STYLE_GOOD, "%u of %u disks are ready\n",
		m->runs->len - failed, m->runs->len);
	if (failed) {
		g_autofree char *resume =
			wdr_command("move", "--roster", m->roster->path, "--resume");
		wdr_out_text(&out, WDR_STYLE_PLAIN, "to continue the others: %s\n", resume);
	}
	return failed ? WDR_EXIT_FOUND : WDR_EXIT_DONE;
}

static bool prepare(Many *m, GError **error)
{
	WdrOut out = wdr_cli_stdout(m->globals);

	if (!wdr_roster_load(m->options->path, &m->roster, error) ||
		!wdr_cli_world(m->globals, &m->world, error) ||
		!wdr_cli_source_disk(m->world, m->roster->from, &m->source, error) ||
		!wdr_disk_open_source(m->source, &m->held, error))
		return false;
	m->state = wdr_roster_state(m->roster);
	if (!wdr_make_private_folder(m->state, error) ||
		!wdr_move_lock(m->state, &m->lock, error) || !choose_slots(m, error) ||
		!wdr_roster_match(m->world, m->roster, m->source, error) || !check_others(m, error))
		return false;
	wdr_move_clear_scratch(m->state, WDR_DRAFT_PREFIX);
	if (!m->globals->json && !m->globals->quiet)
		wdr_present_roster(&out, m->world, m->roster);
	for (guint i = 0; i < m->runs->len; i++) {
		WdrSlotRun *run = m->runs->pdata[i];
		if (!has_to_be_drawn(m, run))
			continue;
		wdr_world_step(m->world, "slot %s", run->slot->name);
		if (!draw(m, run, error))
			return false;
	}
	fflush(stdout);
	return ask(m, error);
}

int wdr_move_roster(const WdrGlobals *globals, const WdrMoveRoster *o)
{
	Many m = { .globals = globals,
		.options = o,
		.lock = -1,
		.runs = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_slot_run_free),
		.others = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free) };
	g_autoptr(GError) error = NULL;
	int code = WDR_EXIT_REFUSED;

	if (prepare(&m, &error)) {
		wdr_progress_end();
		m.is_live = !globals->quiet && isatty(STDERR_FILENO) &&
			    g_strcmp0(g_getenv("TERM"), "dumb") != 0;
		wdr_roster_run(&(WdrRosterRunning){ globals, m.world, m.looked_at, o->despite,
				       draw_table, &m },
			m.runs);
		code = summary(&m);
	} else {
		code = wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	g_ptr_array_unref(m.runs);
	g_hash_table_unref(m.others);
	wdr_fd_clear(&m.lock);
	g_free(m.state);
	wdr_source_free(m.looked_at);
	if (m.scratch)
		wdr_remove_folder(m.scratch);
	g_free(m.scratch);
	wdr_blockdev_free(m.held);
	wdr_disk_free(m.source);
	wdr_roster_free(m.roster);
	wdr_world_free(m.world);
	return code;
}
