/* Finds the command that was named and runs it. */
#include "cli/cli.h"

#include "base/closest.h"
#include "base/command.h"
#include "cli/option_error.h"
#include "cli/signals.h"
#include "cli/version.h"

#include <errno.h>
#include <jansson.h>
#include <langinfo.h>
#include <locale.h>
#include <malloc.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const WdrCommand *const commands[] = { &wdr_cmd_survey, &wdr_cmd_ready, &wdr_cmd_draft,
	&wdr_cmd_move, &wdr_cmd_catchup, &wdr_cmd_arrive, &wdr_cmd_rehearse, &wdr_cmd_readdress,
	&wdr_cmd_rewind, &wdr_cmd_drivers, &wdr_cmd_order, &wdr_cmd_loader, &wdr_cmd_firmware,
	&wdr_cmd_tune, &wdr_cmd_pace, &wdr_cmd_report, &wdr_cmd_demo };

static char *command_list(void)
{
	static const char *const titles[] = { "Look:", "Move:", "After and around:" };
	GString *text = g_string_new(NULL);

	for (size_t group = 0; group < G_N_ELEMENTS(titles); group++) {
		size_t had = text->len;
		for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
			if (commands[i]->group == group)
				g_string_append_printf(text, "  %-9s %s\n", commands[i]->name,
					commands[i]->summary);
		}
		if (text->len > had) {
			g_string_insert(text, (gssize)had, "\n");
			g_string_insert(text, (gssize)had, titles[group]);
			g_string_append_c(text, '\n');
		}
	}
	g_string_append(text, "For the options of a command: wanderitas help COMMAND");
	return g_string_free(text, FALSE);
}

static void set_up(void)
{
	wdr_signals_set_up();
	setlocale(LC_ALL, "");
	/* Under sudo and on a console there often is none; names are UTF-8 all the same. */
	if (strcmp(nl_langinfo(CODESET), "ANSI_X3.4-1968") == 0)
		setlocale(LC_CTYPE, "C.UTF-8");
	setlocale(LC_MESSAGES, "C");
	setlocale(LC_NUMERIC, "C");
	json_set_alloc_funcs(g_malloc, g_free);
	/* Buffers go from thread to thread: an arena for each would hold on to what others freed,
	 * and large ones go back to the system at once. */
	mallopt(M_ARENA_MAX, 2);
	mallopt(M_MMAP_THRESHOLD, 64 * 1024);
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

static int no_command(const char *name, const char *list)
{
	const char *names[G_N_ELEMENTS(commands) + 1] = { NULL };

	for (size_t i = 0; i < G_N_ELEMENTS(commands); i++)
		names[i] = commands[i]->name;
	const char *meant = name ? wdr_closest(name, names) : NULL;
	if (!name)
		fprintf(stderr, "wanderitas: no command given\n\n%s\n", list);
	else if (meant)
		fprintf(stderr, "wanderitas: there is no command '%s'; did you mean '%s'?\n", name,
			meant);
	else
		fprintf(stderr, "wanderitas: there is no command '%s'\n\n%s\n", name, list);
	return WDR_EXIT_USAGE;
}

/* "help move" is "move --help". */
static int help(const char *name, WdrGlobals *globals, GOptionContext *context, const char *list)
{
	const WdrCommand *command = name ? find(name) : NULL;
	char *words[] = { (char *)(uintptr_t)name, (char *)(uintptr_t) "--help", NULL };

	if (command)
		return command->run(globals, 2, words);
	if (name)
		return no_command(name, list);
	g_autofree char *text = g_option_context_get_help(context, TRUE, NULL);
	fputs(text, stdout);
	return WDR_EXIT_DONE;
}

/* How advice begins: a program that was started by its path is started so again. */
static void begin_advice(const char *program)
{
	const WdrCall call = { strchr(program, '/') ? program : "wanderitas", NULL,
		geteuid() != 0 };

	wdr_command_begin_with(&call);
}

static int run(
	int argc, char **argv, WdrGlobals *globals, GOptionContext *context, const char *list)
{
	const WdrCommand *command = argc > 1 ? find(argv[1]) : NULL;

	if (globals->version) {
		wdr_print_version();
		return WDR_EXIT_DONE;
	}
	if (command)
		return command->run(globals, argc - 1, argv + 1);
	if (argc > 1 && strcmp(argv[1], "help") == 0)
		return help(argc > 2 ? argv[2] : NULL, globals, context, list);
	return no_command(argc > 1 ? argv[1] : NULL, list);
}

int main(int argc, char **argv)
{
	g_autofree char *list = command_list();
	static WdrGlobals globals; /* its texts live as long as the program */
	g_autofree GOptionEntry *entries = wdr_cli_global_entries(&globals);
	g_autoptr(GOptionContext) context = g_option_context_new("COMMAND …");
	g_autoptr(GError) error = NULL;

	begin_advice(argv[0]);
	set_up();
	g_option_context_set_strict_posix(context, TRUE);
	g_option_context_set_summary(
		context, "Moves a single-board computer's system from one disk to another.");
	g_option_context_set_description(context, list);
	g_option_context_add_main_entries(context, entries, NULL);
	if (g_option_context_parse(context, &argc, &argv, &error))
		return end(run(argc, argv, &globals, context, list));
	g_autofree char *why = wdr_option_error(error, NULL, entries);
	fprintf(stderr, "wanderitas: %s\n", why);
	return WDR_EXIT_USAGE;
}
