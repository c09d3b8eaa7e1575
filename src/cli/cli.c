/* What all commands share: options, help, output streams, errors, the typed answer. */
#include "cli/cli.h"

#include "base/command.h"
#include "base/stop.h"
#include "base/text.h"
#include "cli/option_error.h"
#include "cli/progress.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

GOptionEntry *wdr_cli_global_entries(WdrGlobals *globals)
{
	const GOptionEntry entries[] = {
		{ "bench", 0, 0, G_OPTION_ARG_FILENAME, &globals->bench,
			"Work on the bench in DIR instead of this machine", "DIR" },
		{ "json", 0, 0, G_OPTION_ARG_NONE, &globals->json, "Print one JSON document",
			NULL },
		{ "quiet", 'q', 0, G_OPTION_ARG_NONE, &globals->quiet, "No progress, no notes",
			NULL },
		{ "verbose", 'v', 0, G_OPTION_ARG_NONE, &globals->verbose,
			"Show which programs are run", NULL },
		{ "no-color", 0, 0, G_OPTION_ARG_NONE, &globals->no_color,
			"No colours (also: NO_COLOR)", NULL },
		{ "version", 'V', 0, G_OPTION_ARG_NONE, &globals->version,
			"Print version, commit and libraries", NULL },
		{ 0 },
	};

	return g_memdup2(entries, sizeof(entries));
}

/* A variable of a script that was not set would mean the folder that the user is in. */
static bool has_no_empty_name(const GOptionEntry *entries, GError **error)
{
	for (const GOptionEntry *e = entries; e->long_name; e++) {
		const char *name = e->arg == G_OPTION_ARG_FILENAME ? *(char **)e->arg_data : NULL;
		if (name && *name == '\0')
			return wdr_error_set(error, WDR_ERROR_USAGE, "--%s was given an empty name",
				e->long_name);
	}
	return true;
}

bool wdr_cli_parse(const WdrCommand *command, WdrGlobals *globals, const GOptionEntry *entries,
	int *argc, char ***argv, GError **error)
{
	g_autofree char *usage = g_strdup_printf("%s %s", command->name, command->synopsis);
	g_autoptr(GOptionContext) context = g_option_context_new(usage);
	g_autofree GOptionEntry *global = wdr_cli_global_entries(globals);
	g_autoptr(GError) local = NULL;

	/* GOption prints "PROGRAM [OPTION…] usage"; the program's name is enough before a command.
	 */
	g_set_prgname("wanderitas");
	g_option_context_set_summary(context, command->summary);
	g_option_context_add_main_entries(context, entries, NULL);
	GOptionGroup *group = g_option_group_new("global", "Options that every command has",
		"Show options that every command has", NULL, NULL);
	g_option_group_add_entries(group, global);
	g_option_context_add_group(context, group);
	if (g_option_context_parse(context, argc, argv, &local))
		return has_no_empty_name(entries, error) && has_no_empty_name(global, error);
	g_autofree char *why = wdr_option_error(local, entries, global);
	g_autofree char *help = wdr_command(command->name, "--help");
	wdr_error_set(error, WDR_ERROR_USAGE, "%s: %s", command->name, why);
	wdr_error_hint(error, "for its options: %s", help);
	return false;
}

bool wdr_cli_world(const WdrGlobals *globals, WdrWorld **ret, GError **error)
{
	if (!wdr_world_new(globals->bench, ret, error))
		return false;
	wdr_command_use_bench(globals->bench);
	if (globals->verbose)
		g_setenv("G_MESSAGES_DEBUG", "all", TRUE);
	if (!globals->quiet)
		wdr_progress_attach(*ret, globals->no_color);
	return true;
}

WdrOut wdr_cli_stdout(const WdrGlobals *globals)
{
	return wdr_out(stdout, globals->no_color);
}

bool wdr_cli_agree(const char *name, const char *given, const char *what, GError **error)
{
	char answer[4096] = "";
	g_autofree char *base = g_path_get_basename(name);

	if (!given) {
		fflush(stderr);
		if (!fgets(answer, sizeof(answer), stdin))
			*answer = '\0';
		if (!wdr_stop_check(NULL)) {
			fputc('\n', stderr);
			wdr_error_set(error, WDR_ERROR_REFUSED, "cancelled");
			wdr_error_hint(error, "nothing was written");
			return false;
		}
		answer[strcspn(answer, "\n")] = '\0';
		given = answer;
	}
	if (strcmp(given, name) == 0 || strcmp(given, base) == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED, "'%s' is not the name of %s", given, what);
	wdr_error_hint(error, "nothing was written");
	return false;
}

int wdr_cli_fail(const WdrGlobals *globals, const GError *error, int otherwise)
{
	WdrOut out = wdr_out(stderr, globals->no_color);
	int failed = wdr_error_get_errno(error);
	bool lacks_rights = (failed == EACCES || failed == EPERM) && geteuid() != 0;
	const char *said = wdr_error_get_hint(error);
	const char *hint = said ? said : lacks_rights ? "run it with sudo" : NULL;

	wdr_progress_end();
	wdr_out_text(&out, WDR_STYLE_BAD, "wanderitas: %s\n", error->message);
	if (hint) {
		wdr_out_text(&out, WDR_STYLE_PLAIN, "  ");
		wdr_out_hanging(&out, WDR_STYLE_PLAIN, 2, hint);
	}
	return g_error_matches(error, WDR_ERROR, WDR_ERROR_USAGE) ? WDR_EXIT_USAGE : otherwise;
}
