/* Finds the device trees in a boot loader.
 *
 * U-Boot's files have them at any offset: at their end, inside a FIT, behind a first stage. So the
 * magic number is looked for at every byte, and libfdt says whether a tree follows. */
#include "boot/board/device_tree.h"

#include "base/cursor.h"

#include <libfdt.h>
#include <string.h>

enum { MAGIC_BYTES = 4, TREE_BYTES_MAX = 1024 * 1024, TREES_MAX = 64 };

static void tree_free(void *data)
{
	WdrDeviceTree *t = data;

	g_strfreev(t->names);
	g_free(t->model);
	g_free(t);
}

char **wdr_device_tree_names(const char *bytes, size_t len)
{
	g_autoptr(GStrvBuilder) all = g_strv_builder_new();

	for (size_t at = 0; at < len;) {
		size_t n = strnlen(bytes + at, len - at);
		g_autofree char *name = g_strndup(bytes + at, n);
		if (n > 0)
			g_strv_builder_add(all, name);
		at += n + 1;
	}
	return g_strv_builder_end(all);
}

/* What the header says of the tree's size, if there are so many bytes; 0: it cannot be a tree. */
static size_t size_of(const uint8_t *bytes, size_t room)
{
	WdrCursor c = wdr_cursor(bytes, room);

	wdr_cursor_seek(&c, MAGIC_BYTES);
	size_t size = wdr_cursor_be32(&c);
	return wdr_cursor_overrun(&c) || size > room || size > TREE_BYTES_MAX ? 0 : size;
}

static WdrDeviceTree *read_tree(const uint8_t *bytes, size_t size)
{
	/* libfdt wants it at a multiple of eight bytes. */
	g_autofree void *tree = g_memdup2(bytes, size);
	int len = 0;

	if (fdt_check_full(tree, size) != 0)
		return NULL;
	const char *names = fdt_getprop(tree, 0, "compatible", &len);
	if (!names || len <= 0)
		return NULL;
	WdrDeviceTree *t = g_new0(WdrDeviceTree, 1);
	t->names = wdr_device_tree_names(names, (size_t)len);
	const char *model = fdt_getprop(tree, 0, "model", &len);
	t->model = model && len > 0 ? g_strndup(model, (size_t)len) : NULL;
	if (t->names[0])
		return t;
	tree_free(t);
	return NULL;
}

GPtrArray *wdr_device_trees_in(const uint8_t *bytes, size_t len)
{
	static const uint8_t magic[MAGIC_BYTES] = { 0xd0, 0x0d, 0xfe, 0xed };
	GPtrArray *trees = g_ptr_array_new_with_free_func(tree_free);

	for (size_t at = 0; at < len && trees->len < TREES_MAX;) {
		const uint8_t *found = memmem(bytes + at, len - at, magic, MAGIC_BYTES);
		if (!found)
			break;
		at = (size_t)(found - bytes);
		size_t size = size_of(found, len - at);
		WdrDeviceTree *t = size > 0 ? read_tree(found, size) : NULL;
		if (t)
			g_ptr_array_add(trees, t);
		at += t ? size : MAGIC_BYTES;
	}
	return trees;
}

/* Of the vendor of the chip, which the last name tells: a name that boards of other makers share.
 */
static bool is_chip(char *const *names, const char *name)
{
	const char *last = names[g_strv_length((char **)names) - 1];
	size_t vendor = strcspn(last, ",") + 1;

	return strcmp(name, last) == 0 || strncmp(name, last, vendor) == 0;
}

unsigned wdr_device_tree_fit(const WdrDeviceTree *tree, char *const *names)
{
	enum { SAME = 100, OF_FAMILY = 50, RELATED = 1 };
	guint n = g_strv_length((char **)names);

	for (guint i = 0; i < n && (i == 0 || i + 1 < n); i++) {
		if (strcmp(tree->names[0], names[i]) == 0)
			return SAME - MIN(i, SAME - OF_FAMILY - 1);
	}
	/* A loader for one revision of a board boots the others. */
	for (guint i = 1; n > 0 && tree->names[i]; i++) {
		bool is_shared = g_strv_contains((const char *const *)names, tree->names[i]) &&
				 !is_chip(names, tree->names[i]);
		if (is_shared || (tree->names[i + 1] && strcmp(tree->names[i], names[0]) == 0))
			return OF_FAMILY - MIN(i, OF_FAMILY - RELATED);
	}
	return 0;
}

bool wdr_device_trees_have_model(const GPtrArray *trees, const char *model)
{
	for (guint i = 0; i < trees->len; i++) {
		const WdrDeviceTree *t = trees->pdata[i];
		if (g_strcmp0(t->model, model) == 0)
			return true;
	}
	return false;
}
