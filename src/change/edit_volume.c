/* Reading, replacing and removing one file of a partition or of a mounted tree. */
#include "change/edit_volume.h"

#include "boot/formats/mention.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"
#include "volume/tree/tree.h"

#include <string.h>

static bool is_fat(const WdrPlaceOfFiles *p)
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
	if (!wdr_volume_read_node(v, &node, &entry, WDR_EDITED_BYTES_MAX, ret, ret_len, error))
		return false;
	if (ret_entry) {
		*ret_entry = entry;
		entry = (WdrEntry){ 0 };
	}
	return true;
}

static bool read_disk(WdrBlockDev *dev, const WdrPlaceOfFiles *p, const char *file, char **ret,
	size_t *ret_len, WdrEntry *ret_entry, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;

	return (is_fat(p) ? wdr_fat_volume_open : wdr_ext_volume_open)(
		       dev, p->offset, p->size, &v, error) &&
	       read_from(v, file, ret, ret_len, ret_entry, error);
}

bool wdr_edit_volume_read(const WdrPlaceOfFiles *p, const char *file, char **ret, size_t *ret_len,
	WdrEntry *ret_entry, GError **error)
{
	return p->tree ? read_from(p->tree, file, ret, ret_len, ret_entry, error)
		       : read_disk(p->dev, p, file, ret, ret_len, ret_entry, error);
}

static bool put_on_disk(const WdrPlaceOfFiles *p, const char *file, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	g_autofree char *old = NULL;
	size_t old_len = 0;

	if (!read_disk(p->dev, p, file, &old, &old_len, NULL, error))
		return false;
	if (is_fat(p))
		return (old ? wdr_fat_replace_file : wdr_fat_add_file)(
			p->dev, p->offset, p->size, file, data, len, like->mtime.sec, error);
	return old ? wdr_ext_replace_file(
			     p->dev, p->offset, p->size, file, data, len, &like->mtime, error)
		   : wdr_ext_add_file(p->dev, p->offset, p->size, file, data, len, like, error);
}

static bool read_back(
	const WdrPlaceOfFiles *p, const char *file, const void *data, size_t len, GError **error)
{
	g_autoptr(WdrBlockDev) medium = NULL;
	g_autofree char *got = NULL;
	size_t got_len = 0;

	if (p->tree) {
		if (!read_from(p->tree, file, &got, &got_len, NULL, error))
			return false;
	} else if (!wdr_blockdev_open(wdr_blockdev_name(p->dev), WDR_OPEN_MEDIUM, &medium, error) ||
		   !read_disk(medium, p, file, &got, &got_len, NULL, error)) {
		return false;
	}
	return (got && got_len == len && memcmp(got, data, len) == 0) ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "/%s read back from the medium is not what was written", file);
}

bool wdr_edit_volume_put(const WdrPlaceOfFiles *p, const char *file, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	bool is_put = (p->tree && wdr_tree_put_file(p->tree, file, data, len, like, error)) ||
		      (!p->tree && put_on_disk(p, file, data, len, like, error));

	if (!is_put)
		g_prefix_error(error, "changing /%s: ", file);
	return is_put && read_back(p, file, data, len, error);
}

bool wdr_edit_volume_remove(const WdrPlaceOfFiles *p, const char *file, int64_t now, GError **error)
{
	return p->tree     ? wdr_tree_remove_file(p->tree, file, error)
	       : is_fat(p) ? wdr_fat_remove_file(p->dev, p->offset, p->size, file, error)
			   : wdr_ext_remove_file(p->dev, p->offset, p->size, file, now, error);
}
