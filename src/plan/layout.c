/* Chooses start and size of every partition on the target.
 *
 * Order and numbers are the source's. Partitions keep their sizes, and root gets what is left, less
 * what the user wants free. Where the target is smaller, root shrinks to what its files need.
 * Starts are aligned to 1 MiB. The space before the first partition is kept as on the source, since
 * a loader may lie there. */
#include "plan/layout.h"

#include "base/text.h"
#include "plan/logical_partitions.h"

#include <string.h>

/* A root smaller than this is no root; keeps sizes positive before mkfs has its say. */
#define ROOT_MIN_BYTES (16 * WDR_MIB)
/* The space before the first partition is kept as on the source up to this: a loader may lie there.
 */
#define HEAD_MAX_BYTES (64 * WDR_MIB)

static const struct {
	const char *mbr, *gpt;
} types[] = {
	/* The first row that matches wins, in both directions. */
	{ "0c", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" },
	{ "0b", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" },
	{ "0e", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" },
	{ "06", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" },
	{ "ef", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b" },
	{ "83", "0fc63daf-8483-4772-8e79-3d69d8477de4" },
	/* Root partitions of the discoverable kinds, 64-bit and 32-bit ARM, x86-64. */
	{ "83", "b921b045-1df0-41c3-af44-4c6f280d3fae" },
	{ "83", "69dad710-2ce4-4e3c-b16c-21a1d49abed3" },
	{ "83", "4f68bce3-e8cd-4db1-96e7-fbcaf984b709" },
	{ "82", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f" },
};

const char *wdr_layout_type(const char *type, WdrTableKind from, WdrTableKind to)
{
	if (from == to)
		return type;
	for (size_t i = 0; i < G_N_ELEMENTS(types); i++) {
		if (strcmp(from == WDR_TABLE_MBR ? types[i].mbr : types[i].gpt, type) == 0)
			return to == WDR_TABLE_MBR ? types[i].mbr : types[i].gpt;
	}
	return NULL;
}

static uint64_t first_start(const WdrItinerary *it)
{
	uint64_t kept = it->what == WDR_MOVE_ROOT ? 0 : HEAD_MAX_BYTES;

	for (guint i = 0; i < it->parts->len; i++)
		kept = MIN(kept, ((const WdrItineraryPart *)it->parts->pdata[i])->from.start);
	return MAX(wdr_round_up(kept, WDR_ALIGN_BYTES), WDR_ALIGN_BYTES);
}

/* Size of a partition that does not fill the rest. */
static uint64_t fixed_size(
	const WdrItinerary *it, const WdrItineraryPart *p, const WdrLayoutRoom *room)
{
	uint64_t size =
		p->role == WDR_ROLE_BOOT && room->boot_size ? room->boot_size : p->from.size;

	return wdr_round_up(size, it->target.sector_size);
}

static uint64_t fixed_bytes(const WdrItinerary *it, const WdrLayoutRoom *room)
{
	uint64_t sum = 0;

	for (guint i = 0; i < it->parts->len; i++) {
		const WdrItineraryPart *p = it->parts->pdata[i];
		sum += wdr_logical_is(it, p) ? WDR_LOGICAL_HEAD_BYTES : 0;
		sum += p->role == WDR_ROLE_ROOT
			       ? 0
			       : wdr_round_up(fixed_size(it, p, room), WDR_ALIGN_BYTES);
	}
	return sum;
}

bool wdr_layout_arrange(WdrItinerary *it, const WdrLayoutRoom *room, GError **error)
{
	uint64_t end = wdr_table_usable_end(it->table, it->target.size, it->target.sector_size);
	uint64_t at = first_start(it);
	uint64_t need = at + fixed_bytes(it, room);

	end = wdr_round_down(end > room->leave_free ? end - room->leave_free : 0, WDR_ALIGN_BYTES);
	if (end < need + ROOT_MIN_BYTES) {
		g_autofree char *missing = wdr_format_size(need + ROOT_MIN_BYTES - end);
		wdr_error_set(error, WDR_ERROR_NO_SPACE,
			"the target %s is too small by more than %s", it->target.name, missing);
		wdr_error_hint(error, "nothing was written; use a larger target%s",
			room->leave_free ? ", or ask for less --leave-free" : "");
		return false;
	}
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		at += wdr_logical_is(it, p) ? WDR_LOGICAL_HEAD_BYTES : 0;
		p->to.start = at;
		p->to.size = p->role == WDR_ROLE_ROOT ? end - need : fixed_size(it, p, room);
		at += wdr_round_up(p->to.size, WDR_ALIGN_BYTES);
	}
	wdr_logical_enclose(it);
	return true;
}
