/* Finds the command that was named and runs it. */
#include "cli/cli.h"

#include "cli/signals.h"
#include "cli/version.h"

#include <errno.h>
#include <jansson.h>
#include <langinfo.h>
#include <locale.h>
#include <malloc.h>
#include <stdlib.h>
#include <string.h>

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
	g_string_append(text, "'wanderitas COMMAND --help' tells a command's options.");
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

int main(int argc, char **argv)
{
	g_autofree char *list = command_list();
	static WdrGlobals globals; /* its texts live as long as the program */
	g_autofree GOptionEntry *entries = wdr_cli_global_entries(&globals);
	g_autoptr(GOptionContext) context = g_option_context_new("COMMAND …");
	g_autoptr(GError) error = NULL;

	set_up();
	g_option_context_set_strict_posix(context, TRUE);
	g_option_context_set_summary(
		context, "Moves a single-board computer's system from one disk to another.");
	g_option_context_set_description(context, list);
	g_option_context_add_main_entries(context, entries, NULL);
	if (!g_option_context_parse(context, &argc, &argv, &error))
		return wdr_cli_fail(&globals, error, WDR_EXIT_USAGE);
	if (globals.version) {
		wdr_print_version();
		return end(WDR_EXIT_DONE);
	}
	for (size_t i = 0; argc > 1 && i < G_N_ELEMENTS(commands); i++) {
		if (strcmp(argv[1], commands[i]->name) == 0)
			return end(commands[i]->run(&globals, argc - 1, argv + 1));
	}
	fprintf(stderr, "wanderitas: %s%s%s\n\n%s\n",
		argc > 1 ? "there is no command '" : "which command?", argc > 1 ? argv[1] : "",
		argc > 1 ? "'" : "", list);
	return WDR_EXIT_USAGE;
}
