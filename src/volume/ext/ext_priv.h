/* What the parts of the ext back end share; the only headers and sources that know libext2fs. */
#pragma once

#include "disk/blockdev.h"
#include "disk/stream.h"
#include "volume/ext/ext.h"
#include "volume/sweep.h"
#include "volume/volume.h"

#include <ext2fs/ext2fs.h>

/* A libext2fs error as ours. */
bool wdr_ext_error(GError **error, errcode_t code, const char *format, ...) G_GNUC_PRINTF(3, 4);

/* Opens the file system at [offset, offset + size) of dev through dev itself, so that bounds, locks
 * and error accounting hold. flags as for ext2fs_open2(). */
bool wdr_ext_open_fs(WdrBlockDev *dev, uint64_t offset, uint64_t size, int flags, ext2_filsys *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- an opened volume (ext.c, ext_content.c) ---- */

typedef struct {
	WdrVolume volume;
	WdrBlockDev *dev;
	uint64_t offset;
	ext2_filsys fs;
	WdrSweep *sweep; /* NULL: each content is read by itself */
} WdrExtVolume;
/* FORMAT: says that of this inode. Returns false. */
bool wdr_ext_bad_inode(WdrExtVolume *x, uint64_t ino, GError **error, const char *what);
/* An inode as it lies on the medium, at least a struct ext2_inode_large; the caller's. */
bool wdr_ext_read_raw(
	WdrExtVolume *x, uint64_t ino, uint8_t **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The data that an inode holds itself, with a 0 byte behind it; the caller's. */
bool wdr_ext_inline_data(WdrExtVolume *x, ext2_ino_t ino, uint64_t size, uint8_t **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* As in WdrVolumeOps. */
bool wdr_ext_content_open(WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The library's handle of an opened ext volume; borrowed. */
ext2_filsys wdr_ext_volume_fs(WdrVolume *v);

/* Flags of an inode that belong to the file, not to how it is stored. */
extern const uint32_t wdr_ext_kept_flags;

/* Makes the empty file system as a sparse file (ext_spec.c); the caller removes it. */
bool wdr_ext_make_empty(const WdrWorld *world, const WdrExtSpec *spec, uint64_t size,
	const char *path, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Makes it and copies it to its place on the target (ext_lay.c). */
bool wdr_ext_lay_empty(const WdrWorld *world, const WdrBuildTarget *target, const WdrExtSpec *spec,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Makes it in the target's scratch folder and opens it there; both are the caller's, and the file
 * goes away with them. */
bool wdr_ext_open_empty(const WdrWorld *world, const WdrBuildTarget *target, const WdrExtSpec *spec,
	WdrBlockDev **ret_dev, ext2_filsys *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* mkfs made a lost+found of its own; the one of the source comes in its place. */
bool wdr_ext_drop_lost_and_found(ext2_filsys fs, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Puts what mkfs has no option for into the superblock. */
void wdr_ext_spec_apply(const WdrExtSpec *spec, struct ext2_super_block *sb);

/* ---- xattrs on the medium (ext_xattr.c) ---- */

/* Adds an xattr as it lies on the medium to an entry: ACLs become version 2. */
bool wdr_ext_xattr_decode(const char *name, const void *value, size_t len, WdrEntry *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Where xattrs can be put. */
typedef struct {
	uint8_t *inode; /* behind the inode's extra fields */
	size_t inode_len;
	uint8_t *block; /* an image of a block */
	size_t block_len;
	bool uses_block; /* set by the encoding: some did not fit into the inode */
} WdrExtXattrRoom;
/* Puts the entry's xattrs into the inode and, those that do not fit, into the block. */
bool wdr_ext_xattrs_encode(
	const WdrEntry *entry, WdrExtXattrRoom *r, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- the inode table of a volume being built (ext_itable.c) ---- */

typedef struct WdrExtTable WdrExtTable;
WdrExtTable *wdr_ext_table_new(ext2_filsys fs, WdrBlockDev *dev, uint64_t offset);
/* What an existing volume has in use of its table is on the medium already. */
void wdr_ext_table_note_used(WdrExtTable *t);
/* What the medium has of inodes that are not in use is from after a checkpoint: it reads as zeros.
 */
void wdr_ext_table_forget_unused(WdrExtTable *t);
void wdr_ext_table_free(WdrExtTable *t);
/* Inodes of EXT2_INODE_SIZE bytes; put sets the checksum in `inode`. */
bool wdr_ext_table_get(
	WdrExtTable *t, ext2_ino_t ino, uint8_t *inode, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_table_put(
	WdrExtTable *t, ext2_ino_t ino, uint8_t *inode, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_table_flush(WdrExtTable *t, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- blocks, in rising order (ext_alloc.c) ---- */

typedef struct {
	uint64_t logical, physical; /* blocks */
	uint32_t count;
	bool is_unwritten;
} WdrExtRun;

typedef struct {
	ext2_filsys fs;
	uint64_t taken_from; /* start of what was taken of the free run but not yet marked */
	uint64_t next, end;  /* what is left of the free run */
} WdrExtAlloc;

/* Up to `want` blocks in a row; *ret_count is at least 1. NO_SPACE when the volume is full. */
bool wdr_ext_alloc(WdrExtAlloc *a, uint64_t want, uint64_t *ret_block, uint64_t *ret_count,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Marks what was taken in the bitmaps and counters. */
void wdr_ext_alloc_settle(WdrExtAlloc *a);
/* Takes everything before a block, which a builder before this one was at. FORMAT: it cannot have
 * been. */
bool wdr_ext_alloc_up_to(WdrExtAlloc *a, uint64_t block, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- extents (ext_extent.c) ---- */

/* Where a volume being built puts its blocks. */
typedef struct {
	ext2_filsys fs;
	WdrStream *stream;
	uint64_t offset; /* of the volume on its disk */
	WdrExtAlloc alloc;
} WdrExtBlocks;

enum { WDR_EXT_RUN_BLOCKS = 32767 }; /* as many fit into one extent of any kind */

/* Sends one block image on its way. */
bool wdr_ext_put_block(WdrExtBlocks *b, uint64_t block, const void *data,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Appends blocks to a list of runs, joining what follows on. */
void wdr_ext_add_run(GArray *runs, const WdrExtRun *r);
/* A hash over a file's runs; never 0. */
uint64_t wdr_ext_runs_hash(const GArray *runs);
/* The builder's operation. */
void wdr_ext_build_placed(WdrBuilder *builder, WdrPlaced *ret);
/* Puts a file's runs into its inode, with tree blocks as needed, which are added to *blocks. */
bool wdr_ext_put_tree(WdrExtBlocks *b, ext2_ino_t ino, struct ext2_inode_large *in,
	const GArray *runs, uint64_t *blocks, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- folders (ext_dir.c) ---- */

typedef struct {
	const char *name;
	uint8_t name_len;
	uint8_t type; /* EXT2_FT_* */
	ext2_ino_t ino;
	uint32_t hash, minor;
} WdrExtName;

typedef struct {
	ext2_ino_t self, parent;
	WdrExtName *names; /* are reordered */
	size_t n;
	size_t min_blocks;
} WdrExtFolder;

/* The blocks of a folder, one after the other, without checksums; *ret_is_indexed tells whether the
 * inode needs EXT2_INDEX_FL. */
bool wdr_ext_dir_blocks(ext2_filsys fs, const WdrExtFolder *f, GByteArray **ret,
	bool *ret_is_indexed, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- a volume being built or changed (ext_build.c, ext_inode.c, ext_change.c, ext_resume.c) ----
 */

typedef struct {
	WdrBuilder builder;
	WdrBlockDev *dev;
	WdrExtBlocks blocks;
	WdrExtTable *table;
	ext2_ino_t first_ino; /* of serial 1 */
	uint8_t *xattr_block;
	struct {                  /* the file being written */
		ext2_ino_t ino;   /* 0: none */
		ext2_ino_t ended; /* the one before; its runs are still there */
		uint8_t *inode;
		GArray *runs;    /* WdrExtRun */
		uint64_t at;     /* bytes of the disk: where the next byte of an open block goes */
		uint64_t pos;    /* bytes of the file up to which it was given */
		uint64_t blocks; /* taken, tree and xattrs included */
	} file;
} WdrExtBuild;

/* A builder over a volume that exists; its serials begin at first_ino. It has no bitmaps yet. */
bool wdr_ext_build_open(const WdrBuildTarget *target, ext2_ino_t first_ino, WdrExtBuild **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;

bool wdr_ext_build_read_bitmaps(WdrExtBuild *b, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Fills the block that the file being written has begun. */
bool wdr_ext_build_pad(WdrExtBuild *b, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The builder's checkpoint operation. Within a file, only where no more is to come of the block
 * that was begun. */
bool wdr_ext_build_checkpoint(
	WdrBuilder *builder, GVariant **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Room for one inode, also when those on the medium are smaller than the library's struct. */
uint8_t *wdr_ext_inode_new(ext2_filsys fs);
/* What inodes of this size have no room for is dropped from the entry. */
void wdr_ext_inode_fit(size_t size, WdrEntry *entry);
/* Mode, owner, flags and times; `size` is EXT2_INODE_SIZE. */
void wdr_ext_inode_put_metadata(const WdrEntry *e, size_t size, struct ext2_inode_large *in);
void wdr_ext_inode_put_blocks(WdrExtBuild *b, struct ext2_inode_large *in, uint64_t blocks);
/* Into the inode's room and, if need be, a block of their own, which is added to *blocks. */
bool wdr_ext_inode_put_xattrs(WdrExtBuild *b, ext2_ino_t ino, const WdrEntry *e, uint8_t *raw,
	uint64_t *blocks, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* ---- one file of a volume that nobody has mounted (ext_edit.c, ext_names.c) ---- */

typedef struct {
	WdrBlockDev *dev;
	WdrExtBlocks blocks;
	ext2_ino_t ino;
	uint8_t *raw;       /* its inode, EXT2_INODE_SIZE bytes or more */
	GArray *old_blocks; /* blk64_t: what the content took so far, its extent tree included */
} WdrExtEdit;
void wdr_ext_edit_clear(WdrExtEdit *e);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrExtEdit, wdr_ext_edit_clear)

/* REFUSED and UNSUPPORTED as for wdr_ext_replace_file(). */
bool wdr_ext_edit_open(WdrExtEdit *e, uint64_t offset, uint64_t size, int flags,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* REFUSED: it is immutable. */
bool wdr_ext_edit_read_inode(WdrExtEdit *e, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_edit_note_blocks(WdrExtEdit *e, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Into blocks that are free, on the medium when it returns; the inode in memory leads to them. */
bool wdr_ext_edit_write_content(
	WdrExtEdit *e, const void *data, size_t len, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Bitmaps, counters and superblock as they are in memory. */
bool wdr_ext_edit_flush(WdrExtEdit *e, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_edit_write_inode(WdrExtEdit *e, GError **error) G_GNUC_WARN_UNUSED_RESULT;
bool wdr_ext_edit_free_old(WdrExtEdit *e, GError **error) G_GNUC_WARN_UNUSED_RESULT;
