/* Judges each mention against all disks that were seen. */
#include "boot/system/finding.h"

#include "base/command.h"
#include "base/text.h"
#include "boot/formats/rewrite.h"

#include <string.h>

void wdr_finding_free(WdrFinding *f)
{
	if (!f)
		return;
	g_ptr_array_unref(f->names);
	g_ptr_array_unref(f->roles);
	g_ptr_array_unref(f->advice);
	g_free(f);
}

const char *wdr_mark_name(WdrMark mark)
{
	static const char *const names[] = { "", "no such disk", "ambiguous", "on another disk",
		"not edited" };

	return names[mark];
}

static void advise(WdrFinding *f, const char *format, ...) G_GNUC_PRINTF(2, 3);
static void advise(WdrFinding *f, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_ptr_array_add(f->advice, wdr_escape(text));
}

/* ---- what it names ---- */

typedef struct {
	WdrFinding *finding;
	const WdrSurvey *survey;
	const WdrMention *mention;
	const WdrSurveyDisk *from;
	const WdrSurveyDisk *other; /* the last one that it names and that is at rest */
	bool is_elsewhere, is_case_off;
} Looking;

static void look_at(Looking *l, const WdrSurveyDisk *d)
{
	for (guint i = 0; d->system && i < d->system->parts->len; i++) {
		const WdrSystemPart *p = d->system->parts->pdata[i];
		WdrIdentity id = wdr_system_identity(d->system, p);
		if (!wdr_identifier_matches(&l->mention->identifier, &id))
			continue;
		g_ptr_array_add(l->finding->names, wdr_survey_part_name(d, p->partition->number));
		g_ptr_array_add(l->finding->roles, (void *)wdr_role_name(p->role));
		l->is_elsewhere |= d != l->from;
		if (!d->is_live)
			l->other = d;
		l->is_case_off |= wdr_identifier_is_case_off(&l->mention->identifier, &id);
	}
}

/* A device path in an image means a place on that image, not on this machine's disks; a partition's
 * number always one of its own disk. */
static bool is_on_its_own(const WdrSurveyDisk *from, const WdrMention *m)
{
	return m->identifier.kind == WDR_BY_NUMBER ||
	       (m->identifier.kind == WDR_BY_PATH && from->disk->is_image);
}

static void resolve(Looking *l)
{
	const WdrSurvey *s = l->survey;

	if (is_on_its_own(l->from, l->mention)) {
		look_at(l, l->from);
		return;
	}
	for (guint i = 0; i < s->disks->len; i++)
		look_at(l, s->disks->pdata[i]);
	for (guint i = 0; i < s->others->len && !l->from->disk->is_image; i++)
		look_at(l, s->others->pdata[i]);
}

/* ---- what is to be said ---- */

/* What is wrong, and the command that shows how the disk's own mentions would be corrected. */
static void advise_correction(const Looking *l, const char *what)
{
	const WdrSurveyDisk *d = l->from;
	g_autofree char *fix =
		wdr_command("readdress", d->is_live ? "--running" : wdr_disk_word(d->disk));

	advise(l->finding, "%s; to correct it: %s", what, fix);
}

/* The kernel takes whichever it sees first. */
static void advise_renewal(const Looking *l)
{
	static const char what[] = "the kernel takes whichever of them it sees first";

	if (!l->other) {
		advise(l->finding, "%s", what);
		return;
	}
	g_autofree char *renew = wdr_command("readdress", wdr_disk_word(l->other->disk), "--renew");
	advise(l->finding, "%s; to give one of them new identifiers: %s", what, renew);
}

static void judge_root(const Looking *l)
{
	const WdrMention *m = l->mention;
	WdrFinding *f = l->finding;
	bool is_lost =
		!m->has_initramfs && wdr_needs_initramfs(m->identifier.kind, m->identifier.is_link);

	if (!m->is_kernel || m->use != WDR_USE_ROOT || !m->is_default)
		return;
	f->is_grave |= is_lost || f->names->len != 1;
	if (is_lost) {
		g_autofree char *form =
			g_ascii_strup(wdr_identifier_kind_name(m->identifier.kind), -1);
		g_autofree char *what = g_strdup_printf(
			"no initramfs is loaded, and the kernel alone does not find its root by %s: it "
			"would wait for it forever",
			m->identifier.is_link ? "a link" : form);
		advise_correction(l, what);
	}
	if (f->names->len == 0)
		advise_correction(l, "the kernel would not find its root");
	else if (f->names->len > 1)
		advise_renewal(l);
}

static void judge_form(const Looking *l)
{
	const WdrMention *m = l->mention;
	WdrFinding *f = l->finding;
	bool is_system = m->use == WDR_USE_ROOT || m->use == WDR_USE_BOOT;

	if (f->names->len > 1 && m->identifier.kind == WDR_BY_LABEL)
		advise(f, "%u volumes have the label '%s'", f->names->len, m->identifier.value);
	if (f->names->len == 1 && m->identifier.kind == WDR_BY_PATH)
		advise(f, "a device path: the name changes with the disks that are plugged in");
	if (l->is_case_off)
		advise_correction(l,
			"capital and small letters are not as in the real one: the kernel does not mind, but "
			"there is no such link under /dev/disk");
	if (f->names->len == 0 && is_system && !m->is_kernel)
		advise_correction(l, "the system would wait for it at each boot");
}

WdrFinding *wdr_finding_new(const WdrSurvey *s, const WdrSurveyDisk *from, const WdrMention *m)
{
	WdrFinding *f = g_new0(WdrFinding, 1);
	Looking l = { .finding = f, .survey = s, .mention = m, .from = from };

	f->names = g_ptr_array_new_with_free_func(g_free);
	f->roles = g_ptr_array_new();
	f->advice = g_ptr_array_new_with_free_func(g_free);
	resolve(&l);
	f->mark = f->names->len == 0  ? WDR_MARK_NOTHING
		  : f->names->len > 1 ? WDR_MARK_TWO
		  : l.is_elsewhere    ? WDR_MARK_ELSEWHERE
		  : m->frozen         ? WDR_MARK_LEFT
				      : WDR_MARK_NONE;
	if (m->frozen) {
		advise(f, "not edited automatically: %s", m->frozen);
		return f;
	}
	judge_root(&l);
	judge_form(&l);
	return f;
}
