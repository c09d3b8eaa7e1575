/* The progress line: bytes on the medium, rate, time left for the whole work.
 *
 * A thread draws the line again each second, also where nothing was reported: whoever waits sees
 * that the program is alive. Everything here is under one lock, since the copying reports from a
 * thread of its own. */
#include "cli/common/progress.h"

#include "base/json.h"
#include "base/text.h"
#include "present/out.h"

#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

enum { PLAIN_EVERY_S = 10, BAR_CELLS = 20, NARROW_BAR_CELLS = 8, WIDE = 100 };

/* A difference that is worth a word: less is a matter of moments. */
#define AHEAD_BYTES ((uint64_t)64 * 1024 * 1024)

/* There is one stderr, and one line at its end. */
static struct {
	GMutex lock;
	WdrOut out;
	bool is_terminal, is_open;
	bool is_live; /* a step is under way, and nothing else was printed since */
	bool has_progress;
	WdrProgress progress; /* the last one */
	WdrTimeLeft left;
	unsigned steps; /* numbered ones; 0: unknown */
	int to;         /* a descriptor that gets JSON, instead; 0: none; -1: nobody listens */
	unsigned number;
	char *step;
	double step_begun, last_plain, last_drawn;
} line;

/* The lock is this thread's, which prints a step or a note. */
static _Thread_local bool is_printing;

static double now_s(void)
{
	return (double)g_get_monotonic_time() / G_USEC_PER_SEC;
}

static void close_line(void)
{
	if (line.is_open)
		fputs("\r\033[K", stderr);
	line.is_open = false;
}

void wdr_progress_end(void)
{
	if (is_printing)
		return;
	g_mutex_lock(&line.lock);
	close_line();
	line.is_live = false;
	g_mutex_unlock(&line.lock);
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

static char *amount_text(const WdrProgress *p)
{
	g_autofree char *done = wdr_format_size(p->bytes_done);
	g_autofree char *total = wdr_format_size(p->bytes_total);

	if (p->is_reading_back)
		return g_strdup_printf("read back %s of %s", done, total);
	if (p->bytes_read < p->bytes_done + AHEAD_BYTES)
		return g_strdup_printf("%s of %s on the medium", done, total);
	g_autofree char *read = wdr_format_size(p->bytes_read);
	return g_strdup_printf("read %s, on the medium %s of %s", read, done, total);
}

char *wdr_progress_text(const WdrProgress *p, double seconds)
{
	double rate = seconds > 0.2 ? (double)p->bytes_done / seconds : 0;

	if (p->bytes_total == 0 && p->share > 0)
		return timed_text(p);
	if (p->bytes_total == 0)
		return g_strdup_printf("%" G_GUINT64_FORMAT " files so far", p->entries_done);
	g_autofree char *amount = amount_text(p);
	GString *text = g_string_new(NULL);
	g_string_append_printf(text, "%3.0f %%  %s", share_of(p) * 100, amount);
	if (rate > 0)
		g_string_append_printf(text, "  %.0f MB/s", rate / 1e6);
	return g_string_free(text, FALSE);
}

/* Of the present moment; NULL: nothing to say yet. */
static char *text_now(double now)
{
	double left = line.left.has_work ? wdr_time_left_s(&line.left, now) : -1;
	double waited = now - line.step_begun;
	GString *text = g_string_new(NULL);

	if (line.has_progress) {
		g_autofree char *progress = wdr_progress_text(&line.progress, waited);
		g_string_append(text, progress);
	} else if (waited >= 1) {
		g_autofree char *time = wdr_format_duration((uint64_t)waited);
		g_string_append(text, time);
	}
	if (left >= 0) {
		g_autofree char *time = wdr_format_duration((uint64_t)(left + 0.5));
		g_string_append_printf(text, "%s%s left in all", text->len ? "  " : "", time);
	}
	return g_string_free(text, FALSE);
}

static void draw(double now)
{
	unsigned columns = line.out.columns ? line.out.columns : WIDE;
	unsigned cells = columns < WIDE ? NARROW_BAR_CELLS : BAR_CELLS;
	double share = line.has_progress ? share_of(&line.progress) : 0;
	unsigned full = (unsigned)(CLAMP(share, 0, 1) * cells);
	g_autofree char *text = text_now(now);
	char bar[BAR_CELLS + 1] = "";

	if (!*text)
		return;
	for (unsigned i = 0; i < cells; i++)
		bar[i] = i < full ? '#' : '.';
	bar[cells] = '\0';
	fprintf(stderr, "\r\033[K  %s %.*s", line.has_progress ? bar : "",
		(int)(columns - cells - 4), text);
	fflush(stderr);
	line.is_open = true;
	line.last_drawn = now;
}

static void print_plain(double now)
{
	g_autofree char *text = text_now(now);

	line.last_plain = now;
	if (*text)
		fprintf(stderr, "  %s\n", text);
	fflush(stderr);
}

/* For a program: one line, whole. Whoever does not listen any more is not told. */
static void say_line(double now)
{
	const WdrProgress *p = &line.progress;
	bool has_bytes = line.has_progress;
	double left = line.left.has_work ? wdr_time_left_s(&line.left, now) : -1;
	g_autoptr(json_t) said = json_pack("{s:I, s:I, s:o, s:I, s:I, s:b, s:o}", "step",
		(json_int_t)line.number, "steps", (json_int_t)line.steps, "text",
		wdr_json_text(line.step), "bytes_done", (json_int_t)(has_bytes ? p->bytes_done : 0),
		"bytes_total", (json_int_t)(has_bytes ? p->bytes_total : 0), "is_reading_back",
		has_bytes && p->is_reading_back, "seconds_left",
		left >= 0 ? json_integer((json_int_t)(left + 0.5)) : json_null());
	g_autofree char *text = json_dumps(said, JSON_COMPACT);
	g_autofree char *with_end = g_strconcat(text, "\n", NULL);

	line.last_drawn = now;
	if (line.to > 0 && write(line.to, with_end, strlen(with_end)) < 0)
		line.to = -1;
}

/* Under the lock. */
static void show(double now)
{
	if (line.to != 0 && now - line.last_drawn >= 1)
		say_line(now);
	else if (line.to != 0)
		return;
	else if (line.is_terminal)
		draw(now);
	else if (now - line.last_plain >= PLAIN_EVERY_S)
		print_plain(now);
}

static void *tick_thread(void *data)
{
	(void)data;
	for (;;) {
		g_usleep(G_USEC_PER_SEC);
		g_mutex_lock(&line.lock);
		double now = now_s();
		if (line.is_live && now - line.last_drawn >= 1)
			show(now);
		g_mutex_unlock(&line.lock);
	}
	return NULL;
}

static void on_work(void *data, const WdrWork *work)
{
	(void)data;
	g_mutex_lock(&line.lock);
	line.steps = work->steps;
	wdr_time_left_work(&line.left, work);
	g_mutex_unlock(&line.lock);
}

static void on_progress(void *data, const WdrProgress *p)
{
	double now = now_s();

	(void)data;
	g_mutex_lock(&line.lock);
	line.progress = *p;
	line.has_progress = true;
	wdr_time_left_see(&line.left, p, now);
	if (line.is_live)
		show(now);
	g_mutex_unlock(&line.lock);
}

static void print_line(WdrStyle style, const char *text, const char *behind)
{
	is_printing = true;
	wdr_out_text(&line.out, style, "%s%s\n", text, behind);
	is_printing = false;
}

static void on_step(void *data, unsigned number, const char *step)
{
	(void)data;
	g_mutex_lock(&line.lock);
	close_line();
	line.step_begun = line.last_plain = line.last_drawn = now_s();
	line.is_live = true;
	line.has_progress = false;
	line.number = number;
	g_free(line.step);
	line.step = g_strdup(step);
	wdr_time_left_begin_step(&line.left, line.step_begun);
	g_autofree char *counted = number > 0 && line.steps > 0
					   ? g_strdup_printf(", step %u of %u", number, line.steps)
					   : g_strdup("");
	if (line.to != 0)
		say_line(line.step_begun);
	else
		print_line(WDR_STYLE_PLAIN, step, counted);
	g_mutex_unlock(&line.lock);
}

static void on_note(void *data, const char *note)
{
	(void)data;
	g_mutex_lock(&line.lock);
	close_line();
	if (line.to == 0)
		print_line(WDR_STYLE_WARNING, note, "");
	g_mutex_unlock(&line.lock);
}

static void before_fork(void)
{
	g_mutex_lock(&line.lock);
}

static void after_fork(void)
{
	g_mutex_unlock(&line.lock);
}

/* The thread that draws did not come along, and what is on the terminal is not ours. */
static void in_copy(void)
{
	g_mutex_init(&line.lock);
	line.is_open = false;
	line.is_live = false;
	line.has_progress = false;
	line.left = (WdrTimeLeft){ 0 };
}

void wdr_progress_attach(WdrWorld *world, bool no_color)
{
	static bool is_guarded;
	WdrObserver observer = { on_work, on_step, on_progress, on_note, NULL };

	wdr_out_before(wdr_progress_end);
	line.out = wdr_out(stderr, no_color);
	/* A dumb terminal cannot draw a line again. */
	line.is_terminal = isatty(STDERR_FILENO) && g_strcmp0(g_getenv("TERM"), "dumb") != 0;
	wdr_world_observe(world, &observer);
	if (!is_guarded)
		pthread_atfork(before_fork, after_fork, in_copy);
	is_guarded = true;
	g_thread_unref(g_thread_new("ticks", tick_thread, NULL));
}

void wdr_progress_say(WdrWorld *world, int descriptor)
{
	line.to = descriptor;
	wdr_progress_attach(world, true);
}
