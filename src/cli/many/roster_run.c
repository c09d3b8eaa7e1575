/* The moves of a roster, side by side. */
#include "cli/many/roster_run.h"

#include "base/io.h"
#include "base/share.h"
#include "base/stop.h"
#include "base/text.h"
#include "cli/common/expected.h"
#include "cli/common/perform.h"
#include "cli/common/progress.h"
#include "world/spawn.h"

enum {
	LOOK_EVERY_MS = 250,
	RESULT_BYTES_MAX = 16 * 1024 * 1024,
	/* Eight of them take no more than one move of a million files may, and a little. Their
	 * source comes out of the page cache, so reading far ahead gains nothing. */
	MEMORY_PART = 4,
};

const char *wdr_slot_stage_name(WdrSlotStage stage)
{
	static const char *const names[] = { "waiting", "moving", "moved", "moved-before",
		"failed" };

	return names[stage];
}

void wdr_slot_run_free(WdrSlotRun *run)
{
	g_free(run->state);
	wdr_itinerary_free(run->drawn);
	g_free(run->ready);
	json_decref(run->said);
	json_decref(run->result);
	g_free(run);
}

/* What belongs to it but is no record of its move lies beside the folder. */
static char *beside(const WdrSlotRun *run, const char *what)
{
	return g_strconcat(run->state, ".", what, NULL);
}

char *wdr_slot_run_plan(const WdrSlotRun *run)
{
	return beside(run, "itinerary.json");
}

static void add(GPtrArray *words, const char *word)
{
	g_ptr_array_add(words, (void *)(uintptr_t)word);
}

typedef struct {
	const WdrRosterRunning *how;
	WdrSlotRun *run;
} Slot;

/* One that was agreed to by an earlier run: it is found, checked and refused as it would be alone.
 */
static int move_by_words(const Slot *s, WdrGlobals *globals)
{
	g_autoptr(GPtrArray) words = g_ptr_array_new();
	g_autofree char *plan = wdr_slot_run_plan(s->run);

	add(words, "move");
	if (s->run->is_begun) {
		add(words, "--resume");
		add(words, s->run->state);
	} else {
		add(words, plan);
		add(words, "--erase");
		add(words, wdr_disk_word(s->run->slot->disk));
		add(words, "--state");
		add(words, s->run->state);
	}
	for (size_t i = 0; s->how->despite && s->how->despite[i]; i++) {
		add(words, "--despite");
		add(words, s->how->despite[i]);
	}
	int count = (int)words->len;
	add(words, NULL);
	return wdr_cmd_move.run(globals, count, (char **)words->pdata);
}

/* In the copy of the program. */
static int move_slot(void *data, int says)
{
	const Slot *s = data;
	const WdrSlotRun *run = s->run;
	WdrGlobals globals = *s->how->globals;

	wdr_share_between(MEMORY_PART);
	globals.json = TRUE;
	globals.verbose = FALSE;
	globals.progress_to = says;
	if (!run->drawn)
		return move_by_words(s, &globals);
	wdr_progress_say(s->how->world, says);
	const WdrExpected expected = wdr_cli_expect(s->how->world, run->drawn);
	return wdr_cli_perform(&globals, s->how->world, run->drawn,
		&(WdrPerforming){ .move = { .state = run->state,
					  .copy_per_s = expected.copy_per_s,
					  .looked_at = s->how->looked_at,
					  .ready = run->ready },
			.where = WDR_BOOTS_ELSEWHERE });
}

static json_t *failure(const char *message)
{
	return json_pack("{s:s, s:{s:s, s:s}}", "format", "wanderitas-error/1", "error", "code",
		"io", "message", message);
}

static void start(const WdrRosterRunning *how, WdrSlotRun *run, GPtrArray *children)
{
	Slot slot = { how, run };
	g_autofree char *out = beside(run, "result.json");
	g_autofree char *err = beside(run, "messages");
	g_autoptr(GError) error = NULL;

	run->begun = g_get_monotonic_time();
	run->stage = WDR_SLOT_MOVING;
	if (wdr_spawn_start(&(WdrSpawnTask){ move_slot, &slot, out, err }, children, &error))
		return;
	run->stage = WDR_SLOT_FAILED;
	run->result = failure(error->message);
}

static void take_said(WdrSlotRun *run, const WdrSpawn *child)
{
	const char *line = wdr_spawn_said(child);
	json_t *said = line ? json_loads(line, 0, NULL) : NULL;

	if (!said)
		return;
	json_decref(run->said);
	run->said = said;
}

/* A move that did not end with "done" and a document failed, whatever it says. */
static void take_end(WdrSlotRun *run, const WdrSpawn *child)
{
	g_autofree char *out = beside(run, "result.json");
	g_autofree char *text = NULL;
	size_t len = 0;
	int code = wdr_spawn_exit_code(child);

	run->seconds = wdr_seconds_since(run->begun);
	if (wdr_read_file(out, RESULT_BYTES_MAX, &text, &len, NULL))
		run->result = json_loadb(text, len, 0, NULL);
	run->stage = code == WDR_EXIT_DONE && run->result ? WDR_SLOT_MOVED : WDR_SLOT_FAILED;
	if (!run->result) {
		g_autofree char *why = g_strdup_printf(
			"its program ended with exit code %d and said nothing", code);
		run->result = failure(why);
	}
}

/* How many are still under way. */
static unsigned look(GPtrArray *runs, GPtrArray *children)
{
	unsigned moving = 0;

	for (guint i = 0; i < children->len; i++) {
		WdrSlotRun *run = runs->pdata[i];
		if (run->stage != WDR_SLOT_MOVING)
			continue;
		take_said(run, children->pdata[i]);
		if (wdr_spawn_is_over(children->pdata[i]))
			take_end(run, children->pdata[i]);
		else
			moving++;
	}
	return moving;
}

static void stop_all(GPtrArray *children)
{
	for (guint i = 0; i < children->len; i++)
		wdr_spawn_stop(children->pdata[i]);
}

void wdr_roster_run(const WdrRosterRunning *how, GPtrArray *runs)
{
	g_autoptr(GPtrArray) started = g_ptr_array_new();
	g_autoptr(GPtrArray) children =
		g_ptr_array_new_with_free_func((GDestroyNotify)wdr_spawn_free);
	int64_t told = 0;

	wdr_stop_needs_care();
	for (guint i = 0; i < runs->len; i++) {
		WdrSlotRun *run = runs->pdata[i];
		if (run->stage != WDR_SLOT_WAITING)
			continue;
		start(how, run, children);
		if (run->stage == WDR_SLOT_MOVING)
			g_ptr_array_add(started, run);
	}
	while (look(started, children) > 0) {
		if (!wdr_stop_check(NULL))
			stop_all(children);
		if (told == 0 || wdr_seconds_since(told) >= 1) {
			how->each(how->data);
			told = g_get_monotonic_time();
		}
		wdr_spawns_wait(children, LOOK_EVERY_MS);
	}
}
