#include "boot/rehearse_priv.h"

#include "base/text.h"
#include "boot/lookup.h"

#include <string.h>

const char *wdr_stage_name(WdrStage stage)
{
	static const char *const names[] = { "medium", "boot volume", "files", "drivers", "root",
		"init", "after root" };

	return names[stage];
}

const char *wdr_verdict_name(WdrVerdict verdict)
{
	static const char *const names[] = { "boots", "boots with remarks", "cannot tell",
		"does not boot" };

	return names[verdict];
}

static void step_free(void *data)
{
	WdrStep *step = data;

	g_free(step->text);
	g_free(step->remedy);
	g_free(step);
}

void wdr_rehearsal_free(WdrRehearsal *r)
{
	if (!r)
		return;
	g_ptr_array_unref(r->steps);
	g_free(r);
}

void wdr_walk_say(
	WdrWalk *w, WdrStage stage, WdrStepKind kind, const char *remedy, const char *format, ...)
{
	WdrStep *step = g_new0(WdrStep, 1);
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	step->stage = stage;
	step->kind = kind;
	step->text = wdr_escape(text);
	step->remedy = g_strdup(remedy);
	g_ptr_array_add(w->steps, step);
}

const WdrSystemPart *wdr_walk_resolve(
	const WdrWalk *w, const WdrAddress *a, const WdrSystem **ret_disk, unsigned *ret_count)
{
	const WdrSystemPart *found = wdr_system_resolve(w->s, a, ret_count);

	*ret_disk = w->s;
	for (guint i = 0; w->others && i < w->others->len; i++) {
		unsigned count = 0;
		const WdrSystem *other = w->others->pdata[i];
		const WdrSystemPart *part = wdr_system_resolve(other, a, &count);
		*ret_count += count;
		if (found || !part)
			continue;
		found = part;
		*ret_disk = other;
	}
	return found;
}

/* ---- the medium, and the volume that the loader reads ---- */

static bool is_marked(const WdrSystem *s, const WdrPartition *p)
{
	static const char efi_guid[] = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";

	return p->is_active ||
	       g_strcmp0(p->type, s->table->kind == WDR_TABLE_GPT ? efi_guid : "ef") == 0;
}

/* U-Boot looks at the marked partitions, and without a mark at the first one alone. */
static bool check_marks(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;
	bool has_marks = false;

	for (guint i = 0; i < s->parts->len; i++)
		has_marks |= is_marked(s, ((const WdrSystemPart *)s->parts->pdata[i])->partition);
	unsigned number = boot->partition->number;
	if (has_marks && !is_marked(s, boot->partition)) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FAULT,
			"mark it instead (sfdisk --activate, or GPT attribute 2), and unmark the other",
			"another partition is marked bootable, so U-Boot does not look at partition %u, "
			"which has the boot files",
			number);
		return false;
	}
	if (!has_marks && number != 1) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FAULT,
			"mark it bootable (sfdisk --activate, or GPT attribute 2)",
			"no partition is marked bootable, so U-Boot looks at the first alone; the boot "
			"files are on partition %u",
			number);
		return false;
	}
	wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FINE, NULL,
		has_marks ? "%s; partition %u is marked bootable"
			  : "%s; no partition is marked bootable: U-Boot takes the first, %u",
		wdr_table_kind_name(s->table->kind), number);
	return true;
}

static bool has_fat_type(const WdrSystem *s, const WdrSystemPart *p)
{
	static const char *const types[] = { "0b", "0c", "0e" };
	bool is_fat = s->table->kind != WDR_TABLE_MBR;

	for (size_t i = 0; i < G_N_ELEMENTS(types); i++)
		is_fat |= g_strcmp0(p->partition->type, types[i]) == 0;
	return is_fat;
}

/* A FAT partition with a lower number; autoboot.txt on it may lead on. NULL: there is none. */
static const WdrSystemPart *earlier_fat(const WdrSystem *s, const WdrSystemPart *boot)
{
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrSystemPart *p = s->parts->pdata[i];
		g_auto(WdrEntry) entry = { 0 };
		if (p->partition->number < boot->partition->number && has_fat_type(s, p) &&
			g_strcmp0(p->probe.type, "vfat") == 0 && p->volume &&
			!wdr_follow(p->volume, "autoboot.txt", NULL, NULL, &entry))
			return p;
	}
	return NULL;
}

static bool check_firmware_medium(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;

	if (!has_fat_type(s, boot)) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FAULT,
			"give it type 0c (sfdisk --part-type)",
			"partition %u has type %s, which the firmware does not take for a FAT partition",
			boot->partition->number, boot->partition->type);
		return false;
	}
	const WdrSystemPart *earlier = earlier_fat(s, boot);
	if (earlier) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FAULT,
			"give that one another type, or put the boot files on it",
			"the firmware reads the first FAT partition, %u; the boot files are on %u",
			earlier->partition->number, boot->partition->number);
		return false;
	}
	if (s->table->kind == WDR_TABLE_GPT)
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_REMARK, NULL,
			"a GPT is read by boards with firmware in an EEPROM only (4 and 5 series)");
	else
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FINE, NULL, "%s; partition %u is FAT",
			wdr_table_kind_name(s->table->kind), boot->partition->number);
	return true;
}

/* U-Boot 2023.01 reads metadata_csum_seed and orphan_file, and fails on inline_data. The others
 * were not tried. */
static bool check_features(WdrWalk *w, const WdrSystemPart *boot)
{
	static const char *const untried[] = { "encrypt", "casefold", "bigalloc" };
	g_auto(GStrv) features =
		g_strsplit_set(boot->ext.features ? boot->ext.features : "", " ,", -1);

	for (size_t i = 0; i < G_N_ELEMENTS(untried); i++) {
		if (g_strv_contains((const char *const *)features, untried[i]))
			wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STEP_REMARK, NULL,
				"partition %u is ext4 with %s; whether U-Boot reads that is not known",
				boot->partition->number, untried[i]);
	}
	if (!g_strv_contains((const char *const *)features, "inline_data"))
		return true;
	wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STEP_FAULT,
		"make the volume anew without it (a move keeps features as they are)",
		"partition %u is ext4 with inline_data, which U-Boot (2023.01) cannot read",
		boot->partition->number);
	return false;
}

static bool check_medium(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrSystem *s = w->s;
	bool is_firmware = g_strcmp0(s->flow, "firmware") == 0;

	if (boot->is_unfinished) {
		wdr_walk_say(w, WDR_STAGE_MEDIUM, WDR_STEP_FAULT,
			"go on with it: wanderitas move --resume",
			"this disk is the target of an unfinished move");
		return false;
	}
	if (!(is_firmware ? check_firmware_medium : check_marks)(w, boot) ||
		(!is_firmware && !check_features(w, boot)))
		return false;
	wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STEP_FINE, NULL, "%s on partition %u (%s)",
		is_firmware                           ? "config.txt and cmdline.txt"
		: g_strcmp0(s->flow, "extlinux") == 0 ? "extlinux/extlinux.conf"
						      : "boot.scr",
		boot->partition->number, boot->probe.type);
	return true;
}

/* ---- the ways, in turn ---- */

static void forget_way(WdrWalk *w)
{
	wdr_kernel_clear(&w->kernel);
	w->kernel = (WdrKernel){ 0 };
	g_clear_pointer(&w->initramfs, wdr_initramfs_free);
	g_clear_pointer(&w->modules, wdr_modules_free);
	g_clear_pointer(&w->root_type, g_free);
}

/* What made the loader give ways up is a remark when a later one can be loaded. */
static void soften(WdrWalk *w, guint from, guint to)
{
	for (guint i = from; i < to; i++) {
		WdrStep *step = w->steps->pdata[i];
		if (step->kind == WDR_STEP_FAULT)
			step->kind = WDR_STEP_REMARK;
	}
}

/* A loader goes on to the next way when files are missing; what fails later ends the start. */
static void walk_ways(WdrWalk *w, const WdrWays *ways)
{
	guint first = w->steps->len;

	for (guint i = 0; i < ways->ways->len; i++) {
		const WdrWay *way = ways->ways->pdata[i];
		const WdrWay *next = i + 1 < ways->ways->len ? ways->ways->pdata[i + 1] : NULL;
		guint before = w->steps->len;
		forget_way(w);
		w->way = way;
		if (way->doubt) {
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STEP_DOUBT, NULL,
				"what the script does here is known when it runs: %s", way->doubt);
			return;
		}
		if (wdr_walk_files(w, ways->part)) {
			soften(w, first, before);
			if (wdr_walk_drivers(w) && wdr_walk_root(w) && wdr_walk_init(w))
				wdr_walk_after(w);
			return;
		}
		if (next)
			wdr_walk_say(w, WDR_STAGE_FILES, WDR_STEP_REMARK, NULL,
				"%s cannot be loaded; U-Boot falls back to %s", way->name,
				next->name);
	}
}

static void judge(WdrRehearsal *r)
{
	static const WdrVerdict verdicts[] = { WDR_VERDICT_BOOTS, WDR_VERDICT_REMARKS,
		WDR_VERDICT_FAILS, WDR_VERDICT_UNKNOWN };

	for (guint i = 0; i < r->steps->len; i++) {
		const WdrStep *step = r->steps->pdata[i];
		WdrVerdict v = verdicts[step->kind];
		if (v > r->verdict) {
			r->verdict = v;
			r->reason = v >= WDR_VERDICT_UNKNOWN ? step : NULL;
		}
	}
}

WdrRehearsal *wdr_rehearse(const WdrSystem *s, const WdrRehearsing *how)
{
	WdrRehearsal *r = g_new0(WdrRehearsal, 1);
	g_autoptr(WdrWays) ways = wdr_ways_find(s);
	WdrWalk w = { .s = s, .medium = how->medium, .others = how->others };

	w.steps = r->steps = g_ptr_array_new_with_free_func(step_free);
	bool goes_on = ways->part && ways->part->volume && check_medium(&w, ways->part);
	for (guint i = 0; i < ways->remarks->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT, WDR_STEP_REMARK, NULL, "%s",
			(const char *)ways->remarks->pdata[i]);
	for (guint i = 0; i < ways->faults->len; i++)
		wdr_walk_say(&w, WDR_STAGE_BOOT,
			ways->ways->len && goes_on ? WDR_STEP_REMARK : WDR_STEP_FAULT, NULL, "%s",
			(const char *)ways->faults->pdata[i]);
	if (goes_on)
		walk_ways(&w, ways);
	forget_way(&w);
	judge(r);
	return r;
}
