/* What the kernel needs before root is there, and root itself. */
#include "boot/rehearse/root_drivers.h"

#include "base/command.h"
#include "boot/board/boot_support.h"
#include "boot/rehearse/rehearse_priv.h"

#include <string.h>

/* ---- kernel arguments ---- */

/* As the kernel takes them apart: blanks end a word but between double quotes. */
static GPtrArray *words_of(const char *text)
{
	GPtrArray *words = g_ptr_array_new_with_free_func(g_free);
	bool is_quoted = false;

	for (const char *at = text; *at;) {
		while (*at == ' ' || *at == '\t')
			at++;
		const char *start = at;
		for (; *at && (is_quoted || (*at != ' ' && *at != '\t')); at++)
			is_quoted ^= *at == '"';
		if (at > start)
			g_ptr_array_add(words, g_strndup(start, (size_t)(at - start)));
	}
	return words;
}

/* The last one counts, as for the kernel. Quotes around a value are not part of it. */
char *wdr_walk_argument(const WdrWalk *w, const char *key)
{
	g_autoptr(GPtrArray) words = words_of(w->entry->arguments ? w->entry->arguments : "");
	size_t len = strlen(key);
	char *found = NULL;

	for (guint i = 0; i < words->len; i++) {
		const char *word = words->pdata[i];
		if (strncmp(word, key, len) != 0 || word[len] != '=')
			continue;
		g_free(found);
		const char *value = word + len + 1;
		size_t value_len = strlen(value);
		bool is_quoted = value_len >= 2 && *value == '"' && value[value_len - 1] == '"';
		found = is_quoted ? g_strndup(value + 1, value_len - 2) : g_strdup(value);
	}
	return found;
}

bool wdr_walk_has_word(const WdrWalk *w, const char *word)
{
	g_autoptr(GPtrArray) words = words_of(w->entry->arguments ? w->entry->arguments : "");

	return g_ptr_array_find_with_equal_func(words, word, g_str_equal, NULL);
}

/* ---- drivers ---- */

/* Which modules the kernel has is known from its own release, from the initramfs, or, when neither
 * tells, from root, if that has modules of one kernel only. */
void wdr_walk_find_modules(WdrWalk *w)
{
	const char *known = w->kernel.release ? w->kernel.release
			    : w->initramfs    ? w->initramfs->release
					      : NULL;

	w->modules = wdr_drivers_modules(w->root ? w->root : w->s->root, known, &w->release);
	if (!w->release)
		w->release = g_strdup(known);
}

/* Adds what is missing to the initramfs. */
static char *add_drivers_command(const WdrWalk *w)
{
	const WdrRehearsing *how = w->how;
	bool is_other_medium = how->medium && g_strcmp0(how->medium, w->s->medium) != 0;

	return wdr_command("drivers", how->fix_on ? "--on" : "", how->fix_on ? how->fix_on : "",
		how->fix_for ? "--for" : "", how->fix_for ? how->fix_for : "",
		is_other_medium ? "--medium" : "",
		is_other_medium ? wdr_medium_word(how->medium) : "", "--write");
}

/* In the initramfs, with what it needs and cannot do without. */
static bool walk_packed_driver(WdrWalk *w, const char *name, const char *what)
{
	const char *missing = wdr_driver_missing_need(w->modules, w->initramfs, name);
	const WdrModuleWish *wish = wdr_driver_missing_wish(w->modules, w->initramfs, name);
	g_autofree char *fix = add_drivers_command(w);

	if (missing)
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_STOP, fix,
			"%s: %s is in the initramfs, but not %s, which it needs", what, name,
			missing);
	else if (wish)
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_STOP, fix,
			"%s: %s is in the initramfs, but nothing that provides the %s it asks for (%s)",
			what, name, wish->name, (const char *)wish->givers->pdata[0]);
	else
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_OK, NULL, "%s: %s is in the initramfs",
			what, name);
	return !missing && !wish;
}

/* One driver: built in, or in the initramfs. */
static bool walk_driver(WdrWalk *w, const char *name, const char *what)
{
	WdrDriverLocation where = wdr_driver_location(w->modules, w->initramfs, name);
	g_autofree char *fix = add_drivers_command(w);

	switch (where) {
	case WDR_DRIVER_BUILT_IN:
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_OK, NULL,
			"%s: %s is built into the kernel", what, name);
		return true;
	case WDR_DRIVER_IN_INITRAMFS:
		return walk_packed_driver(w, name, what);
	case WDR_DRIVER_UNKNOWN:
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_UNKNOWN, NULL,
			"%s: %s is not in the initramfs, and it is unknown what the kernel has "
			"built in (root has no modules.builtin for it)",
			what, name);
		return true;
	case WDR_DRIVER_ON_ROOT:
	case WDR_DRIVER_ABSENT:
		break;
	}
	wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_STOP,
		where == WDR_DRIVER_ON_ROOT ? fix : "install a kernel that has it",
		where == WDR_DRIVER_ON_ROOT
			? "%s: the %s driver is only on the root disk itself; it must be in the "
			  "initramfs for the kernel to mount root"
			: "%s: this kernel has no %s",
		what, name);
	return false;
}

/* What the disk that root is on will be. */
static const char *medium_of_root(const WdrWalk *w)
{
	return w->root_disk == w->s ? w->medium : w->root_disk->medium;
}

/* Which disk root is on decides which drivers are needed; what is wrong with it is reported later.
 */
static void look_for_root(WdrWalk *w)
{
	g_autofree char *value = wdr_walk_argument(w, "root");
	WdrIdentifier a = { 0 };
	unsigned count = 0;

	w->root = NULL;
	w->root_disk = w->s;
	if (!value || !wdr_identifier_parse(value, &a))
		return;
	w->root = wdr_walk_resolve(w, &a, &w->root_disk, &count);
	wdr_identifier_clear(&a);
}

/* What drives the buses between that disk and the processor on this machine. Another kernel may
 * have another name for what it does not know by this one. */
static bool walk_buses(WdrWalk *w)
{
	const GPtrArray *modules = w->root_disk->modules;
	bool is_other_medium =
		w->root_disk->medium && g_strcmp0(medium_of_root(w), w->root_disk->medium) != 0;
	bool is_fine = true;

	for (guint i = 0; is_fine && !is_other_medium && i < modules->len; i++) {
		const char *name = modules->pdata[i];
		bool is_known =
			w->modules && wdr_modules_state(w->modules, name) != WDR_MODULE_ABSENT;
		if (!is_known)
			wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_WARNING, NULL,
				"the running kernel drives it with %s too, which nothing is known of "
				"with this kernel",
				name);
		else
			is_fine = walk_driver(w, name, "its buses");
	}
	return is_fine;
}

/* A disk that is not seen here may be behind a bridge of the newer kind. */
static void walk_uas(WdrWalk *w, const char *medium)
{
	WdrDriverLocation where = wdr_driver_location(w->modules, w->initramfs, WDR_DRIVER_UAS);
	g_autofree char *fix = add_drivers_command(w);
	bool is_seen =
		w->root_disk->modules->len > 0 && g_strcmp0(medium, w->root_disk->medium) == 0;

	if (g_strcmp0(medium, "USB disk") == 0 && !is_seen && where == WDR_DRIVER_ON_ROOT)
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_WARNING, fix,
			"USB disk: " WDR_DRIVER_UAS
			" is a module on root, not in the initramfs: usb_storage "
			"leaves bridges that speak UAS to it, and behind one root is not found");
}

/* What an /init of somebody's own does is known when it runs. */
static void walk_generator(WdrWalk *w)
{
	if (w->initramfs && w->initramfs->has_init && !wdr_initramfs_generator(w->initramfs))
		wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_WARNING,
			"create it with the initramfs generator of the system",
			"the initramfs was made by no generator that is known: whether its /init loads "
			"drivers, and finds root by its root=, is not known");
}

/* Order: the medium's own driver, what drives the buses to it, then root's file system. A medium
 * that nobody named is a warning, not a stop: an image may go anywhere. */
bool wdr_walk_drivers(WdrWalk *w)
{
	bool is_fine = true;

	walk_generator(w);
	look_for_root(w);
	wdr_walk_find_modules(w);
	const char *medium = medium_of_root(w);
	const char *const *modules = wdr_medium_modules(medium);
	w->root_type = wdr_walk_argument(w, "rootfstype");
	for (size_t i = 0; is_fine && modules && modules[i]; i++)
		is_fine = walk_driver(w, modules[i], medium);
	if (is_fine)
		walk_uas(w, medium);
	if (modules)
		return is_fine && walk_buses(w) && walk_driver(w, "ext4", "root's file system");
	wdr_walk_say(w, WDR_STAGE_DRIVER, WDR_STATE_WARNING, NULL,
		"it is unknown how it will be attached, and so which drivers it needs; rehearse "
		"takes --medium");
	return walk_driver(w, "ext4", "root's file system");
}

/* ---- root ---- */

static bool fail_root(WdrWalk *w, const char *why, const char *hint)
{
	g_autofree char *value = wdr_walk_argument(w, "root");

	wdr_walk_say(w, WDR_STAGE_ROOT, WDR_STATE_STOP, hint, "root=%s (%s): %s",
		value ? value : "", w->entry->arguments_said, why);
	return false;
}

/* The same where other identifiers would help; option: of readdress, or NULL. */
static bool fail_root_name(WdrWalk *w, const char *why, const char *option)
{
	g_autofree char *fix = wdr_walk_readdress(w, option);

	return fail_root(w, why, fix);
}

/* The kernel calls a disk by what it is attached as: a name that the disk had elsewhere is none
 * here. */
static bool check_device_name(WdrWalk *w, const WdrIdentifier *a)
{
	static const struct {
		const char *prefix, *media[3];
	} names[] = { { "/dev/mmcblk", { "SD card", "eMMC", NULL } },
		{ "/dev/nvme", { "NVMe", NULL } }, { "/dev/sd", { "USB disk", "disk", NULL } } };
	const char *medium = medium_of_root(w);
	bool is_known = false;
	bool is_right = false;
	bool is_judged = false;

	if (a->kind != WDR_BY_PATH || a->is_link || !medium)
		return true;
	for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
		bool is_of_medium = g_strv_contains(names[i].media, medium);
		bool is_so_called = g_str_has_prefix(a->value, names[i].prefix);
		is_known |= is_of_medium;
		is_judged |= is_so_called;
		is_right |= is_of_medium && is_so_called;
	}
	if (!is_known || !is_judged || is_right)
		return true;
	g_autofree char *why = g_strdup_printf("attached as %s, no disk is called so", medium);
	return fail_root_name(w, why, "--name-by=partuuid");
}

/* Who looks for it, and whether that can find it by such a name. */
static bool check_resolver(WdrWalk *w, const WdrIdentifier *a, const WdrSystemPart *part)
{
	bool is_by_kernel = !w->initramfs || !w->initramfs->has_init;
	WdrIdentity id = wdr_system_identity(w->root_disk, part);

	if (is_by_kernel && (a->kind == WDR_BY_UUID || a->kind == WDR_BY_LABEL))
		return fail_root_name(w,
			"without an initramfs the kernel finds root by device path, PARTUUID and PARTLABEL "
			"alone",
			"--name-by=partuuid");
	if (is_by_kernel && a->is_link)
		return fail_root_name(
			w, "the kernel knows no links below /dev/disk", "--name-by=partuuid");
	/* The kernel folds the case of PARTUUID; what an initramfs uses does not fold anything. */
	if (wdr_identifier_is_case_off(a, &id) && !(is_by_kernel && a->kind == WDR_BY_PARTUUID))
		return fail_root_name(w,
			"it is written in other capitals than the disk's own, and is not found",
			NULL);
	return true;
}

/* The kernel tries the file systems of rootfstype= alone. */
static bool check_type(WdrWalk *w, const WdrSystemPart *part)
{
	g_auto(GStrv) types = g_strsplit(w->root_type ? w->root_type : "", ",", -1);

	if (!w->root_type || g_strv_contains((const char *const *)types, part->probe.type))
		return true;
	g_autofree char *why = g_strdup_printf("rootfstype=%s, but partition %u is %s",
		w->root_type, part->partition->number, part->probe.type);
	return fail_root(w, why, "put rootfstype= right");
}

/* Without an initramfs nobody waits for the disk unless rootwait or rootdelay= say so. USB disks
 * always come late; others may. */
static bool check_wait(WdrWalk *w)
{
	g_autofree char *delay = wdr_walk_argument(w, "rootdelay");
	bool is_by_kernel = !w->initramfs || !w->initramfs->has_init;
	const char *medium = medium_of_root(w);
	bool is_slow = g_strcmp0(medium, "USB disk") == 0;

	if (!is_by_kernel || delay || wdr_walk_has_word(w, "rootwait"))
		return true;
	wdr_walk_say(w, WDR_STAGE_ROOT, is_slow ? WDR_STATE_STOP : WDR_STATE_WARNING,
		"add rootwait to the kernel arguments",
		"%s: no rootwait: the kernel looks for root once, and a %s may not be there yet",
		w->entry->arguments_said, medium ? medium : "disk");
	return !is_slow;
}

/* ---- mount options ---- */

/* Those that ext4 knows: Linux's Documentation/admin-guide/ext4.rst and ext4_param_specs. */
static const char *const ext_options[] = { "abort", "acl", "auto_da_alloc", "barrier",
	"block_validity", "bsddf", "bsdgroups", "commit", "data", "data_err", "dax", "debug",
	"debug_want_extra_isize", "delalloc", "dioread_lock", "dioread_nolock", "discard", "errors",
	"fast_commit", "grpid", "grpjquota", "grpquota", "i_version", "init_itable", "inlinecrypt",
	"inode_readahead_blks", "journal_async_commit", "journal_checksum", "journal_dev",
	"journal_ioprio", "journal_path", "jqfmt", "lazytime", "max_batch_time", "max_dir_size_kb",
	"mblk_io_submit", "min_batch_time", "minixdf", "no_prefetch_block_bitmaps", "noacl",
	"noauto_da_alloc", "nobarrier", "noblock_validity", "nodelalloc", "nodioread_nolock",
	"nodiscard", "nogrpid", "noinit_itable", "nojournal_checksum", "nolazytime", "noload",
	"nombcache", "nomblk_io_submit", "noquota", "norecovery", "nouid32", "nouser_xattr",
	"nowarn_on_error", "oldalloc", "orlov", "prefetch_block_bitmaps", "prjquota", "quota",
	"resgid", "resuid", "sb", "stripe", "sysvgroups", "user_xattr", "usrjquota", "usrquota",
	"warn_on_error", NULL };
/* And those that are no file system's own; the program mount turns them into flags, */
static const char *const mount_options[] = { "async", "atime", "auto", "defaults", "dev",
	"diratime", "exec", "noatime", "nodev", "nodiratime", "noexec", "norelatime",
	"nostrictatime", "nosuid", "relatime", "strictatime", "suid", NULL };
/* while the kernel by itself takes these alone. */
static const char *const kernel_options[] = { "dirsync", "mand", "ro", "rw", "sync", NULL };

/* An option that is not known makes the mount of root fail, and the boot ends there. */
static bool check_flags(WdrWalk *w)
{
	g_autofree char *flags = wdr_walk_argument(w, "rootflags");
	g_auto(GStrv) list = g_strsplit(flags ? flags : "", ",", -1);
	bool is_by_kernel = !w->initramfs || !w->initramfs->has_init;

	for (size_t i = 0; list[i]; i++) {
		g_autofree char *name = g_strndup(list[i], strcspn(list[i], "="));
		if (!*name || g_strv_contains(ext_options, name) ||
			g_strv_contains(kernel_options, name) ||
			(!is_by_kernel && g_strv_contains(mount_options, name)))
			continue;
		g_autofree char *why =
			g_strdup_printf("rootflags=%s: %s does not know the mount option %s", flags,
				is_by_kernel ? "without an initramfs the kernel" : "ext4", name);
		return fail_root(w, why, "remove it; /etc/fstab can have options for /");
	}
	return true;
}

/* What root= names on the disks that stay in, and whether whoever looks for it (kernel or
 * initramfs) can find and mount it. The first thing that cannot work ends the walk. */
bool wdr_walk_root(WdrWalk *w)
{
	g_autofree char *value = wdr_walk_argument(w, "root");
	WdrIdentifier a = { 0 };
	unsigned count = 0;

	if (!value)
		return fail_root(
			w, "no root= among the kernel arguments", "add one: root=PARTUUID=...");
	if (!wdr_identifier_parse(value, &a))
		return fail_root(w, "it names no disk", NULL);
	w->root = wdr_walk_resolve(w, &a, &w->root_disk, &count);
	bool is_fine = true;
	if (!w->root)
		is_fine = fail_root_name(w,
			w->others ? "it names nothing on the disks that are plugged in"
				  : "it matches no partition of this disk",
			NULL);
	else if (count > 1)
		is_fine = fail_root_name(w, "it names two partitions", "--renew");
	else if (!check_device_name(w, &a) || !check_resolver(w, &a, w->root) ||
		 !check_type(w, w->root) || !check_wait(w) || !check_flags(w))
		is_fine = false;
	else if (!w->root->volume)
		is_fine = fail_root(w, "there is no volume that can be read", NULL);
	wdr_identifier_clear(&a);
	if (is_fine)
		wdr_walk_say(w, WDR_STAGE_ROOT, WDR_STATE_OK, NULL,
			"root=%s is partition %u (%s)%s%s", value, w->root->partition->number,
			w->root->probe.type, w->root_disk == w->s ? "" : " of ",
			w->root_disk == w->s ? ""
			: w->root_disk->home ? w->root_disk->home
					     : "another disk");
	return is_fine;
}
