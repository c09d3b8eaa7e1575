/* The first program, and what it mounts. */
#include "base/command.h"
#include "boot/formats/fstab.h"

#include "boot/rehearse/rehearse_priv.h"
#include "volume/lookup.h"

#include <string.h>

enum { PROGRAM_BYTES_MAX = 64 * 1024 * 1024, LIBRARY_CHECKS_MAX = 512 };

/* ---- init ---- */

static bool fail_init(WdrWalk *w, const char *path, const char *why)
{
	wdr_walk_say(w, WDR_STAGE_INIT, WDR_STATE_STOP, "install it again", "/%s: %s", path, why);
	return false;
}

/* Folders that the dynamic loader looks in besides those that a program names. */
static const char *const library_folders[] = { "lib", "usr/lib", "lib64", "usr/lib64",
	"lib/aarch64-linux-gnu", "usr/lib/aarch64-linux-gnu", "lib/arm-linux-gnueabihf",
	"usr/lib/arm-linux-gnueabihf", "lib/x86_64-linux-gnu", "usr/lib/x86_64-linux-gnu",
	"lib/riscv64-linux-gnu", "usr/lib/riscv64-linux-gnu", "usr/local/lib" };

static bool is_in(const WdrWalk *w, const char *folder, const char *name)
{
	g_autofree char *path = g_strdup_printf("%s/%s", folder, name);
	g_auto(WdrEntry) entry = { 0 };

	return wdr_follow(w->root->volume, path, NULL, NULL, &entry) && entry.kind == WDR_KIND_FILE;
}

static bool has_library(const WdrWalk *w, const char *of, const WdrProgram *p, const char *name)
{
	g_autofree char *own = g_path_get_dirname(of);

	for (guint i = 0; i < p->folders->len; i++) {
		g_auto(GStrv) parts = g_strsplit(p->folders->pdata[i], "$ORIGIN", 2);
		g_autofree char *folder = g_strjoinv(own, parts);
		if (is_in(w, folder, name))
			return true;
	}
	for (size_t i = 0; i < G_N_ELEMENTS(library_folders); i++) {
		if (is_in(w, library_folders[i], name))
			return true;
	}
	return false;
}

static bool check_libraries(WdrWalk *w, const char *path, const WdrProgram *p)
{
	for (guint i = 0; i < p->needed->len && i < LIBRARY_CHECKS_MAX; i++) {
		const char *name = p->needed->pdata[i];
		if (has_library(w, path, p, name))
			continue;
		g_autofree char *why =
			g_strdup_printf("the library %s that it needs is missing", name);
		return fail_init(w, path, why);
	}
	return true;
}

/* One program: there, executable, for this processor, with its interpreter. */
static bool check_program(WdrWalk *w, const char *path, unsigned depth)
{
	g_auto(WdrEntry) entry = { 0 };
	g_auto(WdrProgram) p = { 0 };
	g_autoptr(GError) error = NULL;
	g_autofree char *end = NULL;
	size_t len = 0;

	if (!wdr_follow(w->root->volume, path, &end, NULL, &entry))
		return fail_init(w, path, "it is not there, or a link that leads nowhere");
	if (entry.kind != WDR_KIND_FILE || (entry.mode & 0111) == 0)
		return fail_init(w, path, "it is not executable");
	g_autofree char *bytes = wdr_follow_read(w->root->volume, end, PROGRAM_BYTES_MAX, &len);
	if (!bytes || !wdr_program_look(bytes, len, &p, &error))
		return fail_init(w, path, error ? error->message : "it cannot be read");
	if (!wdr_cpu_runs(w->kernel.cpu, p.cpu)) {
		g_autofree char *why = g_strdup_printf("it is for %s, the kernel for %s",
			wdr_cpu_name(p.cpu), wdr_cpu_name(w->kernel.cpu));
		return fail_init(w, path, why);
	}
	if (p.interpreter && depth < 4 && !check_program(w, p.interpreter + 1, depth + 1))
		return false;
	return check_libraries(w, end, &p);
}

/* The first of the usual ones that may be executed, as the kernel and what initramfs archives run
 * choose it; NULL after a fault. (At last the kernel would try /bin/sh, which is no start.) */
static const char *choose_init(WdrWalk *w)
{
	static const char *const usual[] = { "sbin/init", "etc/init", "bin/init" };
	const char *passed_over = NULL;

	for (size_t i = 0; i < G_N_ELEMENTS(usual); i++) {
		g_auto(WdrEntry) entry = { 0 };
		if (!wdr_follow(w->root->volume, usual[i], NULL, NULL, &entry))
			continue;
		if (entry.kind == WDR_KIND_FILE && (entry.mode & 0111)) {
			if (passed_over)
				wdr_walk_say(w, WDR_STAGE_INIT, WDR_STATE_WARNING, "chmod +x",
					"/%s is not executable; /%s is run instead", passed_over,
					usual[i]);
			return usual[i];
		}
		passed_over = passed_over ? passed_over : usual[i];
	}
	(void)fail_init(w, passed_over ? passed_over : usual[0],
		passed_over
			? "it is not executable, and there is no other"
			: "it is not there, or a link that leads nowhere; nor is there /etc/init or "
			  "/bin/init");
	return NULL;
}

bool wdr_walk_init(WdrWalk *w)
{
	g_autofree char *named = wdr_walk_argument(w, "init");
	const char *path = named && *named == '/' ? named + 1 : choose_init(w);

	if (!path)
		return false;
	if (!check_program(w, path, 0))
		return false;
	wdr_walk_say(w, WDR_STAGE_INIT, WDR_STATE_OK, NULL, "/%s can be executed", path);
	return true;
}

/* ---- fstab ---- */

/* An entry that names nothing here. */
static void judge_missing(WdrWalk *w, const WdrFstabLine *l)
{
	bool is_root = strcmp(l->point, "/") == 0;
	bool is_swap = strcmp(l->type, "swap") == 0;
	g_autofree char *fix = wdr_walk_readdress(w, NULL);

	if (wdr_fstab_has_option(l, "noauto"))
		return;
	if (wdr_fstab_has_option(l, "nofail") || is_root || is_swap)
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING, fix,
			"/etc/fstab:%u: %s matches no partition of this disk%s", l->line, l->device,
			is_swap   ? ": the boot waits 90 s for it"
			: is_root ? ": / stays as the kernel arguments say"
				  : ": it is skipped (nofail)");
	else
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_STOP, fix,
			"/etc/fstab:%u: %s (%s) matches no partition of this disk: the boot "
			"waits 90 s for it and "
			"ends in emergency mode",
			l->line, l->device, l->point);
}

/* By the means of a running system, which tell capitals apart. */
static bool resolves(const WdrWalk *w, const char *text, unsigned *count)
{
	WdrIdentifier a = { 0 };

	*count = 1;
	/* No disk: tmpfs, a share, a file. */
	if (!wdr_identifier_parse(text, &a))
		return true;
	const WdrSystem *disk = NULL;
	const WdrSystemPart *part = wdr_walk_resolve(w, &a, &disk, count);
	bool is_found = part != NULL;
	if (part) {
		WdrIdentity id = wdr_system_identity(disk, part);
		is_found = !wdr_identifier_is_case_off(&a, &id);
	}
	wdr_identifier_clear(&a);
	return is_found;
}

static void judge_line(WdrWalk *w, const WdrFstabLine *l)
{
	g_autofree char *fix = wdr_walk_readdress(w, "--renew");
	unsigned count = 0;

	if (!resolves(w, l->device, &count))
		judge_missing(w, l);
	else if (count > 1)
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING, fix,
			"/etc/fstab:%u: %s names two partitions: which one is mounted is chance",
			l->line, l->device);
}

static void walk_fstab(WdrWalk *w)
{
	size_t len = 0;
	g_autofree char *text =
		wdr_follow_read(w->root->volume, "etc/fstab", WDR_BOOT_FILE_BYTES_MAX, &len);
	g_autoptr(GPtrArray) lines = wdr_fstab_lines(text ? text : "", len);
	guint before = w->steps->len;

	for (guint i = 0; i < lines->len; i++)
		judge_line(w, lines->pdata[i]);
	if (!text && wdr_system_is_unread(w->root_disk, "etc/fstab"))
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_UNKNOWN, NULL,
			"etc/fstab cannot be read (too large, or damaged): what it mounts is not known");
	else if (!text)
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING, NULL,
			"there is no etc/fstab: nothing but root is mounted");
	else if (w->steps->len == before)
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_OK, NULL,
			w->others ? "every disk in /etc/fstab is present"
				  : "every disk in /etc/fstab is this one");
}

/* ---- what else names a disk ---- */

static void walk_mentions(WdrWalk *w)
{
	g_autofree char *fix = wdr_walk_readdress(w, NULL);

	for (guint i = 0; i < w->root_disk->mentions->len; i++) {
		const WdrMention *m = w->root_disk->mentions->pdata[i];
		bool is_seen = m->use == WDR_USE_ROOT || strcmp(m->file, "etc/fstab") == 0 ||
			       m->identifier.kind == WDR_BY_NUMBER;
		const WdrSystem *disk = NULL;
		unsigned count = 0;
		if (is_seen || m->frozen || wdr_walk_resolve(w, &m->identifier, &disk, &count))
			continue;
		/* What a volume of data is called elsewhere, readdress cannot know. */
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING,
			m->use == WDR_USE_OTHER ? "correct the line by hand, or remove it" : fix,
			"/%s:%u: %s matches no partition of this disk", m->file, m->line, m->text);
	}
}

static void walk_module_folder(WdrWalk *w)
{
	g_autofree char *path =
		w->kernel.release ? g_strdup_printf("lib/modules/%s", w->kernel.release) : NULL;
	g_auto(WdrEntry) entry = { 0 };

	if (path && !wdr_follow(w->root->volume, path, NULL, NULL, &entry))
		wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING,
			"install the kernel's package again",
			"/%s is not there: what the kernel has as modules is missing", path);
}

/* ---- disks that may come back ---- */

/* The part of another disk that has one of this part's identifiers; NULL: none. */
static const WdrSystemPart *twin_of(const WdrSystemPart *p, const WdrSystem *other)
{
	for (guint i = 0; i < other->parts->len; i++) {
		const WdrSystemPart *o = other->parts->pdata[i];
		bool is_same_volume = p->probe.uuid && g_strcmp0(p->probe.uuid, o->probe.uuid) == 0;
		bool is_same_partition =
			p->partition->partuuid &&
			g_strcmp0(p->partition->partuuid, o->partition->partuuid) == 0;
		if (is_same_volume || is_same_partition)
			return o;
	}
	return NULL;
}

/* Of this disk, or of the other one while the system runs from this. The caller's. */
static char *renewal(const WdrWalk *w, const WdrSystem *other)
{
	return w->how->fix_on || !other->home
		       ? wdr_walk_readdress(w, "--renew")
		       : wdr_command("readdress", other->home, "--renew", "--write");
}

/* Alone it starts; with the other one in again, both are called the same. */
static void walk_twins(WdrWalk *w)
{
	for (guint k = 0; w->away && k < w->away->len; k++) {
		const WdrSystem *other = w->away->pdata[k];
		for (guint i = 0; i < w->s->parts->len; i++) {
			const WdrSystemPart *p = w->s->parts->pdata[i];
			const WdrSystemPart *twin = twin_of(p, other);
			if (!twin)
				continue;
			g_autofree char *fix = renewal(w, other);
			wdr_walk_say(w, WDR_STAGE_AFTER, WDR_STATE_WARNING, fix,
				"partition %u has the same identifier as partition %u of %s: never boot "
				"with both plugged in",
				p->partition->number, twin->partition->number,
				other->home ? other->home : "the other disk");
			return;
		}
	}
}

void wdr_walk_after(WdrWalk *w)
{
	walk_fstab(w);
	walk_mentions(w);
	walk_module_folder(w);
	walk_twins(w);
}
