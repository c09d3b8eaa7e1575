/* Finds the command that was named and runs it. */
#include "cli/common/cli.h"

#include "base/closest.h"
#include "base/command.h"
#include "cli/common/manual.h"
#include "cli/common/option_error.h"
#include "cli/common/signals.h"
#include "cli/common/version.h"

#include <errno.h>
#include <jansson.h>
#include <langinfo.h>
#include <locale.h>
#include <malloc.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const WdrCommand *const commands[] = { &wdr_cmd_survey, &wdr_cmd_ready, &wdr_cmd_draft,
	&wdr_cmd_move, &wdr_cmd_catchup, &wdr_cmd_arrive, &wdr_cmd_status, &wdr_cmd_rehearse,
	&wdr_cmd_readdress, &wdr_cmd_rewind, &wdr_cmd_drivers, &wdr_cmd_order, &wdr_cmd_loader,
	&wdr_cmd_firmware, &wdr_cmd_tune, &wdr_cmd_pace, &wdr_cmd_report, &wdr_cmd_demo,
	&wdr_cmd_roster };

static bool asks_for_ascii(void)
{
	static const char *const names[] = { "LC_ALL", "LC_CTYPE", "LANG" };

	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		const char *value = g_getenv(names[i]);
		if (value && *value)
			return strcmp(value, "C") == 0 || strcmp(value, "POSIX") == 0;
	}
	return false;
}

static void set_up(void)
{
	wdr_signals_set_up();
	setlocale(LC_ALL, "");
	/* Under sudo and on a console there often is none; names are UTF-8 all the same. Whoever
	 * asks for C gets no more than that. */
	if (strcmp(nl_langinfo(CODESET), "ANSI_X3.4-1968") == 0 && !asks_for_ascii())
		setlocale(LC_CTYPE, "C.UTF-8");
	setlocale(LC_MESSAGES, "C");
	setlocale(LC_NUMERIC, "C");
	json_set_alloc_funcs(g_malloc, g_free);
	/* The file systems that e2fsprogs make and change have this time in them, too. */
	const char *fixed = g_getenv("SOURCE_DATE_EPOCH");
	if (fixed)
		g_setenv("E2FSPROGS_FAKE_TIME", fixed, FALSE);
	/* Buffers go from thread to thread: an arena for each would hold on to what others freed,
	 * and large ones go back to the system at once. */
	mallopt(M_ARENA_MAX, 2);
	mallopt(M_MMAP_THRESHOLD, 64 * 1024);
	/* The walk takes and gives back some hundred KiB again and again: not from the system. */
	mallopt(M_TRIM_THRESHOLD, 1024 * 1024);
	mallopt(M_TOP_PAD, 256 * 1024);
}

/* An answer that did not get out is none. A reader that has seen enough is no failure. */
static int end(int code)
{
	bool had_failed = ferror(stdout) != 0;

	if (fflush(stdout) == 0 && !had_failed)
		return code;
	if (errno == EPIPE)
		return code;
	fprintf(stderr, "wanderitas: writing the output: %s\n", g_strerror(errno));
	return code == WDR_EXIT_DONE || code == WDR_EXIT_FOUND ? WDR_EXIT_STOPPED : code;
}

static const WdrCommand *find(const char *name)
{
	for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
		if (strcmp(name, commands[i]->name) == 0)
			return commands[i];
	}
	return NULL;
}

static int no_command(const WdrGlobals *globals, const char *name)
{
	const char *names[G_N_ELEMENTS(commands) + 2] = { "help" };
	g_autofree char *list = wdr_command("help");
	g_autoptr(GError) error = NULL;

	for (size_t i = 0; i < G_N_ELEMENTS(commands); i++)
		names[i + 1] = commands[i]->name;
	const char *meant = wdr_closest(name, names);
	if (meant)
		wdr_error_set(&error, WDR_ERROR_USAGE,
			"there is no command '%s'; did you mean '%s'?", name, meant);
	else
		wdr_error_set(&error, WDR_ERROR_USAGE, "there is no command '%s'", name);
	if (!meant)
		wdr_error_hint(&error, "to list the commands: %s", list);
	return wdr_cli_fail(globals, error, WDR_EXIT_USAGE);
}

/* "help move" is "move --help". */
static int help(const WdrGlobals *globals, const char *name)
{
	return wdr_manual_print(name) ? WDR_EXIT_DONE : no_command(globals, name);
}

/* How advice begins: a program that was started by its path is started so again. */
static void begin_advice(char **argv)
{
	/* GLib takes options away from argv. */
	static char **words;
	words = g_strdupv(argv + 1);
	const WdrCall call = { strchr(argv[0], '/') ? argv[0] : "wanderitas", NULL, geteuid() != 0,
		(const char *const *)words };

	wdr_command_begin_with(&call);
}

/* What changes how everything else is taken, an error of the words before it too. */
static void look_ahead(int argc, char **argv, WdrGlobals *globals, bool *ret_wants_help)
{
	for (int i = 1; i < argc && strcmp(argv[i], "--") != 0; i++) {
		globals->json |= strcmp(argv[i], "--json") == 0;
		*ret_wants_help |= strcmp(argv[i], "--help") == 0 || strcmp(argv[i], "-h") == 0;
	}
}

/* Options before the command may be unknown where --help is among them. */
static const char *first_word(int argc, char **argv)
{
	for (int i = 1; i < argc; i++) {
		if (*argv[i] != '-')
			return argv[i];
	}
	return "wanderitas";
}

static int run(int argc, char **argv, WdrGlobals *globals, bool wants_help)
{
	static char *status[] = { (char *)(uintptr_t) "status", NULL };
	const char *name = argc > 1 ? argv[1] : NULL;
	const WdrCommand *command = name ? find(name) : NULL;

	if (globals->version) {
		wdr_print_version();
		return WDR_EXIT_DONE;
	}
	if (wants_help)
		return help(globals, first_word(argc, argv));
	if (name && strcmp(name, "help") == 0)
		return help(globals, argc > 2 ? argv[2] : "wanderitas");
	if (command)
		return command->run(globals, argc - 1, argv + 1);
	return name ? no_command(globals, name) : wdr_cmd_status.run(globals, 1, status);
}

int main(int argc, char **argv)
{
	static WdrGlobals globals; /* its texts live as long as the program */
	g_autofree GOptionEntry *entries = wdr_cli_global_entries(&globals);
	g_autoptr(GOptionContext) context = g_option_context_new(NULL);
	g_autoptr(GError) error = NULL;
	g_autoptr(GError) wrong = NULL;
	bool wants_help = false;

	begin_advice(argv);
	set_up();
	look_ahead(argc, argv, &globals, &wants_help);
	/* Up to the command: its options are its own. */
	g_option_context_set_strict_posix(context, TRUE);
	g_option_context_set_help_enabled(context, FALSE);
	g_option_context_set_ignore_unknown_options(context, wants_help);
	g_option_context_add_main_entries(context, entries, NULL);
	if (g_option_context_parse(context, &argc, &argv, &error))
		return end(run(argc, argv, &globals, wants_help));
	g_autofree char *why = wdr_option_error(error, NULL, entries);
	wdr_error_set(&wrong, WDR_ERROR_USAGE, "%s", why);
	return end(wdr_cli_fail(&globals, wrong, WDR_EXIT_USAGE));
}
