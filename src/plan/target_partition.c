/* Plans a root that moves into a partition that is there already. */
#include "plan/target_partition.h"

#include "base/command.h"
#include "base/text.h"

#include <string.h>

char *wdr_itinerary_erased(const WdrItinerary *it)
{
	WdrDisk disk = { .name = it->target.name };

	return it->into ? wdr_disk_partition_name(&disk, it->into) : g_strdup(it->target.name);
}

/* "3", "nvme0n1p3", "/dev/nvme0n1p3". */
const WdrPartition *wdr_partition_named(
	const WdrDisk *disk, const WdrPartTable *table, const char *text)
{
	const char *name = g_str_has_prefix(text, "/dev/") ? text + strlen("/dev/") : text;

	for (guint i = 0; i < table->partitions->len; i++) {
		const WdrPartition *p = table->partitions->pdata[i];
		g_autofree char *full = wdr_disk_partition_name(disk, p->number);
		g_autofree char *number = g_strdup_printf("%u", p->number);
		if (strcmp(text, number) == 0 || strcmp(name, full) == 0)
			return p;
	}
	return NULL;
}

static bool check_options(const WdrItinerary *it, const WdrDraftOptions *o, GError **error)
{
	if (it->what != WDR_MOVE_ROOT) {
		wdr_error_set(error, WDR_ERROR_USAGE, "--into goes with --what root");
		wdr_error_hint(error, "a system with its boot files needs the whole disk");
		return false;
	}
	if (o->table != WDR_TABLE_NONE || o->leave_free || o->boot_size || o->keep_identifiers)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--into keeps the target's table and partitions as they are: it cannot go with "
			"--table, --leave-free, --boot-size or --keep-identifiers");
	return true;
}

static void replace(char **text, const char *with)
{
	g_free(*text);
	*text = g_strdup(with);
}

static void take_place(WdrItinerary *it, const WdrPartition *from)
{
	WdrItineraryPart *p = it->parts->pdata[0];

	it->into = from->number;
	it->table = it->target.table;
	replace(&it->table_id, it->target.table_id);
	p->to.start = from->start;
	p->to.size = from->size;
	p->is_active = from->is_active;
	replace(&p->to.partuuid, from->partuuid);
	replace(&p->to.partlabel, from->name);
	replace(&p->type, from->type);
	replace(&p->attributes, from->attributes);
}

bool wdr_into_choose(WdrItinerary *it, const WdrPartTable *table, const WdrDraftOptions *options,
	const char *text, GError **error)
{
	const WdrDisk target = { .name = it->target.name };
	const WdrPartition *p = wdr_partition_named(&target, table, text);
	bool by_partlabel = options->has_name_by && options->name_by == WDR_BY_PARTLABEL;

	if (!check_options(it, options, error))
		return false;
	if (!p || p->is_extended) {
		wdr_error_set(error, WDR_ERROR_REFUSED, "%s has no partition '%s' to move into",
			it->target.name, text);
		g_autofree char *look = wdr_command("survey", wdr_itinerary_disk_word(&it->target));
		wdr_error_hint(error, "to see its partitions: %s", look);
		return false;
	}
	if (by_partlabel && (!p->name || !*p->name))
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"partition %u of %s has no label to name it by", p->number,
			it->target.name);
	take_place(it, p);
	return true;
}

bool wdr_into_check(const WdrItinerary *it, const WdrPartTable *now, GError **error)
{
	const WdrItineraryPart *p = it->parts->pdata[0];
	const WdrPartition *is = wdr_parttable_find(now, it->into);

	if (is && is->start == p->to.start && is->size == p->to.size)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"partition %u of %s is not where it was when the itinerary was drawn", it->into,
		it->target.name);
	g_autofree char *draw = wdr_itinerary_redraw_command(it);
	wdr_error_hint(error, "nothing was written; to draw it again: %s", draw);
	return false;
}
