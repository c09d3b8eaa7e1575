/* A survey as tables. */
#include "present/show_survey.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/system/finding.h"
#include "plan/unmovable.h"

#include <string.h>

static char *shown(const char *text)
{
	return text ? wdr_escape(text) : NULL;
}

static void show_system(const WdrOut *out, const WdrSurvey *s)
{
	g_autofree char *text = g_strdup_printf("%s on %s%s%s", s->os_name ? s->os_name : "unknown",
		s->host_name ? s->host_name : "unknown host", s->kernel ? ", kernel " : "",
		s->kernel ? s->kernel : "");

	wdr_out_text(out, WDR_STYLE_PLAIN, "system   ");
	wdr_out_hanging(out, WDR_STYLE_PLAIN, 9, text);
}

static void show_warning(const WdrOut *out, const char *name, const char *warning)
{
	g_autofree char *text = g_strdup_printf("%s: %s", name, warning);

	wdr_out_hanging(out, WDR_STYLE_WARNING, 0, text);
}

static void show_machine(const WdrOut *out, const WdrSurvey *s)
{
	if (s->board)
		wdr_out_text(out, WDR_STYLE_PLAIN, "board    %s\n", s->board);
	if (s->os_name || s->host_name)
		show_system(out, s);
	if (s->root_source)
		wdr_out_text(out, WDR_STYLE_PLAIN, "runs on  %s\n", s->root_source);
}

static void show_disks(const WdrOut *out, const WdrSurvey *s)
{
	static const WdrColumn columns[] = { { "DISK", false }, { "MEDIUM", false },
		{ "LINK", false }, { "MODEL", false }, { "SERIAL", false }, { "SIZE", true },
		{ "TABLE", false }, { "BOOT FLOW", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		g_autofree char *name = shown(d->disk->name);
		g_autofree char *model = shown(d->disk->model);
		g_autofree char *serial = shown(d->disk->serial);
		g_autofree char *size = wdr_format_size(d->disk->size);
		g_autofree char *table =
			!d->system
				? g_strdup(d->lacks_rights ? "no rights to read" : "cannot be read")
			: d->system->table->kind == WDR_TABLE_NONE
				? g_strdup("none")
				: g_strdup_printf("%s %s",
					  wdr_table_kind_name(d->system->table->kind),
					  d->system->table->id);
		const char *cells[] = { name, d->disk->medium, d->disk->link, model, serial, size,
			table, d->system ? d->system->flow : NULL };
		wdr_grid_row(g, d->system ? WDR_STYLE_PLAIN : WDR_STYLE_WARNING, cells);
	}
	wdr_grid_print(g, out);
}

/* Outside of the file systems, where no table of partitions shows it. */
static void show_loaders(const WdrOut *out, const WdrSurvey *s)
{
	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		g_autofree char *name = shown(d->disk->name);
		if (d->loader)
			wdr_out_text(
				out, WDR_STYLE_PLAIN, "boot loader on %s: %s\n", name, d->loader);
	}
}

static char *used_text(const WdrSystemPart *p)
{
	if (!p->has_usage)
		return NULL;
	g_autofree char *used = wdr_format_size(p->used_bytes);
	uint64_t size = p->fat.size_bytes ? p->fat.size_bytes : p->ext.size_bytes;
	return g_strdup_printf(
		"%s %u%%", used, (unsigned)((double)p->used_bytes * 100 / (double)MAX(size, 1)));
}

static char *fs_text(const WdrSystemPart *p)
{
	if (p->is_unfinished)
		return g_strdup("unfinished move");
	if (p->fat.width)
		return g_strdup_printf("vfat (FAT%u)", p->fat.width);
	return g_strdup(p->probe.type);
}

static void partition_row(WdrGrid *g, const WdrSurveyDisk *d, guint i)
{
	const WdrSystemPart *p = d->system->parts->pdata[i];
	g_autofree char *name = wdr_survey_part_name(d, p->partition->number);
	g_autofree char *size = wdr_format_size(p->partition->size);
	g_autofree char *used = used_text(p);
	g_autofree char *fs = fs_text(p);
	g_autofree char *label = shown(p->probe.label);
	g_autofree char *mounted = shown(d->mounted->pdata[i]);
	bool is_bad = p->problem || p->is_unfinished;
	const char *cells[] = { name, p->partition->type_name, fs, size, used, label,
		wdr_role_name(p->role), p->partition->is_active ? "yes" : NULL, mounted };

	wdr_grid_row(g, is_bad ? WDR_STYLE_BAD : WDR_STYLE_PLAIN, cells);
}

static void show_partitions(const WdrOut *out, const WdrSurvey *s)
{
	static const WdrColumn columns[] = { { "PARTITION", false }, { "TYPE", false },
		{ "FORMAT", false }, { "SIZE", true }, { "USED", true }, { "LABEL", false },
		{ "ROLE", false }, { "ACTIVE", false }, { "MOUNT", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		for (guint k = 0; d->system && k < d->system->parts->len; k++)
			partition_row(g, d, k);
	}
	fputc('\n', out->file);
	wdr_grid_print(g, out);
}

static void show_identifiers(const WdrOut *out, const WdrSurvey *s)
{
	static const WdrColumn columns[] = { { "PARTITION", false }, { "UUID", false },
		{ "PARTUUID", false }, { "PARTLABEL", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));

	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		for (guint k = 0; d->system && k < d->system->parts->len; k++) {
			const WdrSystemPart *p = d->system->parts->pdata[k];
			g_autofree char *name = wdr_survey_part_name(d, p->partition->number);
			g_autofree char *partlabel = shown(p->partition->name);
			const char *cells[] = { name, p->probe.uuid, p->partition->partuuid,
				partlabel };
			wdr_grid_row(g, WDR_STYLE_PLAIN, cells);
		}
	}
	fputc('\n', out->file);
	wdr_grid_print(g, out);
}

static char *names_text(const WdrFinding *f)
{
	GString *text = g_string_new(NULL);
	const char *role = f->roles->len == 1 ? f->roles->pdata[0] : "";

	for (guint i = 0; i < f->names->len; i++)
		g_string_append_printf(
			text, "%s%s", i ? " and " : "", (const char *)f->names->pdata[i]);
	if (*role)
		g_string_append_printf(text, " (%s)", role);
	return g_string_free(text, FALSE);
}

static void mention_row(WdrGrid *g, const WdrMention *m, const WdrFinding *f)
{
	g_autofree char *place = g_strdup_printf("  %u:%u", m->line, m->column);
	g_autofree char *identifier = shown(m->text);
	g_autofree char *plain = m->entry ? g_strdup_printf("%s in %s", m->what, m->entry) : NULL;
	g_autofree char *what = shown(plain ? plain : m->what);
	g_autofree char *names = names_text(f);
	const char *cells[] = { place, wdr_use_name(m->use), what, identifier, names,
		wdr_mark_name(f->mark) };

	wdr_grid_row(g,
		f->is_grave ? WDR_STYLE_BAD
		: f->mark   ? WDR_STYLE_WARNING
			    : WDR_STYLE_PLAIN,
		cells);
}

/* Advice on mentions, once for all places with the same advice on the same
 * identifier: `lines` (char *) in the order of the first place, `places` (GString) the places of
 * each. */
typedef struct {
	GPtrArray *lines, *places;
} Advice;

static void collect_advice(Advice *a, const char *file, const WdrMention *m, const WdrFinding *f)
{
	g_autofree char *identifier = shown(m->text);

	for (guint i = 0; i < f->advice->len; i++) {
		g_autofree char *line =
			g_strdup_printf("%s: %s", identifier, (const char *)f->advice->pdata[i]);
		guint at = 0;
		if (!g_ptr_array_find_with_equal_func(a->lines, line, g_str_equal, &at)) {
			at = a->lines->len;
			g_ptr_array_add(a->lines, g_steal_pointer(&line));
			g_ptr_array_add(a->places, g_string_new(NULL));
		}
		g_string_append_printf(
			a->places->pdata[at], "  at %s:%u:%u\n", file, m->line, m->column);
	}
}

static void string_free(void *string)
{
	g_string_free(string, TRUE);
}

static char *file_text(const WdrSurveyDisk *d, const WdrMention *m)
{
	g_autofree char *part = wdr_survey_part_name(d, m->number);
	g_autofree char *file = shown(m->file);

	return g_strdup_printf("%s:/%s", part, file);
}

static void show_mentions(const WdrOut *out, const WdrSurvey *s, bool with_advice)
{
	static const WdrColumn columns[] = { { "MENTION", false }, { "USE", false },
		{ "FOR", false }, { "IDENTIFIER", false }, { "NAMES", false }, { "MARK", false } };
	g_autoptr(WdrGrid) g = wdr_grid_new(columns, G_N_ELEMENTS(columns));
	g_autoptr(GPtrArray) lines = g_ptr_array_new_with_free_func(g_free);
	g_autoptr(GPtrArray) places = g_ptr_array_new_with_free_func(string_free);
	Advice advice = { lines, places };
	g_autofree char *last = NULL;

	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		for (guint k = 0; d->system && k < d->system->mentions->len; k++) {
			const WdrMention *m = d->system->mentions->pdata[k];
			g_autoptr(WdrFinding) f = wdr_finding_new(s, d, m);
			g_autofree char *file = file_text(d, m);
			if (g_strcmp0(file, last) != 0)
				wdr_grid_section(g, file);
			mention_row(g, m, f);
			collect_advice(&advice, file, m, f);
			g_free(last);
			last = g_steal_pointer(&file);
		}
	}
	wdr_grid_print(g, out);
	if (with_advice && lines->len)
		fputc('\n', out->file);
	for (guint i = 0; with_advice && i < lines->len; i++) {
		wdr_out_hanging(out, WDR_STYLE_WARNING, 0, lines->pdata[i]);
		fputs(((const GString *)places->pdata[i])->str, out->file);
	}
}

/* A check of the volume that mends what is safe to mend, behind what is wrong with it; e2fsck takes
 * the place within an image. The caller's; "": it is mounted, or in a packed image. */
static char *check_text(const WdrSurveyDisk *d, guint at)
{
	const WdrSystemPart *p = d->system->parts->pdata[at];
	bool is_file = g_file_test(d->disk->path, G_FILE_TEST_IS_REGULAR);

	if (d->mounted->pdata[at] || d->disk->packed)
		return g_strdup("");
	g_autofree char *node =
		wdr_disk_volume_word(d->disk, p->partition->number, p->partition->start);
	g_autofree char *word = wdr_shell_word(node);
	g_autofree char *check = is_file ? g_strdup_printf("e2fsck -fp %s", word)
					 : wdr_system_command("e2fsck", "-fp", node);
	return g_strdup_printf("; to check it: %s", check);
}

static void show_ext_problems(const WdrOut *out, const WdrSurveyDisk *d, guint at, const char *name)
{
	const WdrSystemPart *p = d->system->parts->pdata[at];

	if (!p->ext.has_errors && !p->ext.needs_recovery)
		return;
	g_autofree char *check = check_text(d, at);
	if (p->ext.has_errors)
		wdr_out_text(out, WDR_STYLE_BAD, "%s: the kernel noted errors in this volume%s\n",
			name, check);
	if (p->ext.needs_recovery)
		wdr_out_text(out, WDR_STYLE_WARNING,
			"%s: in use, or not unmounted cleanly: its journal is not empty%s\n", name,
			p->ext.has_errors ? "" : check);
}

static void show_volume_problems(const WdrOut *out, const WdrSurveyDisk *d, guint at)
{
	const WdrSystemPart *p = d->system->parts->pdata[at];
	g_autofree char *name = wdr_survey_part_name(d, p->partition->number);
	const WdrUnmovable *unmovable = wdr_unmovable(p->probe.type);

	if (unmovable)
		wdr_out_text(out, WDR_STYLE_WARNING, "%s: %s, which cannot be %s\n", name,
			unmovable->name,
			unmovable->clashes ? "moved" : "read; it is copied block by block");
	if (p->problem)
		wdr_out_text(out, WDR_STYLE_BAD, "%s: %s\n", name, p->problem);
	if (p->is_unfinished) {
		g_autofree char *resume =
			wdr_command("move", "--resume", d->disk->is_image ? d->disk->path : "");
		wdr_out_text(out, WDR_STYLE_BAD,
			"%s: a move to this disk is unfinished, and it will not boot; to continue: %s\n",
			name, resume);
	}
	show_ext_problems(out, d, at, name);
}

static void show_loader_problem(const WdrOut *out, const WdrSurveyDisk *d)
{
	g_autofree char *command = wdr_command("loader", "--on", d->disk->name);
	g_autofree char *text = g_strdup_printf("%s: %s; to see what is installed for it: %s",
		d->disk->name, d->loader_problem, command);

	wdr_out_hanging(out, WDR_STYLE_BAD, 0, text);
}

static void show_problems(const WdrOut *out, const WdrSurvey *s)
{
	bool lacks_rights = false;

	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		lacks_rights |= d->lacks_rights;
		if (d->problem)
			wdr_out_text(out, WDR_STYLE_WARNING, "%s: %s\n", d->disk->name, d->problem);
		if (d->loader_problem)
			show_loader_problem(out, d);
		for (guint k = 0; d->system && k < d->system->parts->len; k++)
			show_volume_problems(out, d, k);
		if (d->system && d->system->table->damage)
			wdr_out_text(out, WDR_STYLE_BAD, "%s: %s\n", d->disk->name,
				d->system->table->damage);
		for (guint k = 0; d->system && k < d->system->warnings->len; k++)
			show_warning(out, d->disk->name, d->system->warnings->pdata[k]);
	}
	g_autofree char *by_root = wdr_command_by_root();
	if (lacks_rights)
		wdr_out_text(out, WDR_STYLE_WARNING, "to see what is on the disks: %s\n", by_root);
}

static bool has_partitions(const WdrSurvey *s)
{
	for (guint i = 0; i < s->disks->len; i++) {
		const WdrSurveyDisk *d = s->disks->pdata[i];
		if (d->system && d->system->parts->len > 0)
			return true;
	}
	return false;
}

void wdr_present_survey(const WdrOut *out, const WdrSurvey *s, bool only_mentions)
{
	if (!only_mentions) {
		show_machine(out, s);
		if (s->board || s->os_name)
			fputc('\n', out->file);
		show_disks(out, s);
		show_loaders(out, s);
		if (has_partitions(s)) {
			show_partitions(out, s);
			show_identifiers(out, s);
		}
		fputc('\n', out->file);
	}
	show_mentions(out, s, only_mentions);
	show_problems(out, s);
}
