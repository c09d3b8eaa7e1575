/* The moves of a roster, side by side. */
#include "cli/roster_run.h"

#include "base/command.h"
#include "base/io.h"
#include "base/stop.h"
#include "world/child.h"

#include <unistd.h>

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
	g_free(run->plan);
	json_decref(run->said);
	json_decref(run->result);
	g_free(run);
}

static double now_s(void)
{
	return (double)g_get_monotonic_time() / G_USEC_PER_SEC;
}

/* What it prints lies beside its state folder: that is the move's own. */
static char *printed(const WdrSlotRun *run, const char *what)
{
	return g_strconcat(run->state, ".", what, NULL);
}

/* The same program, for one slot. */
static GPtrArray *words_for(
	const WdrGlobals *globals, const char *const *despite, const WdrSlotRun *run)
{
	GPtrArray *words = g_ptr_array_new_with_free_func(g_free);

	/* Its advice begins as ours does. */
	g_ptr_array_add(words, g_strdup(wdr_command_program()));
	if (globals->bench) {
		g_ptr_array_add(words, g_strdup("--bench"));
		g_ptr_array_add(words, g_strdup(globals->bench));
	}
	g_ptr_array_add(words, g_strdup("--json"));
	g_ptr_array_add(words, g_strdup_printf("--progress-to=%d", WDR_CHILD_SAYS));
	g_ptr_array_add(words, g_strdup("move"));
	if (!run->plan) {
		g_ptr_array_add(words, g_strdup("--resume"));
		g_ptr_array_add(words, g_strdup(run->state));
	} else {
		g_ptr_array_add(words, g_strdup(run->plan));
		g_ptr_array_add(words, g_strdup("--erase"));
		g_ptr_array_add(words, g_strdup(wdr_disk_word(run->slot->disk)));
		g_ptr_array_add(words, g_strdup("--state"));
		g_ptr_array_add(words, g_strdup(run->state));
	}
	for (size_t i = 0; despite && despite[i]; i++) {
		g_ptr_array_add(words, g_strdup("--despite"));
		g_ptr_array_add(words, g_strdup(despite[i]));
	}
	g_ptr_array_add(words, NULL);
	return words;
}

static json_t *failure(const char *message)
{
	return json_pack("{s:s, s:{s:s, s:s}}", "format", "wanderitas-error/1", "error", "code",
		"io", "message", message);
}

static WdrChild *start(const WdrGlobals *globals, const char *const *despite, WdrSlotRun *run)
{
	g_autoptr(GPtrArray) words = words_for(globals, despite, run);
	g_autofree char *out = printed(run, "result.json");
	g_autofree char *err = printed(run, "messages");
	g_autoptr(GError) error = NULL;
	WdrChild *child = NULL;

	run->begun = now_s();
	run->stage = WDR_SLOT_MOVING;
	if (wdr_child_start(
		    "/proc/self/exe", (const char *const *)words->pdata, out, err, &child, &error))
		return child;
	run->stage = WDR_SLOT_FAILED;
	run->exit_code = WDR_EXIT_STOPPED;
	run->ended = run->begun;
	run->result = failure(error->message);
	return NULL;
}

static void take_said(WdrSlotRun *run, const WdrChild *child)
{
	const char *line = wdr_child_said(child);
	json_t *said = line ? json_loads(line, 0, NULL) : NULL;

	if (!said)
		return;
	json_decref(run->said);
	run->said = said;
}

/* A move that did not end with "done" and a document failed, whatever it says. */
static void take_end(WdrSlotRun *run, const WdrChild *child)
{
	g_autofree char *out = printed(run, "result.json");
	g_autofree char *text = NULL;
	size_t len = 0;

	run->ended = now_s();
	run->exit_code = wdr_child_exit_code(child);
	if (wdr_read_file(out, RESULT_BYTES_MAX, &text, &len, NULL))
		run->result = json_loadb(text, len, 0, NULL);
	bool is_moved = run->exit_code == WDR_EXIT_DONE && run->result;
	run->stage = is_moved ? WDR_SLOT_MOVED : WDR_SLOT_FAILED;
	if (!run->result) {
		g_autofree char *why = g_strdup_printf(
			"its program ended with exit code %d and said nothing", run->exit_code);
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
		if (wdr_child_is_over(children->pdata[i]))
			take_end(run, children->pdata[i]);
		else
			moving++;
	}
	return moving;
}

static void stop_all(GPtrArray *children)
{
	for (guint i = 0; i < children->len; i++)
		wdr_child_stop(children->pdata[i]);
}

void wdr_roster_run(const WdrGlobals *globals, const char *const *despite, GPtrArray *runs,
	void (*each)(void *data, bool is_over), void *data)
{
	g_autoptr(GPtrArray) waiting = g_ptr_array_new();
	g_autoptr(GPtrArray) children =
		g_ptr_array_new_with_free_func((GDestroyNotify)wdr_child_free);
	double last = 0;

	wdr_stop_needs_care();
	for (guint i = 0; i < runs->len; i++) {
		WdrSlotRun *run = runs->pdata[i];
		WdrChild *child =
			run->stage == WDR_SLOT_WAITING ? start(globals, despite, run) : NULL;
		if (!child)
			continue;
		g_ptr_array_add(waiting, run);
		g_ptr_array_add(children, child);
	}
	while (look(waiting, children) > 0) {
		if (!wdr_stop_check(NULL))
			stop_all(children);
		if (now_s() - last >= 1) {
			each(data, false);
			last = now_s();
		}
		wdr_children_wait(children, LOOK_EVERY_MS);
	}
	each(data, true);
}
