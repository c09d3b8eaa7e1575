/* Reading an ext volume: folders, inodes, attributes.
 *
 * Through libext2fs, over our own block device (ext_io.c). Every count and offset is checked
 * against the volume; damage gives an error with the path. Features that we do not know are refused
 * when the volume is opened. */
#include "volume/ext/ext_priv.h"

#include "volume/sweep.h"

#include <e2p/e2p.h>
#include <string.h>

/* Block numbers within a file have 32 bits. */
#define FILE_BLOCKS_MAX (UINT64_C(1) << 32)

typedef WdrExtVolume Ext;

const uint32_t wdr_ext_kept_flags = EXT2_SECRM_FL | EXT2_UNRM_FL | EXT2_COMPR_FL | EXT2_SYNC_FL |
				    EXT2_IMMUTABLE_FL | EXT2_APPEND_FL | EXT2_NODUMP_FL |
				    EXT2_NOATIME_FL | EXT3_JOURNAL_DATA_FL | EXT2_NOTAIL_FL |
				    EXT2_DIRSYNC_FL | EXT2_TOPDIR_FL | EXT4_PROJINHERIT_FL;

bool wdr_ext_bad_inode(Ext *x, uint64_t ino, GError **error, const char *what)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: inode %" G_GUINT64_FORMAT ": %s",
		x->volume.name, ino, what);
}

static bool valid_ino(Ext *x, uint64_t ino, GError **error)
{
	if (ino == EXT2_ROOT_INO ||
		(ino >= EXT2_FIRST_INODE(x->fs->super) && ino <= x->fs->super->s_inodes_count))
		return true;
	return wdr_ext_bad_inode(
		x, ino, error, "a name leads to this number, which no file can have");
}

/* ---- folders ---- */

typedef struct {
	ext2_ino_t ino;
	gsize name; /* where it begins in the names */
} Listed;

typedef struct {
	Ext *x;
	uint64_t folder;
	GArray *listed;    /* Listed */
	GByteArray *names; /* each with its 0 byte */
	GError *error;
} Listing;

static void listing_clear(Listing *l)
{
	g_array_unref(l->listed);
	g_byte_array_unref(l->names);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Listing, listing_clear)

static bool list_name(Listing *l, const struct ext2_dir_entry *d)
{
	char name[EXT2_NAME_LEN + 1];
	int len = ext2fs_dirent_name_len(d);

	memcpy(name, d->name, (size_t)len);
	name[len] = '\0';
	if (len == 0 || strlen(name) != (size_t)len || strchr(name, '/'))
		return wdr_ext_bad_inode(
			l->x, l->folder, &l->error, "a name in this folder is damaged");
	if (strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
		return true;
	if (!valid_ino(l->x, d->inode, &l->error))
		return false;
	Listed listed = { d->inode, l->names->len };
	g_array_append_val(l->listed, listed);
	g_byte_array_append(l->names, (const uint8_t *)name, (guint)len + 1);
	return true;
}

static int list_entry(struct ext2_dir_entry *d, int offset, int blocksize, char *buf, void *data)
{
	(void)offset;
	(void)blocksize;
	(void)buf;
	return list_name(data, d) ? 0 : DIRENT_ABORT;
}

static int by_inode(const void *a, const void *b)
{
	const Listed *x = a;
	const Listed *y = b;

	return x->ino < y->ino ? -1 : x->ino > y->ino;
}

static bool tell_name(
	const Listing *l, const Listed *listed, WdrListFunc each, void *data, GError **error)
{
	struct ext2_inode inode;

	errcode_t code = ext2fs_read_inode(l->x->fs, listed->ino, &inode);
	if (code)
		return wdr_ext_error(error, code, "%s: inode %u", l->x->volume.name, listed->ino);
	WdrName found = { .name = (const char *)l->names->data + listed->name,
		.id = listed->ino,
		.links = inode.i_links_count };
	if (inode.i_links_count == 0 || !wdr_kind_of_mode(inode.i_mode, &found.kind))
		return wdr_ext_bad_inode(
			l->x, listed->ino, error, "a name leads to it, but it is not in use");
	return each(data, &found, error);
}

/* A large folder has its names in the order of a hash. Their inodes are read in the order in which
 * they lie: otherwise nearly each of them would take a request to the disk. */
static bool ext_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	Ext *x = WDR_DERIVED(v, Ext, volume);
	g_auto(Listing) l = { .x = x,
		.folder = folder->id,
		.listed = g_array_new(FALSE, FALSE, sizeof(Listed)),
		.names = g_byte_array_new() };
	g_autofree char *buf = g_malloc(x->fs->blocksize);

	errcode_t code = ext2fs_dir_iterate(x->fs, (ext2_ino_t)folder->id, 0, buf, list_entry, &l);
	if (l.error) {
		g_propagate_error(error, l.error);
		return false;
	}
	if (code)
		return wdr_ext_error(error, code, "%s: folder %s (inode %" G_GUINT64_FORMAT ")",
			v->name, folder->path, folder->id);
	if (l.listed->len > 1)
		qsort(l.listed->data, l.listed->len, sizeof(Listed), by_inode);
	for (guint i = 0; i < l.listed->len; i++) {
		if (!tell_name(&l, &g_array_index(l.listed, Listed, i), each, data, error))
			return false;
	}
	return true;
}

/* The kind is asked of the inode: not all volumes have it beside the name. */
static bool ext_find(
	WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret, GError **error)
{
	Ext *x = WDR_DERIVED(v, Ext, volume);
	g_autofree char *buf = g_malloc(x->fs->blocksize);
	struct ext2_inode inode;
	ext2_ino_t ino = 0;

	errcode_t code =
		ext2fs_lookup(x->fs, (ext2_ino_t)folder->id, name, (int)strlen(name), buf, &ino);
	if (code == EXT2_ET_FILE_NOT_FOUND)
		return true;
	if (code)
		return wdr_ext_error(error, code, "%s: folder %s (inode %" G_GUINT64_FORMAT ")",
			v->name, folder->path, folder->id);
	if (!valid_ino(x, ino, error))
		return false;
	code = ext2fs_read_inode(x->fs, ino, &inode);
	if (code)
		return wdr_ext_error(error, code, "%s: inode %u", v->name, ino);
	if (inode.i_links_count == 0 || !wdr_kind_of_mode(inode.i_mode, &ret->kind))
		return wdr_ext_bad_inode(x, ino, error, "a name leads to it, but it is not in use");
	ret->id = ino;
	ret->is_there = true;
	return true;
}

/* ---- metadata ---- */

/* 34 bits of seconds and 30 of nanoseconds: the low two bits of the extra field extend the seconds.
 */
static WdrTime decode_time(uint32_t seconds, uint32_t extra)
{
	/* There is room for more than a second of nanoseconds; a damaged inode may have them. */
	return (WdrTime){ (int64_t)(int32_t)seconds + ((int64_t)(extra & 3) << 32),
		MIN(extra >> 2, 999999999) };
}

static void decode_times(const struct ext2_inode_large *in, size_t room, WdrEntry *ret)
{
	size_t extra = room > EXT2_GOOD_OLD_INODE_SIZE ? in->i_extra_isize : 0;
	bool has_times = extra >= offsetof(struct ext2_inode_large, i_crtime_extra) + 4 -
					  EXT2_GOOD_OLD_INODE_SIZE;
	bool has_project =
		extra >= offsetof(struct ext2_inode_large, i_projid) + 4 - EXT2_GOOD_OLD_INODE_SIZE;

	ret->atime = decode_time(in->i_atime, has_times ? in->i_atime_extra : 0);
	ret->mtime = decode_time(in->i_mtime, has_times ? in->i_mtime_extra : 0);
	ret->ctime = decode_time(in->i_ctime, has_times ? in->i_ctime_extra : 0);
	/* Small inodes have no birth time: none is given, as the kernel gives none. */
	if (has_times)
		ret->crtime = decode_time(in->i_crtime, in->i_crtime_extra);
	ret->project = has_project ? in->i_projid : 0;
}

static void decode_device(const struct ext2_inode *in, WdrEntry *ret)
{
	if (in->i_block[0]) {
		ret->rdev_major = in->i_block[0] >> 8 & 0xff;
		ret->rdev_minor = in->i_block[0] & 0xff;
	} else {
		ret->rdev_major = in->i_block[1] >> 8 & 0xfff;
		ret->rdev_minor = (in->i_block[1] & 0xff) | (in->i_block[1] >> 12 & 0xfff00);
	}
}

typedef struct {
	WdrEntry *entry;
	GError *error;
} XattrReading;

static int read_xattr(char *name, char *value, size_t len, void *data)
{
	XattrReading *r = data;

	/* Where inline data lives is how the file is stored, not an attribute of it. */
	if (strcmp(name, "system.data") == 0)
		return 0;
	return wdr_ext_xattr_decode(name, value, len, r->entry, &r->error) ? 0 : XATTR_ABORT;
}

static bool has_xattrs(const Ext *x, const uint8_t *raw, const struct ext2_inode_large *in)
{
	size_t size = EXT2_INODE_SIZE(x->fs->super);
	uint32_t magic = 0;

	if (in->i_file_acl || ext2fs_file_acl_block(x->fs, (const struct ext2_inode *)in))
		return true;
	if (size <= EXT2_GOOD_OLD_INODE_SIZE ||
		in->i_extra_isize > size - EXT2_GOOD_OLD_INODE_SIZE - 4)
		return false;
	memcpy(&magic, raw + EXT2_GOOD_OLD_INODE_SIZE + in->i_extra_isize, sizeof(magic));
	return magic == EXT2_EXT_ATTR_MAGIC;
}

static bool read_xattrs(Ext *x, ext2_ino_t ino, WdrEntry *ret, GError **error)
{
	struct ext2_xattr_handle *handle = NULL;
	XattrReading r = { .entry = ret };

	errcode_t code = ext2fs_xattrs_open(x->fs, ino, &handle);
	if (!code)
		code = ext2fs_xattrs_read(handle);
	if (!code)
		code = ext2fs_xattrs_iterate(handle, read_xattr, &r);
	if (handle)
		ext2fs_xattrs_close(&handle);
	if (r.error) {
		g_propagate_error(error, r.error);
		g_prefix_error(error, "%s: inode %u: ", x->volume.name, ino);
		return false;
	}
	if (code)
		return wdr_ext_error(error, code, "%s: xattrs of inode %u", x->volume.name, ino);
	wdr_entry_sort_xattrs(ret);
	return true;
}

static bool slow_target(Ext *x, ext2_ino_t ino, size_t size, char *target, GError **error)
{
	ext2_file_t file = NULL;
	unsigned got = 0;

	errcode_t code = ext2fs_file_open(x->fs, ino, 0, &file);
	if (!code)
		code = ext2fs_file_read(file, target, (unsigned)size, &got);
	if (file)
		ext2fs_file_close(file);
	if (code)
		return wdr_ext_error(
			error, code, "%s: link target of inode %u", x->volume.name, ino);
	return got == size ? true
			   : wdr_ext_bad_inode(x, ino, error, "its link target is cut short");
}

static bool read_target(
	Ext *x, ext2_ino_t ino, struct ext2_inode *in, WdrEntry *ret, GError **error)
{
	uint64_t told = EXT2_I_SIZE(in);

	if (told == 0 || told >= x->fs->blocksize)
		return wdr_ext_bad_inode(
			x, ino, error, "the length of its link target makes no sense");
	size_t size = (size_t)told;
	if (in->i_flags & EXT4_INLINE_DATA_FL) {
		uint8_t *data = NULL;
		if (!wdr_ext_inline_data(x, ino, size, &data, error))
			return false;
		ret->target = (char *)data;
	} else {
		ret->target = g_malloc0(size + 1);
		if (ext2fs_is_fast_symlink(in))
			memcpy(ret->target, in->i_block, MIN(size, sizeof(in->i_block)));
		else if (!slow_target(x, ino, size, ret->target, error))
			return false;
	}
	return strlen(ret->target) == size
		       ? true
		       : wdr_ext_bad_inode(x, ino, error, "its link target holds a 0 byte");
}

bool wdr_ext_read_raw(Ext *x, uint64_t ino, uint8_t **ret, GError **error)
{
	size_t size = MAX(EXT2_INODE_SIZE(x->fs->super), sizeof(struct ext2_inode_large));
	g_autofree uint8_t *raw = g_malloc0(size);

	if (!valid_ino(x, ino, error))
		return false;
	errcode_t code = ext2fs_read_inode_full(
		x->fs, (ext2_ino_t)ino, (struct ext2_inode *)(void *)raw, (int)size);
	if (code)
		return wdr_ext_error(
			error, code, "%s: inode %" G_GUINT64_FORMAT, x->volume.name, ino);
	*ret = g_steal_pointer(&raw);
	return true;
}

static bool decode_inode(Ext *x, uint64_t ino, const uint8_t *raw, WdrEntry *ret, GError **error)
{
	struct ext2_inode_large in;
	struct ext2_inode *small = (struct ext2_inode *)&in;

	memcpy(&in, raw, sizeof(in));
	if (!wdr_kind_of_mode(in.i_mode, &ret->kind))
		return wdr_ext_bad_inode(x, ino, error, "of no known kind");
	if (in.i_flags & (EXT4_ENCRYPT_FL | EXT4_VERITY_FL))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s: inode %" G_GUINT64_FORMAT " is encrypted or sealed (verity)",
			x->volume.name, ino);
	ret->mode = in.i_mode & 07777;
	ret->uid = inode_uid(in);
	ret->gid = inode_gid(in);
	ret->links = in.i_links_count;
	ret->has_allocated = true;
	ret->allocated = (uint64_t)ext2fs_get_stat_i_blocks(x->fs, small) * 512;
	ret->size =
		ret->kind == WDR_KIND_FILE || ret->kind == WDR_KIND_SYMLINK ? EXT2_I_SIZE(&in) : 0;
	if (ret->size > FILE_BLOCKS_MAX * x->fs->blocksize)
		return wdr_ext_bad_inode(
			x, ino, error, "its size is larger than any file's can be");
	ret->flags = in.i_flags & wdr_ext_kept_flags;
	decode_times(&in, EXT2_INODE_SIZE(x->fs->super), ret);
	if (ret->kind == WDR_KIND_CHAR || ret->kind == WDR_KIND_BLOCK)
		decode_device(small, ret);
	if (ret->kind == WDR_KIND_SYMLINK && !read_target(x, (ext2_ino_t)ino, small, ret, error))
		return false;
	return !has_xattrs(x, raw, &in) || read_xattrs(x, (ext2_ino_t)ino, ret, error);
}

static bool ext_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	Ext *x = WDR_DERIVED(v, Ext, volume);
	g_autofree uint8_t *raw = NULL;
	g_auto(WdrEntry) entry = { 0 };

	if (!wdr_ext_read_raw(x, node->id, &raw, error) ||
		!decode_inode(x, node->id, raw, &entry, error)) {
		g_prefix_error(error, "%s: ", node->path);
		return false;
	}
	*ret = entry;
	entry = (WdrEntry){ 0 };
	return true;
}

/* ---- the volume ---- */

static void ext_free(WdrVolume *v)
{
	Ext *x = WDR_DERIVED(v, Ext, volume);

	ext2fs_free(x->fs);
	wdr_sweep_free(x->sweep);
	g_free(x);
}

bool wdr_ext_volume_open(
	WdrBlockDev *dev, uint64_t offset, uint64_t size, WdrVolume **ret, GError **error)
{
	static const WdrVolumeOps ops = { "ext4", ext_list, ext_stat, wdr_ext_content_open,
		ext_free, ext_find };
	ext2_filsys fs = NULL;

	if (!wdr_ext_open_fs(dev, offset, size, 0, &fs, error))
		return false;
	Ext *x = g_new0(Ext, 1);
	x->volume.ops = &ops;
	x->volume.name = g_strdup_printf(
		"%s (ext volume at byte %" G_GUINT64_FORMAT ")", wdr_blockdev_name(dev), offset);
	x->volume.root_id = EXT2_ROOT_INO;
	x->dev = dev;
	x->offset = offset;
	x->fs = fs;
	*ret = &x->volume;
	return true;
}

void wdr_ext_volume_sweep(WdrVolume *v)
{
	Ext *x = WDR_DERIVED(v, Ext, volume);

	if (!x->sweep)
		x->sweep = wdr_sweep_new(x->dev);
}

static char *feature_names(const struct ext2_super_block *sb)
{
	const uint32_t masks[] = { sb->s_feature_compat, sb->s_feature_incompat,
		sb->s_feature_ro_compat };
	static const int types[] = { E2P_FEATURE_COMPAT, E2P_FEATURE_INCOMPAT,
		E2P_FEATURE_RO_INCOMPAT };
	GString *names = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(masks); i++) {
		for (unsigned bit = 0; bit < 32; bit++) {
			uint32_t mask = (uint32_t)1 << bit;
			if (masks[i] & mask)
				g_string_append_printf(names, "%s%s", names->len ? "," : "",
					e2p_feature2string(types[i], mask));
		}
	}
	return g_string_free(names, FALSE);
}

void wdr_ext_volume_info(WdrVolume *v, WdrExtInfo *ret)
{
	ext2_filsys fs = WDR_DERIVED(v, Ext, volume)->fs;
	struct ext2_super_block *sb = fs->super;

	memset(ret, 0, sizeof(*ret));
	e2p_uuid_to_str(sb->s_uuid, ret->uuid);
	memcpy(ret->label, sb->s_volume_name, sizeof(sb->s_volume_name));
	ret->block_size = fs->blocksize;
	ret->inode_size = (uint32_t)EXT2_INODE_SIZE(sb);
	ret->size_bytes = ext2fs_blocks_count(sb) * (uint64_t)fs->blocksize;
	ret->free_bytes = ext2fs_free_blocks_count(sb) * (uint64_t)fs->blocksize;
	ret->inodes = sb->s_inodes_count;
	ret->needs_recovery = ext2fs_has_feature_journal_needs_recovery(sb);
	ret->has_errors = (sb->s_state & EXT2_ERROR_FS) != 0;
	ret->features = feature_names(sb);
}

void wdr_ext_info_clear(WdrExtInfo *info)
{
	g_clear_pointer(&info->features, g_free);
}

ext2_filsys wdr_ext_volume_fs(WdrVolume *v)
{
	return WDR_DERIVED(v, Ext, volume)->fs;
}
