/* GLib's errors of options in our words, and what was probably meant.
 *
 * GLib tells the option and the value in its message alone. The messages are those of the C locale,
 * which main() sets for them (LC_MESSAGES). A message of another form is passed on as it is. */
#include "cli/common/option_error.h"

#include "base/closest.h"

#include <string.h>

/* What the message has between two texts; NULL: it is of another form. */
static char *between(const char *message, const char *before, const char *after)
{
	const char *start = g_str_has_prefix(message, before) ? message + strlen(before) : NULL;
	const char *end = start ? strstr(start, after) : NULL;

	return end ? g_strndup(start, (size_t)(end - start)) : NULL;
}

static char *bad_value(const char *message)
{
	static const struct {
		const char *before, *after, *says;
	} forms[] = {
		{ "Cannot parse integer value “", "” for ", "needs a whole number" },
		{ "Integer value “", "” for ", "needs a smaller number" },
		{ "Cannot parse double value “", "” for ", "needs a number" },
		{ "Double value “", "” for ", "needs a smaller number" },
	};

	for (size_t i = 0; i < G_N_ELEMENTS(forms); i++) {
		g_autofree char *value = between(message, forms[i].before, forms[i].after);
		const char *behind = value ? strstr(message, forms[i].after) : NULL;
		if (!behind)
			continue;
		const char *option = behind + strlen(forms[i].after);
		return g_strdup_printf("%.*s %s, not '%s'", (int)strcspn(option, " "), option,
			forms[i].says, value);
	}
	if (g_str_has_prefix(message, "Missing argument for "))
		return g_strdup_printf(
			"%s needs a value", message + strlen("Missing argument for "));
	return NULL;
}

/* "--from", …, NULL-ended. */
static GPtrArray *names_of(const GOptionEntry *own, const GOptionEntry *global)
{
	const GOptionEntry *const lists[] = { own, global };
	GPtrArray *names = g_ptr_array_new_with_free_func(g_free);

	for (size_t i = 0; i < G_N_ELEMENTS(lists); i++) {
		for (const GOptionEntry *e = lists[i]; e && e->long_name; e++)
			g_ptr_array_add(names, g_strconcat("--", e->long_name, NULL));
	}
	g_ptr_array_add(names, g_strdup("--help"));
	g_ptr_array_add(names, NULL);
	return names;
}

static char *unknown_option(const char *option, const GOptionEntry *own, const GOptionEntry *global)
{
	g_autoptr(GPtrArray) names = names_of(own, global);
	const char *meant = wdr_closest(option, (const char *const *)names->pdata);

	return meant ? g_strdup_printf("there is no option '%s'; did you mean '%s'?", option, meant)
		     : g_strdup_printf("there is no option '%s'", option);
}

char *wdr_option_error(const GError *error, const GOptionEntry *own, const GOptionEntry *global)
{
	static const char unknown[] = "Unknown option ";

	if (g_str_has_prefix(error->message, unknown))
		return unknown_option(error->message + strlen(unknown), own, global);
	char *text = bad_value(error->message);
	return text ? text : g_strdup(error->message);
}
