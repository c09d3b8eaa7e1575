/* Builds the commands that advice ends in. */
#include "base/command.h"

#include <string.h>

static WdrCall call = { "wanderitas", NULL, false, NULL };

void wdr_command_begin_with(const WdrCall *begins)
{
	call = *begins;
}

const char *wdr_command_program(void)
{
	return call.program;
}

void wdr_command_use_bench(const char *bench)
{
	call.bench = bench;
}

char *wdr_shell_word(const char *word)
{
	static const char plain[] =
		"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+=:,./-";
	bool is_plain = *word && strspn(word, plain) == strlen(word);

	return is_plain ? g_strdup(word) : g_shell_quote(word);
}

static void add(GString *line, const char *word)
{
	g_autofree char *quoted = wdr_shell_word(word);

	g_string_append_printf(line, "%s%s", line->len ? " " : "", quoted);
}

const char *wdr_command_in(const char *text)
{
	g_autofree char *program = wdr_shell_word(call.program);
	g_autofree char *by_root = g_strconcat("sudo ", program, " ", NULL);
	g_autofree char *plain = g_strconcat(program, " ", NULL);
	const char *const begins[] = { by_root, plain };

	for (size_t i = 0; i < G_N_ELEMENTS(begins); i++) {
		const char *found = strstr(text, begins[i]);
		if (found && (found == text || found[-1] == ' '))
			return found;
	}
	return NULL;
}

/* Help and a bench are for everybody, and whoever owns an image file needs no root for it. */
static bool needs_root(const char *const *words)
{
	bool is_for_all = strcmp(words[0], "demo") == 0;

	for (size_t i = 0; words[i]; i++)
		is_for_all |= strcmp(words[i], "--help") == 0 ||
			      g_file_test(words[i], G_FILE_TEST_IS_REGULAR);
	return !is_for_all;
}

static void add_words(GString *line, const char *const *words)
{
	for (size_t i = 0; words[i]; i++) {
		if (*words[i])
			add(line, words[i]);
	}
}

char *wdr_command_of(const char *const *words)
{
	GString *line = g_string_new(NULL);

	if (call.lacks_root && !call.bench && needs_root(words))
		add(line, "sudo");
	add(line, call.program);
	if (call.bench) {
		add(line, "--bench");
		add(line, call.bench);
	}
	add_words(line, words);
	return g_string_free(line, FALSE);
}

/* How many words of the call, from this one on, say otherwise than an option that is added behind
 * them: "--table mbr" and "--table=mbr" before "--table gpt". --despite can be given more than
 * once.
 */
static size_t overruled(const char *const *words, const char *const *more)
{
	const char *option = more[0];
	size_t len = option ? strlen(option) : 0;

	if (!option || !more[1] || strcmp(option, "--despite") == 0 ||
		strcmp(option, "--pause") == 0 || strncmp(words[0], option, len) != 0)
		return 0;
	if (words[0][len] == '=')
		return 1;
	return words[0][len] == '\0' && words[1] ? 2 : 0;
}

/* The bench is among the words, and an empty one was given on purpose. */
static void add_call(
	GString *line, const char *without, const char *instead, const char *const *more)
{
	add(line, call.program);
	for (size_t i = 0; call.words && call.words[i];) {
		size_t skipped = overruled(&call.words[i], more);
		bool is_left_out = g_strcmp0(call.words[i], without) == 0;
		if (skipped == 0 && !is_left_out)
			add(line, call.words[i]);
		else if (is_left_out && instead)
			add(line, instead);
		i += MAX(skipped, 1);
	}
}

static char *again(const char *without, const char *instead, const char *const *more)
{
	GString *line = g_string_new(NULL);

	if (call.lacks_root && !call.bench && call.words && call.words[0] && needs_root(call.words))
		add(line, "sudo");
	add_call(line, without, instead, more);
	add_words(line, more);
	return g_string_free(line, FALSE);
}

char *wdr_command_again_with(const char *const *more)
{
	return again(NULL, NULL, more);
}

char *wdr_command_again_without(const char *word)
{
	return again(word, NULL, (const char *const[]){ NULL });
}

char *wdr_command_instead(const char *word, const char *other)
{
	return again(word, other, (const char *const[]){ NULL });
}

char *wdr_system_command_of(const char *const *words)
{
	GString *line = g_string_new(NULL);

	if (call.lacks_root)
		add(line, "sudo");
	add_words(line, words);
	return g_string_free(line, FALSE);
}

char *wdr_command_by_root(void)
{
	GString *line = g_string_new("sudo");

	add_call(line, NULL, NULL, (const char *const[]){ NULL });
	return g_string_free(line, FALSE);
}
