/* What all commands share: options, help, output streams, errors, the typed answer. */
#include "cli/common/cli.h"

#include "base/command.h"
#include "base/json.h"
#include "base/stop.h"
#include "base/text.h"
#include "cli/common/option_error.h"
#include "cli/common/progress.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

GOptionEntry *wdr_cli_global_entries(WdrGlobals *globals)
{
	const GOptionEntry entries[] = {
		WDR_OPTION("bench", 0, FILENAME, &globals->bench),
		WDR_OPTION("json", 0, NONE, &globals->json),
		WDR_OPTION("quiet", 'q', NONE, &globals->quiet),
		WDR_OPTION("verbose", 'v', NONE, &globals->verbose),
		WDR_OPTION("no-color", 0, NONE, &globals->no_color),
		WDR_OPTION("progress-to", 0, INT, &globals->progress_to),
		WDR_OPTION("version", 'V', NONE, &globals->version),
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
	g_autoptr(GOptionContext) context = g_option_context_new(NULL);
	g_autofree GOptionEntry *global = wdr_cli_global_entries(globals);
	g_autoptr(GError) local = NULL;

	/* main() prints help. */
	g_option_context_set_help_enabled(context, FALSE);
	g_option_context_add_main_entries(context, entries, NULL);
	g_option_context_add_main_entries(context, global, NULL);
	bool is_parsed = g_option_context_parse(context, argc, argv, &local);
	wdr_command_use_bench(globals->bench);
	if (is_parsed)
		return has_no_empty_name(entries, error) && has_no_empty_name(global, error);
	g_autofree char *why = wdr_option_error(local, entries, global);
	g_autofree char *help = wdr_command(command->name, "--help");
	wdr_error_set(error, WDR_ERROR_USAGE, "%s: %s", command->name, why);
	wdr_error_hint(error, "for its options: %s", help);
	return false;
}

/* What --verbose shows: our own lines, and none of a library's. */
static GLogWriterOutput write_log(
	GLogLevelFlags level, const GLogField *fields, gsize n, gpointer data)
{
	const char *message = NULL;
	bool is_ours = true;

	(void)data;
	for (gsize i = 0; i < n; i++) {
		if (strcmp(fields[i].key, "MESSAGE") == 0)
			message = fields[i].value;
		is_ours &= strcmp(fields[i].key, "GLIB_DOMAIN") != 0;
	}
	if (level & ~(GLogLevelFlags)(G_LOG_LEVEL_DEBUG | G_LOG_LEVEL_INFO | G_LOG_FLAG_RECURSION))
		return g_log_writer_default(level, fields, n, NULL);
	if (message && is_ours) {
		WdrOut out = wdr_out(stderr, true);
		wdr_out_text(&out, WDR_STYLE_PLAIN, "  %s\n", message);
	}
	return G_LOG_WRITER_HANDLED;
}

bool wdr_cli_world(const WdrGlobals *globals, WdrWorld **ret, GError **error)
{
	if (!wdr_world_new(globals->bench, ret, error))
		return false;
	wdr_command_use_bench(globals->bench);
	if (globals->verbose)
		g_log_set_writer_func(write_log, NULL, NULL);
	if (globals->progress_to > 0)
		wdr_progress_say(*ret, globals->progress_to);
	else if (!globals->quiet)
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
	if (*given)
		wdr_error_set(error, WDR_ERROR_REFUSED, "'%s' is not the name of %s", given, what);
	else
		wdr_error_set(error, WDR_ERROR_REFUSED, "the name of %s was not typed", what);
	wdr_error_hint(error, "nothing was written");
	return false;
}

static const char *code_name(const GError *error)
{
	static const char *const names[] = {
		[WDR_ERROR_IO] = "io",
		[WDR_ERROR_FORMAT] = "format",
		[WDR_ERROR_UNSUPPORTED] = "unsupported",
		[WDR_ERROR_NO_SPACE] = "no-space",
		[WDR_ERROR_REFUSED] = "refused",
		[WDR_ERROR_USAGE] = "usage",
		[WDR_ERROR_STOPPED] = "stopped",
	};
	bool is_known = error->domain == WDR_ERROR && error->code >= 0 &&
			(size_t)error->code < G_N_ELEMENTS(names);

	return is_known ? names[error->code] : "io";
}

static void print_document(const GError *error, const char *hint, int code)
{
	g_autoptr(json_t) document = json_pack("{s:s, s:{s:s, s:i, s:o, s:o, s:o}}", "format",
		"wanderitas-error/1", "error", "code", code_name(error), "exit_code", code,
		"message", wdr_json_text(error->message), "hint", wdr_json_text(hint), "command",
		wdr_json_text(hint ? wdr_command_in(hint) : NULL));

	wdr_json_print(document, stdout);
}

int wdr_cli_fail_told(const WdrGlobals *globals, const GError *error, int otherwise)
{
	WdrGlobals without = *globals;

	without.json = false;
	return wdr_cli_fail(&without, error, otherwise);
}

int wdr_cli_fail(const WdrGlobals *globals, const GError *error, int otherwise)
{
	WdrOut out = wdr_out(stderr, globals->no_color);
	int failed = wdr_error_get_errno(error);
	bool lacks_rights = (failed == EACCES || failed == EPERM) && geteuid() != 0;
	const char *said = wdr_error_get_hint(error);
	g_autofree char *by_root = lacks_rights ? wdr_command_by_root() : NULL;
	g_autofree char *with_root =
		by_root ? g_strdup_printf("to run it as root: %s", by_root) : NULL;
	const char *hint = said ? said : with_root;

	wdr_progress_end();
	wdr_out_text(&out, WDR_STYLE_BAD, "wanderitas: %s\n", error->message);
	if (hint) {
		wdr_out_text(&out, WDR_STYLE_PLAIN, "  ");
		wdr_out_hanging(&out, WDR_STYLE_PLAIN, 2, hint);
	}
	int code = g_error_matches(error, WDR_ERROR, WDR_ERROR_USAGE) ? WDR_EXIT_USAGE : otherwise;
	if (globals->json)
		print_document(error, hint, code);
	return code;
}
