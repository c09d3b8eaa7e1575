/* The table of files that only one machine may have, and the edits for a second one.
 *
 * Two machines with one SSH host key or machine ID are taken for each other. Such files stay behind
 * where the system makes them anew at its first boot, and are edited where they hold the host name.
 * What nothing makes anew is reported. */
#include "plan/second_machine.h"

#include "boot/formats/edit.h"
#include "boot/formats/lines.h"
#include "plan/hostname.h"
#include "volume/lookup.h"

#include <fnmatch.h>
#include <string.h>

enum { NAME_MAX_CHARS = 63, FILE_BYTES_MAX = 1024 * 1024 };

typedef struct {
	const char *folder, *name, *what;
} OwnFile;

/* Files that are one machine's own and that its system makes anew: folder, name with wildcards, and
 * what they are. By the programs' documentation: sshd(8), dropbear(8), dhclient(8), dhcpcd(8),
 * systemd(1), NetworkManager(8), random-seed(8). */
static const OwnFile own_files[] = {
	{ "etc/ssh", "ssh_host_*_key", "SSH host key" },
	{ "etc/ssh", "ssh_host_*_key.pub", "SSH host key" },
	{ "etc/dropbear", "dropbear_*_host_key", "SSH host key" },
	{ "var/lib/dbus", "machine-id", "machine id" },
	{ "var/lib/dhcp", "*.leases", "DHCP lease" },
	{ "var/lib/dhcpcd", "*.lease", "DHCP lease" },
	{ "var/lib/dhcpcd", "duid", "network identity" },
	{ "var/lib/dhcpcd", "secret", "network identity" },
	{ "var/lib/dhcpcd5", "*.lease", "DHCP lease" },
	{ "etc", "dhcpcd.duid", "network identity" },
	{ "etc", "dhcpcd.secret", "network identity" },
	{ "var/lib/NetworkManager", "*.lease", "DHCP lease" },
	{ "var/lib/NetworkManager", "secret_key", "network identity" },
	{ "etc/udev/rules.d", "70-persistent-net.rules", "network identity" },
	{ "var/lib/systemd", "random-seed", "random seed" },
	{ "var/lib/urandom", "random-seed", "random seed" },
	/* systemd-boot's, on the EFI system partition wherever that is mounted. */
	{ "boot/efi/loader", "random-seed", "random seed of the boot loader" },
	{ "boot/loader", "random-seed", "random seed of the boot loader" },
	{ "efi/loader", "random-seed", "random seed of the boot loader" },
};

/* What others know a machine by, and nothing makes anew at a start: it stays, and is reported. By
 * wg(8), iscsid(8), nvme-gen-hostnqn(1). */
static const OwnFile kept_files[] = {
	{ "etc/wireguard", "*.conf", "the key of a WireGuard interface" },
	{ "etc/iscsi", "initiatorname.iscsi", "an iSCSI initiator's name" },
	{ "etc/nvme", "hostnqn", "the name of an NVMe host" },
	{ "etc/nvme", "hostid", "the number of an NVMe host" },
};

/* What makes new SSH host keys at a start, by the systems' packages; dropbear does it by itself. */
static const char *const key_makers[] = { "usr/lib/systemd/system/sshd-keygen.target",
	"usr/lib/systemd/system/sshd-keygen.service", "usr/lib/systemd/system/sshd-keygen@.service",
	"usr/lib/systemd/system/sshdgenkeys.service", "usr/lib/systemd/system/ssh-keygen.service",
	"etc/systemd/system/multi-user.target.wants/regenerate_ssh_host_keys.service",
	"etc/systemd/system/multi-user.target.wants/sshkeygen.service", "etc/init.d/S50sshd" };

bool wdr_second_machine_check_name(const char *name, GError **error)
{
	size_t len = strlen(name);
	bool is_fine = len > 0 && len <= NAME_MAX_CHARS && *name != '-' && name[len - 1] != '-';

	for (const char *c = name; *c; c++)
		is_fine &= g_ascii_isalnum(*c) || *c == '-';
	if (!is_fine)
		return wdr_error_set(error, WDR_ERROR_USAGE,
			"'%s' is no host name: letters, digits and '-', at most %d of them", name,
			NAME_MAX_CHARS);
	return g_ascii_strcasecmp(name, "localhost") != 0 ||
	       wdr_error_set(error, WDR_ERROR_USAGE, "every machine calls itself localhost");
}

/* ---- the files ---- */

static char *pattern_of(size_t i)
{
	return g_strdup_printf("/%s/%s", own_files[i].folder, own_files[i].name);
}

char **wdr_second_machine_patterns(char *const *own)
{
	g_autoptr(GStrvBuilder) all = g_strv_builder_new();

	if (own)
		g_strv_builder_addv(all, (const char **)own);
	for (size_t i = 0; i < G_N_ELEMENTS(own_files); i++) {
		g_autofree char *pattern = pattern_of(i);
		g_strv_builder_add(all, pattern);
	}
	return g_strv_builder_end(all);
}

bool wdr_second_machine_is_pattern(const char *pattern)
{
	for (size_t i = 0; i < G_N_ELEMENTS(own_files); i++) {
		g_autofree char *own = pattern_of(i);
		if (g_strcmp0(own, pattern) == 0)
			return true;
	}
	return false;
}

static char *read_text(const WdrSystemPart *root, const char *file, size_t *ret_len)
{
	bool found = false;
	uint64_t id = 0;
	g_auto(WdrEntry) entry = { 0 };

	*ret_len = 0;
	if (!wdr_volume_lookup(root->volume, file, &found, &id, &entry, NULL) || !found ||
		entry.kind != WDR_KIND_FILE)
		return NULL;
	return wdr_follow_read(root->volume, file, FILE_BYTES_MAX, ret_len);
}

/* NULL: root does not say. The caller's. */
static char *name_of(const WdrSystemPart *root)
{
	size_t len = 0;
	char *name = read_text(root, "etc/hostname", &len);

	return name ? g_strstrip(name) : NULL;
}

static char *hosts_with(const char *text, const char *old_name, const char *name)
{
	GString *out = g_string_new(NULL);
	const char *from = text;

	for (const char *at; (at = wdr_host_name_in(text, from, old_name)) != NULL;) {
		g_string_append_len(out, from, (gssize)(at - from));
		g_string_append(out, name);
		from = at + strlen(old_name);
	}
	g_string_append(out, from);
	return g_string_free(out, FALSE);
}

/* A file's new text; NULL: it stays. */
typedef struct {
	unsigned number; /* of the partition */
	const char *file, *before;
	size_t len; /* of before */
	const char *after;
} Text;
typedef bool (*Take)(void *data, const Text *text, GError **error);

static bool each_text(
	const WdrSystemPart *root, const char *name, Take take, void *data, GError **error)
{
	unsigned number = root->partition->number;
	size_t len = 0;
	size_t hosts_len = 0;
	size_t id_len = 0;
	g_autofree char *old_name = read_text(root, "etc/hostname", &len);
	g_autofree char *hosts = read_text(root, "etc/hosts", &hosts_len);
	g_autofree char *id = read_text(root, "etc/machine-id", &id_len);
	g_autofree char *was = g_strstrip(g_strdup(old_name ? old_name : ""));
	g_autofree char *new_name = old_name && *was ? hosts_with(old_name, was, name) : NULL;

	if (new_name && strcmp(new_name, old_name) != 0 &&
		!take(data, &(Text){ number, "etc/hostname", old_name, len, new_name }, error))
		return false;
	g_autofree char *new_hosts = hosts && *was ? hosts_with(hosts, was, name) : NULL;
	if (new_hosts && strcmp(new_hosts, hosts) != 0 &&
		!take(data, &(Text){ number, "etc/hosts", hosts, hosts_len, new_hosts }, error))
		return false;
	/* Empty, and there: systemd fills it in at the start. */
	return !id || id_len == 0 ||
	       take(data, &(Text){ number, "etc/machine-id", id, id_len, "" }, error);
}

/* ---- what is left to the user ---- */

static bool has_key_maker(const WdrSystemPart *root)
{
	for (size_t i = 0; i < G_N_ELEMENTS(key_makers); i++) {
		bool found = false;
		uint64_t id = 0;
		g_auto(WdrEntry) entry = { 0 };
		if (wdr_volume_lookup(root->volume, key_makers[i], &found, &id, &entry, NULL) &&
			found)
			return true;
	}
	return false;
}

/* What a link leads to; where it leads out of the volume or to nothing, what it says. NULL: it is
 * none. The caller's. */
static char *linked_to(const WdrSystemPart *root, const char *file)
{
	g_auto(WdrEntry) entry = { 0 };
	g_auto(WdrEntry) there = { 0 };
	g_autofree char *end = NULL;
	uint64_t id = 0;
	bool found = false;

	if (!wdr_volume_lookup(root->volume, file, &found, &id, &entry, NULL) || !found ||
		entry.kind != WDR_KIND_SYMLINK)
		return NULL;
	if (!wdr_follow(root->volume, file, &end, &id, &there))
		return g_strdup(entry.target);
	return g_strconcat("/", end, NULL);
}

/* A path from the root, of a file that is taken away itself. */
static bool is_own(const char *path)
{
	for (size_t i = 0; i < G_N_ELEMENTS(own_files); i++) {
		g_autofree char *pattern = pattern_of(i);
		if (fnmatch(pattern, path, FNM_PATHNAME) == 0)
			return true;
	}
	return false;
}

static void note_link(const char *file, const char *end, const char *what, GPtrArray *notes)
{
	/* The first is where the other machine id usually is, and is emptied. */
	if (strcmp(end, "/etc/machine-id") != 0 && !is_own(end))
		g_ptr_array_add(notes,
			g_strdup_printf("second machine: /%s leads to %s, and the %s there stays "
					"as it is",
				file, end, what));
}

/* One row's files of a folder, each with what it leads to, or NULL. */
typedef bool (*TakeOwn)(void *data, const WdrSystemPart *root, const char *file, const char *end,
	const char *what, GError **error);

static bool each_own(
	const WdrSystemPart *root, const OwnFile *row, TakeOwn take, void *data, GError **error)
{
	g_autofree char *at = NULL;
	g_autoptr(GPtrArray) names = wdr_follow_names(root->volume, row->folder, &at);

	for (guint i = 0; i < names->len; i++) {
		g_autofree char *file = g_build_filename(row->folder, names->pdata[i], NULL);
		g_autofree char *file_at = g_build_filename(at, names->pdata[i], NULL);
		if (fnmatch(row->name, names->pdata[i], 0) != 0)
			continue;
		g_autofree char *end = linked_to(root, file_at);
		if (!end && strcmp(at, row->folder) != 0)
			end = g_strconcat("/", file_at, NULL);
		if (!take(data, root, file, end, row->what, error))
			return false;
	}
	return true;
}

static bool note_own(void *notes, const WdrSystemPart *root, const char *file, const char *end,
	const char *what, GError **error)
{
	(void)root;
	(void)error;
	if (end)
		note_link(file, end, what, notes);
	return true;
}

static bool note_kept(void *notes, const WdrSystemPart *root, const char *file, const char *end,
	const char *what, GError **error)
{
	(void)root;
	(void)end;
	(void)error;
	g_ptr_array_add(notes,
		g_strdup_printf("second machine: /%s has %s, and keeps it: two machines must not "
				"share one",
			file, what));
	return true;
}

static void note_files(const WdrSystemPart *root, GPtrArray *notes)
{
	g_autofree char *id = linked_to(root, "etc/machine-id");

	if (id)
		note_link("etc/machine-id", id, "machine id", notes);
	for (size_t i = 0; i < G_N_ELEMENTS(own_files); i++)
		each_own(root, &own_files[i], note_own, notes, NULL);
	for (size_t i = 0; i < G_N_ELEMENTS(kept_files); i++)
		each_own(root, &kept_files[i], note_kept, notes, NULL);
}

static void note_left(const WdrSystemPart *root, const char *name, GPtrArray *notes)
{
	g_autoptr(GPtrArray) keys = wdr_follow_names(root->volume, "etc/ssh", NULL);
	g_autofree char *old_name = name_of(root);
	bool has_keys = false;

	for (guint i = 0; i < keys->len; i++)
		has_keys |= fnmatch("ssh_host_*_key", keys->pdata[i], 0) == 0;
	if (has_keys && !has_key_maker(root))
		g_ptr_array_add(notes,
			g_strdup("second machine: nothing on root creates new SSH host keys at "
				 "the next boot: run 'ssh-keygen -A' there once, or sshd will not "
				 "start"));
	note_files(root, notes);
	if (!old_name)
		g_ptr_array_add(
			notes, g_strdup("second machine: root has no /etc/hostname; put the "
					"name where the system keeps it"));
	else if (strcmp(old_name, name) != 0)
		wdr_host_name_left(root->volume, old_name, notes);
}

/* ---- of a move ---- */

/* Line by line, or all of it. */
static void add_splices(WdrEdit *edit, const char *before, size_t len, const char *after)
{
	WdrLine is = wdr_lines(after, strlen(after));

	if (!*after) {
		wdr_edit_add(edit, 0, 1, 1, before, after);
		return;
	}
	for (WdrLine was = wdr_lines(before, len); wdr_line_next(&was) && wdr_line_next(&is);) {
		g_autofree char *old_text = g_strndup(before + was.at, was.end - was.at);
		g_autofree char *new_text = g_strndup(after + is.at, is.end - is.at);
		if (strcmp(old_text, new_text) != 0)
			wdr_edit_add(edit, was.at, was.number, 1, old_text, new_text);
	}
}

static bool add_edit(void *data, const Text *text, GError **error)
{
	WdrItinerary *it = data;
	WdrEdit *edit = wdr_itinerary_edit(it, text->number, text->file, false);

	if (edit)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"/%s names a disk, and cannot get another host name too", text->file);
	edit = wdr_edit_new(text->number, text->file, wdr_hash(text->before, text->len));
	add_splices(edit, text->before, text->len, text->after);
	g_ptr_array_add(it->edits, edit);
	g_autofree char *name = g_strdup_printf("root:/%s", text->file);
	g_ptr_array_add(it->diffs,
		wdr_diff(name, text->before, text->len, text->after, strlen(text->after)));
	return true;
}

/* Two machines of one name are what this is there against. */
static bool check_other_name(const WdrSystemPart *root, const char *name, GError **error)
{
	g_autofree char *old_name = name_of(root);

	return !old_name || g_ascii_strcasecmp(old_name, name) != 0 ||
	       wdr_error_set(error, WDR_ERROR_REFUSED,
		       "the source is called %s already: the second machine needs another name",
		       name);
}

bool wdr_second_machine_edit(
	WdrItinerary *it, const WdrSystem *system, const char *name, GError **error)
{
	if (!system->root || !system->root->volume)
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "there is no root to be another machine's");
	if (!check_other_name(system->root, name, error))
		return false;
	note_left(system->root, name, it->notes);
	return each_text(system->root, name, add_edit, it, error);
}

/* ---- of a finished disk ---- */

static bool add_text(void *data, const Text *text, GError **error)
{
	g_autoptr(GBytes) content = g_bytes_new(text->after, strlen(text->after));

	(void)error;
	wdr_file_plans_add(data, text->number, text->file, text->before, text->len, content);
	return true;
}

static bool add_removal(void *plans, const WdrSystemPart *root, const char *file, const char *end,
	const char *what, GError **error)
{
	size_t len = 0;

	if (end)
		return true; /* told */
	g_autofree char *before = read_text(root, file, &len);
	if (!before)
		return wdr_error_set(error, WDR_ERROR_IO, "/%s cannot be read", file);
	WdrFilePlan *p =
		wdr_file_plans_add(plans, root->partition->number, file, before, len, NULL);
	/* Keys are not for everybody's eyes. */
	g_clear_pointer(&p->diff, g_free);
	p->note = g_strdup(what);
	return true;
}

bool wdr_second_machine_plan(const WdrSystem *system, const char *name, GPtrArray *plans,
	GPtrArray *notes, GError **error)
{
	const WdrSystemPart *root = system->root;

	if (!root || !root->volume)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"there is no root on it that could become another machine's");
	note_left(root, name, notes);
	if (!each_text(root, name, add_text, plans, error))
		return false;
	for (size_t i = 0; i < G_N_ELEMENTS(own_files); i++) {
		if (!each_own(root, &own_files[i], add_removal, plans, error))
			return false;
	}
	return true;
}
