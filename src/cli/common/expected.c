/* The first estimate of a move's time, before anything was copied. */
#include "cli/common/expected.h"

#include "base/text.h"
#include "present/time_left.h"

static WdrPaceRates known(const WdrWorld *world, const WdrItineraryDisk *d)
{
	return d->is_image ? (WdrPaceRates){ 0, 0 } : wdr_pace_known(world, d->model, d->serial);
}

WdrExpected wdr_cli_expect(const WdrWorld *world, const WdrItinerary *it)
{
	WdrExpected e = { known(world, &it->source), known(world, &it->target), 0, 0 };
	uint64_t bytes = 0;
	uint64_t entries = 0;

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		bytes += p->bytes;
		entries += p->entries;
	}
	e.seconds = wdr_time_expected_s(bytes, entries, e.source.read, e.target.write);
	if (e.seconds > 0)
		e.copy_per_s = wdr_time_expected_work(bytes, entries) / e.seconds;
	return e;
}

static char *rate_text(const char *what, const char *disk, double rate)
{
	return rate > 0 ? g_strdup_printf("%s %s at %.0f MB/s", what, disk, rate / 1e6)
			: g_strdup_printf("%s %s is not measured", what, disk);
}

void wdr_cli_show_expected(const WdrOut *out, const WdrItinerary *it, const WdrExpected *e)
{
	g_autofree char *reading = rate_text("reading", it->source.name, e->source.read);
	g_autofree char *writing = rate_text("writing", it->target.name, e->target.write);
	bool is_half = e->source.read <= 0 || e->target.write <= 0;

	if (e->seconds <= 0)
		return;
	g_autofree char *time = wdr_format_duration((uint64_t)(e->seconds + 1));
	wdr_out_text(out, WDR_STYLE_PLAIN, "\ntime  %s %s to copy (by pace: %s, %s)\n",
		is_half ? "at least" : "about", time, reading, writing);
}
