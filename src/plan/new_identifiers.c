/* Chooses new UUIDs, PARTUUIDs, serials and labels. */
#include "plan/new_identifiers.h"

#include "base/command.h"
#include "base/text.h"
#include "plan/logical_partitions.h"

#include <string.h>

enum { EXT_LABEL_MAX = 16, FAT_LABEL_MAX = 11, PARTLABEL_MAX = 36 };

static char *random_uuid(void)
{
	return g_uuid_string_random();
}

static uint32_t random_number(uint32_t other_than)
{
	g_autoptr(GRand) rand = g_rand_new(); /* seeded from the kernel's source */
	uint32_t value = 0;

	do
		value = g_rand_int(rand);
	while (value == 0 || value == G_MAXUINT32 || value == other_than);
	return value;
}

static char *random_mbr_id(const char *other_than)
{
	uint32_t old = other_than ? (uint32_t)g_ascii_strtoull(other_than, NULL, 16) : 0;

	return g_strdup_printf("%08x", random_number(old));
}

static char *random_fat_serial(void)
{
	uint32_t value = random_number(0);

	return g_strdup_printf("%04X-%04X", value >> 16, value & 0xffff);
}

static bool is_fat(const WdrItineraryPart *p)
{
	return strcmp(p->fs, "vfat") == 0;
}

/* A name of its own for the new volume: the old one, or the role, with four digits behind it. */
static char *fresh_name(const char *old, WdrRole role, size_t most, bool is_upper)
{
	enum { SUFFIX = 5 };
	const char *base = old && *old ? old : wdr_role_name(role);
	g_autofree char *head =
		g_utf8_substring(base, 0, MIN(g_utf8_strlen(base, -1), (glong)(most - SUFFIX)));

	while (strlen(head) > most - SUFFIX)
		*g_utf8_find_prev_char(head, head + strlen(head)) = '\0';
	g_autofree char *name = g_strdup_printf("%s-%04x", head, random_number(0) & 0xffff);
	return is_upper ? g_ascii_strup(name, -1) : g_steal_pointer(&name);
}

static void choose_names(WdrItinerary *it, WdrItineraryPart *p, const WdrDraftOptions *options)
{
	bool by_label = options->has_name_by && options->name_by == WDR_BY_LABEL;
	bool by_partlabel = options->has_name_by && options->name_by == WDR_BY_PARTLABEL;

	/* A disk that stays what it is keeps its labels. */
	if (it->what == WDR_MOVE_NOTHING)
		return;
	p->to.label = by_label && !options->keep_identifiers
			      ? fresh_name(p->from.label, p->role,
					is_fat(p) ? FAT_LABEL_MAX : EXT_LABEL_MAX, is_fat(p))
			      : g_strdup(p->from.label);
	if (it->table == WDR_TABLE_GPT)
		p->to.partlabel =
			by_partlabel && !options->keep_identifiers
				? fresh_name(p->from.partlabel, p->role, PARTLABEL_MAX, false)
				: g_strdup(p->from.partlabel);
}

static bool check_choice(const WdrItinerary *it, const WdrDraftOptions *options, GError **error)
{
	if (options->keep_identifiers && it->what == WDR_MOVE_ROOT) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"--keep-identifiers cannot go with --what root: both disks stay in, and two roots with "
			"the same identifier clash");
		return false;
	}
	if (options->keep_identifiers && it->table != it->source.table) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"--keep-identifiers cannot go with another kind of partition table");
		return false;
	}
	if (options->has_name_by && options->name_by == WDR_BY_PARTLABEL &&
		it->table != WDR_TABLE_GPT) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"an MBR has no partition labels to name partitions by");
		g_autofree char *gpt = wdr_command_again("--table", "gpt");
		wdr_error_hint(error, "for a table that has them: %s", gpt);
		return false;
	}
	if (options->has_name_by && options->name_by == WDR_BY_PATH && it->target.is_image) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"it is unknown what the device of an image will be called: --name-by "
			"path needs a disk");
		return false;
	}
	return true;
}

/* A volume of a kind that we cannot give a new UUID keeps its own. */
static char *fresh_uuid(const WdrItineraryPart *p)
{
	if (is_fat(p))
		return random_fat_serial();
	return wdr_itinerary_method(p) != WDR_METHOD_BLOCKS ? random_uuid()
							    : g_strdup(p->from.uuid);
}

static void replace(char **text, char *with)
{
	g_free(*text);
	*text = with;
}

static void choose(WdrItinerary *it, WdrItineraryPart *p, const WdrDraftOptions *options)
{
	choose_names(it, p, options);
	if (options->keep_identifiers) {
		replace(&p->to.uuid, g_strdup(p->from.uuid));
		replace(&p->to.partuuid, g_strdup(p->from.partuuid));
		return;
	}
	replace(&p->to.uuid, fresh_uuid(p));
	replace(&p->to.partuuid,
		it->table == WDR_TABLE_MBR
			? wdr_partuuid_mbr(it->table_id, wdr_itinerary_new_number(it, p))
			: random_uuid());
}

bool wdr_identifiers_choose(
	WdrItinerary *it, const char *old_id, const WdrDraftOptions *options, GError **error)
{
	if (!check_choice(it, options, error))
		return false;
	it->table_id = options->keep_identifiers    ? g_strdup(old_id)
		       : it->table == WDR_TABLE_MBR ? random_mbr_id(old_id)
						    : random_uuid();
	for (guint i = 0; i < it->parts->len; i++)
		choose(it, it->parts->pdata[i], options);
	return true;
}
