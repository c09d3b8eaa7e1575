/* Any bytes as an itinerary: refused, or sound enough to be written and read again. */
#include "plan/itinerary.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(WdrItinerary) it = NULL;
	g_autoptr(WdrItinerary) again = NULL;

	if (!wdr_itinerary_from_json((const char *)data, size, &it, NULL))
		return 0;
	g_autofree char *text = wdr_itinerary_to_json(it);
	bool is_fine = wdr_itinerary_from_json(text, strlen(text), &again, NULL);
	g_assert(is_fine);
	g_autoptr(WdrPartTable) table = wdr_itinerary_table(again);
	g_assert(table->partitions->len == it->parts->len);
	return 0;
}
