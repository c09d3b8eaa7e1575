/* The moves of a roster, side by side. */
#include "cli/roster_run.h"

#include "base/command.h"
#include "base/io.h"
#include "base/stop.h"
#include "base/text.h"
#include "world/spawn.h"

enum { LOOK_EVERY_MS = 250, RESULT_BYTES_MAX = 16 * 1024 * 1024 };

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

static void add(GStrvBuilder *words, const char *option, const char *value)
{
	g_strv_builder_add(words, option);
	g_strv_builder_add(words, value);
}

/* The same program, for one slot. The caller's. */
static char **words_for(
	const WdrGlobals *globals, const char *const *despite, const WdrSlotRun *run)
{
	g_autoptr(GStrvBuilder) words = g_strv_builder_new();
	g_autofree char *says = g_strdup_printf("%d", WDR_SPAWN_SAYS);
	g_autofree char *plan = wdr_slot_run_plan(run);

	/* Its advice begins as ours does. */
	g_strv_builder_add(words, wdr_command_program());
	if (globals->bench)
		add(words, "--bench", globals->bench);
	add(words, "--json", "--progress-to");
	add(words, says, "move");
	if (run->is_begun) {
		add(words, "--resume", run->state);
	} else {
		add(words, plan, "--erase");
		add(words, wdr_disk_word(run->slot->disk), "--state");
		g_strv_builder_add(words, run->state);
	}
	for (size_t i = 0; despite && despite[i]; i++)
		add(words, "--despite", despite[i]);
	return g_strv_builder_end(words);
}

static json_t *failure(const char *message)
{
	return json_pack("{s:s, s:{s:s, s:s}}", "format", "wanderitas-error/1", "error", "code",
		"io", "message", message);
}

static WdrSpawn *start(const WdrGlobals *globals, const char *const *despite, WdrSlotRun *run)
{
	g_auto(GStrv) words = words_for(globals, despite, run);
	g_autofree char *out = beside(run, "result.json");
	g_autofree char *err = beside(run, "messages");
	g_autoptr(GError) error = NULL;
	WdrSpawn *child = NULL;

	run->begun = g_get_monotonic_time();
	run->stage = WDR_SLOT_MOVING;
	if (wdr_spawn_start("/proc/self/exe", (const char *const *)words, out, err, &child, &error))
		return child;
	run->stage = WDR_SLOT_FAILED;
	run->result = failure(error->message);
	return NULL;
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

void wdr_roster_run(const WdrGlobals *globals, const char *const *despite, GPtrArray *runs,
	void (*each)(void *data), void *data)
{
	g_autoptr(GPtrArray) started = g_ptr_array_new();
	g_autoptr(GPtrArray) children =
		g_ptr_array_new_with_free_func((GDestroyNotify)wdr_spawn_free);
	int64_t told = 0;

	wdr_stop_needs_care();
	for (guint i = 0; i < runs->len; i++) {
		WdrSlotRun *run = runs->pdata[i];
		WdrSpawn *child =
			run->stage == WDR_SLOT_WAITING ? start(globals, despite, run) : NULL;
		if (!child)
			continue;
		g_ptr_array_add(started, run);
		g_ptr_array_add(children, child);
	}
	while (look(started, children) > 0) {
		if (!wdr_stop_check(NULL))
			stop_all(children);
		if (told == 0 || wdr_seconds_since(told) >= 1) {
			each(data);
			told = g_get_monotonic_time();
		}
		wdr_spawns_wait(children, LOOK_EVERY_MS);
	}
}
