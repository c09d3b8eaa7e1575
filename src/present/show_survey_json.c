/* A survey as JSON. */
#include "present/show_survey.h"

#include "base/json.h"
#include "base/state.h"
#include "boot/system/finding.h"

static json_t *part_json(const WdrSurveyDisk *d, guint i)
{
	const WdrSystemPart *p = d->system->parts->pdata[i];
	g_autofree char *name = wdr_survey_part_name(d, p->partition->number);

	return json_pack(
		"{s:i, s:o, s:I, s:I, s:o, s:o, s:b, s:o, s:o, s:o, s:o, s:o, s:s, s:o, s:b, s:o}",
		"number", (int)p->partition->number, "name", wdr_json_text(name), "start",
		(json_int_t)p->partition->start, "size", (json_int_t)p->partition->size, "type",
		wdr_json_text(p->partition->type), "type_name",
		wdr_json_text(p->partition->type_name), "active", p->partition->is_active, "fs",
		wdr_json_text(p->probe.type), "uuid", wdr_json_text(p->probe.uuid), "label",
		wdr_json_text(p->probe.label), "partuuid", wdr_json_text(p->partition->partuuid),
		"partlabel", wdr_json_text(p->partition->name), "role", wdr_role_name(p->role),
		"used", p->has_usage ? json_integer((json_int_t)p->used_bytes) : json_null(),
		"unfinished", p->is_unfinished, "mounted_at", wdr_json_text(d->mounted->pdata[i]));
}

static json_t *mention_json(const WdrSurvey *s, const WdrSurveyDisk *d, const WdrMention *m)
{
	g_autoptr(WdrFinding) f = wdr_finding_new(s, d, m);
	WdrState state = f->is_grave                 ? WDR_STATE_STOP
			 : f->mark || f->advice->len ? WDR_STATE_WARNING
						     : WDR_STATE_OK;

	return json_pack(
		"{s:i, s:o, s:i, s:i, s:o, s:s, s:o, s:o, s:o, s:o, s:o, s:s, s:o, s:o, s:o}",
		"partition", (int)m->number, "file", wdr_json_text(m->file), "line", (int)m->line,
		"column", (int)m->column, "format",
		wdr_json_text(m->format ? m->format->name : NULL), "use", wdr_use_name(m->use),
		"for", wdr_json_text(m->what), "entry", wdr_json_text(m->entry), "identifier",
		wdr_json_text(m->text), "names", wdr_json_texts(f->names), "roles",
		wdr_json_texts(f->roles), "state", wdr_state_name(state), "finding",
		f->mark ? json_string(wdr_mark_name(f->mark)) : json_null(), "hints",
		wdr_json_texts(f->advice), "not_edited_because", wdr_json_text(m->frozen));
}

static json_t *disk_json(const WdrSurvey *s, const WdrSurveyDisk *d)
{
	json_t *parts = json_array();
	json_t *mentions = json_array();
	json_t *warnings = d->system ? wdr_json_texts(d->system->warnings) : json_array();

	for (guint i = 0; d->system && i < d->system->parts->len; i++)
		json_array_append_new(parts, part_json(d, i));
	for (guint i = 0; d->system && i < d->system->mentions->len; i++)
		json_array_append_new(mentions, mention_json(s, d, d->system->mentions->pdata[i]));
	return json_pack(
		"{s:o, s:o, s:s, s:o, s:o, s:o, s:I, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o}",
		"name", wdr_json_text(d->disk->name), "path",
		wdr_json_text(wdr_disk_file_named(d->disk)), "medium", d->disk->medium, "link",
		wdr_json_text(d->disk->link), "model", wdr_json_text(d->disk->model), "serial",
		wdr_json_text(d->disk->serial), "size", (json_int_t)d->disk->size, "table",
		d->system ? json_string(wdr_table_kind_name(d->system->table->kind)) : json_null(),
		"table_id", wdr_json_text(d->system ? d->system->table->id : NULL), "boot_flow",
		wdr_json_text(d->system ? d->system->flow : NULL), "boot_loader",
		wdr_json_text(d->loader), "boot_loader_problem", wdr_json_text(d->loader_problem),
		"problem", wdr_json_text(d->problem), "partitions", parts, "mentions", mentions,
		"warnings", warnings);
}

void wdr_present_survey_json(FILE *file, const WdrSurvey *s)
{
	json_t *disks = json_array();

	for (guint i = 0; i < s->disks->len; i++)
		json_array_append_new(disks, disk_json(s, s->disks->pdata[i]));
	g_autoptr(json_t) root = json_pack("{s:s, s:o, s:o, s:o, s:o, s:o, s:o}", "format",
		"wanderitas-survey/2", "board", wdr_json_text(s->board), "system",
		wdr_json_text(s->os_name), "host", wdr_json_text(s->host_name), "kernel",
		wdr_json_text(s->kernel), "runs_on", wdr_json_text(s->root_source), "disks", disks);
	wdr_json_print(root, file);
}
