/* Turns mentions and new identifiers into edits of files.
 *
 * For each mention: which partition does it name, what is that partition's identifier going to be,
 * and in which form may it be written there. Each edited file is read once more by the reader of
 * its format before it is believed: no mention, root or default entry may have got lost. */
#include "plan/draft_edits.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/formats/extlinux.h"
#include "boot/formats/rewrite.h"
#include "plan/logical_partitions.h"
#include "plan/root_only.h"
#include "plan/running_source.h"

#include <string.h>

/* What the kernel of a 64-bit board takes of a command line, the closing 0 included. */
enum { KERNEL_LINE_BYTES_MAX = 2048 };

typedef struct {
	WdrItinerary *it;
	WdrSystem *system;
	const WdrDraftOptions *options;
} Editing;

static void note(const Editing *e, const char *format, ...) G_GNUC_PRINTF(2, 3);
static void note(const Editing *e, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	if (!g_ptr_array_find_with_equal_func(e->it->notes, text, g_str_equal, NULL))
		g_ptr_array_add(e->it->notes, g_steal_pointer(&text));
}

static bool is_format(const WdrMention *m, const char *name)
{
	return m->format && strcmp(m->format->name, name) == 0;
}

static bool is_kernel_root(const WdrMention *m)
{
	return m->is_kernel && m->use == WDR_USE_ROOT && !m->frozen;
}

/* ---- which partition a mention means ---- */

/* The old disk's name for itself and the partition's number, where the identifier tells both:
 * PARTUUIDs of an MBR ("4c1fa2b0", 2) and device paths ("mmcblk0", 2). */
static bool old_place(const WdrIdentifier *a, char **ret_disk, unsigned *ret_number)
{
	if (a->kind == WDR_BY_PATH)
		return wdr_identifier_split_path(a->value, ret_disk, ret_number);
	if (a->kind != WDR_BY_PARTUUID || strlen(a->value) != 11 || a->value[8] != '-')
		return false;
	g_autofree char *disk = g_strndup(a->value, 8);
	*ret_disk = g_ascii_strdown(disk, -1);
	*ret_number = (unsigned)g_ascii_strtoull(a->value + 9, NULL, 16);
	return true;
}

/* A menu's further entries may mean another system on purpose. */
static const WdrSystemPart *part_of_role(const Editing *e, const WdrMention *m)
{
	if (m->use == WDR_USE_ROOT && (m->is_default || !m->entry))
		return e->system->root;
	/* With UEFI there may be two: the firmware's, and /boot. */
	bool is_other = e->system->other_boot && strcmp(m->what, "/boot") == 0;
	if (m->use == WDR_USE_BOOT)
		return is_other ? e->system->other_boot : e->system->boot;
	if (m->use != WDR_USE_SWAP && m->use != WDR_USE_RESUME)
		return NULL;
	const WdrSystemPart *swap = NULL;
	for (guint i = 0; i < e->system->parts->len; i++) {
		const WdrSystemPart *p = e->system->parts->pdata[i];
		if (p->role == WDR_ROLE_SWAP && swap)
			return NULL;
		swap = p->role == WDR_ROLE_SWAP ? p : swap;
	}
	return swap;
}

/* The disk was once called so: a mention of its root or boot by that name has the number that root
 * or boot still has here. */
static bool was_called(const Editing *e, const char *disk)
{
	for (guint i = 0; i < e->system->mentions->len; i++) {
		const WdrMention *m = e->system->mentions->pdata[i];
		const WdrSystemPart *part = part_of_role(e, m);
		g_autofree char *name = NULL;
		unsigned number = 0;
		if (!m->frozen && part && old_place(&m->identifier, &name, &number) &&
			strcmp(name, disk) == 0 && number == part->partition->number)
			return true;
	}
	return false;
}

/* What another mention calls by the same identifier and by its role: GRUB searches for the UUID
 * that fstab mounts as root. */
static const WdrSystemPart *part_so_called(const Editing *e, const WdrMention *m)
{
	for (guint i = 0; i < e->system->mentions->len; i++) {
		const WdrMention *other = e->system->mentions->pdata[i];
		if (!other->frozen && other->identifier.kind == m->identifier.kind &&
			g_ascii_strcasecmp(other->identifier.value, m->identifier.value) == 0 &&
			part_of_role(e, other))
			return part_of_role(e, other);
	}
	return NULL;
}

/* A mention that names nothing on a disk that was copied by other means still tells which of the
 * disk's partitions was meant: by its use, or by its number on the disk that this one was. */
static const WdrSystemPart *part_meant(const Editing *e, const WdrMention *m)
{
	g_autofree char *disk = NULL;
	unsigned number = 0;

	if (e->it->what != WDR_MOVE_NOTHING)
		return NULL;
	const WdrSystemPart *part = part_of_role(e, m);
	if (!part)
		part = part_so_called(e, m);
	if (part || !old_place(&m->identifier, &disk, &number) || !was_called(e, disk))
		return part;
	return wdr_system_part(e->system, number);
}

/* The part that a mention names; NULL: none, or several: *ret_count says how many. */
static const WdrSystemPart *meant_by(const Editing *e, const WdrMention *m, unsigned *ret_count)
{
	const WdrSystemPart *part = wdr_system_resolve(e->system, &m->identifier, ret_count);

	if (*ret_count == 0 && (part = part_meant(e, m)))
		*ret_count = 1;
	return *ret_count == 1 ? part : NULL;
}

/* The same, if it is moved. */
static WdrItineraryPart *part_of(const Editing *e, const WdrMention *m, unsigned *ret_count)
{
	const WdrSystemPart *part = meant_by(e, m, ret_count);

	return part ? wdr_itinerary_part(e->it, part->partition->number) : NULL;
}

/* ---- what starts must have a root ---- */

/* Without settings a script's own words count; of a loader that nobody knows, all entries. */
static bool is_effective_root(const WdrMention *m, bool has_default)
{
	static const char *const others[] = { "image", "script", "loader-entry", "grub",
		"efi-program", NULL };
	bool is_other = m->format && g_strv_contains(others, m->format->name);

	return is_kernel_root(m) && (has_default ? m->is_default : is_other);
}

static bool has_default_root(const Editing *e)
{
	for (guint i = 0; i < e->system->mentions->len; i++) {
		const WdrMention *m = e->system->mentions->pdata[i];
		if (is_kernel_root(m) && m->is_default)
			return true;
	}
	return false;
}

/* Where the boot flow would have it. */
static const char *root_file(const Editing *e)
{
	if (g_strcmp0(e->system->flow, "extlinux") == 0)
		return "extlinux.conf's default entry";
	if (g_strcmp0(e->system->flow, "UEFI") == 0)
		return "the boot loader's default entry";
	return g_strcmp0(e->system->flow, "firmware") == 0 ? "cmdline.txt"
							   : "the loader script's settings";
}

static bool no_root(const Editing *e, GError **error)
{
	for (guint i = 0; i < e->system->warnings->len; i++) {
		const char *warning = e->system->warnings->pdata[i];
		if (strstr(warning, "the kernel command line is empty"))
			return wdr_error_set(error, WDR_ERROR_REFUSED, "%s", warning);
	}
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"%s has no root= that names a disk: the system as it is would not boot",
		root_file(e));
	wdr_error_hint(error, "add root=PARTUUID=... there first");
	return false;
}

static bool bad_root(const Editing *e, const WdrMention *m, unsigned count, GError **error)
{
	bool is_running = wdr_running_is(e->system);
	g_autofree char *fix = wdr_command("readdress",
		is_running ? "--running" : wdr_itinerary_disk_word(&e->it->source), "--write");

	wdr_error_set(error, WDR_ERROR_REFUSED, "%s:%u: root=%s %s", m->file, m->line, m->text,
		count ? "names two volumes of this disk" : "matches no partition of this disk");
	wdr_error_hint(error, "the source would not boot as it is; to correct it: %s", fix);
	return false;
}

/* A script that works its root out by itself follows the disk that it was started from. */
static bool is_left_to_script(const Editing *e)
{
	if (g_strcmp0(e->system->flow, "loader script") != 0 || e->it->what == WDR_MOVE_ROOT)
		return false;
	note(e, "no file says which partition the loader script takes as root: it finds that out "
		"itself, which cannot be known without booting it");
	return true;
}

static bool check_roots(const Editing *e, GError **error)
{
	const WdrMentions *mentions = e->system->mentions;
	const WdrSystemPart *last = NULL;
	bool has_default = has_default_root(e);
	unsigned roots = 0;

	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		unsigned count = 0;
		if (!is_effective_root(m, has_default))
			continue;
		const WdrSystemPart *part = meant_by(e, m, &count);
		if (count != 1)
			return bad_root(e, m, count, error);
		if (roots++ > 0 && part != last) {
			wdr_error_set(error, WDR_ERROR_REFUSED,
				"%s: its root= words name different partitions; the kernel takes the last",
				m->file);
			wdr_error_hint(error, "take the wrong one out on the source first");
			return false;
		}
		last = part;
	}
	/* A disk with a root alone: its boot files are elsewhere. */
	if (roots == 0 && !e->system->flow && e->it->what == WDR_MOVE_NOTHING)
		return true;
	if (roots == 0)
		return is_left_to_script(e) || no_root(e, error);
	if (last == e->system->root)
		return true;
	return wdr_error_set(error, WDR_ERROR_REFUSED,
		"root= names partition %u, but the system lies on another",
		last->partition->number);
}

/* ---- one mention ---- */

static bool read_file(const Editing *e, unsigned number, const char *file, char **ret,
	size_t *ret_len, GError **error)
{
	const WdrSystemPart *part = wdr_system_part(e->system, number);

	if (!wdr_volume_read_file(part->volume, file, WDR_EDITED_BYTES_MAX, ret, ret_len, error))
		return false;
	return *ret ? true : wdr_error_set(error, WDR_ERROR_FORMAT, "/%s is gone", file);
}

/* Changes in place come last of all in a move: what would stop them is better known now. */
static bool check_in_place(const Editing *e, const WdrMention *m, GError **error)
{
	const WdrSystemPart *p = wdr_system_part(e->system, m->number);
	bool is_ext = p->volume && strcmp(p->volume->ops->type, "ext4") == 0;
	const WdrVolumeSpan on = { e->system->dev, p->partition->start, p->partition->size };

	return !is_ext || wdr_ext_check_replace(&on, m->file, error);
}

static bool edit_of(
	const Editing *e, const WdrMention *m, bool is_on_source, WdrEdit **ret, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	*ret = wdr_itinerary_edit(e->it, m->number, m->file, is_on_source);
	if (*ret)
		return true;
	bool is_in_place = is_on_source || e->it->what == WDR_MOVE_NOTHING;
	if (!read_file(e, m->number, m->file, &text, &len, error) ||
		(is_in_place && !check_in_place(e, m, error)))
		return false;
	*ret = wdr_edit_new(m->number, m->file, wdr_hash(text, len));
	(*ret)->is_image = m->format->is_image;
	(*ret)->is_on_source = is_on_source;
	(*ret)->format = m->format;
	g_ptr_array_add(e->it->edits, *ret);
	return true;
}

static bool rewrite(const Editing *e, const WdrMention *m, const WdrItineraryPart *part, char **ret,
	GError **error)
{
	WdrIdentity to = wdr_itinerary_identity(e->it, part);
	WdrNaming naming = { e->options->has_name_by, e->options->name_by,
		e->options->keep_identifiers, e->system->has_initramfs };
	g_autofree char *why = NULL;
	bool is_fine = wdr_rewrite(m, &to, &naming, ret, &why, error);

	if (why)
		note(e, "%s", why);
	return is_fine;
}

/* Identifiers that stay true in any case: readdress leaves them alone. Written in other capitals
 * they match for us, but not for everybody who reads them; and the kernel alone finds nothing by a
 * UUID: those are rewritten. */
static bool is_still_true(const Editing *e, const WdrMention *m, const WdrItineraryPart *part)
{
	WdrIdentity to = wdr_itinerary_identity(e->it, part);
	bool is_understood = !m->is_kernel || m->has_initramfs ||
			     !wdr_needs_initramfs(m->identifier.kind, m->identifier.is_link);

	return is_understood && e->it->what == WDR_MOVE_NOTHING && !e->options->has_name_by &&
	       wdr_identifier_matches(&m->identifier, &to) &&
	       !wdr_identifier_is_case_off(&m->identifier, &to);
}

static bool edit_mention(const Editing *e, const WdrMention *m, const WdrItineraryPart *part,
	bool is_on_source, GError **error)
{
	g_autofree char *instead = NULL;
	WdrEdit *edit = NULL;

	if (is_still_true(e, m, part))
		return true;
	if (!rewrite(e, m, part, &instead, error))
		return false;
	if (strcmp(instead, m->text) == 0)
		return true;
	if (!edit_of(e, m, is_on_source, &edit, error))
		return false;
	wdr_edit_add(edit, m->offset, m->line, m->column, m->text, instead);
	return true;
}

/* ---- boot files that stay on the source (--what root) ---- */

/* extlinux: the old entry stays, a second one is added. */
static bool add_choice(
	const Editing *e, const WdrMention *m, const WdrItineraryPart *part, GError **error)
{
	g_autofree char *root = NULL;
	g_autofree char *text = NULL;
	size_t len = 0;
	WdrEdit *edit = NULL;

	if (!m->is_default || wdr_itinerary_edit(e->it, m->number, m->file, true))
		return true;
	if (!rewrite(e, m, part, &root, error) ||
		!read_file(e, m->number, m->file, &text, &len, error) ||
		!edit_of(e, m, true, &edit, error))
		return false;
	/* Two of a kind are distinguished by what they are now. */
	bool is_same_kind = strcmp(e->it->source.medium, e->it->target.medium) == 0;
	WdrExtlinuxChoice choice = { is_same_kind ? "old disk" : e->it->source.medium,
		is_same_kind ? "new disk" : e->it->target.medium, root };
	return wdr_extlinux_add_choice(text, len, &choice, edit, error);
}

static bool edit_boot_file(
	const Editing *e, const WdrMention *m, const WdrItineraryPart *part, GError **error)
{
	/* Settings that make the old entry stay, too. */
	bool is_script = is_format(m, "image") || is_format(m, "script");
	if (is_script && has_default_root(e))
		return true;
	return is_format(m, "extlinux") ? add_choice(e, m, part, error)
					: edit_mention(e, m, part, true, error);
}

/* Boot files are those of the boot volume, or of root's boot folder; the latter are copied to the
 * new root as well, where they are edited like all the rest. */
static bool edit_for_root(
	const Editing *e, const WdrMention *m, const WdrItineraryPart *part, GError **error)
{
	const WdrSystemPart *other = e->system->other_boot;
	bool is_boot_file = m->number == wdr_system_boot_part(e->system)->partition->number &&
			    g_str_has_prefix(m->file, e->system->boot_folder);
	/* GRUB reads its menu from the root that it finds: from the new one, then. */
	is_boot_file |= other && other != e->system->root && m->number == other->partition->number;
	bool is_copied = m->number == e->system->root->partition->number;

	return (!is_boot_file || edit_boot_file(e, m, part, error)) &&
	       (!is_copied || edit_mention(e, m, part, false, error));
}

/* ---- all of them ---- */

static bool take_mention(const Editing *e, const WdrMention *m, GError **error)
{
	unsigned count = 0;
	const WdrItineraryPart *part = part_of(e, m, &count);

	if (m->frozen) {
		if (count > 0 && !is_format(m, "autoboot"))
			note(e, "%s:%u: %s is left as it is: %s", m->file, m->line, m->text,
				m->frozen);
		return true;
	}
	if (count != 1) {
		note(e, "%s:%u: %s (%s) %s; it is left as it is", m->file, m->line, m->text,
			m->what,
			count ? "names two volumes of this disk"
			      : "matches no partition of this disk");
		return true;
	}
	/* With --what root only the root is moved: what names another partition stays true. */
	if (!part)
		return true;
	return e->it->what == WDR_MOVE_ROOT ? edit_for_root(e, m, part, error)
					    : edit_mention(e, m, part, false, error);
}

/* ---- do the edits make things worse? ---- */

typedef struct {
	unsigned roots, defaults, mentions;
	size_t longest;
} Reading;

static bool read_again(const WdrEdit *edit, GBytes *bytes, Reading *ret, GError **error)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	size_t len = 0;
	const char *data = g_bytes_get_data(bytes, &len);
	g_autofree char *text = g_malloc(len + 1);

	memcpy(text, data, len);
	text[len] = '\0';
	WdrReading r = { edit->file, text, len, 0, mentions, warnings };
	if (!edit->format->read(&r, error))
		return false;
	*ret = (Reading){ .mentions = mentions->len };
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		ret->roots += is_kernel_root(m) ? 1 : 0;
		ret->defaults += is_kernel_root(m) && m->is_default ? 1 : 0;
	}
	for (WdrLine line = wdr_lines(text, len); wdr_line_next(&line);)
		ret->longest = MAX(ret->longest, line.end - line.at);
	return true;
}

/* The reader sees in the new file what it saw in the old one, or an entry more. */
static bool check_edit(const WdrEdit *edit, GBytes *before, GBytes *after, GError **error)
{
	static const char *const for_kernel[] = { "kernel-arguments", "extlinux", "loader-entry",
		"settings" };
	Reading was;
	Reading is;
	bool is_for_kernel = false;

	if (!read_again(edit, before, &was, error) || !read_again(edit, after, &is, error))
		return false;
	if (is.mentions < was.mentions || is.roots < was.roots || is.defaults != was.defaults)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the edit of /%s would lose a mention or a default; nothing is changed",
			edit->file);
	for (size_t i = 0; i < G_N_ELEMENTS(for_kernel); i++)
		is_for_kernel |= strcmp(edit->format->name, for_kernel[i]) == 0;
	if (!is_for_kernel || is.longest < KERNEL_LINE_BYTES_MAX || is.longest <= was.longest)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"the edit of /%s would make a line of %zu characters; the kernel takes %d",
		edit->file, is.longest, KERNEL_LINE_BYTES_MAX - 1);
	wdr_error_hint(error, "shorten the line on the source first, or use a shorter --name-by");
	return false;
}

static bool finish_edit(const Editing *e, const WdrEdit *edit, GError **error)
{
	g_autofree char *bytes = NULL;
	g_autoptr(GBytes) after = NULL;
	size_t len = 0;
	size_t new_len = 0;

	if (!read_file(e, edit->number, edit->file, &bytes, &len, error) ||
		!wdr_edit_apply(edit, bytes, len, &after, error))
		return false;
	g_autoptr(GBytes) before = g_bytes_new(bytes, len);
	if (!check_edit(edit, before, after, error))
		return false;
	const WdrSystemPart *part = wdr_system_part(e->system, edit->number);
	g_autofree char *name = g_strdup_printf("%s:/%s", wdr_role_name(part->role), edit->file);
	const char *old_text = NULL;
	const char *new_text = NULL;
	size_t old_len = 0;
	wdr_edit_shown(edit, bytes, len, &old_text, &old_len);
	const char *new_bytes = g_bytes_get_data(after, &new_len);
	wdr_edit_shown(edit, new_bytes, new_len, &new_text, &new_len);
	g_ptr_array_add(e->it->diffs, wdr_diff(name, old_text, old_len, new_text, new_len));
	return true;
}

bool wdr_edits_make(
	WdrItinerary *it, WdrSystem *system, const WdrDraftOptions *options, GError **error)
{
	Editing e = { it, system, options };

	for (guint i = 0; i < system->warnings->len; i++)
		note(&e, "%s", (const char *)system->warnings->pdata[i]);
	if (!check_roots(&e, error))
		return false;
	for (guint i = 0; i < system->mentions->len; i++) {
		if (!take_mention(&e, system->mentions->pdata[i], error))
			return false;
	}
	if (it->what == WDR_MOVE_ROOT && !wdr_root_only_edit(it, system, error))
		return false;
	for (guint i = 0; i < it->edits->len; i++) {
		if (!finish_edit(&e, it->edits->pdata[i], error))
			return false;
	}
	return true;
}

bool wdr_edit_read(const WdrSystem *system, const WdrEdit *edit, GBytes **ret, GError **error)
{
	const WdrSystemPart *p = wdr_system_part(system, edit->number);
	g_autofree char *text = NULL;
	size_t len = 0;

	if (!p || !p->volume)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"partition %u of the source, which holds /%s, is gone", edit->number,
			edit->file);
	if (!wdr_volume_read_file(p->volume, edit->file, WDR_EDITED_BYTES_MAX, &text, &len, error))
		return false;
	if (!text)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is gone from partition %u",
			edit->file, edit->number);
	return wdr_edit_apply(edit, text, len, ret, error);
}
