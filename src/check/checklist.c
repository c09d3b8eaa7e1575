/* Lists of checks: adding one, and counting states. */
#include "check/checklist.h"

#include "base/text.h"

static void check_free(void *data)
{
	WdrCheck *c = data;

	g_free(c->text);
	g_free(c->hint);
	g_free(c);
}

GPtrArray *wdr_checks_new(void)
{
	return g_ptr_array_new_with_free_func(check_free);
}

WdrCheck *wdr_checks_add(
	GPtrArray *checks, const char *name, WdrState state, const char *hint, const char *text)
{
	WdrCheck *c = g_new0(WdrCheck, 1);

	c->name = name;
	c->state = state;
	c->text = g_strdup(text);
	c->hint = g_strdup(hint);
	g_ptr_array_add(checks, c);
	return c;
}

WdrCheck *wdr_checks_say(GPtrArray *checks, const char *name, WdrState state, const char *hint,
	const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_autofree char *escaped = wdr_escape(text);
	return wdr_checks_add(checks, name, state, hint, escaped);
}

unsigned wdr_checks_count(const GPtrArray *checks, WdrState state)
{
	unsigned n = 0;

	for (guint i = 0; i < checks->len; i++)
		n += ((const WdrCheck *)checks->pdata[i])->state == state ? 1 : 0;
	return n;
}
