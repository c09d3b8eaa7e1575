/* Plans a move of root alone: which files on the source must change. */
#include "plan/root_only.h"

#include <string.h>

static const char fstab[] = "etc/fstab";

/* ---- kernels and their modules ---- */

typedef struct {
	GHashTable *versions;
	const char *const *prefixes; /* NULL: whole names are versions */
} Versions;

static bool add_version(void *data, const WdrName *name, GError **error)
{
	Versions *v = data;

	(void)error;
	if (!v->prefixes && name->kind == WDR_KIND_FOLDER)
		g_hash_table_add(v->versions, g_strdup(name->name));
	for (size_t i = 0; v->prefixes && v->prefixes[i]; i++) {
		if (g_str_has_prefix(name->name, v->prefixes[i]))
			g_hash_table_add(
				v->versions, g_strdup(name->name + strlen(v->prefixes[i])));
	}
	return true;
}

static bool list_versions(WdrVolume *volume, const char *folder, const char *const *prefixes,
	GHashTable *ret, GError **error)
{
	g_auto(WdrEntry) entry = { 0 };
	Versions v = { ret, prefixes };
	WdrNode node = { 0, folder };
	bool found = false;

	if (!wdr_volume_lookup(volume, folder, &found, &node.id, &entry, error))
		return false;
	return !found || entry.kind != WDR_KIND_FOLDER ||
	       wdr_volume_list(volume, &node, add_version, &v, error);
}

/* A kernel in the old boot folder needs its modules in the new root, which has those of the old. */
static bool check_modules(const WdrSystem *system, GError **error)
{
	static const char *const kernels[] = { "vmlinuz-", "vmlinux-", "Image-", NULL };
	g_autoptr(GHashTable) booted = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	g_autoptr(GHashTable) copied = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	WdrVolume *root = system->root->volume;
	GHashTableIter iter;
	void *version = NULL;

	if (!list_versions(root, "boot", kernels, booted, error) ||
		!list_versions(root, "usr/lib/modules", NULL, copied, error) ||
		!list_versions(root, "lib/modules", NULL, copied, error))
		return false;
	g_hash_table_iter_init(&iter, booted);
	while (g_hash_table_iter_next(&iter, &version, NULL)) {
		if (g_hash_table_contains(copied, version))
			return true;
	}
	if (g_hash_table_size(booted) == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_REFUSED,
		"no kernel in /boot has its modules under /usr/lib/modules: with boot left on the old "
		"disk the new root could not load any");
	wdr_error_hint(error, "install the kernel that is booted, or move everything");
	return false;
}

/* ---- fstab ---- */

static WdrEdit *fstab_edit(WdrItinerary *it, unsigned number, const char *text, size_t len)
{
	WdrEdit *edit = wdr_itinerary_edit(it, number, fstab, false);

	if (edit)
		return edit;
	edit = wdr_edit_new(number, fstab, wdr_hash(text, len));
	edit->format = wdr_format_find("fstab");
	g_ptr_array_add(it->edits, edit);
	return edit;
}

static bool add_lines(WdrItinerary *it, WdrSystem *system, GError **error)
{
	const WdrItineraryPart *root = wdr_itinerary_part(it, system->root->partition->number);
	g_autofree char *text = NULL;
	size_t len = 0;
	unsigned lines = 1;

	if (!wdr_volume_read_file(
		    system->root->volume, fstab, WDR_BOOT_FILE_BYTES_MAX, &text, &len, error))
		return false;
	if (!text)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the system has no /etc/fstab that could mount its old boot folder");
	if (!root->from.uuid)
		return wdr_error_set(error, WDR_ERROR_REFUSED,
			"the old root has no UUID that the new fstab could name it by");
	for (size_t i = 0; i < len; i++)
		lines += text[i] == '\n' ? 1 : 0;
	const char *newline = memchr(text, '\r', len) ? "\r\n" : "\n";
	bool has_end = len == 0 || text[len - 1] == '\n';
	g_autofree char *added = g_strdup_printf(
		"%s# The board boots from the old disk: its boot folder is the one in use.%s"
		"UUID=%s  %s  ext4  defaults,nofail,X-mount.mkdir  0  2%s"
		"%s/boot  /boot  none  bind,nofail  0  0%s",
		has_end ? "" : newline, newline, root->from.uuid, WDR_OLD_ROOT, newline,
		WDR_OLD_ROOT, newline);
	wdr_edit_add(fstab_edit(it, root->number, text, len), len, lines, 1, "", added);
	g_ptr_array_add(it->notes,
		g_strdup_printf(
			"the boot files stay in /boot on %s: the new root mounts it at %s and binds that "
			"folder over its own, so that kernel updates reach them",
			it->source.name, WDR_OLD_ROOT));
	return true;
}

bool wdr_root_only_edit(WdrItinerary *it, WdrSystem *system, GError **error)
{
	return *system->boot_folder == '\0' ||
	       (check_modules(system, error) && add_lines(it, system, error));
}
