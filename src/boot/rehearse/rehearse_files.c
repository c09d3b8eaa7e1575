/* Kernel, initramfs and device tree: there, not empty, of the right kind, readable to their ends.
 */
#include "volume/lookup.h"

#include "boot/rehearse/rehearse_priv.h"

#include <string.h>

enum { KERNEL_BYTES_MAX = 256 * 1024 * 1024, INITRAMFS_BYTES_MAX = 512 * 1024 * 1024 };

static const char tree_magic[] = "\xd0\x0d\xfe\xed";

/* Where it is asked for, in brackets. The caller's. */
static char *asked(const WdrBootEntryFile *f)
{
	return f->said ? g_strdup_printf(" (asked for in %s)", f->said) : g_strdup("");
}

/* A file's bytes; NULL after a fault was said. */
static char *load(WdrWalk *w, const WdrSystemPart *boot, const WdrBootEntryFile *f,
	const char *what, size_t limit, size_t *ret_len)
{
	g_autofree char *where = asked(f);
	g_auto(WdrEntry) entry = { 0 };

	if (!wdr_follow(boot->volume, f->path, NULL, NULL, &entry)) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP,
			"put it there, or name the one that is", "the %s /%s is not there%s", what,
			f->path, where);
		return NULL;
	}
	if (entry.size == 0) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP, "install it again",
			"the %s /%s is empty%s", what, f->path, where);
		return NULL;
	}
	char *bytes = wdr_follow_read(boot->volume, f->path, limit, ret_len);
	if (bytes && f->bytes > 0 && f->at <= *ret_len && f->bytes <= *ret_len - f->at) {
		memmove(bytes, bytes + f->at, f->bytes);
		*ret_len = f->bytes;
	}
	if (!bytes)
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP, "install it again",
			"the %s /%s cannot be read completely, or is no file%s", what, f->path,
			where);
	return bytes;
}

static bool walk_kernel(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrBootEntryFile *f = &w->entry->kernel;
	size_t len = 0;
	g_autofree char *bytes = load(w, boot, f, "kernel", KERNEL_BYTES_MAX, &len);

	if (!bytes)
		return false;
	wdr_kernel_look(bytes, len, &w->kernel);
	if (!w->kernel.kind) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP, "install the kernel again",
			"/%s is no kernel: no Image, zImage, bzImage, loader image, FIT or ELF",
			f->path);
		return false;
	}
	wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_OK, NULL, "kernel /%s: %s for %s%s%s", f->path,
		w->kernel.kind, wdr_cpu_name(w->kernel.cpu), w->kernel.release ? ", Linux " : "",
		w->kernel.release ? w->kernel.release : "");
	return true;
}

static char *segments(const WdrInitramfs *i)
{
	GString *text = g_string_new(NULL);

	for (guint k = 0; k < i->packed->len; k++)
		g_string_append_printf(
			text, "%s%s", k ? ", " : "", (const char *)i->packed->pdata[k]);
	return g_string_free(text, FALSE);
}

/* What the kernel makes of a damaged one: it starts without, or with the part before the damage. */
static bool read_initramfs(WdrWalk *w, const WdrBootEntryFile *f, const char *bytes, size_t len)
{
	g_autoptr(GError) error = NULL;

	if (!wdr_initramfs_read_file(bytes, len, &w->initramfs, &error)) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP,
			"create it again with the initramfs generator of the system",
			"the kernel cannot unpack the initramfs /%s: %s", f->path, error->message);
		return false;
	}
	g_autofree char *how = segments(w->initramfs);
	wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_OK, NULL, "initramfs /%s: %u files (%s)",
		f->path, g_hash_table_size(w->initramfs->files), how);
	if (w->initramfs->release && w->kernel.release &&
		strcmp(w->initramfs->release, w->kernel.release) != 0) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP,
			"name the initramfs that was made for this kernel",
			"the initramfs /%s has modules for Linux %s, the kernel is %s: it can load none of "
			"them",
			f->path, w->initramfs->release, w->kernel.release);
		return false;
	}
	return true;
}

/* Archives with microcode and the like, which lie in front of the initramfs in memory; NULL after a
 * fault was said. The caller's. */
static GByteArray *load_early(WdrWalk *w, const WdrSystemPart *boot)
{
	g_autoptr(GByteArray) all = g_byte_array_new();
	const GPtrArray *early = w->entry->early;

	for (guint i = 0; early && i < early->len; i++) {
		WdrBootEntryFile f = { .path = early->pdata[i], .said = w->entry->initramfs.said };
		size_t len = 0;
		g_autofree char *bytes = load(w, boot, &f, "initramfs", INITRAMFS_BYTES_MAX, &len);
		if (!bytes)
			return NULL;
		g_byte_array_append(all, (const uint8_t *)bytes, (guint)len);
		/* A loader puts each at a multiple of 4. */
		g_byte_array_append(all, (const uint8_t *)"\0\0\0", (guint)(-len & 3));
	}
	return g_steal_pointer(&all);
}

static bool walk_initramfs(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrBootEntryFile *f = &w->entry->initramfs;
	g_auto(WdrEntry) entry = { 0 };
	size_t len = 0;

	if (!f->path) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_OK, NULL, "no initramfs is configured");
		return true;
	}
	/* The firmware starts the kernel without one that is named by auto_initramfs and not there.
	 */
	bool is_firmware = g_strcmp0(w->s->flow, "firmware") == 0;
	if (is_firmware && !wdr_follow(boot->volume, f->path, NULL, NULL, &entry)) {
		g_autofree char *where = asked(f);
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_WARNING,
			"create it with the initramfs generator of the system",
			"the initramfs /%s is not there%s: the kernel boots without it", f->path,
			where);
		return true;
	}
	g_autofree char *bytes = load(w, boot, f, "initramfs", INITRAMFS_BYTES_MAX, &len);
	g_autoptr(GByteArray) all = bytes ? load_early(w, boot) : NULL;
	if (!all)
		return false;
	g_byte_array_append(all, (const uint8_t *)bytes, (guint)len);
	return read_initramfs(w, f, (const char *)all->data, all->len);
}

static bool add_tree(void *data, const WdrName *name, GError **error)
{
	bool *has = data;

	(void)error;
	*has |= name->kind == WDR_KIND_FOLDER || g_str_has_suffix(name->name, ".dtb");
	return true;
}

/* Which file of a folder is the board's own its loader knows: that there are any is what can be
 * seen. */
static bool walk_tree_folder(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrBootEntryFile *f = &w->entry->device_tree;
	g_autofree char *where = asked(f);
	g_autofree char *path = NULL;
	g_auto(WdrEntry) entry = { 0 };
	WdrNode node = { 0, NULL };
	bool has = false;

	if (wdr_follow(boot->volume, f->path, &path, &node.id, &entry) &&
		entry.kind == WDR_KIND_FOLDER) {
		node.path = path;
		if (!wdr_volume_list(boot->volume, &node, add_tree, &has, NULL))
			has = false;
	}
	wdr_walk_say(w, WDR_STAGE_FILES, has ? WDR_STATE_OK : WDR_STATE_WARNING,
		has ? NULL : "install the kernel's device trees",
		has ? "device trees in /%s%s" : "no device trees in /%s%s: U-Boot uses its own",
		f->path, where);
	return true;
}

static bool walk_tree(WdrWalk *w, const WdrSystemPart *boot)
{
	const WdrBootEntryFile *f = &w->entry->device_tree;
	size_t len = 0;

	if (!f->path)
		return true;
	if (w->entry->has_tree_folder)
		return walk_tree_folder(w, boot);
	g_autofree char *bytes = load(w, boot, f, "device tree", KERNEL_BYTES_MAX, &len);
	if (!bytes)
		return false;
	if (len < sizeof(tree_magic) - 1 ||
		memcmp(bytes, tree_magic, sizeof(tree_magic) - 1) != 0) {
		wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_STOP, "install it again",
			"/%s is no device tree", f->path);
		return false;
	}
	wdr_walk_say(w, WDR_STAGE_FILES, WDR_STATE_OK, NULL, "device tree /%s", f->path);
	return true;
}

bool wdr_walk_files(WdrWalk *w, const WdrSystemPart *boot)
{
	wdr_walk_say(w, WDR_STAGE_BOOT, WDR_STATE_OK, NULL, "%s boots", w->entry->name);
	return walk_kernel(w, boot) && walk_initramfs(w, boot) && walk_tree(w, boot);
}
