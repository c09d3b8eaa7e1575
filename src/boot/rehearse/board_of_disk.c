/* Tells from a disk for which board its system is.
 *
 * A boot loader brings the board's device tree along, flash-kernel keeps the board's name, and a
 * menu or script may name the tree that the kernel gets. The loader comes first: what it is made
 * for is what has booted. */
#include "boot/rehearse/board_of_disk.h"

#include "boot/board/device_tree.h"
#include "boot/board/loaderarea.h"
#include "boot/rehearse/boot_entry.h"
#include "volume/lookup.h"

#include <string.h>

enum { AREA_BYTES_MAX = 16 * 1024 * 1024, TREE_BYTES_MAX = 1024 * 1024, LINE_BYTES_MAX = 4096 };

void wdr_disk_board_clear(WdrDiskBoard *b)
{
	g_clear_pointer(&b->names, g_strfreev);
	g_clear_pointer(&b->model, g_free);
}

static bool take_first(GPtrArray *trees, const char *said, WdrDiskBoard *ret)
{
	const WdrDeviceTree *t = trees->len > 0 ? trees->pdata[0] : NULL;

	if (t)
		*ret = (WdrDiskBoard){ g_strdupv(t->names), g_strdup(t->model), said };
	g_ptr_array_unref(trees);
	return t != NULL;
}

/* A loader for several boards does not tell which of them this is. */
static bool ask_loader(WdrSystem *s, WdrDiskBoard *ret)
{
	g_auto(WdrLoaderArea) area = { 0 };

	if (!wdr_loader_area_find(s->dev, s->table, &area, NULL) || area.size == 0)
		return false;
	size_t len = (size_t)MIN(area.size, AREA_BYTES_MAX);
	g_autofree uint8_t *bytes = g_try_malloc(len);
	if (!bytes || !wdr_blockdev_read(s->dev, bytes, len, area.start, NULL))
		return false;
	GPtrArray *trees = wdr_device_trees_in(bytes, len);
	for (guint i = 1; i < trees->len; i++) {
		const WdrDeviceTree *first = trees->pdata[0];
		const WdrDeviceTree *other = trees->pdata[i];
		if (strcmp(first->names[0], other->names[0]) == 0)
			continue;
		g_ptr_array_unref(trees);
		return false;
	}
	return take_first(trees, "its boot loader", ret);
}

static bool ask_flash_kernel(WdrSystem *s, WdrDiskBoard *ret)
{
	size_t len = 0;
	g_autofree char *text = s->root && s->root->volume
					? wdr_follow_read(s->root->volume,
						  "etc/flash-kernel/machine", LINE_BYTES_MAX, &len)
					: NULL;
	char *line = text ? g_strstrip(g_strndup(text, strcspn(text, "\n"))) : g_strdup("");

	if (*line && g_utf8_validate(line, -1, NULL)) {
		*ret = (WdrDiskBoard){ NULL, line, "its /etc/flash-kernel/machine" };
		return true;
	}
	g_free(line);
	return false;
}

static bool ask_entries(WdrSystem *s, WdrDiskBoard *ret)
{
	g_autoptr(WdrBootEntries) entries = wdr_boot_entries_find(s, NULL, NULL);
	const WdrBootEntry *e = entries->list->len > 0 ? entries->list->pdata[0] : NULL;
	size_t len = 0;

	if (!e || !e->device_tree.path || e->has_tree_folder || !entries->part->volume)
		return false;
	g_autofree char *bytes =
		wdr_follow_read(entries->part->volume, e->device_tree.path, TREE_BYTES_MAX, &len);
	return bytes && take_first(wdr_device_trees_in((const uint8_t *)bytes, len),
				"the device tree that it boots with", ret);
}

bool wdr_disk_board_find(WdrSystem *s, WdrDiskBoard *ret)
{
	*ret = (WdrDiskBoard){ 0 };
	return ask_loader(s, ret) || ask_flash_kernel(s, ret) || ask_entries(s, ret);
}
