/* Any bytes as a record of measurements: refused, or sound enough to be written, read again, shown
 * and drawn. */
#include "present/chart_part.h"

#include "present/show_pace.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(WdrPaceRecord) r = NULL;
	g_autoptr(WdrPaceRecord) again = NULL;

	if (!wdr_pace_record_parse("record", (const char *)data, size, &r, NULL))
		return 0;
	g_autoptr(json_t) root = wdr_pace_record_to_json(r);
	char *text = json_dumps(root, WDR_PACE_JSON_FLAGS);
	bool is_fine = wdr_pace_record_parse("record", text, strlen(text), &again, NULL);
	g_assert(is_fine);
	g_assert(again->measured->len == r->measured->len);
	g_free(text);
	FILE *nowhere = fopen("/dev/null", "w");
	g_assert(nowhere);
	const WdrOut out = { nowhere, false, 0 };
	wdr_present_pace(&out, again);
	fclose(nowhere);
	g_autoptr(GByteArray) drawn = wdr_chart_part.render(again, false, true);
	g_assert(drawn);
	return 0;
}
