/* Walks the stages of a boot and collects their steps. */
#include "boot/rehearse/rehearse_priv.h"

#include "base/command.h"
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

/* ---- the boot entries, in turn ---- */

void wdr_walk_forget(WdrWalk *w)
{
	wdr_kernel_clear(&w->kernel);
	w->kernel = (WdrKernel){ 0 };
	g_clear_pointer(&w->initramfs, wdr_initramfs_free);
	g_clear_pointer(&w->modules, wdr_modules_free);
	g_clear_pointer(&w->root_type, g_free);
	g_clear_pointer(&w->release, g_free);
}

/* Why the loader gave an entry up is a warning when it can load a later one. */
static void soften(WdrWalk *w, guint from, guint to)
{
	for (guint i = from; i < to; i++) {
		WdrStep *step = w->steps->pdata[i];
		if (step->state == WDR_STATE_STOP)
			step->state = WDR_STATE_WARNING;
	}
}

/* A loader goes on to the next entry when files are missing. What fails later ends the boot. */
static void walk_entries(WdrWalk *w, const WdrBootEntries *entries)
{
	guint first = w->steps->len;

	for (guint i = 0; i < entries->list->len; i++) {
		const WdrBootEntry *entry = entries->list->pdata[i];
		const WdrBootEntry *next =
			i + 1 < entries->list->len ? entries->list->pdata[i + 1] : NULL;
		guint before = w->steps->len;
		wdr_walk_forget(w);
		w->entry = entry;
		if (entry->doubt) {
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_UNKNOWN, NULL,
				"what the %s does here is known when it runs: %s",
				g_strcmp0(w->s->flow, "UEFI") == 0 ? "loader" : "script",
				entry->doubt);
			return;
		}
		if (wdr_walk_files(w, wdr_boot_entry_part(entries, entry))) {
			soften(w, first, before);
			if (wdr_walk_drivers(w) && wdr_walk_root(w) && wdr_walk_init(w))
				wdr_walk_after(w);
			return;
		}
		if (next)
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_WARNING, NULL,
				"%s cannot be loaded; U-Boot falls back to %s", entry->name,
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

char *wdr_walk_readdress(const WdrWalk *w, const char *option)
{
	const char *on = w->how->fix_on ? w->how->fix_on : "--running";

	/* A mounted file system keeps its UUID. */
	if (!w->how->fix_on && g_strcmp0(option, "--renew") == 0)
		return g_strdup(
			"boot from another disk, and give this one new identifiers from there");
	return wdr_command("readdress", on, option ? option : "", "--write");
}

/* The start of its last part is not there yet, so nothing else that could be said of it counts. */
static bool is_finished(WdrWalk *w)
{
	const char *on = w->how->fix_on;
	bool is_image = on && g_file_test(on, G_FILE_TEST_IS_REGULAR);
	g_autofree char *resume = wdr_command("move", "--resume", is_image ? on : "");

	for (guint i = 0; i < w->s->parts->len; i++) {
		if (!((const WdrSystemPart *)w->s->parts->pdata[i])->is_unfinished)
			continue;
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STATE_STOP, resume,
			"this disk is the target of an unfinished move");
		return false;
	}
	return true;
}

WdrRehearsal *wdr_rehearse(const WdrSystem *s, const WdrRehearsing *how)
{
	WdrRehearsal *r = g_new0(WdrRehearsal, 1);
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(s, how->board, how->others);
	WdrWalk w = { .s = s,
		.how = how,
		.medium = how->medium ? how->medium : s->medium,
		.board = how->board,
		.others = how->others,
		.away = how->away };

	w.steps = r->steps = wdr_walk_steps_new();
	if (!is_finished(&w)) {
		judge(r);
		return r;
	}
	bool goes_on = entries->part && entries->part->volume && wdr_walk_medium(&w, entries);
	for (guint i = 0; i < entries->warnings->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT, WDR_STATE_WARNING, NULL, "%s",
			(const char *)entries->warnings->pdata[i]);
	g_autofree char *fix = entries->misses_names ? wdr_walk_readdress(&w, NULL) : NULL;
	for (guint i = 0; i < entries->faults->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT,
			entries->list->len && goes_on ? WDR_STATE_WARNING : WDR_STATE_STOP, fix,
			"%s", (const char *)entries->faults->pdata[i]);
	if (goes_on)
		walk_entries(&w, entries);
	wdr_walk_forget(&w);
	judge(r);
	return r;
}
