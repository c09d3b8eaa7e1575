/* From a roster to moves: fits disks to slots, draws every itinerary and makes every check before
 * anything is written, asks once, and runs all of them.
 *
 * The answer is kept beside the itineraries, so that --resume can begin the slots that a power cut
 * left out: an itinerary is refused for any other disk than the one that was shown. */
#include "cli/move_roster.h"

#include "base/command.h"
#include "base/json.h"
#include "base/record.h"
#include "base/stat.h"
#include "base/stop.h"
#include "base/text.h"
#include "check/planned_boot.h"
#include "cli/plan_options.h"
#include "cli/progress.h"
#include "cli/roster_run.h"
#include "disk/blockdev.h"
#include "journal/move_progress.h"
#include "journal/state_folder.h"
#include "move/move.h"
#include "present/show_itinerary.h"
#include "present/show_ready.h"
#include "present/show_roster.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/file.h>
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
	char *state;          /* the roster's folder */
	GPtrArray *runs;      /* WdrSlotRun */
	GPtrArray *drawn_now; /* WdrItinerary: what is going to be erased */
	unsigned lines;       /* of the table that is on the terminal */
	bool is_live;
} Many;

static char *beside(const WdrSlotRun *run, const char *suffix)
{
	return g_strconcat(run->state, suffix, NULL);
}

/* ---- what is to be done ---- */

/* Held until the program ends: two at once would erase and fill the same disks. */
static bool lock_roster(const Many *m, GError **error)
{
	g_autofree char *path = g_build_filename(m->state, "lock", NULL);
	int fd = -1;

	if (!wdr_make_private_folder(m->state, error) ||
		(fd = wdr_record_open(path, WDR_RECORD_NEW, error)) < 0)
		return false;
	/* By the folder: the file is made anew each time. */
	int folder = open(m->state, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	close(fd);
	if (folder < 0 || flock(folder, LOCK_EX | LOCK_NB) != 0) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"another program is carrying out the roster %s", m->roster->path);
		wdr_error_hint(error, "nothing was written; wait for it to end");
		return false;
	}
	return true;
}

static bool find_source(Many *m, GError **error)
{
	g_autofree char *running = NULL;

	if (!m->roster->from && !wdr_cli_running_disk(m->world, &running, error))
		return false;
	return wdr_disk_find(
		       m->world, m->roster->from ? m->roster->from : running, &m->source, error) &&
	       wdr_blockdev_open(m->source->path, WDR_OPEN_READ, &m->held, error);
}

static bool is_done(const WdrSlotRun *run)
{
	g_autofree char *path = g_build_filename(run->state, "logbook.jsonl", NULL);
	g_auto(WdrMoveProgress) progress = { 0 };

	return wdr_move_progress_read(path, &progress, NULL) && progress.is_done;
}

/* Where an earlier run left it. */
static bool take_stage(const Many *m, WdrSlotRun *run, GError **error)
{
	g_autofree char *plan = beside(run, ".itinerary.json");
	bool was_begun = false;

	if (!wdr_is_folder(run->state)) {
		if (m->options->is_resuming && g_file_test(plan, G_FILE_TEST_EXISTS))
			run->plan = g_steal_pointer(&plan);
		return true;
	}
	if (is_done(run)) {
		run->stage = WDR_SLOT_MOVED_BEFORE;
		return true;
	}
	if (!wdr_move_was_begun(run->state, &was_begun, error))
		return false;
	if (was_begun && !m->options->is_resuming) {
		g_autofree char *resume =
			wdr_command("move", "--roster", m->roster->path, "--resume");
		g_autofree char *anew =
			wdr_command("move", "--roster", m->roster->path, "--slot", run->slot->name);
		wdr_error_set(error, WDR_ERROR_REFUSED, "the move of slot '%s' was interrupted",
			run->slot->name);
		wdr_error_hint(error, "to move another disk in its place: %s; to continue all: %s",
			anew, resume);
		return false;
	}
	if (!was_begun)
		run->plan = g_steal_pointer(&plan);
	return true;
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
		if (strcmp(slot->name, only) != 0)
			g_ptr_array_remove_index(m->roster->slots, i - 1);
	}
	for (guint i = 0; i < m->roster->slots->len; i++) {
		WdrSlotRun *run = g_new0(WdrSlotRun, 1);
		run->slot = m->roster->slots->pdata[i];
		run->state = wdr_roster_slot_state(m->roster, run->slot);
		g_ptr_array_add(m->runs, run);
		if (only ? !set_aside(run, error) : !take_stage(m, run, error))
			return false;
	}
	return true;
}

static bool check_ready(const Many *m, const WdrItinerary *it, GError **error)
{
	g_autoptr(GPtrArray) checks = wdr_ready_checks(m->world, it, NULL);
	const WdrCheck *stop = wdr_ready_stop(checks, m->options->despite);

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
		.leave_behind = g_strdupv(r->leave_behind) };
	g_autoptr(WdrItinerary) it = NULL;

	if (!wdr_plan_options_draft(m->world, &o, &it, error) || !check_ready(m, it, error)) {
		g_prefix_error(error, "slot '%s': ", run->slot->name);
		return false;
	}
	g_autofree char *text = wdr_itinerary_to_json(it);
	run->plan = beside(run, ".itinerary.json");
	if (!wdr_record_write(run->plan, text, strlen(text), error))
		return false;
	g_ptr_array_add(m->drawn_now, g_steal_pointer(&it));
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

static bool is_agreed_by_hand(const Many *m, GError **error)
{
	WdrOut out = wdr_out(stderr, true);
	char answer[64] = "";
	char number[16];

	snprintf(number, sizeof(number), "%u", m->drawn_now->len);
	for (guint i = 0; i < m->drawn_now->len; i++)
		wdr_present_erased(&out, m->drawn_now->pdata[i]);
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

/* The disks between the table and the answer: one that was exchanged has another serial, and none
 * may be the disk of another slot now. */
static bool is_unchanged(const Many *m, GError **error)
{
	for (guint i = 0; i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		const WdrDisk *shown = run->slot->disk;
		g_autoptr(WdrDisk) now = NULL;
		if (!wdr_disk_find(m->world, wdr_disk_word(shown), &now, error))
			return false;
		if (g_strcmp0(now->serial, shown->serial) != 0 || now->size != shown->size ||
			g_strcmp0(now->model, shown->model) != 0)
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"slot '%s': %s is another disk than the one that was shown",
				run->slot->name, wdr_disk_word(shown));
	}
	return true;
}

static bool ask(const Many *m, GError **error)
{
	bool is_fine =
		m->drawn_now->len == 0 ||
		((m->options->erase ? is_agreed_by_words(m, error) : is_agreed_by_hand(m, error)) &&
			is_unchanged(m, error));

	if (!is_fine)
		wdr_error_hint(error, "nothing was written");
	return is_fine;
}

/* ---- while they run ---- */

static WdrSlotShown *shown_slots(const Many *m)
{
	WdrSlotShown *all = g_new0(WdrSlotShown, m->runs->len);
	double now = (double)g_get_monotonic_time() / G_USEC_PER_SEC;

	for (guint i = 0; i < m->runs->len; i++) {
		const WdrSlotRun *run = m->runs->pdata[i];
		all[i] = (WdrSlotShown){ run->slot, wdr_slot_stage_name(run->stage), run->said,
			run->result,
			run->begun > 0 ? (run->ended > 0 ? run->ended : now) - run->begun : 0 };
	}
	return all;
}

/* On a terminal the table is drawn again in its place. */
static void draw_table(void *data, bool is_over)
{
	Many *m = data;
	g_autofree WdrSlotShown *all = shown_slots(m);
	WdrOut out = wdr_out(stderr, m->globals->no_color);

	if (!m->is_live || is_over)
		return;
	if (m->lines > 0)
		fprintf(stderr, "\033[%uA\033[J", m->lines);
	wdr_present_slots(&out, all, m->runs->len);
	fflush(stderr);
	m->lines = m->runs->len + 1;
}

static void tell(Many *m)
{
	g_autofree WdrSlotShown *all = shown_slots(m);
	WdrOut out = wdr_cli_stdout(m->globals);

	if (m->lines > 0)
		fprintf(stderr, "\033[%uA\033[J", m->lines);
	fflush(stderr);
	if (m->globals->json) {
		g_autoptr(json_t) document =
			wdr_present_slots_document(m->roster, all, m->runs->len);
		wdr_json_print(document, stdout);
		return;
	}
	wdr_present_slots(&out, all, m->runs->len);
	wdr_present_slot_failures(&out, all, m->runs->len);
}

static int summary(Many *m)
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
		!wdr_cli_world(m->globals, &m->world, error) || !find_source(m, error))
		return false;
	m->state = wdr_roster_state(m->roster);
	if (!lock_roster(m, error) || !choose_slots(m, error) ||
		!wdr_roster_match(m->world, m->roster, m->source, error))
		return false;
	if (!m->globals->json && !m->globals->quiet)
		wdr_present_roster(&out, m->world, m->roster);
	for (guint i = 0; i < m->runs->len; i++) {
		WdrSlotRun *run = m->runs->pdata[i];
		if (run->stage != WDR_SLOT_WAITING || run->plan || wdr_is_folder(run->state))
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
		.runs = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_slot_run_free),
		.drawn_now = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_itinerary_free) };
	g_autoptr(GError) error = NULL;
	int code = WDR_EXIT_REFUSED;

	if (prepare(&m, &error)) {
		wdr_progress_end();
		m.is_live = !globals->quiet && isatty(STDERR_FILENO) &&
			    g_strcmp0(g_getenv("TERM"), "dumb") != 0;
		wdr_roster_run(globals, o->despite, m.runs, draw_table, &m);
		code = summary(&m);
	} else {
		code = wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	g_ptr_array_unref(m.runs);
	g_ptr_array_unref(m.drawn_now);
	g_free(m.state);
	wdr_blockdev_free(m.held);
	wdr_disk_free(m.source);
	wdr_roster_free(m.roster);
	wdr_world_free(m.world);
	return code;
}
