/* Reads the metadata of an ext volume in the order in which it lies.
 *
 * A walk asks for folders and inodes in the order of names, each with a request of its own, and a
 * card answers few of these. Inode tables lie in one piece for each group of groups, and the kernel
 * puts the folders' blocks close together, so that all of it takes a few large requests. First come
 * the inode tables, which tell where the folders are, then the folders.
 *
 * The volume may be mounted and change meanwhile. So nothing that is read here is used but for
 * where to read next, and whatever does not fit is the end of it. */
#include "volume/ext/ext_priv.h"

#include "base/text.h"

#include <stdlib.h>

enum {
	REQUEST_BYTES = 256 * 1024,
	GAP_BLOCKS = 8,
	SCAN_BLOCKS = 32, /* of an inode table at once */
};

struct WdrExtAhead {
	WdrBlockDev *dev;
	ext2_filsys fs;
	const atomic_bool *stop;
	uint64_t left;   /* bytes that may still be read */
	GArray *folders; /* uint64_t: blocks */
};

static int note_block(
	ext2_filsys fs, blk64_t *block, e2_blkcnt_t count, blk64_t in, int at, void *data)
{
	WdrExtAhead *a = data;
	uint64_t number = *block;

	(void)count;
	(void)in;
	(void)at;
	if (number >= ext2fs_blocks_count(fs->super) || *a->stop ||
		a->folders->len >= a->left / fs->blocksize)
		return BLOCK_ABORT;
	g_array_append_val(a->folders, number);
	return 0;
}

/* Tells whether there is room for so many more bytes. */
static bool take(WdrExtAhead *a, uint64_t bytes)
{
	bool fits = bytes <= a->left && !*a->stop;

	a->left -= fits ? bytes : 0;
	return fits;
}

static void note_folder(WdrExtAhead *a, ext2_ino_t ino, const struct ext2_inode *inode)
{
	if (inode->i_links_count > 0 && LINUX_S_ISDIR(inode->i_mode) &&
		!(inode->i_flags & EXT4_INLINE_DATA_FL))
		(void)ext2fs_block_iterate3(a->fs, ino, BLOCK_FLAG_READ_ONLY, NULL, note_block, a);
}

static void scan_tables(WdrExtAhead *a)
{
	ext2_inode_scan scan = NULL;
	struct ext2_inode inode;
	ext2_ino_t ino = 0;

	if (ext2fs_open_inode_scan(a->fs, SCAN_BLOCKS, &scan) != 0)
		return;
	while (ext2fs_get_next_inode(scan, &ino, &inode) == 0 && ino != 0 &&
		take(a, EXT2_INODE_SIZE(a->fs->super)))
		note_folder(a, ino, &inode);
	ext2fs_close_inode_scan(scan);
}

static int by_number(const void *a, const void *b)
{
	const uint64_t *x = a;
	const uint64_t *y = b;

	return *x < *y ? -1 : *x > *y;
}

static void read_folders(WdrExtAhead *a)
{
	g_autofree uint8_t *buf = g_malloc(REQUEST_BYTES);
	uint64_t block_bytes = a->fs->blocksize;
	const uint64_t *blocks = (const uint64_t *)(const void *)a->folders->data;

	if (a->folders->len > 1)
		qsort(a->folders->data, a->folders->len, sizeof(uint64_t), by_number);
	for (guint i = 0; i < a->folders->len;) {
		uint64_t start = blocks[i];
		uint64_t end = start + 1;
		for (i++; i < a->folders->len && blocks[i] <= end + GAP_BLOCKS &&
			  (blocks[i] + 1 - start) * block_bytes <= REQUEST_BYTES;
			i++)
			end = blocks[i] + 1;
		if (!take(a, (end - start) * block_bytes) ||
			!wdr_blockdev_read(a->dev, buf, (size_t)((end - start) * block_bytes),
				start * block_bytes, NULL))
			return;
	}
}

WdrExtAhead *wdr_ext_ahead_tables(
	WdrBlockDev *dev, uint64_t size, uint64_t most, const atomic_bool *stop)
{
	ext2_filsys fs = NULL;

	if (!wdr_ext_open_fs(dev, 0, size,
		    EXT2_FLAG_SOFTSUPP_FEATURES | EXT2_FLAG_IGNORE_CSUM_ERRORS, &fs, NULL))
		return NULL;
	WdrExtAhead *a = g_new0(WdrExtAhead, 1);
	*a = (WdrExtAhead){ .dev = dev, .fs = fs, .stop = stop, .left = most };
	a->folders = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	scan_tables(a);
	return a;
}

void wdr_ext_ahead_folders(WdrExtAhead *a)
{
	read_folders(a);
	g_array_unref(a->folders);
	ext2fs_free(a->fs);
	g_free(a);
}
