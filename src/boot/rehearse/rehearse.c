/* Walks the stages of a boot and collects their steps. */
#include "boot/rehearse/rehearse_priv.h"

#include "base/text.h"

#include <string.h>

const char *wdr_stage_name(WdrStage stage)
{
	static const char *const names[] = { "medium", "boot volume", "files", "drivers", "root",
		"init", "after root" };

	return names[stage];
}

const char *wdr_verdict_name(WdrVerdict verdict)
{
	static const char *const names[] = { "boots", "boots with warnings", "unknown",
		"does not boot" };

	return names[verdict];
}

static void step_free(void *data)
{
	WdrStep *step = data;

	g_free(step->text);
	g_free(step->hint);
	g_free(step);
}

void wdr_rehearsal_free(WdrRehearsal *r)
{
	if (!r)
		return;
	g_ptr_array_unref(r->steps);
	g_free(r);
}

GPtrArray *wdr_walk_steps_new(void)
{
	return g_ptr_array_new_with_free_func(step_free);
}

void wdr_walk_say(
	WdrWalk *w, WdrStage stage, WdrState state, const char *hint, const char *format, ...)
{
	WdrStep *step = g_new0(WdrStep, 1);
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	step->stage = stage;
	step->state = state;
	step->text = wdr_escape(text);
	step->hint = g_strdup(hint);
	g_ptr_array_add(w->steps, step);
}

const WdrSystemPart *wdr_walk_resolve(
	const WdrWalk *w, const WdrIdentifier *a, const WdrSystem **ret_disk, unsigned *ret_count)
{
	const WdrSystemPart *found = wdr_system_resolve(w->s, a, ret_count);

	*ret_disk = w->s;
	for (guint i = 0; w->others && i < w->others->len; i++) {
		unsigned count = 0;
		const WdrSystem *other = w->others->pdata[i];
		const WdrSystemPart *part = wdr_system_resolve(other, a, &count);
		*ret_count += count;
		if (found || !part)
			continue;
		found = part;
		*ret_disk = other;
	}
	return found;
}

/* ---- the ways, in turn ---- */

void wdr_walk_forget(WdrWalk *w)
{
	wdr_kernel_clear(&w->kernel);
	w->kernel = (WdrKernel){ 0 };
	g_clear_pointer(&w->initramfs, wdr_initramfs_free);
	g_clear_pointer(&w->modules, wdr_modules_free);
	g_clear_pointer(&w->root_type, g_free);
	g_clear_pointer(&w->release, g_free);
}

/* What made the loader give ways up is a warning when a later one can be loaded. */
static void soften(WdrWalk *w, guint from, guint to)
{
	for (guint i = from; i < to; i++) {
		WdrStep *step = w->steps->pdata[i];
		if (step->state == WDR_STATE_STOP)
			step->state = WDR_STATE_WARNING;
	}
}

/* A loader goes on to the next way when files are missing; what fails later ends the start. */
static void walk_ways(WdrWalk *w, const WdrBootEntries *ways)
{
	guint first = w->steps->len;

	for (guint i = 0; i < ways->ways->len; i++) {
		const WdrBootEntry *way = ways->ways->pdata[i];
		const WdrBootEntry *next =
			i + 1 < ways->ways->len ? ways->ways->pdata[i + 1] : NULL;
		guint before = w->steps->len;
		wdr_walk_forget(w);
		w->way = way;
		if (way->doubt) {
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_UNKNOWN, NULL,
				"what the script does here is known when it runs: %s", way->doubt);
			return;
		}
		if (wdr_walk_files(w, ways->part)) {
			soften(w, first, before);
			if (wdr_walk_drivers(w) && wdr_walk_root(w) && wdr_walk_init(w))
				wdr_walk_after(w);
			return;
		}
		if (next)
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_WARNING, NULL,
				"%s cannot be loaded; U-Boot falls back to %s", way->name,
				next->name);
	}
}

static void judge(WdrRehearsal *r)
{
	static const WdrVerdict verdicts[] = { WDR_VERDICT_BOOTS, WDR_VERDICT_WARNINGS,
		WDR_VERDICT_FAILS, WDR_VERDICT_UNKNOWN };

	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *step = r->steps->pdata[i];
		WdrVerdict v = verdicts[step->state];
		if (v > r->verdict) {
			r->verdict = v;
			r->reason = v >= WDR_VERDICT_UNKNOWN ? step : NULL;
		}
	}
}

WdrRehearsal *wdr_rehearse(const WdrSystem *s, const WdrRehearsing *how)
{
	WdrRehearsal *r = g_new0(WdrRehearsal, 1);
	g_autoptr(WdrBootEntries) ways = wdr_boot_entries_find(s, how->board);
	WdrWalk w = { .s = s,
		.medium = how->medium ? how->medium : s->medium,
		.board = how->board,
		.others = how->others,
		.away = how->away };

	w.steps = r->steps = wdr_walk_steps_new();
	bool goes_on = ways->part && ways->part->volume && wdr_walk_medium(&w, ways);
	for (guint i = 0; i < ways->warnings->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT, WDR_STATE_WARNING, NULL, "%s",
			(const char *)ways->warnings->pdata[i]);
	for (guint i = 0; i < ways->faults->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT,
			ways->ways->len && goes_on ? WDR_STATE_WARNING : WDR_STATE_STOP, NULL, "%s",
			(const char *)ways->faults->pdata[i]);
	if (goes_on)
		walk_ways(&w, ways);
	wdr_walk_forget(&w);
	judge(r);
	return r;
}
