/* Blocks of a volume being built, handed out in rising order and marked run by run: a bitmap
 * look-up and a change of counters for each file would cost more than writing it. */
#include "volume/ext/ext_priv.h"

void wdr_ext_alloc_settle(WdrExtAlloc *a)
{
	if (a->next > a->taken_from)
		ext2fs_block_alloc_stats_range(
			a->fs, a->taken_from, (blk_t)(a->next - a->taken_from), +1);
	a->taken_from = a->next;
}

/* What is not free are the metadata of block groups, which mkfs placed. They lie at the start of
 * groups, or packed together with flex_bg. */
static bool next_free_run(WdrExtAlloc *a, GError **error)
{
	blk64_t last = ext2fs_blocks_count(a->fs->super) - 1;
	blk64_t start = MAX(a->next, a->fs->super->s_first_data_block);
	blk64_t end = 0;

	wdr_ext_alloc_settle(a);
	if (start > last ||
		ext2fs_find_first_zero_block_bitmap2(a->fs->block_map, start, last, &start) != 0)
		return wdr_error_set(error, WDR_ERROR_NO_SPACE, "the new ext volume is full");
	if (ext2fs_find_first_set_block_bitmap2(a->fs->block_map, start, last, &end) != 0)
		end = last + 1;
	/* The marking function counts in 32 bits. */
	a->end = MIN(end, start + G_MAXINT32);
	a->next = a->taken_from = start;
	return true;
}

/* Gives up to `want` blocks in a row, at least one. The bitmap is changed later, for the whole run,
 * in wdr_ext_alloc_settle(). */
bool wdr_ext_alloc(
	WdrExtAlloc *a, uint64_t want, uint64_t *ret_block, uint64_t *ret_count, GError **error)
{
	if (a->next == a->end && !next_free_run(a, error))
		return false;
	*ret_block = a->next;
	*ret_count = MIN(want, a->end - a->next);
	a->next += *ret_count;
	return true;
}

/* For going on from a checkpoint: all free blocks before `block` are taken, as the interrupted run
 * did. */
bool wdr_ext_alloc_up_to(WdrExtAlloc *a, uint64_t block, GError **error)
{
	while (a->next < block) {
		if (a->next == a->end && !next_free_run(a, error))
			return false;
		if (a->next >= block)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"block %" G_GUINT64_FORMAT " of the volume cannot be the next one",
				block);
		a->next = MIN(a->end, block);
	}
	wdr_ext_alloc_settle(a);
	return true;
}
