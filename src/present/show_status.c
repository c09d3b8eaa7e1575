/* The usual way in six lines, the one that is next marked, and the next command. */
#include "present/show_status.h"

#include "base/command.h"
#include "base/json.h"
#include "base/text.h"

#include <string.h>

enum { SURVEY, READY, MOVE, RESTART, ARRIVE, REPORT, LINES };

/* The line of the usual way that is next in each stage. */
static const unsigned next_line[] = {
	[WDR_STATUS_NONE] = SURVEY,
	[WDR_STATUS_STOPPED] = READY,
	[WDR_STATUS_READY] = MOVE,
	[WDR_STATUS_MOVING] = LINES, /* none: it has to be waited for */
	[WDR_STATUS_INTERRUPTED] = MOVE,
	[WDR_STATUS_MOVED] = RESTART,
	[WDR_STATUS_OLD_DISK] = ARRIVE,
	[WDR_STATUS_BOOTED] = ARRIVE,
	[WDR_STATUS_ARRIVED] = REPORT,
};

static const char *target_of(const WdrStatus *s)
{
	if (s && s->ready_to)
		return s->ready_to;
	if (s && s->it)
		return s->it->target.name;
	return s && s->candidate ? s->candidate : "DISK";
}

/* What to do in one line of the usual way: a command, or for the restart an action. */
static char *what_to_do(const WdrStatus *s, unsigned line)
{
	const char *target = target_of(s);

	switch (line) {
	case SURVEY:
		return wdr_command("survey");
	case READY:
		return wdr_command("ready", "--to", target);
	case MOVE:
		return s && s->stage == WDR_STATUS_INTERRUPTED
			       ? wdr_command("move", "--resume", s->records)
			       : wdr_command("move", "--to", target);
	case RESTART:
		if (s && s->stage == WDR_STATUS_MOVED && s->stop)
			return wdr_command("rehearse", target);
		return g_strdup(s && s->it && s->it->what == WDR_MOVE_ROOT
					? "restart the board"
					: "power off, take the old disk out, power on");
	case ARRIVE:
		return wdr_command("arrive");
	case REPORT:
		return wdr_command("report", "-o", "move.html");
	default:
		return g_strdup("wait for it to end");
	}
}

/* What has to be plugged in before the next command can work; NULL: nothing. */
static const WdrItineraryDisk *unplugged(const WdrStatus *s)
{
	if (!s->it || s->ready_to || s->stage == WDR_STATUS_BOOTED ||
		s->stage == WDR_STATUS_ARRIVED)
		return NULL;
	if (!s->has_target)
		return &s->it->target;
	return s->stage == WDR_STATUS_INTERRUPTED && !s->has_source ? &s->it->source : NULL;
}

static char *disk_words(const WdrItineraryDisk *d)
{
	if (d->model && d->serial)
		return g_strdup_printf("%s (%s, serial %s)", d->name, d->model, d->serial);
	return d->model ? g_strdup_printf("%s (%s)", d->name, d->model) : g_strdup(d->name);
}

static char *stage_words(const WdrStatus *s)
{
	if (s->stage == WDR_STATUS_STOPPED)
		return g_strdup_printf(
			"the last check stops a move to %s: %s", s->ready_to, s->stop);
	if (s->stage == WDR_STATUS_READY)
		return g_strdup_printf(
			"the last check found nothing that stops a move to %s", s->ready_to);
	if (!s->it)
		return g_strdup("no move was made on this machine yet");
	g_autofree char *when = wdr_format_time(s->it->made_at);
	g_autofree char *move = g_strdup_printf(
		"the move from %s to %s of %s", s->it->source.name, s->it->target.name, when);
	switch (s->stage) {
	case WDR_STATUS_MOVING:
		return g_strdup_printf("%s is under way", move);
	case WDR_STATUS_INTERRUPTED:
		return g_strdup_printf("%s was interrupted", move);
	case WDR_STATUS_OLD_DISK:
		return g_strdup_printf("%s is complete, but the board was booted since from %s",
			move, s->running ? s->running : "the old disk");
	case WDR_STATUS_MOVED:
		if (s->stop)
			return g_strdup_printf("%s is complete, but %s does not boot: %s", move,
				s->it->target.name, s->stop);
		return g_strdup_printf("%s is complete; the system still runs from %s", move,
			s->running ? s->running : "the old disk");
	case WDR_STATUS_BOOTED:
		return g_strdup_printf("%s: the system runs from the new disk now", move);
	default:
		return g_strdup_printf("%s is finished and checked", move);
	}
}

static void show_way(const WdrOut *out, const WdrStatus *s)
{
	static const char *const about[LINES] = { "show this board and its disks",
		"check whether it will work", "copy, verify, make bootable", "",
		"check the new system", "write the handover page" };

	int width = 0;
	for (unsigned i = 0; i < LINES; i++) {
		g_autofree char *what = what_to_do(s, i);
		width = MAX(width, *about[i] ? (int)strlen(what) : 0);
	}
	for (unsigned i = 0; i < LINES; i++) {
		g_autofree char *what = what_to_do(s, i);
		bool is_next = s && i == next_line[s->stage];
		wdr_out_text(out, is_next ? WDR_STYLE_GOOD : WDR_STYLE_PLAIN, "%s %u. %-*s%s%s\n",
			is_next ? "->" : "  ", i + 1, *about[i] ? width : 0, what,
			*about[i] ? "  " : "", about[i]);
	}
}

void wdr_present_status(const WdrOut *out, const WdrStatus *s, const char *problem)
{
	g_autofree char *words = s ? stage_words(s) : g_strdup(problem);
	const WdrItineraryDisk *missing = s ? unplugged(s) : NULL;

	wdr_out_text(out, WDR_STYLE_HEADING, "%s\n", words);
	if (s && s->records)
		wdr_out_text(out, WDR_STYLE_FAINT, "records: %s\n", s->records);
	fputc('\n', out->file);
	show_way(out, s);
	if (!s)
		return;
	g_autofree char *next = what_to_do(s, next_line[s->stage]);
	fputc('\n', out->file);
	if (missing) {
		g_autofree char *disk = disk_words(missing);
		wdr_out_text(
			out, WDR_STYLE_WARNING, "%s is not plugged in: plug it in first\n", disk);
	}
	wdr_out_text(out, WDR_STYLE_HEADING, "next: ");
	wdr_out_text(out, WDR_STYLE_PLAIN, "%s\n", next);
}

void wdr_present_status_short(FILE *file, const WdrStatus *s)
{
	g_autofree char *next = what_to_do(s, next_line[s->stage]);

	fprintf(file, "%s: %s\n", wdr_status_stage_name(s->stage), next);
}

void wdr_present_status_json(FILE *file, const WdrStatus *s)
{
	g_autofree char *next = what_to_do(s, next_line[s->stage]);
	g_autoptr(json_t) root = json_pack(
		"{s:s, s:s, s:o, s:o, s:o, s:o, s:o, s:b, s:b, s:o, s:s}", "format",
		"wanderitas-status/2", "stage", wdr_status_stage_name(s->stage), "ready_to",
		wdr_json_text(s->ready_to), "stop", wdr_json_text(s->stop), "source",
		wdr_json_text(s->it ? s->it->source.name : NULL), "target",
		wdr_json_text(s->it ? s->it->target.name : NULL), "records",
		wdr_json_text(s->records), "source_is_there", s->has_source, "target_is_there",
		s->has_target, "runs_from", wdr_json_text(s->running), "next", next);

	wdr_json_print(root, file);
}
