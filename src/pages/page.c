/* The report page: its head, verdict and order of sections. */
#include "pages/page.h"

#include "base/text.h"
#include "pages/page_parts.h"
#include "pages/page_verdict.h"
#include "world/boot_time.h"

#include <string.h>

/* What the moved system is called; failing that, the machine that it was moved on. */
static const char *name_of(const WdrPage *p)
{
	const char *moved = wdr_page_text(p->report, "moved.host");
	const char *host = wdr_page_text(p->report, "machine.host");

	return *moved ? moved : *host ? host : "a system";
}

/* ---- what came of it, at the top ---- */

static void add_verdict(WdrPage *p, const WdrVerdictText *verdict)
{
	wdr_page_add(
		p, "<li><span class=\"badge %s\">%s</span></li>\n", verdict->mark, verdict->text);
}

static void add_verdicts(WdrPage *p)
{
	const json_t *arrival = wdr_page_at(p->report, "arrival");
	bool has_damage = json_array_size(wdr_page_at(p->report, "unreadable")) > 0;
	const char *rehearsed = wdr_page_text(p->report, "rehearsal.verdict");
	const WdrVerdictText copied =
		wdr_verdict_copied(wdr_page_text(p->report, "state"), has_damage);
	const WdrVerdictText boots = wdr_verdict_rehearsed(rehearsed);
	const WdrVerdictText arrived = wdr_verdict_arrived(
		wdr_page_at(arrival, "arrived"), wdr_page_at(arrival, "as_planned"));

	add_verdict(p, &copied);
	if (*rehearsed)
		add_verdict(p, &boots);
	add_verdict(p, &arrived);
}

static void add_header(WdrPage *p)
{
	const json_t *it = wdr_page_at(p->report, "itinerary");
	bool is_root = strcmp(wdr_page_text(it, "what"), "root") == 0;
	const json_t *steps = wdr_page_at(p->report, "steps");
	const json_t *last = json_array_get(steps, json_array_size(steps) - 1);
	const char *state = wdr_page_text(p->report, "state");
	bool is_finished = (strcmp(state, "done") == 0 || strcmp(state, "arrived") == 0) && last;
	g_autofree char *day = wdr_format_time(
		is_finished ? wdr_page_number(last, "at") : wdr_page_number(it, "made_at"));

	wdr_page_add(p,
		"<header>\n<p class=\"soft\">Report of a move</p>\n<h1>%s: %s from %s (%s) to %s "
		"(%s)</h1>\n<p>%s %s.</p>\n<ul class=\"verdicts\">\n",
		name_of(p), is_root ? "the root alone" : "everything",
		wdr_page_text(it, "source.name"), wdr_page_text(it, "source.medium"),
		wdr_page_text(it, "target.name"), wdr_page_text(it, "target.medium"),
		is_finished ? "Finished" : "Planned", day);
	add_verdicts(p);
	wdr_page_add(p, "</ul>\n</header>\n");
}

/* Now, beside the old disk; NULL: nobody knows. The caller's. */
static char *boot_times(const json_t *report)
{
	int64_t now = wdr_page_number(report, "arrival.boot_time.now.all_us");
	int64_t before = wdr_page_number(report, "arrival.boot_time.before.all_us");
	g_autofree char *is = wdr_boot_time_text(now);
	g_autofree char *was = wdr_boot_time_text(before);

	if (now <= 0)
		return NULL;
	return before > 0 ? g_strdup_printf("%s (was %s)", is, was) : g_strdup(is);
}

static void add_summary(WdrPage *p)
{
	const json_t *figures = wdr_page_at(p->report, "figures");
	g_autofree char *bytes = wdr_page_size(figures, "bytes");
	g_autofree char *count = wdr_format_count((uint64_t)wdr_page_number(figures, "entries"));
	g_autofree char *copied = g_strdup_printf("%s entries, %s", count, bytes);
	g_autofree char *edits =
		g_strdup_printf("%zu", json_array_size(wdr_page_at(p->report, "itinerary.edits")));
	g_autofree char *warnings =
		g_strdup_printf("%zu", json_array_size(wdr_page_at(p->report, "warnings")));

	wdr_page_section(p, "summary", "The board and its system");
	wdr_page_facts(p);
	wdr_page_fact(p, "Host name", name_of(p));
	wdr_page_fact(p, "System", wdr_page_text(p->report, "moved.system"));
	/* A board that moved itself, or a workbench that made a disk for one. */
	if (strcmp(name_of(p), wdr_page_text(p->report, "machine.host")) == 0) {
		wdr_page_fact(p, "Board", wdr_page_text(p->report, "machine.board"));
		wdr_page_fact(p, "Kernel", wdr_page_text(p->report, "machine.kernel"));
	} else {
		wdr_page_fact(p, "Prepared on", wdr_page_text(p->report, "machine.host"));
	}
	g_autofree char *boots_in = boot_times(p->report);
	wdr_page_fact(p, "Boots in", boots_in);
	wdr_page_fact(p, "Copied", json_is_object(figures) ? copied : NULL);
	wdr_page_fact(p, "Files edited", edits);
	wdr_page_fact(p, "Warnings and notes", warnings);
	wdr_page_facts_end(p);
	wdr_page_section_end(p);
}

static void add_footer(WdrPage *p)
{
	wdr_page_begin_footer(p);
	if (*wdr_page_text(p->report, "records"))
		wdr_page_add(p, " Records of the move: <code>%s</code>",
			wdr_page_text(p->report, "records"));
	wdr_page_end(p);
}

char *wdr_page(json_t *report, const WdrPaceRecord *paces)
{
	g_autoptr(json_t) clean = wdr_page_clean(report);
	WdrPage p = { g_string_new(NULL), clean };

	g_autofree char *title = g_strdup_printf("%s: report of a move", name_of(&p));
	wdr_page_begin(&p, title);
	add_header(&p);
	wdr_page_back(&p);
	add_summary(&p);
	wdr_page_warnings(&p);
	wdr_page_disks(&p);
	wdr_page_layout(&p);
	wdr_page_identifiers(&p);
	wdr_page_edits(&p);
	wdr_page_checks(&p);
	wdr_page_copy(&p);
	wdr_page_left(&p);
	wdr_page_speeds(&p, paces);
	add_footer(&p);
	return g_string_free(p.html, FALSE);
}
