/* Reading, replacing and removing one file of a partition or of a mounted tree.
 *
 * Replacing means: a mounted tree gets a temporary file, a flush and a rename; ext gets new blocks,
 * then bitmaps, then the inode in one write; FAT gets new clusters, then the folder's entry. So the
 * file has the old or the new content at any time. */
#include "change/edit_volume.h"

#include "boot/formats/mention.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"
#include "volume/tree/tree.h"

#include <string.h>

static bool is_fat(const WdrEditVolume *p)
{
	return p->fs && strcmp(p->fs, "vfat") == 0;
}

static bool read_from(WdrVolume *v, const char *file, char **ret, size_t *ret_len,
	WdrEntry *ret_entry, GError **error)
{
	WdrNode node = { 0, file };
	g_auto(WdrEntry) entry = { 0 };
	bool found = false;

	*ret = NULL;
	*ret_len = 0;
	if (!wdr_volume_lookup(v, file, &found, &node.id, &entry, error))
		return false;
	if (!found)
		return true;
	if (entry.kind != WDR_KIND_FILE)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is no plain file", file);
	if (!wdr_volume_read_node(v, &node, &entry, WDR_EDITED_BYTES_MAX, ret, error))
		return false;
	*ret_len = (size_t)entry.size;
	if (ret_entry) {
		*ret_entry = entry;
		entry = (WdrEntry){ 0 };
	}
	return true;
}

/* The volume on dev, which is p->on.dev or the same disk past the page cache. */
static bool open_on(WdrBlockDev *dev, const WdrEditVolume *p, WdrVolume **ret, GError **error)
{
	return (is_fat(p) ? wdr_fat_volume_open : wdr_ext_volume_open)(
		dev, p->on.offset, p->on.size, ret, error);
}

bool wdr_edit_volume_read(const WdrEditVolume *p, const char *file, char **ret, size_t *ret_len,
	WdrEntry *ret_entry, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;

	if (!p->tree && !open_on(p->on.dev, p, &v, error))
		return false;
	return read_from(v ? v : p->tree, file, ret, ret_len, ret_entry, error);
}

static bool put_on_disk(const WdrEditVolume *p, const char *file, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	g_autofree char *old = NULL;
	size_t old_len = 0;

	if (!wdr_edit_volume_read(p, file, &old, &old_len, NULL, error))
		return false;
	if (is_fat(p))
		return (old ? wdr_fat_replace_file : wdr_fat_add_file)(
			&p->on, file, data, len, like->mtime.sec, error);
	return old ? wdr_ext_replace_file(&p->on, file, data, len, &like->mtime, error)
		   : wdr_ext_add_file(&p->on, file, data, len, like, error);
}

static bool read_back(
	const WdrEditVolume *p, const char *file, const void *data, size_t len, GError **error)
{
	g_autoptr(WdrBlockDev) medium = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_autofree char *got = NULL;
	size_t got_len = 0;

	if (!p->tree && (!wdr_blockdev_open(
				 wdr_blockdev_name(p->on.dev), WDR_OPEN_MEDIUM, &medium, error) ||
				!open_on(medium, p, &v, error)))
		return false;
	if (!read_from(v ? v : p->tree, file, &got, &got_len, NULL, error))
		return false;
	return (got && got_len == len && memcmp(got, data, len) == 0) ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "/%s read back from the medium is not what was written", file);
}

bool wdr_edit_volume_put(const WdrEditVolume *p, const char *file, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	bool is_put = (p->tree && wdr_tree_put_file(p->tree, file, data, len, like, error)) ||
		      (!p->tree && put_on_disk(p, file, data, len, like, error));

	if (!is_put)
		g_prefix_error(error, "changing /%s: ", file);
	return is_put && read_back(p, file, data, len, error);
}

bool wdr_edit_volume_remove(const WdrEditVolume *p, const char *file, int64_t now, GError **error)
{
	return p->tree     ? wdr_tree_remove_file(p->tree, file, error)
	       : is_fat(p) ? wdr_fat_remove_file(&p->on, file, error)
			   : wdr_ext_remove_file(&p->on, file, now, error);
}
