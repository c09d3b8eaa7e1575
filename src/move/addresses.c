#include "move/readdress.h"

#include "base/text.h"

#include <string.h>

enum { EXT_LABEL_MAX = 16, FAT_LABEL_MAX = 11, PARTLABEL_MAX = 36 };

/* ---- addresses ---- */

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

static bool is_fat(const WdrItineraryPart *p)
{
	return strcmp(p->fs, "vfat") == 0;
}

static void choose_names(WdrItinerary *it, WdrItineraryPart *p, const WdrDraftOptions *options)
{
	bool by_label = options->has_name_by && options->name_by == WDR_BY_LABEL;
	bool by_partlabel = options->has_name_by && options->name_by == WDR_BY_PARTLABEL;

	p->to.label = by_label && !options->keep_addresses
			      ? fresh_name(p->from.label, p->role,
					is_fat(p) ? FAT_LABEL_MAX : EXT_LABEL_MAX, is_fat(p))
			      : g_strdup(p->from.label);
	if (it->table == WDR_TABLE_GPT)
		p->to.partlabel =
			by_partlabel && !options->keep_addresses
				? fresh_name(p->from.partlabel, p->role, PARTLABEL_MAX, false)
				: g_strdup(p->from.partlabel);
}

static bool check_choice(const WdrItinerary *it, const WdrDraftOptions *options, GError **error)
{
	if (options->keep_addresses && it->table != it->source.table) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"--keep-addresses cannot go with another kind of partition table");
		return false;
	}
	if (options->has_name_by && options->name_by == WDR_BY_PARTLABEL &&
		it->table != WDR_TABLE_GPT) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"an MBR has no partition labels to name partitions by");
		wdr_error_hint(error, "use --table gpt, or another --name-by");
		return false;
	}
	if (options->has_name_by && options->name_by == WDR_BY_PATH && it->target.is_image) {
		wdr_error_set(error, WDR_ERROR_USAGE,
			"nobody knows what an image's device will be called: --name-by path needs a disk");
		return false;
	}
	return true;
}

bool wdr_readdress_choose(
	WdrItinerary *it, const WdrSource *source, const WdrDraftOptions *options, GError **error)
{
	if (!check_choice(it, options, error))
		return false;
	const char *old_id = source->system->table->id;
	it->table_id = options->keep_addresses      ? g_strdup(old_id)
		       : it->table == WDR_TABLE_MBR ? random_mbr_id(old_id)
						    : random_uuid();
	for (guint i = 0; i < it->parts->len; i++) {
		WdrItineraryPart *p = it->parts->pdata[i];
		choose_names(it, p, options);
		if (options->keep_addresses) {
			p->to.uuid = g_strdup(p->from.uuid);
			p->to.partuuid = g_strdup(p->from.partuuid);
			continue;
		}
		p->to.uuid = is_fat(p) ? random_fat_serial() : random_uuid();
		p->to.partuuid = it->table == WDR_TABLE_MBR
					 ? wdr_partuuid_mbr(it->table_id, p->number)
					 : random_uuid();
	}
	return true;
}

/* ---- edits ---- */

typedef struct {
	WdrItinerary *it;
	const WdrSource *source;
	const WdrDraftOptions *options;
} Editing;

static void note(const Editing *e, const char *format, ...) G_GNUC_PRINTF(2, 3);
static void note(const Editing *e, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_ptr_array_add(e->it->notes, g_strdup_vprintf(format, args));
	va_end(args);
}

static bool is_kernel_root(const WdrMention *m)
{
	return strcmp(m->what, "root=") == 0;
}

/* The kernel by itself knows PARTUUID=, PARTLABEL= and device paths; the rest needs an initramfs.
 */
static bool needs_initramfs(WdrAddressKind kind, bool is_link)
{
	return kind == WDR_BY_UUID || kind == WDR_BY_LABEL || is_link;
}

static WdrAddressKind usual_kind(const Editing *e, const WdrMention *m)
{
	bool has_initramfs = e->source->system->has_initramfs;

	if (e->options->keep_addresses && m->address.kind != WDR_BY_PATH)
		return m->address.kind;
	switch (m->address.kind) {
	case WDR_BY_PATH:
		return WDR_BY_PARTUUID;
	case WDR_BY_LABEL:
	case WDR_BY_PARTLABEL:
		return has_initramfs ? WDR_BY_UUID : WDR_BY_PARTUUID;
	default:
		return m->address.kind;
	}
}

static bool choose_kind(const Editing *e, const WdrMention *m, WdrAddressKind *ret, GError **error)
{
	*ret = e->options->has_name_by ? e->options->name_by : usual_kind(e, m);
	if (!is_kernel_root(m) || !needs_initramfs(*ret, false) || e->source->system->has_initramfs)
		return true;
	if (!e->options->has_name_by) {
		note(e, "%s:%u: root=%s needs an initramfs, and none is loaded: it becomes PARTUUID=",
			m->file, m->line, m->text);
		*ret = WDR_BY_PARTUUID;
		return true;
	}
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s:%u: the kernel alone cannot find its root by %s, and this system loads no initramfs",
		m->file, m->line, wdr_address_kind_name(*ret));
	wdr_error_hint(error, "leave --name-by out, or use --name-by partuuid");
	return false;
}

static const char *value_of(const WdrItineraryPlace *place, WdrAddressKind kind)
{
	switch (kind) {
	case WDR_BY_UUID:
		return place->uuid;
	case WDR_BY_LABEL:
		return place->label;
	case WDR_BY_PARTUUID:
		return place->partuuid;
	case WDR_BY_PARTLABEL:
		return place->partlabel;
	case WDR_BY_PATH:
		break;
	}
	return NULL;
}

static bool new_address(const Editing *e, const WdrMention *m, const WdrItineraryPart *part,
	WdrAddress *ret, GError **error)
{
	WdrAddressKind kind = WDR_BY_UUID;

	if (!choose_kind(e, m, &kind, error))
		return false;
	/* A link form is kept where it still works: everywhere but for the kernel alone. */
	bool keeps_link = m->address.is_link && kind != WDR_BY_PATH &&
			  !(is_kernel_root(m) && !e->source->system->has_initramfs);
	*ret = (WdrAddress){ .kind = kind, .is_link = keeps_link };
	if (kind == WDR_BY_PATH) {
		WdrDisk target = { .name = e->it->target.name };
		g_autofree char *name = wdr_disk_partition_name(&target, part->number);
		ret->value = g_strconcat("/dev/", name, NULL);
		return true;
	}
	ret->value = g_strdup(value_of(&part->to, kind));
	if (ret->value && *ret->value)
		return true;
	g_clear_pointer(&ret->value, g_free);
	return wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s:%u: the new partition %u has no %s to be named by", m->file, m->line,
		part->number, wdr_address_kind_name(kind));
}

/* The part that a mention names. *ret NULL without an error: leave the mention as it is. */
static bool resolve(const Editing *e, const WdrMention *m, WdrItineraryPart **ret, GError **error)
{
	unsigned count = 0;
	const WdrSystemPart *part = wdr_system_resolve(e->source->system, &m->address, &count);

	*ret = count == 1 ? wdr_itinerary_part(e->it, part->partition->number) : NULL;
	if (count == 1)
		return true;
	const char *what =
		count ? "names two volumes of the source" : "names nothing on the source";
	if (!is_kernel_root(m)) {
		note(e, "%s:%u: %s (%s) %s; it is left as it is", m->file, m->line, m->text,
			m->what, what);
		return true;
	}
	wdr_error_set(
		error, WDR_ERROR_REFUSED, "%s:%u: root=%s %s", m->file, m->line, m->text, what);
	wdr_error_hint(
		error, "put it right on the source first: the system as it is would not boot");
	return false;
}

static WdrEdit *edit_of(const Editing *e, const WdrMention *m, WdrHash hash)
{
	for (guint i = 0; i < e->it->edits->len; i++) {
		WdrEdit *edit = e->it->edits->pdata[i];
		if (edit->number == m->number && strcmp(edit->file, m->file) == 0)
			return edit;
	}
	WdrEdit *edit = wdr_edit_new(m->number, m->file, hash);
	g_ptr_array_add(e->it->edits, edit);
	return edit;
}

static bool read_file(const Editing *e, unsigned number, const char *file, char **ret,
	size_t *ret_len, GError **error)
{
	const WdrSystemPart *part = wdr_system_part(e->source->system, number);

	if (!wdr_volume_read_file(part->volume, file, WDR_BOOT_FILE_BYTES_MAX, ret, ret_len, error))
		return false;
	return *ret ? true : wdr_error_set(error, WDR_ERROR_FORMAT, "/%s is gone", file);
}

static bool edit_mention(
	const Editing *e, const WdrMention *m, WdrItineraryPart *part, GError **error)
{
	WdrAddress address = { 0 };
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!new_address(e, m, part, &address, error))
		return false;
	g_autofree char *instead = wdr_edit_text_for(m, &address);
	wdr_address_clear(&address);
	if (strcmp(instead, m->text) == 0)
		return true;
	if (!read_file(e, m->number, m->file, &text, &len, error))
		return false;
	wdr_edit_add(edit_of(e, m, wdr_hash(text, len)), m->offset, m->line, m->column, m->text,
		instead);
	return true;
}

/* An empty command line is a reason of its own. */
static bool check_not_empty(const Editing *e, GError **error)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();
	g_autofree char *text = NULL;
	size_t len = 0;

	return read_file(e, e->source->system->boot->partition->number, "cmdline.txt", &text, &len,
		       error) &&
	       wdr_kernel_args_read("cmdline.txt", text, len, mentions, remarks, error);
}

/* Two root= words are put right together only when they mean the same. */
static bool check_roots(const Editing *e, GError **error)
{
	const WdrMentions *mentions = e->source->system->mentions;
	const WdrItineraryPart *last = NULL;
	unsigned roots = 0;

	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		WdrItineraryPart *part = NULL;
		if (!is_kernel_root(m))
			continue;
		if (!resolve(e, m, &part, error))
			return false;
		if (roots++ > 0 && part != last) {
			wdr_error_set(error, WDR_ERROR_REFUSED,
				"%s: its root= words name different partitions; the kernel takes the last",
				m->file);
			wdr_error_hint(error, "take the wrong one out on the source first");
			return false;
		}
		last = part;
	}
	if (roots == 0 && !check_not_empty(e, error))
		return false;
	if (roots == 0) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"cmdline.txt has no root= that names a disk: the system as it is would not boot");
		return false;
	}
	if (last->role == WDR_ROLE_ROOT)
		return true;
	return wdr_error_set(error, WDR_ERROR_REFUSED,
		"root= names partition %u, but the system lies on another", last->number);
}

static bool add_diffs(const Editing *e, GError **error)
{
	for (guint i = 0; i < e->it->edits->len; i++) {
		const WdrEdit *edit = e->it->edits->pdata[i];
		g_autofree char *text = NULL;
		g_autoptr(GBytes) bytes = NULL;
		size_t len = 0;
		size_t new_len = 0;
		if (!read_file(e, edit->number, edit->file, &text, &len, error) ||
			!wdr_edit_apply(edit, text, len, &bytes, error))
			return false;
		const char *new_text = g_bytes_get_data(bytes, &new_len);
		const WdrItineraryPart *part = wdr_itinerary_part(e->it, edit->number);
		g_autofree char *name =
			g_strdup_printf("%s:/%s", wdr_role_name(part->role), edit->file);
		g_ptr_array_add(e->it->diffs, wdr_diff(name, text, len, new_text, new_len));
	}
	return true;
}

bool wdr_readdress_edit(
	WdrItinerary *it, const WdrSource *source, const WdrDraftOptions *options, GError **error)
{
	Editing e = { it, source, options };
	const WdrSystem *system = source->system;

	for (guint i = 0; i < system->remarks->len; i++)
		note(&e, "%s", (const char *)system->remarks->pdata[i]);
	if (!check_roots(&e, error))
		return false;
	for (guint i = 0; i < system->mentions->len; i++) {
		const WdrMention *m = system->mentions->pdata[i];
		WdrItineraryPart *part = NULL;
		if (!resolve(&e, m, &part, error) || (part && !edit_mention(&e, m, part, error)))
			return false;
	}
	return add_diffs(&e, error);
}
