/* Reads config.txt with its sections, filters and includes. */
#include "boot/formats/config.h"

#include <string.h>

/* The firmware cuts a line off behind this many characters. */
enum { LINE_CHARS_MAX = 98 };

/* Kinds of filters: one of a kind replaces the one before. */
typedef enum {
	FILTER_ALL,
	FILTER_NONE,
	FILTER_MODEL,
	FILTER_TRYBOOT,
	FILTER_SERIAL,
	FILTER_GPIO,
	FILTER_DISPLAY,
	FILTER_TYPE,
	FILTER_UNKNOWN,
	FILTERS
} Filter;

static const struct {
	const char *prefix;
	Filter filter;
} filters[] = { { "all", FILTER_ALL }, { "none", FILTER_NONE }, { "tryboot", FILTER_TRYBOOT },
	{ "pi", FILTER_MODEL }, { "cm", FILTER_MODEL }, { "0x", FILTER_SERIAL },
	{ "gpio", FILTER_GPIO }, { "EDID=", FILTER_DISPLAY }, { "HDMI:", FILTER_DISPLAY },
	{ "board-type=", FILTER_TYPE }, { "bootvar", FILTER_TYPE }, { "partition=", FILTER_TYPE },
	{ "boot_", FILTER_TYPE } };

typedef struct {
	const WdrReading *r;
	const char *const *board;
	WdrConfig *config;
	WdrApplies states[FILTERS];
	char *section;
} Parsing;

static void line_free(void *data)
{
	WdrConfigLine *l = data;

	g_free(l->key);
	g_free(l->value);
	g_free(l->section);
	g_free(l);
}

WdrConfig *wdr_config_new(void)
{
	return g_ptr_array_new_with_free_func(line_free);
}

static Filter filter_of(const char *name)
{
	for (size_t i = 0; i < G_N_ELEMENTS(filters); i++) {
		if (g_ascii_strncasecmp(name, filters[i].prefix, strlen(filters[i].prefix)) == 0)
			return filters[i].filter;
	}
	return FILTER_UNKNOWN;
}

static WdrApplies applies(const Parsing *p, Filter filter, const char *name)
{
	if (filter == FILTER_NONE || filter == FILTER_TRYBOOT)
		return WDR_APPLIES_NEVER;
	if (filter != FILTER_MODEL || !p->board)
		return WDR_APPLIES_SOMETIMES;
	for (size_t i = 0; p->board[i]; i++) {
		if (g_ascii_strcasecmp(p->board[i], name) == 0)
			return WDR_APPLIES_ALWAYS;
	}
	return WDR_APPLIES_NEVER;
}

static void take_section(Parsing *p, const WdrLine *line, size_t at)
{
	const char *close = memchr(p->r->text + at, ']', line->end - at);

	if (!close) {
		wdr_reading_warn(p->r, line, at,
			"the section has no ']': the firmware takes the "
			"line for none");
		return;
	}
	g_autofree char *name =
		g_strndup(p->r->text + at + 1, (size_t)(close - p->r->text) - at - 1);
	Filter filter = filter_of(name);
	if (filter == FILTER_ALL) {
		memset(p->states, 0, sizeof(p->states));
		g_clear_pointer(&p->section, g_free);
		return;
	}
	if (filter == FILTER_UNKNOWN)
		wdr_reading_warn(p->r, line, at,
			"the section [%s] is not known; its lines may apply to no board", name);
	p->states[filter] = applies(p, filter, name);
	g_free(p->section);
	p->section = g_strdup_printf("[%s]", name);
}

static WdrApplies state_of(const Parsing *p)
{
	WdrApplies state = WDR_APPLIES_ALWAYS;

	for (size_t i = 0; i < FILTERS; i++)
		state = MAX(state, p->states[i]);
	return state;
}

static void add(Parsing *p, const WdrLine *line, WdrSpan key, WdrSpan value)
{
	WdrConfigLine *l = g_new0(WdrConfigLine, 1);

	l->key = g_strndup(p->r->text + key.at, key.end - key.at);
	l->value = g_strndup(p->r->text + value.at, value.end - value.at);
	l->line = line->number;
	l->column = (unsigned)(key.at - line->start) + 1;
	l->section = g_strdup(p->section ? p->section : "");
	l->applies = state_of(p);
	g_ptr_array_add(p->config, l);
}

static void take_setting(Parsing *p, const WdrLine *line, size_t at)
{
	static const char *const with_blank[] = { "initramfs", "include" };
	const char *text = p->r->text;
	size_t end = wdr_trim_blanks(text, at, line->end);
	WdrSpan word = { at, wdr_word_end(text, at, end) };
	const char *equals = memchr(text + at, '=', end - at);

	for (size_t i = 0; i < G_N_ELEMENTS(with_blank); i++) {
		if (!wdr_word_is(text, word.at, word.end, with_blank[i]))
			continue;
		size_t value = wdr_skip_blanks(text, word.end, end);
		/* "initramfs FILE followkernel": the file is the next word. */
		add(p, line, word, (WdrSpan){ value, wdr_word_end(text, value, end) });
		return;
	}
	if (!equals || text + at == equals) {
		wdr_reading_warn(p->r, line, at, "the line is no KEY=VALUE; the firmware skips it");
		return;
	}
	size_t split = (size_t)(equals - text);
	if (wdr_word_is(text, at, split, "initramfs"))
		wdr_reading_warn(p->r, line, split,
			"initramfs takes a blank, not '=': the firmware loads none from this line");
	else
		add(p, line, (WdrSpan){ at, split }, (WdrSpan){ split + 1, end });
}

void wdr_config_parse(const WdrReading *r, const char *const *board, WdrConfig *ret)
{
	Parsing p = { .r = r, .board = board, .config = ret };

	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		if (at == line.end || r->text[at] == '#')
			continue;
		if (line.end - line.at > LINE_CHARS_MAX)
			wdr_reading_warn(r, &line, line.at + LINE_CHARS_MAX,
				"the firmware cuts the line off here");
		if (r->text[at] == '[')
			take_section(&p, &line, at);
		else
			take_setting(&p, &line, at);
	}
	g_free(p.section);
}

static bool is_on(const char *value)
{
	return g_ascii_strtoull(value, NULL, 10) != 0;
}

WdrConfigMeaning wdr_config_mean(const WdrConfig *config)
{
	WdrConfigMeaning m = { 0 };
	bool is_auto = false;
	bool is_named = false;

	for (guint i = 0; i < config->len; i++) {
		const WdrConfigLine *l = config->pdata[i];
		bool names_one = strcmp(l->key, "initramfs") == 0 && *l->value;
		bool asks_for_one =
			strcmp(l->key, "auto_initramfs") == 0 || strcmp(l->key, "ramfsfile") == 0;
		if (l->applies == WDR_APPLIES_SOMETIMES &&
			(names_one || (asks_for_one && is_on(l->value))))
			m.maybe_initramfs = l;
		if (l->applies != WDR_APPLIES_ALWAYS)
			continue;
		is_named |= names_one;
		if (asks_for_one)
			is_auto = strcmp(l->key, "ramfsfile") == 0 ? *l->value : is_on(l->value);
		else if (strcmp(l->key, "cmdline") == 0)
			m.cmdline = l->value;
		else if (strcmp(l->key, "os_prefix") == 0)
			m.os_prefix = l->value;
	}
	m.has_initramfs = is_auto || is_named;
	if (m.has_initramfs)
		m.maybe_initramfs = NULL;
	return m;
}

bool wdr_config_read(const WdrReading *r, GError **error)
{
	g_autoptr(GPtrArray) config = wdr_config_new();

	(void)error;
	wdr_config_parse(r, NULL, config);
	WdrConfigMeaning m = wdr_config_mean(config);
	if (m.maybe_initramfs)
		g_ptr_array_add(r->warnings,
			g_strdup_printf(
				"%s:%u:%u: an initramfs is loaded in the section %s, but not on every "
				"board: on other boards the kernel must find root without it",
				r->file, m.maybe_initramfs->line, m.maybe_initramfs->column,
				m.maybe_initramfs->section));
	return true;
}

bool wdr_autoboot_read(const WdrReading *r, GError **error)
{
	static const char key[] = "boot_partition=";
	g_autofree char *section = NULL;

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		size_t at = wdr_skip_blanks(r->text, line.at, line.end);
		size_t end = wdr_trim_blanks(r->text, at, line.end);
		if (at < end && r->text[at] == '[') {
			g_free(section);
			section = g_strndup(r->text + at, end - at);
		}
		if (end - at <= strlen(key) || memcmp(r->text + at, key, strlen(key)) != 0)
			continue;
		WdrSpan value = { at + strlen(key), end };
		g_autofree char *number = g_strndup(r->text + value.at, value.end - value.at);
		guint64 partition = 0;
		bool is_whole = strlen(number) == value.end - value.at;
		if (!is_whole ||
			!g_ascii_string_to_unsigned(number, 10, 1, 128, &partition, NULL)) {
			wdr_reading_warn(r, &line, value.at,
				"'%s' is no partition's number; the firmware takes the first FAT "
				"partition",
				number);
			continue;
		}
		WdrMention *m = wdr_reading_add(r, &line, value,
			&(WdrIdentifier){
				.kind = WDR_BY_NUMBER, .value = g_steal_pointer(&number) },
			WDR_USE_BOOT, "boot_partition=");
		m->entry = g_strdup(section);
		m->frozen = "partition numbers stay the same";
	}
	return true;
}

unsigned wdr_autoboot_partition(const char *text, size_t len, bool is_trial)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	const WdrReading r = { "autoboot.txt", text, len, 0, mentions, warnings };
	unsigned found = 0;

	if (!wdr_autoboot_read(&r, NULL))
		return 0;
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		bool is_for_all = !m->entry || strcmp(m->entry, "[all]") == 0;
		bool is_for_trial = m->entry && strcmp(m->entry, "[tryboot]") == 0;
		if (is_for_all || (is_trial && is_for_trial))
			found = (unsigned)g_ascii_strtoull(m->identifier.value, NULL, 10);
	}
	return found;
}
