/* Lists of checks: adding one with its evidence and remedy, and counting results. */
#include "check/checklist.h"

#include "base/text.h"

static void check_free(void *data)
{
	WdrCheck *c = data;

	g_free(c->evidence);
	g_free(c->remedy);
	g_free(c);
}

GPtrArray *wdr_checks_new(void)
{
	return g_ptr_array_new_with_free_func(check_free);
}

WdrCheck *wdr_checks_add(GPtrArray *checks, const char *name, WdrCheckResult result,
	const char *remedy, const char *evidence)
{
	WdrCheck *c = g_new0(WdrCheck, 1);

	c->name = name;
	c->result = result;
	c->evidence = g_strdup(evidence);
	c->remedy = g_strdup(remedy);
	g_ptr_array_add(checks, c);
	return c;
}

WdrCheck *wdr_checks_say(GPtrArray *checks, const char *name, WdrCheckResult result,
	const char *remedy, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_autofree char *escaped = wdr_escape(text);
	return wdr_checks_add(checks, name, result, remedy, escaped);
}

unsigned wdr_checks_count(const GPtrArray *checks, WdrCheckResult result)
{
	unsigned n = 0;

	for (guint i = 0; i < checks->len; i++)
		n += ((const WdrCheck *)checks->pdata[i])->result == result ? 1 : 0;
	return n;
}
