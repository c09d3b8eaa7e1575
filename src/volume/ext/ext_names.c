/* Adding a file to a folder of an ext volume that nobody has mounted, and taking one away. */
#include "volume/ext/ext_priv.h"

#include <string.h>

enum { NAME_BYTES_MAX = 255 };

typedef struct {
	ext2_ino_t folder; /* that the name is or would be in */
	bool is_there;
	uint64_t id;
	WdrKind kind;
} Found;

/* The folder that a path is in, and what the path itself leads to: found false, nothing. */
static bool look_up(const WdrVolumeSpan *on, const char *path, Found *ret, GError **error)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) folder = { 0 };
	g_auto(WdrEntry) entry = { 0 };
	g_autofree char *parent = g_path_get_dirname(path);
	uint64_t id = EXT2_ROOT_INO;
	bool found = true;

	if (!wdr_ext_volume_open(on->dev, on->offset, on->size, &v, error))
		return false;
	if (strcmp(parent, ".") != 0) {
		if (!wdr_volume_lookup(v, parent, &found, &id, &folder, error))
			return false;
		if (!found || folder.kind != WDR_KIND_FOLDER)
			return wdr_error_set(error, WDR_ERROR_REFUSED, "%s: there is no folder /%s",
				wdr_volume_name(v), parent);
	}
	ret->folder = (ext2_ino_t)id;
	if (!wdr_volume_lookup(v, path, &ret->is_there, &ret->id, &entry, error))
		return false;
	ret->kind = entry.kind;
	return true;
}

/* An inode that nobody has, of the group that the folder is in if there is one. */
static bool take_inode(WdrExtEdit *e, ext2_ino_t folder, const WdrEntry *like, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)e->raw;
	WdrEntry file = *like;

	errcode_t code =
		ext2fs_new_inode(e->blocks.fs, folder, LINUX_S_IFREG | 0644, NULL, &e->ino);
	if (code)
		return wdr_error_set(
			error, WDR_ERROR_NO_SPACE, "the ext volume has no inode left for a file");
	ext2fs_inode_alloc_stats2(e->blocks.fs, e->ino, +1, 0);
	file.kind = WDR_KIND_FILE;
	file.atime = file.ctime = file.crtime = file.mtime;
	wdr_ext_inode_put_metadata(&file, EXT2_INODE_SIZE(e->blocks.fs->super), in);
	return true;
}

/* While a name and its inode do not agree the volume is not called clean, so that a check runs
 * after a power cut; and each order of writes is one whose middle e2fsck puts right by itself:
 * names of deleted inodes it takes away, inodes without a name it would ask about. */
static bool mark(WdrExtEdit *e, bool is_clean, GError **error)
{
	struct ext2_super_block *sb = e->blocks.fs->super;

	sb->s_state =
		(uint16_t)(is_clean ? sb->s_state | EXT2_VALID_FS : sb->s_state & ~EXT2_VALID_FS);
	ext2fs_mark_super_dirty(e->blocks.fs);
	return wdr_ext_edit_flush(e, error);
}

static bool write_inode(WdrExtEdit *e, uint16_t links, int64_t deleted_at, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)e->raw;

	in->i_links_count = links;
	in->i_dtime = (uint32_t)deleted_at;
	return wdr_ext_edit_write_inode(e, error);
}

/* In one write of a block of the folder where that has room for it. */
static bool add_name(WdrExtEdit *e, ext2_ino_t folder, const char *name, GError **error)
{
	errcode_t code = ext2fs_link(e->blocks.fs, folder, name, e->ino, EXT2_FT_REG_FILE);

	if (code == EXT2_ET_DIR_NO_SPACE) {
		code = ext2fs_expand_dir(e->blocks.fs, folder);
		if (!code)
			code = ext2fs_link(e->blocks.fs, folder, name, e->ino, EXT2_FT_REG_FILE);
	}
	return code ? wdr_ext_error(error, code, "adding %s to its folder", name)
		    : wdr_ext_edit_flush(e, error);
}

bool wdr_ext_add_file(const WdrVolumeSpan *on, const char *path, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	g_auto(WdrExtEdit) e = { .dev = on->dev };
	g_autofree char *name = g_path_get_basename(path);
	Found found = { 0 };

	if (strlen(name) > NAME_BYTES_MAX)
		return wdr_error_set(error, WDR_ERROR_USAGE, "/%s has too long a name", path);
	if (!look_up(on, path, &found, error))
		return false;
	if (found.is_there)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is there already", path);
	if (!wdr_ext_edit_open(&e, on->offset, on->size, EXT2_FLAG_RW, error))
		return false;
	if (!ext2fs_has_feature_extents(e.blocks.fs->super))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"the volume has no extents: files cannot be added to ext2 and ext3 yet");
	return take_inode(&e, found.folder, like, error) &&
	       wdr_ext_edit_write_content(&e, data, len, error) &&
	       write_inode(&e, 0, like->mtime.sec, error) && mark(&e, false, error) &&
	       add_name(&e, found.folder, name, error) && write_inode(&e, 1, 0, error) &&
	       mark(&e, true, error);
}

/* All that was the inode's own; a block of xattrs may be others' too. */
static bool let_go(WdrExtEdit *e, GError **error)
{
	errcode_t code = ext2fs_free_ext_attr(
		e->blocks.fs, e->ino, (struct ext2_inode_large *)(void *)e->raw);

	if (code)
		return wdr_ext_error(error, code, "freeing the xattrs of inode %u", e->ino);
	ext2fs_inode_alloc_stats2(e->blocks.fs, e->ino, -1, 0);
	return wdr_ext_edit_free_old(e, error);
}

static bool take_name(WdrExtEdit *e, ext2_ino_t folder, const char *name, GError **error)
{
	errcode_t code = ext2fs_unlink(e->blocks.fs, folder, name, e->ino, 0);

	return code ? wdr_ext_error(error, code, "taking %s from its folder", name)
		    : wdr_blockdev_flush(e->dev, error);
}

bool wdr_ext_remove_file(const WdrVolumeSpan *on, const char *path, int64_t now, GError **error)
{
	g_auto(WdrExtEdit) e = { .dev = on->dev };
	g_autofree char *name = g_path_get_basename(path);
	Found found = { 0 };

	if (!look_up(on, path, &found, error))
		return false;
	if (!found.is_there)
		return true;
	if (found.kind != WDR_KIND_FILE)
		return wdr_error_set(error, WDR_ERROR_REFUSED, "/%s is no plain file", path);
	e.ino = (ext2_ino_t)found.id;
	if (!wdr_ext_edit_open(&e, on->offset, on->size, EXT2_FLAG_RW, error) ||
		!wdr_ext_edit_read_inode(&e, error) || !wdr_ext_edit_note_blocks(&e, error))
		return false;
	uint16_t links = ((struct ext2_inode *)(void *)e.raw)->i_links_count;
	bool is_last = links <= 1;
	return mark(&e, false, error) &&
	       write_inode(&e, is_last ? 0 : (uint16_t)(links - 1), is_last ? now : 0, error) &&
	       take_name(&e, found.folder, name, error) && (!is_last || let_go(&e, error)) &&
	       mark(&e, true, error);
}
