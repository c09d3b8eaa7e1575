/* The order of U-Boot: boot_targets in its environment. */
#include "change/order_priv.h"

#include "base/command.h"
#include "base/io.h"
#include "base/text.h"
#include "boot/board/boot_support.h"

#include <string.h>

enum { INITIAL_BYTES_MAX = 1024 * 1024 };

static const struct {
	const char *prefix, *words;
	const char *media[2]; /* as in WdrDisk */
} targets[] = {
	{ "mmc", "SD or eMMC", { "SD card", "eMMC" } },
	{ "nvme", "NVMe", { "NVMe" } },
	{ "usb", "USB", { "USB disk" } },
	{ "scsi", "SATA", { "disk" } },
	{ "sata", "SATA", { "disk" } },
	{ "ide", "IDE", { "disk" } },
	{ "pxe", "the network", { NULL } },
	{ "dhcp", "the network", { NULL } },
	{ "virtio", "a virtual disk", { NULL } },
	{ "ubifs", "raw flash", { NULL } },
};

/* A kind, and which of them where it is not the only one: "nvme0". *ret is its row. */
static bool is_known(const char *name, size_t *ret)
{
	for (*ret = 0; *ret < G_N_ELEMENTS(targets); (*ret)++) {
		size_t len = strlen(targets[*ret].prefix);
		if (strncmp(name, targets[*ret].prefix, len) == 0 &&
			name[len + strspn(name + len, "0123456789")] == '\0')
			return true;
	}
	return false;
}

static bool is_for(const char *name, const char *medium)
{
	size_t k = 0;

	return is_known(name, &k) && (g_strcmp0(targets[k].media[0], medium) == 0 ||
					     g_strcmp0(targets[k].media[1], medium) == 0);
}

/* ---- what there is ---- */

static void tell_copies(WdrOrderPlan *p)
{
	for (size_t i = 0; i < p->env->n; i++) {
		const WdrEnvCopy *c = &p->env->copies[i];
		g_autofree char *place = wdr_uboot_env_location(c);
		wdr_facts_add(p->facts, "environment", !c->is_sound,
			"%s, %" G_GUINT64_FORMAT " bytes%s%s", place, c->size,
			c->is_sound ? (c == p->env->current ? ": in force" : ": the other copy")
				    : ": not sound: ",
			c->is_sound ? "" : c->problem);
	}
}

static const char *stored_targets(const WdrOrderPlan *p)
{
	return p->env && p->env->values ? g_hash_table_lookup(p->env->values, "boot_targets")
					: NULL;
}

static void tell_targets(WdrOrderPlan *p, const char *name, const char *list)
{
	g_auto(GStrv) names = g_strsplit(list, " ", -1);
	g_autoptr(GString) words = g_string_new(NULL);
	WdrOrderTold *told = wdr_order_told(p, name, list);
	size_t k = 0;

	for (size_t i = 0; names[i]; i++) {
		if (!*names[i])
			continue;
		g_ptr_array_add(told->tries,
			g_strdup_printf("%s (%s)",
				is_known(names[i], &k) ? targets[k].words : "something else",
				names[i]));
		g_string_append_printf(words, "%s%s", words->len ? ", then " : "",
			(char *)told->tries->pdata[told->tries->len - 1]);
	}
	wdr_facts_add(p->facts, name, false, "%s", words->str);
}

static void tell(WdrOrderPlan *p)
{
	if (!p->env) {
		wdr_facts_add(p->facts, "order", true,
			"the order that U-Boot has built in, which is unknown: no "
			"/etc/fw_env.config says where its "
			"environment is");
		return;
	}
	tell_copies(p);
	if (!p->env->current)
		wdr_facts_add(p->facts, "order", true,
			"the order that U-Boot has built in, which is unknown: it has no "
			"environment that it could use");
	else if (!stored_targets(p))
		wdr_facts_add(p->facts, "order", true,
			"the order that U-Boot has built in, which is unknown: its environment "
			"has no boot_targets");
	else
		tell_targets(p, "order", stored_targets(p));
	if (p->env->current && !wdr_uboot_env_is_usual(p->env))
		wdr_facts_add(p->facts, "bootcmd", true,
			"is not the usual one: it is unknown whether it uses boot_targets");
}

/* ---- changing it ---- */

/* Which of the list's names it is; NULL: an error was set. The caller's. */
static char *name_of(char *const *list, const char *first, GError **error)
{
	const char *medium = wdr_medium_of_word(first);
	const char *found = NULL;
	unsigned count = 0;

	if (!medium)
		return g_strdup(first);
	for (size_t i = 0; list[i]; i++) {
		if (!is_for(list[i], medium))
			continue;
		if (!found)
			found = list[i];
		count++;
	}
	if (count > 1) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"more than one of U-Boot's targets can be %s", medium);
		g_autofree char *one = wdr_command_again("--first", found);
		wdr_error_hint(error, "nothing was changed; for the first of them: %s", one);
		return NULL;
	}
	return found ? g_strdup(found) : g_strdup_printf("%s0", first);
}

static char *with_first(const char *list, const char *first, GError **error)
{
	g_auto(GStrv) names = g_strsplit(list, " ", -1);
	g_autofree char *name = name_of(names, first, error);
	GString *out = NULL;

	if (!name)
		return NULL;
	out = g_string_new(name);
	for (size_t i = 0; names[i]; i++) {
		if (*names[i] && strcmp(names[i], name) != 0)
			g_string_append_printf(out, " %s", names[i]);
	}
	return g_string_free(out, FALSE);
}

static bool are_names(const char *list, GError **error)
{
	for (const char *c = list; *c; c++) {
		if (!g_ascii_isalnum(*c) && *c != ' ' && *c != '_')
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"'%s' is no list of U-Boot's targets, like \"nvme0 mmc1 usb0\"",
				list);
	}
	return *list || wdr_error_set(error, WDR_ERROR_USAGE, "the list of targets is empty");
}

/* U-Boot passes over what it does not know, without a word anybody would see: a letter that is
 * wrong would be found out by a board that does not start. */
static bool are_known(const char *list, const char *stored, GError **error)
{
	g_auto(GStrv) names = g_strsplit(list, " ", -1);
	g_auto(GStrv) had = g_strsplit(stored ? stored : "", " ", -1);
	size_t k = 0;

	for (size_t i = 0; names[i]; i++) {
		if (!*names[i] || is_known(names[i], &k) ||
			g_strv_contains((const char *const *)had, names[i]))
			continue;
		wdr_error_set(error, WDR_ERROR_USAGE,
			"'%s' is none of U-Boot's targets that are known: a kind and its number, like "
			"nvme0, mmc1, usb0, scsi0, sata0, virtio0, or pxe and dhcp",
			names[i]);
		g_autofree char *set = wdr_system_command("fw_setenv", "boot_targets", list);
		wdr_error_hint(error, "nothing was changed; if this U-Boot really has it: %s", set);
		return false;
	}
	return true;
}

/* Packages of U-Boot's tools bring the initial environment along. */
static void hint_at_initial(const WdrWorld *world, GError **error)
{
	static const char usual[] = "/etc/u-boot-initial-env";
	g_autofree char *path = wdr_world_path(world, usual);
	g_autofree char *with_it = wdr_command_again("--initial", path);

	if (g_file_test(path, G_FILE_TEST_EXISTS))
		wdr_error_hint(error, "nothing was changed; to begin with the one in %s: %s", usual,
			with_it);
	else
		wdr_error_hint(error,
			"nothing was changed; type 'saveenv' at U-Boot's prompt once, or name the "
			"initial environment with --initial FILE");
}

/* Without an environment U-Boot takes all that it has built in; with one, nothing but what is in
 * it. So an environment is never begun with a single setting. */
static bool get_values(WdrOrderPlan *p, const WdrOrderOptions *o, GHashTable **ret, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	if (p->env->current) {
		*ret = g_hash_table_ref(p->env->values);
		return true;
	}
	if (!o->initial) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"U-Boot has no environment with a right checksum, and one with a single setting "
			"would take all its others away");
		hint_at_initial(p->world, error);
		return false;
	}
	if (!wdr_read_file(o->initial, INITIAL_BYTES_MAX, &text, &len, error))
		return false;
	*ret = wdr_uboot_env_from_text(text);
	return g_hash_table_contains(*ret, "bootcmd") ||
	       wdr_error_set(error, WDR_ERROR_FORMAT,
		       "%s is no initial environment: it has no bootcmd", o->initial);
}

static bool add_write(
	WdrOrderPlan *p, const WdrEnvCopy *copy, GHashTable *values, int flag, GError **error)
{
	WdrEnvWrite *w = g_new0(WdrEnvWrite, 1);
	uint64_t size = 0;

	w->copy = copy;
	w->at = (uint64_t)copy->offset;
	g_ptr_array_add(p->writes, w);
	if (copy->offset < 0) {
		if (!wdr_flash_size(p->world, copy->device, &size, error))
			return false;
		w->at += size;
	}
	return wdr_raw_change_check(p->world, copy->device, w->at, copy->size, error) &&
	       wdr_uboot_env_build(values, (size_t)copy->size, flag, &w->bytes, error);
}

/* On NOR flash the flag says "active" and "obsolete", elsewhere it counts up (U-Boot's tools/env).
 * The copy in force stays until the other one is whole. */
static bool add_writes(WdrOrderPlan *p, GHashTable *before, GHashTable *values, GError **error)
{
	const WdrUbootEnv *e = p->env;
	const WdrEnvCopy *other =
		e->n > 1 && e->current == &e->copies[0] ? &e->copies[1] : &e->copies[0];

	if (e->n == 1)
		return add_write(p, &e->copies[0], values, -1, error);
	if (!g_str_has_prefix(other->device, "/dev/mtd"))
		return add_write(
			p, other, values, e->current ? (uint8_t)(e->current->flag + 1) : 1, error);
	return add_write(p, other, values, 1, error) &&
	       (!e->current || add_write(p, e->current, before, 0, error));
}

/* A board that nobody can open up boots from what can be plugged in. A list that is not stored is
 * U-Boot's own, which tries cards. */
static bool tries_what_is_plugged_in(const char *list)
{
	g_auto(GStrv) names = list ? g_strsplit(list, " ", -1) : NULL;

	for (size_t i = 0; names && names[i]; i++) {
		if (g_str_has_prefix(names[i], "mmc") || g_str_has_prefix(names[i], "usb"))
			return true;
	}
	return !list;
}

static bool plan_targets(WdrOrderPlan *p, const char *list, GHashTable *before, GError **error)
{
	g_autoptr(GHashTable) values =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	GHashTableIter iter;
	void *key = NULL;
	void *value = NULL;
	const char *was = g_hash_table_lookup(before, "boot_targets");

	tell_targets(p, "then", list);
	if (g_strcmp0(was, list) == 0 && p->env->current)
		return true;
	g_hash_table_iter_init(&iter, before);
	while (g_hash_table_iter_next(&iter, &key, &value))
		g_hash_table_replace(values, g_strdup(key), g_strdup(value));
	g_hash_table_replace(values, g_strdup("boot_targets"), g_strdup(list));
	g_autofree char *old_line = was ? g_strdup_printf("boot_targets=%s\n", was) : g_strdup("");
	g_autofree char *new_line = g_strdup_printf("boot_targets=%s\n", list);
	p->diff = wdr_diff(
		"U-Boot's environment", old_line, strlen(old_line), new_line, strlen(new_line));
	if (tries_what_is_plugged_in(was) && !tries_what_is_plugged_in(list))
		p->without_way_back = g_strdup(list);
	if (!wdr_uboot_env_is_usual(p->env))
		wdr_order_leave(p,
			"bootcmd of U-Boot's environment is not the usual one: check it: fw_printenv bootcmd");
	return add_writes(p, before, values, error);
}

bool wdr_order_of_uboot(WdrOrderPlan *p, const WdrOrderOptions *o, GError **error)
{
	g_autoptr(GHashTable) before = NULL;
	g_autofree char *list = NULL;

	if (o->number || o->sets_fuse)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"--set and --set-fuse are for boards with firmware that has an order of its own");
	p->env = wdr_uboot_env_find(p->world);
	tell(p);
	if (!o->first && !o->targets)
		return true;
	if (!p->env) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"no /etc/fw_env.config says where U-Boot's environment is");
		wdr_error_hint(error,
			"nothing was changed; the U-Boot package of the board has such a file, "
			"or its documentation");
		return false;
	}
	if ((o->targets && !are_names(o->targets, error)) ||
		(o->first && !are_names(o->first, error)) || !get_values(p, o, &before, error))
		return false;
	const char *stored = g_hash_table_lookup(before, "boot_targets");
	if (!o->targets && !stored) {
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"U-Boot's environment has no boot_targets, so the present order is unknown");
		g_autofree char *whole =
			wdr_command("order", "--targets", "nvme0 usb0 mmc1 mmc0", "--write");
		wdr_error_hint(
			error, "nothing was changed; give the whole list, such as: %s", whole);
		return false;
	}
	list = o->targets ? g_strdup(o->targets) : with_first(stored, o->first, error);
	return list && are_known(list, stored, error) && plan_targets(p, list, before, error);
}
