/* Inodes of a volume being built: owner, times, xattrs, block counts. */
#include "volume/ext/ext_priv.h"

#include <string.h>

uint8_t *wdr_ext_inode_new(ext2_filsys fs)
{
	return g_malloc0(MAX(EXT2_INODE_SIZE(fs->super), sizeof(struct ext2_inode_large)));
}

static uint16_t mode_of(const WdrEntry *e)
{
	static const uint16_t kinds[] = { LINUX_S_IFREG, LINUX_S_IFDIR, LINUX_S_IFLNK,
		LINUX_S_IFCHR, LINUX_S_IFBLK, LINUX_S_IFIFO, LINUX_S_IFSOCK };

	return (uint16_t)(kinds[e->kind] | e->mode);
}

/* See decode_time() in ext.c. Times outside of what the inode holds (34 bits, or 32 in inodes of
 * 128 bytes) are kept as near as they go. */
static WdrTime nearest_time(WdrTime t, size_t inode_size)
{
	int64_t latest = inode_size > EXT2_GOOD_OLD_INODE_SIZE ? INT64_C(0x37fffffff) : G_MAXINT32;

	return (WdrTime){ CLAMP(t.sec, G_MININT32, latest), t.nsec };
}

void wdr_ext_inode_fit(size_t size, WdrEntry *e)
{
	WdrTime *times[] = { &e->atime, &e->mtime, &e->ctime };

	if (size > EXT2_GOOD_OLD_INODE_SIZE)
		return;
	for (size_t i = 0; i < G_N_ELEMENTS(times); i++) {
		*times[i] = nearest_time(*times[i], size);
		times[i]->nsec = 0;
	}
	e->crtime = (WdrTime){ 0, 0 };
	e->project = 0;
}

static uint32_t time_low(WdrTime t, size_t inode_size)
{
	return (uint32_t)nearest_time(t, inode_size).sec;
}

static uint32_t time_extra(WdrTime t, size_t inode_size)
{
	int64_t sec = nearest_time(t, inode_size).sec;
	uint32_t epoch = (uint32_t)((sec - (int32_t)(uint32_t)sec) >> 32) & 3;

	return epoch | t.nsec << 2;
}

void wdr_ext_inode_put_metadata(const WdrEntry *e, size_t size, struct ext2_inode_large *in)
{
	in->i_mode = mode_of(e);
	in->i_uid = (uint16_t)e->uid;
	in->osd2.linux2.l_i_uid_high = (uint16_t)(e->uid >> 16);
	in->i_gid = (uint16_t)e->gid;
	in->osd2.linux2.l_i_gid_high = (uint16_t)(e->gid >> 16);
	in->i_flags = e->flags & wdr_ext_kept_flags;
	in->i_atime = time_low(e->atime, size);
	in->i_mtime = time_low(e->mtime, size);
	in->i_ctime = time_low(e->ctime, size);
	if (size <= EXT2_GOOD_OLD_INODE_SIZE)
		return;
	in->i_extra_isize = sizeof(struct ext2_inode_large) - EXT2_GOOD_OLD_INODE_SIZE;
	in->i_atime_extra = time_extra(e->atime, size);
	in->i_mtime_extra = time_extra(e->mtime, size);
	in->i_ctime_extra = time_extra(e->ctime, size);
	in->i_crtime = time_low(e->crtime, size);
	in->i_crtime_extra = time_extra(e->crtime, size);
	in->i_projid = e->project;
}

void wdr_ext_inode_put_blocks(WdrExtBuild *b, struct ext2_inode_large *in, uint64_t blocks)
{
	uint64_t sectors = blocks * (b->blocks.fs->blocksize / 512);

	if (sectors > G_MAXUINT32 && ext2fs_has_feature_huge_file(b->blocks.fs->super) &&
		sectors >> 48 != 0) {
		in->i_flags |= EXT4_HUGE_FILE_FL;
		sectors = blocks;
	}
	in->i_blocks = (uint32_t)sectors;
	in->osd2.linux2.l_i_blocks_hi = (uint16_t)(sectors >> 32);
}

bool wdr_ext_inode_put_xattrs(WdrExtBuild *b, ext2_ino_t ino, const WdrEntry *e, uint8_t *raw,
	uint64_t *blocks, GError **error)
{
	struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)raw;
	size_t size = EXT2_INODE_SIZE(b->blocks.fs->super);
	size_t used = size > EXT2_GOOD_OLD_INODE_SIZE
			      ? EXT2_GOOD_OLD_INODE_SIZE + (size_t)in->i_extra_isize
			      : size;
	uint64_t block = 0;
	uint64_t count = 0;
	WdrExtXattrRoom room = { raw + used, size - used, b->xattr_block, b->blocks.fs->blocksize,
		false };

	if (e->n_xattrs == 0)
		return true;
	if (!wdr_ext_xattrs_encode(e, &room, error))
		return false;
	if (!room.uses_block)
		return true;
	if (!wdr_ext_alloc(&b->blocks.alloc, 1, &block, &count, error))
		return false;
	ext2fs_file_acl_block_set(b->blocks.fs, (struct ext2_inode *)in, block);
	(*blocks)++;
	ext2fs_ext_attr_block_csum_set(b->blocks.fs, ino, block, (void *)b->xattr_block);
	return wdr_ext_put_block(&b->blocks, block, b->xattr_block, error);
}
