/* Unified diffs. */
#include "boot/formats/edit.h"

#include "base/text.h"

#include <string.h>

/* Beyond this many pairs of lines a changed middle is shown as one block: still true, less neat. */
enum { CONTEXT = 3, PAIRS_MAX = 4 * 1024 * 1024 };

typedef struct {
	const char *text;
	size_t len; /* without the line end */
} Line;

/* One line of the result: ' ', '-' or '+'. */
typedef struct {
	char mark;
	const Line *line;
} Step;

static GArray *lines_of(const char *text, size_t len)
{
	GArray *lines = g_array_new(FALSE, FALSE, sizeof(Line));

	for (size_t at = 0; at < len;) {
		const char *newline = memchr(text + at, '\n', len - at);
		size_t end = newline ? (size_t)(newline - text) : len;
		Line line = { text + at, end - at };
		g_array_append_val(lines, line);
		at = end + 1;
	}
	return lines;
}

static const Line *line_at(const GArray *lines, guint i)
{
	return &g_array_index(lines, Line, i);
}

static bool same_line(const Line *x, const Line *y)
{
	return x->len == y->len && memcmp(x->text, y->text, x->len) == 0;
}

static void put(GArray *steps, char mark, const GArray *lines, guint from, guint to)
{
	for (guint i = from; i < to; i++) {
		Step s = { mark, line_at(lines, i) };
		g_array_append_val(steps, s);
	}
}

/* Lines of one of the two texts. */
typedef struct {
	const GArray *lines;
	guint from, to;
} Side;

/* The middle, by the longest common subsequence: length[i][j] is that of a[i..] and b[j..]. */
static void put_middle(GArray *steps, const Side *x, const Side *y)
{
	const GArray *a = x->lines;
	const GArray *b = y->lines;
	guint a0 = x->from;
	guint a1 = x->to;
	guint b0 = y->from;
	guint b1 = y->to;
	guint n = a1 - a0;
	guint m = b1 - b0;

	if (n == 0 || m == 0 || (uint64_t)n * m > PAIRS_MAX) {
		put(steps, '-', a, a0, a1);
		put(steps, '+', b, b0, b1);
		return;
	}
	g_autofree uint32_t *length = g_new0(uint32_t, (size_t)(n + 1) * (m + 1));
	for (guint i = n; i-- > 0;) {
		for (guint j = m; j-- > 0;) {
			uint32_t down = length[(size_t)(i + 1) * (m + 1) + j];
			uint32_t right = length[(size_t)i * (m + 1) + j + 1];
			length[(size_t)i * (m + 1) + j] =
				same_line(line_at(a, a0 + i), line_at(b, b0 + j))
					? length[(size_t)(i + 1) * (m + 1) + j + 1] + 1
					: MAX(down, right);
		}
	}
	guint i = 0;
	guint j = 0;
	while (i < n && j < m) {
		uint32_t down = length[(size_t)(i + 1) * (m + 1) + j];
		uint32_t right = length[(size_t)i * (m + 1) + j + 1];
		bool is_same = same_line(line_at(a, a0 + i), line_at(b, b0 + j));
		if (is_same)
			put(steps, ' ', a, a0 + i, a0 + i + 1);
		else if (down >= right)
			put(steps, '-', a, a0 + i, a0 + i + 1);
		else
			put(steps, '+', b, b0 + j, b0 + j + 1);
		i += is_same || down >= right ? 1 : 0;
		j += is_same || down < right ? 1 : 0;
	}
	put(steps, '-', a, a0 + i, a1);
	put(steps, '+', b, b0 + j, b1);
}

/* Old lines before new ones in each run of changes. */
static void order_runs(GArray *steps)
{
	for (guint i = 0; i < steps->len;) {
		guint end = i;
		while (end < steps->len && g_array_index(steps, Step, end).mark != ' ')
			end++;
		g_autoptr(GArray) sorted = g_array_new(FALSE, FALSE, sizeof(Step));
		for (const char *mark = "-+"; *mark; mark++) {
			for (guint k = i; k < end; k++) {
				if (g_array_index(steps, Step, k).mark == *mark)
					g_array_append_vals(
						sorted, &g_array_index(steps, Step, k), 1);
			}
		}
		if (end > i)
			memcpy(&g_array_index(steps, Step, i), sorted->data,
				sorted->len * sizeof(Step));
		i = end + 1;
	}
}

static void put_hunk(GString *out, const GArray *steps, guint from, guint to)
{
	guint old_line = 1, new_line = 1, old_count = 0, new_count = 0;

	for (guint i = 0; i < to; i++) {
		char mark = g_array_index(steps, Step, i).mark;
		if (i < from) {
			old_line += mark != '+' ? 1 : 0;
			new_line += mark != '-' ? 1 : 0;
		} else {
			old_count += mark != '+' ? 1 : 0;
			new_count += mark != '-' ? 1 : 0;
		}
	}
	g_string_append_printf(
		out, "@@ -%u,%u +%u,%u @@\n", old_line, old_count, new_line, new_count);
	for (guint i = from; i < to; i++) {
		const Step *s = &g_array_index(steps, Step, i);
		g_autofree char *shown = wdr_escape_line(s->line->text, s->line->len);
		g_string_append_printf(out, "%c%s\n", s->mark, shown);
	}
}

static void put_hunks(GString *out, const GArray *steps)
{
	for (guint i = 0; i < steps->len; i++) {
		if (g_array_index(steps, Step, i).mark == ' ')
			continue;
		guint from = i > CONTEXT ? i - CONTEXT : 0;
		guint last = i;
		for (guint k = i; k < steps->len && k <= last + 2 * CONTEXT; k++)
			last = g_array_index(steps, Step, k).mark == ' ' ? last : k;
		guint to = MIN(last + CONTEXT + 1, steps->len);
		put_hunk(out, steps, from, to);
		i = to - 1;
	}
}

char *wdr_diff(const char *name, const char *old_text, size_t old_len, const char *new_text,
	size_t new_len)
{
	g_autoptr(GArray) a = lines_of(old_text, old_len);
	g_autoptr(GArray) b = lines_of(new_text, new_len);
	g_autoptr(GArray) steps = g_array_new(FALSE, FALSE, sizeof(Step));
	GString *out = g_string_new(NULL);
	guint head = 0;
	guint tail = 0;

	while (head < a->len && head < b->len && same_line(line_at(a, head), line_at(b, head)))
		head++;
	while (tail < a->len - head && tail < b->len - head &&
		same_line(line_at(a, a->len - 1 - tail), line_at(b, b->len - 1 - tail)))
		tail++;
	put(steps, ' ', a, 0, head);
	put_middle(steps, &(Side){ a, head, a->len - tail }, &(Side){ b, head, b->len - tail });
	put(steps, ' ', a, a->len - tail, a->len);
	order_runs(steps);
	g_autofree char *shown = wdr_escape_line(name, strlen(name));
	g_string_append_printf(out, "--- %s\n+++ %s\n", shown, shown);
	put_hunks(out, steps);
	return g_string_free(out, FALSE);
}
