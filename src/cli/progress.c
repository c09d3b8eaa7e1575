/* The progress line: bytes on the medium, rate, time left. */
#include "cli/progress.h"

#include "base/text.h"
#include "present/out.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

enum { PLAIN_EVERY_S = 5, BAR_CELLS = 20, LINE_CELLS = 99 };

/* There is one stderr, and one line at its end. */
static struct {
	WdrOut out;
	bool is_terminal, is_open;
	double step_begun, last_plain;
} line;

static double now_s(void)
{
	return (double)g_get_monotonic_time() / G_USEC_PER_SEC;
}

void wdr_progress_end(void)
{
	if (line.is_open)
		fputs("\r\033[K", stderr);
	line.is_open = false;
}

static double share_of(const WdrProgress *p)
{
	return p->bytes_total ? (double)p->bytes_done / (double)p->bytes_total : p->share;
}

static char *timed_text(const WdrProgress *p)
{
	g_autofree char *rate = p->bytes_per_s > 0
					? g_strdup_printf("  %.1f MB/s", p->bytes_per_s / 1e6)
					: g_strdup("");

	return g_strdup_printf("%3.0f %%%s", p->share * 100, rate);
}

char *wdr_progress_text(const WdrProgress *p, double seconds)
{
	double share = share_of(p);
	double rate = seconds > 0.2 ? (double)p->bytes_done / seconds : 0;
	g_autofree char *done = wdr_format_size(p->bytes_done);
	g_autofree char *total = wdr_format_size(p->bytes_total);
	GString *text = g_string_new(NULL);

	g_string_append_printf(text,
		"%3.0f %%  %s of %s  %" G_GUINT64_FORMAT " of %" G_GUINT64_FORMAT " entries",
		share * 100, done, total, p->entries_done, p->entries_total);
	if (rate > 0)
		g_string_append_printf(text, "  %.0f MB/s", rate / 1e6);
	/* A guess from the first instants would jump about. */
	if (rate > 0 && seconds > 1) {
		g_autofree char *left = wdr_format_duration(
			(uint64_t)((double)(p->bytes_total - p->bytes_done) / rate + 0.5));
		g_string_append_printf(text, "  %s left", left);
	}
	return g_string_free(text, FALSE);
}

static void draw_line(const WdrProgress *p, const char *text)
{
	unsigned full = (unsigned)(share_of(p) * BAR_CELLS);
	char bar[BAR_CELLS + 1];

	for (unsigned i = 0; i < BAR_CELLS; i++)
		bar[i] = i < full ? '#' : '.';
	bar[BAR_CELLS] = '\0';
	fprintf(stderr, "\r\033[K  %s %.*s", bar, LINE_CELLS - BAR_CELLS - 3, text);
	fflush(stderr);
	line.is_open = true;
}

static void on_progress(void *data, const WdrProgress *p)
{
	double now = now_s();
	g_autofree char *text =
		p->share > 0 ? timed_text(p) : wdr_progress_text(p, now - line.step_begun);

	(void)data;
	if (line.is_terminal) {
		draw_line(p, text);
	} else if (now - line.last_plain >= PLAIN_EVERY_S) {
		line.last_plain = now;
		fprintf(stderr, "  %s\n", text);
	}
}

static void on_step(void *data, const char *step)
{
	(void)data;
	wdr_progress_end();
	line.step_begun = line.last_plain = now_s();
	wdr_out_text(&line.out, WDR_STYLE_PLAIN, "%s\n", step);
}

static void on_note(void *data, const char *note)
{
	(void)data;
	wdr_progress_end();
	wdr_out_text(&line.out, WDR_STYLE_WARNING, "%s\n", note);
}

void wdr_progress_attach(WdrWorld *world, bool no_color)
{
	WdrObserver observer = { on_step, on_progress, on_note, NULL };

	line.out = wdr_out(stderr, no_color);
	line.is_terminal = isatty(STDERR_FILENO);
	wdr_world_observe(world, &observer);
}
