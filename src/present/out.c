/* Text output: styles, colours, widths, tables. */
#include "present/out.h"

#include "base/command.h"
#include "base/text.h"

#include <langinfo.h>
#include <libsmartcols.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

typedef struct {
	WdrStyle style;
	char **cells;
	char *section; /* the line above it; NULL: none */
} Row;

struct WdrGrid {
	const WdrColumn *columns;
	size_t n;
	GPtrArray *rows;
	char *section; /* for the next row */
};

static const char *const escapes[] = { "", "\033[1m", "\033[32m", "\033[33m", "\033[31m",
	"\033[2m" };
static const char *const color_names[] = { NULL, NULL, "green", "brown", "red", NULL };

/* Text that is wider is hard to read; a table may be as wide as the terminal. */
enum { COLUMNS_MAX = 120, COLUMNS_OTHERWISE = 100 };

static unsigned columns_of(FILE *file, unsigned most)
{
	struct winsize size = { 0 };

	if (ioctl(fileno(file), TIOCGWINSZ, &size) != 0 || size.ws_col == 0)
		return COLUMNS_OTHERWISE;
	return MIN(size.ws_col, most);
}

WdrOut wdr_out(FILE *file, bool no_color)
{
	const char *never = g_getenv("NO_COLOR");
	bool is_terminal = isatty(fileno(file));
	bool is_dumb = g_strcmp0(g_getenv("TERM"), "dumb") == 0;

	return (WdrOut){ file, !no_color && !(never && *never) && is_terminal && !is_dumb,
		is_terminal ? columns_of(file, COLUMNS_MAX) : 0 };
}

static void (*before_output)(void);

void wdr_out_before(void (*call)(void))
{
	before_output = call;
}

/* Whatever a text came by, a terminal gets no orders from it. */
static void put_lines(FILE *file, const char *text)
{
	for (const char *at = text; *at;) {
		size_t len = strcspn(at, "\n");
		g_autofree char *line = wdr_escape_line(at, len);
		fputs(line, file);
		at += len;
		if (*at == '\n')
			fputc(*at++, file);
	}
}

void wdr_out_text(const WdrOut *out, WdrStyle style, const char *format, ...)
{
	va_list args;
	bool is_styled = out->has_color && style != WDR_STYLE_PLAIN;

	if (before_output)
		before_output();
	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	if (is_styled)
		fputs(escapes[style], out->file);
	put_lines(out->file, text);
	if (is_styled)
		fputs("\033[0m", out->file);
}

/* How much of the text comes into the line: up to a blank, or a word that is longer than it. */
static size_t line_of(const char *text, size_t room)
{
	size_t len = strlen(text);
	size_t at = MIN(len, room);

	if (len <= room)
		return len;
	while (at > 0 && text[at] != ' ')
		at--;
	return at > 0 ? at : strcspn(text, " ");
}

static void hang(const WdrOut *out, WdrStyle style, unsigned indent, const char *text)
{
	size_t room = out->columns > 2 * indent ? out->columns - indent : G_MAXUINT;

	for (;;) {
		size_t len = line_of(text, room);
		wdr_out_text(out, style, "%.*s\n", (int)len, text);
		text += len + strspn(text + len, " ");
		if (!*text)
			return;
		wdr_out_text(out, WDR_STYLE_PLAIN, "%*s", (int)indent, "");
	}
}

/* A command at the end has a line of its own where it does not fit behind the words, and is never
 * broken: whoever pastes two lines runs half of it. */
void wdr_out_hanging(const WdrOut *out, WdrStyle style, unsigned indent, const char *text)
{
	const char *command = wdr_command_in(text);
	bool fits = out->columns == 0 || indent + strlen(text) <= out->columns;

	if (!command || fits) {
		hang(out, style, indent, text);
		return;
	}
	g_autofree char *before = g_strchomp(g_strndup(text, (size_t)(command - text)));
	if (*before) {
		hang(out, style, indent, before);
		wdr_out_text(out, WDR_STYLE_PLAIN, "%*s", (int)indent, "");
	}
	wdr_out_text(out, style, "%s\n", command);
}

static void row_free(void *data)
{
	Row *row = data;

	g_strfreev(row->cells);
	g_free(row->section);
	g_free(row);
}

WdrGrid *wdr_grid_new(const WdrColumn *columns, size_t n)
{
	WdrGrid *g = g_new0(WdrGrid, 1);

	g->columns = columns;
	g->n = n;
	g->rows = g_ptr_array_new_with_free_func(row_free);
	return g;
}

void wdr_grid_free(WdrGrid *g)
{
	if (!g)
		return;
	g_ptr_array_unref(g->rows);
	g_free(g->section);
	g_free(g);
}

void wdr_grid_row(WdrGrid *g, WdrStyle style, const char *const *cells)
{
	Row *row = g_new0(Row, 1);

	row->style = style;
	row->section = g_steal_pointer(&g->section);
	row->cells = g_new0(char *, g->n + 1);
	for (size_t i = 0; i < g->n; i++) {
		const char *cell = cells[i] ? cells[i] : "";
		row->cells[i] = wdr_escape_line(cell, strlen(cell));
	}
	g_ptr_array_add(g->rows, row);
}

static bool is_used(const WdrGrid *g, size_t column)
{
	for (guint i = 0; i < g->rows->len; i++) {
		const Row *row = g->rows->pdata[i];
		if (*row->cells[column])
			return true;
	}
	return false;
}

static void add_columns(struct libscols_table *t, const WdrGrid *g, const WdrOut *out)
{
	for (size_t i = 0; i < g->n; i++) {
		if (!is_used(g, i))
			continue;
		struct libscols_column *c = scols_table_new_column(t, g->columns[i].header, 0,
			g->columns[i].is_number ? SCOLS_FL_RIGHT : SCOLS_FL_WRAP);
		if (!c)
			continue;
		if (!g->columns[i].is_number)
			scols_column_set_wrapfunc(
				c, scols_wrapnl_chunksize, scols_wrapnl_nextchunk, NULL);
		if (out->has_color)
			scols_cell_set_color(scols_column_get_header(c), "bold");
	}
}

static void add_row(struct libscols_table *t, const WdrGrid *g, const Row *row, const WdrOut *out,
	const size_t *widths)
{
	struct libscols_line *line = scols_table_new_line(t, NULL);
	size_t at = 0;

	for (size_t i = 0; line && i < g->n; i++) {
		if (!is_used(g, i))
			continue;
		g_autofree char *wrapped = wdr_wrap_words(row->cells[i], widths[i]);
		scols_line_set_data(line, at++, wrapped);
	}
	if (line && out->has_color && color_names[row->style])
		scols_line_set_color(line, color_names[row->style]);
}

/* ---- tables on a narrow terminal ---- */

static size_t width_of(const char *text)
{
	glong length = g_utf8_strlen(text, -1);

	return length > 0 ? (size_t)length : 0;
}

static size_t longest_word(const char *text)
{
	g_auto(GStrv) words = g_strsplit(text, " ", -1);
	size_t longest = 0;

	for (size_t i = 0; words[i]; i++)
		longest = MAX(longest, width_of(words[i]));
	return longest;
}

/* The widest column that is wider than it must be; n: there is none. */
static size_t widest(const size_t *widths, const size_t *least, size_t n)
{
	size_t found = n;

	for (size_t i = 0; i < n; i++) {
		if (widths[i] > least[i] && (found == n || widths[i] > widths[found]))
			found = i;
	}
	return found;
}

/* Takes from the widest columns what is too much, as long as whole words fit; then from any text.
 */
static void fit_widths(const WdrGrid *g, size_t columns, size_t *widths, size_t *least)
{
	enum { NARROWEST = 8 };
	size_t used = 0;
	size_t total = 0;

	for (size_t i = 0; i < g->n; i++) {
		total += widths[i];
		used += widths[i] ? 1 : 0;
	}
	total += used > 0 ? 2 * (used - 1) : 0;
	for (int pass = 0; pass < 2; pass++) {
		for (size_t i; total > columns && (i = widest(widths, least, g->n)) < g->n; total--)
			widths[i]--;
		for (size_t i = 0; i < g->n; i++) {
			if (!g->columns[i].is_number)
				least[i] = MIN(
					least[i], MAX(NARROWEST, width_of(g->columns[i].header)));
		}
	}
}

/* How wide the text of each column may be. `columns` 0: as wide as it is. */
static size_t *widths_of(const WdrGrid *g, size_t columns)
{
	size_t *widths = g_new0(size_t, g->n);
	g_autofree size_t *least = g_new0(size_t, g->n);

	for (size_t i = 0; i < g->n; i++) {
		bool is_seen = is_used(g, i);
		least[i] = widths[i] = is_seen ? width_of(g->columns[i].header) : 0;
		for (guint k = 0; is_seen && k < g->rows->len; k++) {
			const char *cell = ((const Row *)g->rows->pdata[k])->cells[i];
			widths[i] = MAX(widths[i], width_of(cell));
			least[i] = MAX(least[i],
				g->columns[i].is_number ? width_of(cell) : longest_word(cell));
		}
	}
	if (columns > 0)
		fit_widths(g, columns, widths, least);
	return widths;
}

void wdr_grid_section(WdrGrid *g, const char *text)
{
	g_free(g->section);
	g->section = g_strdup(text);
}

/* The lines from one section's heading to the next: a row may take several lines of the terminal.
 */
static bool print_rows(
	struct libscols_table *t, const WdrOut *out, const char *section, guint from, guint to)
{
	struct libscols_line *first = scols_table_get_line(t, from);
	struct libscols_line *last = scols_table_get_line(t, to);
	char *text = NULL;

	if (scols_table_print_range_to_string(t, first, last, &text) != 0)
		return false;
	/* The header comes with the first row. */
	char *rest = from == 0 ? strchr(text, '\n') : NULL;
	if (rest)
		fprintf(out->file, "%.*s\n", (int)(rest - text), text);
	if (section)
		wdr_out_text(out, WDR_STYLE_HEADING, "%s\n", section);
	const char *rows = rest ? rest + 1 : text;
	size_t len = strlen(rows);
	if (len > 0)
		fprintf(out->file, "%s%s", rows, rows[len - 1] == '\n' ? "" : "\n");
	free(text);
	return true;
}

static void print_all(const WdrGrid *g, struct libscols_table *t, const WdrOut *out)
{
	guint from = 0;

	for (guint i = 1; i <= g->rows->len; i++) {
		const Row *next = i < g->rows->len ? g->rows->pdata[i] : NULL;
		const Row *row = g->rows->pdata[from];
		if (next && !next->section)
			continue;
		if (!print_rows(t, out, row->section, from, i - 1))
			return;
		from = i;
	}
}

void wdr_grid_print(WdrGrid *g, const WdrOut *out)
{
	struct libscols_table *t = scols_new_table();

	if (!t)
		g_error("out of memory");
	if (before_output)
		before_output();
	scols_table_enable_colors(t, out->has_color ? 1 : 0);
	scols_table_set_column_separator(t, "  ");
	/* Cells are escaped by us, and once is enough. Where the locale has no UTF-8,
	 * libsmartcols 2.38 never tries the end of text that it is not to encode. */
	scols_table_enable_noencoding(t, strcmp(nl_langinfo(CODESET), "UTF-8") == 0);
	/* A cell that was cut off to fit the terminal would be a mark nobody sees: wide ones wrap.
	 */
	scols_table_set_termforce(t, out->columns ? SCOLS_TERMFORCE_ALWAYS : SCOLS_TERMFORCE_NEVER);
	if (out->columns)
		scols_table_set_termwidth(t, out->columns);
	add_columns(t, g, out);
	g_autofree size_t *widths =
		widths_of(g, out->columns ? columns_of(out->file, G_MAXUINT) : 0);
	for (guint i = 0; i < g->rows->len; i++)
		add_row(t, g, g->rows->pdata[i], out, widths);
	print_all(g, t, out);
	scols_unref_table(t);
}
