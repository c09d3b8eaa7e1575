/* Telling where a file's content was put, to whoever reads it back. */
#include "volume/ext/ext_priv.h"

#include "base/hash.h"

uint64_t wdr_ext_runs_hash(const GArray *runs)
{
	g_autoptr(GArray) plain =
		g_array_sized_new(FALSE, FALSE, sizeof(uint64_t), MAX(runs->len * 3, 1));

	/* Number by number: a struct has bytes that mean nothing. */
	for (guint i = 0; i < runs->len; i++) {
		const WdrExtRun *r = &g_array_index(runs, WdrExtRun, i);
		const uint64_t numbers[] = { r->logical, r->physical,
			(uint64_t)r->count << 1 | (r->is_unwritten ? 1 : 0) };
		g_array_append_vals(plain, numbers, G_N_ELEMENTS(numbers));
	}
	uint64_t hash = wdr_hash(plain->data, plain->len * sizeof(uint64_t)).low;
	return hash ? hash : 1;
}

void wdr_ext_build_placed(WdrBuilder *builder, WdrPlaced *ret)
{
	const WdrExtBuild *b = WDR_DERIVED(builder, WdrExtBuild, builder);
	const struct ext2_inode_large *in = (struct ext2_inode_large *)(void *)b->file.inode;
	uint64_t bs = b->blocks.fs->blocksize;
	bool is_ended = b->file.ino == 0;
	uint64_t size = is_ended ? EXT2_I_SIZE(in) : MIN(b->file.pos, EXT2_I_SIZE(in));

	ret->id = is_ended ? b->file.ended : b->file.ino;
	ret->end = size;
	ret->places = wdr_ext_runs_hash(b->file.runs);
	ret->mark = wdr_stream_handed(b->blocks.stream);
	for (guint i = 0; i < b->file.runs->len; i++) {
		const WdrExtRun *r = &g_array_index(b->file.runs, WdrExtRun, i);
		uint64_t offset = r->logical * bs;
		WdrPlacedRun run = { offset, r->physical * bs,
			offset < size ? MIN((uint64_t)r->count * bs, size - offset) : 0 };
		if (!r->is_unwritten && run.len > 0)
			g_array_append_val(ret->runs, run);
	}
}
