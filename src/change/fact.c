/* Facts that the step commands collect and show, one a line. */
#include "change/fact.h"

#include "base/text.h"

static void fact_free(void *data)
{
	WdrFact *f = data;

	g_free(f->text);
	g_free(f);
}

GPtrArray *wdr_facts_new(void)
{
	return g_ptr_array_new_with_free_func(fact_free);
}

void wdr_facts_add(GPtrArray *facts, const char *name, bool is_warning, const char *format, ...)
{
	WdrFact *f = g_new0(WdrFact, 1);
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	f->name = name;
	f->text = wdr_escape(text);
	f->is_warning = is_warning;
	g_ptr_array_add(facts, f);
}
