/* The start of what is going to be made, rehearsed beforehand: a check for each of its stages. */
#include "check/planned_boot.h"

#include "check/ready_priv.h"

#include <string.h>

static const struct {
	WdrStage stage;
	const char *name;
} stages[] = {
	{ WDR_STAGE_MEDIUM, WDR_CHECK_MEDIUM },
	{ WDR_STAGE_BOOT, WDR_CHECK_BOOT_FILES },
	{ WDR_STAGE_FILES, WDR_CHECK_BOOT_FILES },
	{ WDR_STAGE_DRIVER, WDR_CHECK_DRIVERS },
	{ WDR_STAGE_ROOT, WDR_CHECK_ROOT },
	{ WDR_STAGE_INIT, WDR_CHECK_INIT },
	{ WDR_STAGE_AFTER, WDR_CHECK_MOUNTS },
};

static const char *name_of(WdrStage stage)
{
	size_t i = 0;

	while (stages[i].stage != stage)
		i++;
	return stages[i].name;
}

/* A check without problems shows its first step alone.
 */
static bool is_told(const WdrRehearsal *r, guint at)
{
	const WdrStep *step = r->steps->pdata[at];

	if (step->state != WDR_STATE_OK)
		return true;
	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *other = r->steps->pdata[i];
		bool is_same = strcmp(name_of(other->stage), name_of(step->stage)) == 0;
		if (is_same && (other->state != WDR_STATE_OK || i < at))
			return false;
	}
	return true;
}

/* The stages behind a stop are not reached; leaving them out must not look like "ok". */
static void say_unreached(WdrReady *r, const WdrRehearsal *planned)
{
	const WdrStep *last = planned->steps->pdata[planned->steps->len - 1];
	g_autoptr(GString) names = g_string_new(NULL);
	const char *first = NULL;

	for (size_t i = 0; i < G_N_ELEMENTS(stages); i++) {
		bool is_same = i > 0 && strcmp(stages[i].name, stages[i - 1].name) == 0;
		if (stages[i].stage <= last->stage || (is_same && first) ||
			strcmp(stages[i].name, name_of(last->stage)) == 0)
			continue;
		g_string_append_printf(names, "%s%s", first ? ", " : "", stages[i].name);
		first = first ? first : stages[i].name;
	}
	if (first && planned->verdict >= WDR_VERDICT_UNKNOWN)
		wdr_checks_say(r->checks, first, WDR_STATE_WARNING, NULL,
			"not checked, since the boot ends before: %s", names->str);
}

void wdr_ready_start(WdrReady *r)
{
	g_autoptr(WdrRehearsal) planned = NULL;
	g_autoptr(GError) error = NULL;

	if (!wdr_planned_rehearse(&r->around, &planned, &error)) {
		wdr_checks_say(r->checks, WDR_CHECK_BOOT_FILES, WDR_STATE_WARNING,
			"a move rehearses what it made at its end",
			"the boot cannot be rehearsed beforehand: %s", error->message);
		return;
	}
	for (guint i = 0; i < planned->steps->len; i++) {
		const WdrStep *step = planned->steps->pdata[i];
		WdrState state = step->state == WDR_STATE_UNKNOWN ? WDR_STATE_WARNING : step->state;
		if (is_told(planned, i))
			wdr_checks_add(
				r->checks, name_of(step->stage), state, step->hint, step->text);
	}
	if (planned->steps->len)
		say_unreached(r, planned);
}
