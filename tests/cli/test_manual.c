/* --help, the lists in the manual, and the completions: made of one text, and true to the program.
 */
#include "bench.h"

#include "base/cleanup.h"

#include <string.h>

Suite *suite_manual(void);

static const char *const commands[] = { "survey", "ready", "draft", "move", "catchup", "rehearse",
	"arrive", "status", "readdress", "rewind", "drivers", "order", "loader", "firmware", "tune",
	"pace", "report", "demo", "roster" };

/* Characters, not bytes. */
static size_t columns_of(const char *line, size_t len)
{
	size_t columns = 0;

	for (size_t i = 0; i < len; i++)
		columns += ((unsigned char)line[i] & 0xc0) != 0x80;
	return columns;
}

static void expect_narrow(const char *text)
{
	for (const char *line = text; *line;) {
		size_t len = strcspn(line, "\n");
		ck_assert_msg(
			columns_of(line, len) <= 80, "wider than 80 columns: %.*s", (int)len, line);
		line += len + (line[len] == '\n');
	}
}

START_TEST(help_fits_a_terminal)
{
	SupRun run = WANDERITAS(commands[_i], "--help");
	SupRun help = WANDERITAS("help", commands[_i]);
	SupRun late = WANDERITAS(commands[_i], "nonsense", "-h");
	g_autofree char *usage = g_strdup_printf("Usage: wanderitas %s", commands[_i]);
	g_autofree char *page = g_strdup_printf("man wanderitas-%s\n", commands[_i]);

	bench_expect(&run, 0, usage);
	bench_expect(&run, 0, "\nExamples:\n  ");
	bench_expect(&run, 0, "\n  3 refused; nothing was changed\n");
	bench_expect(&run, 0, page);
	ck_assert_str_eq(run.err, "");
	expect_narrow(run.out);
	ck_assert_str_eq(run.out, help.out);
	ck_assert_str_eq(run.out, late.out);
}
END_TEST

START_TEST(help_of_the_program_lists_all)
{
	SupRun run = WANDERITAS("--help");
	SupRun help = WANDERITAS("help");
	SupRun of_help = WANDERITAS("help", "--help");

	ck_assert_str_eq(run.out, help.out);
	bench_expect(&of_help, 0, "Usage: wanderitas help [COMMAND]");
	expect_narrow(run.out);
	for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
		g_autofree char *row = g_strdup_printf("\n  %-11s", commands[i]);
		bench_expect(&run, 0, row);
	}
	ck_assert(strstr(run.out, "Look:") < strstr(run.out, "Move:"));
}
END_TEST

/* A value that the option may have; NULL: it takes none. */
static const char *value_for(const char *argument)
{
	static const struct {
		const char *argument, *value;
	} values[] = { { "N", "1" }, { "512|4096", "512" }, { "nvme|usb|sd|emmc", "usb" } };

	if (*argument == '\n' || *argument == '\0')
		return NULL;
	for (size_t i = 0; i < G_N_ELEMENTS(values); i++) {
		if (g_str_has_prefix(argument, values[i].argument))
			return values[i].value;
	}
	return "x";
}

/* One that the help names is taken: what is complained about is the next one. */
static void try_option(const char *command, const char *line)
{
	const char *dashes = strstr(line, "--");
	size_t len = strcspn(dashes, " \n");
	const char *argument = dashes[len] == ' ' && dashes[len + 1] != ' ' ? dashes + len + 1 : "";
	const char *value = value_for(argument);
	g_autofree char *option = g_strndup(dashes, len);
	g_autofree char *word = value ? g_strconcat(option, "=", value, NULL) : g_strdup(option);

	if (strcmp(option, "--help") == 0)
		return;
	SupRun run = WANDERITAS(command, word, "--wings");
	bench_expect(&run, 2, "there is no option '--wings'");
}

START_TEST(options_of_the_help_are_taken)
{
	SupRun run = WANDERITAS(commands[_i], "--help");
	unsigned tried = 0;

	/* Those of every command are tried once. */
	char *global = strstr(run.out, "\nOptions of every command:");
	if (global && _i > 0)
		*global = '\0';
	for (const char *line = run.out; *line; line += strcspn(line, "\n") + 1) {
		bool is_option =
			g_str_has_prefix(line, "      --") ||
			(g_str_has_prefix(line, "  -") && strncmp(line + 4, ", --", 4) == 0);
		if (is_option) {
			try_option(commands[_i], line);
			tried++;
		}
		if (!strchr(line, '\n'))
			break;
	}
	if (_i == 0)
		ck_assert_uint_ge(tried, 10);
}
END_TEST

/* The list for completions is that of the program. */
START_TEST(checks_of_the_manual_are_those_of_the_program)
{
	g_autofree char *manual = sup_read(WDR_TEST_DATA "/../../docs/manual/wanderitas.txt", NULL);
	const char *row = strstr(manual, "@values CHECK ");
	SupRun run = WANDERITAS("move", "--despite", "wings");

	ck_assert_ptr_nonnull(row);
	row += strlen("@values CHECK ");
	g_autofree char *listed = g_strndup(row, strcspn(row, "\n"));
	g_auto(GStrv) words = g_strsplit(listed, " ", -1);
	g_autofree char *said = g_strjoinv(", ", words);
	bench_expect(&run, 2, said);
}
END_TEST

/* The words of a command line, of which the last is completed, and what has to be offered. */
static const struct {
	const char *line, *offered, *not_offered;
} completions[] = {
	{ "wanderitas re", "ready rehearse readdress rewind report ", "move" },
	{ "wanderitas --ben", "--bench ", "--from" },
	{ "wanderitas move --name", "--name-by ", "--renew" },
	{ "wanderitas readdress --re", "--renew ", "--resume" },
	{ "wanderitas move --name-by = p", "partuuid partlabel path ", "keep" },
	{ "wanderitas move --name-by p", "partuuid partlabel path ", "keep" },
	{ "wanderitas --bench b move --what e", "everything ", "root" },
	{ "wanderitas report wings", "wings.json ", "survey" },
	{ "wanderitas move --despite fi", "files first-boot ", "room" },
	{ "wanderitas move --with dri", "drivers ", "loader" },
	{ "wanderitas move --with loader,dri", "loader,drivers ", "order" },
	{ "wanderitas order --first n", "nvme ", "usb" },
	{ "wanderitas help mo", "move ", "status" },
	{ "wanderitas ready --to nv", "nvme0n1 ", "mmcblk0" },
};

START_TEST(words_are_completed)
{
	g_autofree char *build = g_path_get_dirname(sup_program());
	g_autofree char *script = g_strdup_printf(
		"cd '%s'; touch wings.json; wanderitas() { '%s' --bench '%s' \"$@\"; };"
		". '%s/manual/wanderitas.bash';"
		"COMP_WORDS=(%s); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _wanderitas; printf '%%s ' \"${COMPREPLY[@]}\"",
		sup_folder(), sup_program(), bench_path(""), build, completions[_i].line);
	const char *argv[] = { "bash", "-c", script, NULL };
	SupRun run = sup_run("", argv);

	bench_expect(&run, 0, NULL);
	ck_assert_str_eq(run.out, completions[_i].offered);
	ck_assert_ptr_null(strstr(run.out, completions[_i].not_offered));
}
END_TEST

Suite *suite_manual(void)
{
	Suite *s = suite_create("cli/manual");
	TCase *t = tcase_create("manual");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, help_fits_a_terminal, 0, (int)G_N_ELEMENTS(commands));
	tcase_add_test(t, help_of_the_program_lists_all);
	tcase_add_loop_test(t, options_of_the_help_are_taken, 0, (int)G_N_ELEMENTS(commands));
	tcase_add_test(t, checks_of_the_manual_are_those_of_the_program);
	tcase_add_loop_test(t, words_are_completed, 0, (int)G_N_ELEMENTS(completions));
	suite_add_tcase(s, t);
	return s;
}
