/* Arranges logical partitions and the extended one around them. */
#include "plan/logical_partitions.h"

#include "base/command.h"
#include "base/text.h"

#include <string.h>

static int by_number(const void *a, const void *b)
{
	const WdrItineraryPart *x = *(WdrItineraryPart *const *)a;
	const WdrItineraryPart *y = *(WdrItineraryPart *const *)b;

	return (x->number > y->number) - (x->number < y->number);
}

/* All logical ones, by number; borrowed. */
static GPtrArray *logical_parts(const WdrItinerary *it)
{
	GPtrArray *list = g_ptr_array_new();

	for (guint i = 0; i < it->parts->len; i++) {
		if (wdr_logical_is(it, it->parts->pdata[i]))
			g_ptr_array_add(list, it->parts->pdata[i]);
	}
	g_ptr_array_sort(list, by_number);
	return list;
}

/* Numbers follow each other from 5 on: all that an MBR can have. */
static bool is_without_gaps(const GPtrArray *logical)
{
	for (guint i = 0; i < logical->len; i++) {
		const WdrItineraryPart *p = logical->pdata[i];
		if (p->number != WDR_PRIMARY_MAX + 1 + i)
			return false;
	}
	return true;
}

static unsigned free_primary(const WdrItinerary *it)
{
	unsigned number = 1;

	while (number <= WDR_PRIMARY_MAX && wdr_itinerary_part(it, number))
		number++;
	return number <= WDR_PRIMARY_MAX ? number : 0;
}

static const WdrPartition *find_extended(const WdrPartTable *table)
{
	for (guint i = 0; i < table->partitions->len; i++) {
		const WdrPartition *p = table->partitions->pdata[i];
		if (p->is_extended)
			return p;
	}
	return NULL;
}

/* Where the first of them is, all of them, in the order of their numbers. */
static void gather(WdrItinerary *it, const GPtrArray *logical)
{
	GPtrArray *parts = g_ptr_array_new();
	bool is_done = false;

	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		if (!wdr_logical_is(it, p))
			g_ptr_array_add(parts, p);
		for (guint k = 0; wdr_logical_is(it, p) && !is_done && k < logical->len; k++)
			g_ptr_array_add(parts, logical->pdata[k]);
		is_done = is_done || wdr_logical_is(it, p);
	}
	for (guint i = 0; i < parts->len; i++)
		it->parts->pdata[i] = parts->pdata[i];
	g_ptr_array_unref(parts);
}

bool wdr_logical_arrange(WdrItinerary *it, const WdrPartTable *source, GError **error)
{
	g_autoptr(GPtrArray) logical = logical_parts(it);
	const WdrPartition *old = find_extended(source);

	if (logical->len == 0)
		return true;
	it->extended.number = old ? old->number : free_primary(it);
	it->extended.type = g_strdup(old ? old->type : "0f");
	if (it->extended.number && is_without_gaps(logical)) {
		gather(it, logical);
		return true;
	}
	wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
		"the partitions cannot keep their numbers in an MBR: it has four of its own, and those "
		"from 5 on lie in one of these and have no gaps between their numbers");
	g_autofree char *gpt = wdr_command_again("--table", "gpt");
	wdr_error_hint(error, "for a table that keeps them: %s", gpt);
	return false;
}

void wdr_logical_enclose(WdrItinerary *it)
{
	g_autoptr(GPtrArray) logical = logical_parts(it);

	if (logical->len == 0)
		return;
	const WdrItineraryPart *first = logical->pdata[0];
	const WdrItineraryPart *last = logical->pdata[logical->len - 1];
	it->extended.start = first->to.start - WDR_LOGICAL_HEAD_BYTES;
	it->extended.size = last->to.start + last->to.size - it->extended.start;
}

static bool lies_within(const WdrItinerary *it, const WdrItineraryPart *p)
{
	const WdrExtended *e = &it->extended;

	return p->to.start >= e->start && p->to.start - e->start >= WDR_LOGICAL_HEAD_BYTES &&
	       p->to.start - e->start <= e->size &&
	       p->to.size <= e->size - (p->to.start - e->start);
}

static bool lies_outside(const WdrItinerary *it, const WdrItineraryPart *p)
{
	const WdrExtended *e = &it->extended;

	return p->number != e->number &&
	       (p->to.start >= e->start + e->size || p->to.start + p->to.size <= e->start);
}

bool wdr_logical_is_sound(const WdrItinerary *it)
{
	g_autoptr(GPtrArray) logical = logical_parts(it);
	const WdrExtended *e = &it->extended;
	uint64_t end = wdr_table_usable_end(it->table, it->target.size, it->target.sector_size);

	if (logical->len == 0 || e->number == 0)
		return logical->len == 0 && e->number == 0;
	if (!is_without_gaps(logical) || e->number > WDR_PRIMARY_MAX ||
		e->start < it->target.sector_size || e->size > end || e->start > end - e->size)
		return false;
	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		if (!(wdr_logical_is(it, p) ? lies_within : lies_outside)(it, p))
			return false;
	}
	for (guint i = 1; i < logical->len; i++) {
		const WdrItineraryPart *before = logical->pdata[i - 1];
		const WdrItineraryPart *p = logical->pdata[i];
		uint64_t at = before->to.start + before->to.size;
		if (p->to.start < at || p->to.start - at < WDR_LOGICAL_HEAD_BYTES)
			return false;
	}
	return true;
}
