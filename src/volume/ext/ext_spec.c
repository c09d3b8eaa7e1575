/* What a new ext volume is like, and making it empty with the operating system's mkfs.ext4. */
#include "volume/ext/ext_priv.h"

#include "base/cleanup.h"
#include "base/io.h"

#include <e2p/e2p.h>
#include <string.h>

enum { SPARE_INODES = 1024 };

void wdr_ext_spec_clear(WdrExtSpec *spec)
{
	g_clear_pointer(&spec->features, g_free);
}

void wdr_ext_spec_default(WdrExtSpec *ret)
{
	*ret = (WdrExtSpec){ .block_size = 4096,
		.inode_size = 256,
		.reserved_share = 0.05,
		.hash_version = EXT2_HASH_HALF_MD4 };
	ret->features =
		g_strdup("has_journal,ext_attr,resize_inode,dir_index,filetype,extent,64bit,"
			 "flex_bg,sparse_super,large_file,huge_file,dir_nlink,extra_isize,"
			 "metadata_csum");
}

/* Features of state, not of layout. */
static bool is_state(int type, uint32_t mask)
{
	return (type == E2P_FEATURE_INCOMPAT && mask == EXT3_FEATURE_INCOMPAT_RECOVER) ||
	       (type == E2P_FEATURE_RO_INCOMPAT && mask == EXT4_FEATURE_RO_COMPAT_ORPHAN_PRESENT);
}

static const struct {
	int type;
	uint32_t mask;
} buildable[] = {
	{ E2P_FEATURE_COMPAT, EXT3_FEATURE_COMPAT_HAS_JOURNAL },
	{ E2P_FEATURE_COMPAT, EXT2_FEATURE_COMPAT_EXT_ATTR },
	{ E2P_FEATURE_COMPAT, EXT2_FEATURE_COMPAT_RESIZE_INODE },
	{ E2P_FEATURE_COMPAT, EXT2_FEATURE_COMPAT_DIR_INDEX },
	{ E2P_FEATURE_COMPAT, EXT4_FEATURE_COMPAT_SPARSE_SUPER2 },
	{ E2P_FEATURE_COMPAT, EXT4_FEATURE_COMPAT_ORPHAN_FILE },
	{ E2P_FEATURE_INCOMPAT, EXT2_FEATURE_INCOMPAT_FILETYPE },
	{ E2P_FEATURE_INCOMPAT, EXT3_FEATURE_INCOMPAT_EXTENTS },
	{ E2P_FEATURE_INCOMPAT, EXT4_FEATURE_INCOMPAT_64BIT },
	{ E2P_FEATURE_INCOMPAT, EXT4_FEATURE_INCOMPAT_FLEX_BG },
	{ E2P_FEATURE_INCOMPAT, EXT2_FEATURE_INCOMPAT_META_BG },
	{ E2P_FEATURE_INCOMPAT, EXT4_FEATURE_INCOMPAT_CSUM_SEED },
	{ E2P_FEATURE_INCOMPAT, EXT4_FEATURE_INCOMPAT_LARGEDIR },
	{ E2P_FEATURE_INCOMPAT, EXT4_FEATURE_INCOMPAT_INLINE_DATA },
	{ E2P_FEATURE_RO_INCOMPAT, EXT2_FEATURE_RO_COMPAT_SPARSE_SUPER },
	{ E2P_FEATURE_RO_INCOMPAT, EXT2_FEATURE_RO_COMPAT_LARGE_FILE },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_HUGE_FILE },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_GDT_CSUM },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_DIR_NLINK },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_EXTRA_ISIZE },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_METADATA_CSUM },
	{ E2P_FEATURE_RO_INCOMPAT, EXT4_FEATURE_RO_COMPAT_PROJECT },
};

static bool is_buildable(int type, uint32_t mask)
{
	for (size_t i = 0; i < G_N_ELEMENTS(buildable); i++) {
		if (buildable[i].type == type && buildable[i].mask == mask)
			return true;
	}
	return false;
}

/* Adds the names of one word of feature bits to the list. */
static bool add_features(int type, uint32_t bits, GString *names, char **ret_note, GError **error)
{
	for (unsigned bit = 0; bit < 32; bit++) {
		uint32_t mask = (uint32_t)1 << bit;
		if (!(bits & mask) || is_state(type, mask))
			continue;
		const char *name = e2p_feature2string(type, mask);
		if (type == E2P_FEATURE_RO_INCOMPAT && mask == EXT4_FEATURE_RO_COMPAT_QUOTA) {
			*ret_note = g_strdup("quota accounting is left out of the new root volume; "
					     "'tune2fs -O quota' brings it back");
			continue;
		}
		if (!is_buildable(type, mask))
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"it has the ext feature '%s', which cannot be copied yet", name);
		g_string_append_printf(names, "%s%s", names->len ? "," : "", name);
	}
	return true;
}

static bool needed_features(const struct ext2_super_block *sb, GError **error)
{
	if (!ext2fs_has_feature_extents((struct ext2_super_block *)sb) ||
		!ext2fs_has_feature_filetype((struct ext2_super_block *)sb)) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"it is an ext2 or ext3 volume (no extents or no file types)");
		wdr_error_hint(error, "only ext4 volumes can be copied");
		return false;
	}
	return true;
}

static void copy_tunables(const struct ext2_super_block *sb, WdrExtSpec *ret)
{
	uint64_t blocks = ext2fs_blocks_count((struct ext2_super_block *)sb);

	memcpy(ret->label, sb->s_volume_name, sizeof(sb->s_volume_name));
	ret->block_size = (uint32_t)EXT2_BLOCK_SIZE(sb);
	ret->inode_size = (uint32_t)EXT2_INODE_SIZE(sb);
	ret->reserved_share = (double)ext2fs_r_blocks_count((struct ext2_super_block *)sb) /
			      (double)MAX(blocks, 1);
	ret->flex_groups = (uint32_t)1 << MIN(sb->s_log_groups_per_flex, 20);
	ret->default_mount_flags = sb->s_default_mount_opts;
	memcpy(ret->mount_options, sb->s_mount_opts, sizeof(ret->mount_options));
	ret->errors_behaviour = sb->s_errors;
	ret->hash_version = sb->s_def_hash_version;
	ret->hash_is_unsigned = (sb->s_flags & EXT2_FLAGS_UNSIGNED_HASH) != 0;
	ret->reserved_uid = sb->s_def_resuid;
	ret->reserved_gid = sb->s_def_resgid;
	ret->max_mount_count = (uint16_t)sb->s_max_mnt_count;
	ret->check_interval_s = sb->s_checkinterval;
	ret->raid_stride = sb->s_raid_stride;
	ret->raid_stripe_width = sb->s_raid_stripe_width;
}

bool wdr_ext_spec_like(WdrVolume *v, WdrExtSpec *ret, char **ret_note, GError **error)
{
	const struct ext2_super_block *sb = wdr_ext_volume_fs(v)->super;
	g_autoptr(GString) names = g_string_new(NULL);
	g_auto(WdrExtSpec) spec = { 0 };

	if (!needed_features(sb, error) ||
		!add_features(E2P_FEATURE_COMPAT, sb->s_feature_compat, names, ret_note, error) ||
		!add_features(
			E2P_FEATURE_INCOMPAT, sb->s_feature_incompat, names, ret_note, error) ||
		!add_features(
			E2P_FEATURE_RO_INCOMPAT, sb->s_feature_ro_compat, names, ret_note, error)) {
		g_prefix_error(error, "%s: ", wdr_volume_name(v));
		return false;
	}
	copy_tunables(sb, &spec);
	spec.features = g_string_free(g_steal_pointer(&names), FALSE);
	*ret = spec;
	spec.features = NULL;
	return true;
}

uint64_t wdr_ext_spec_inodes(const WdrExtInfo *like, uint64_t size, uint64_t entries)
{
	uint64_t bytes_per_inode = MAX(like->size_bytes / MAX(like->inodes, 1), like->block_size);
	uint64_t by_ratio = size / bytes_per_inode;
	uint64_t by_need = entries + entries / 8 + SPARE_INODES;

	/* One group holds at most 8 bits a byte of its bitmap block; mkfs refuses more. */
	return MIN(MAX(by_ratio, by_need), G_MAXUINT32 - 1);
}

void wdr_ext_spec_apply(const WdrExtSpec *spec, struct ext2_super_block *sb)
{
	uint64_t blocks = ext2fs_blocks_count(sb);

	ext2fs_r_blocks_count_set(sb, (blk64_t)((double)blocks * spec->reserved_share));
	sb->s_default_mount_opts = spec->default_mount_flags;
	memcpy(sb->s_mount_opts, spec->mount_options, sizeof(sb->s_mount_opts));
	if (spec->errors_behaviour)
		sb->s_errors = spec->errors_behaviour;
	sb->s_def_hash_version = spec->hash_version;
	sb->s_flags &= ~(uint32_t)(EXT2_FLAGS_SIGNED_HASH | EXT2_FLAGS_UNSIGNED_HASH);
	sb->s_flags |= spec->hash_is_unsigned ? EXT2_FLAGS_UNSIGNED_HASH : EXT2_FLAGS_SIGNED_HASH;
	sb->s_def_resuid = spec->reserved_uid;
	sb->s_def_resgid = spec->reserved_gid;
	sb->s_max_mnt_count = (int16_t)spec->max_mount_count;
	sb->s_checkinterval = spec->check_interval_s;
	sb->s_raid_stride = spec->raid_stride;
	sb->s_raid_stripe_width = spec->raid_stripe_width;
}

bool wdr_ext_make_empty(const WdrWorld *world, const WdrExtSpec *spec, uint64_t size,
	const char *path, GError **error)
{
	g_autofree char *features = g_strconcat("none,", spec->features, NULL);
	g_autofree char *block = g_strdup_printf("%u", spec->block_size);
	g_autofree char *inode = g_strdup_printf("%u", spec->inode_size);
	g_autofree char *inodes = g_strdup_printf("%" G_GUINT64_FORMAT, spec->inodes);
	g_autofree char *flex = g_strdup_printf("%u", spec->flex_groups);
	g_autofree char *blocks =
		g_strdup_printf("%" G_GUINT64_FORMAT, size / MAX(spec->block_size, 1));
	g_autoptr(GPtrArray) argv = g_ptr_array_new();
	/* The host's own defaults must not colour the target's system. */
	static const char *const environment[] = { "MKE2FS_CONFIG=/dev/null", NULL };
	static const char *const fixed[] = { "mkfs.ext4", "-q", "-F", "-m", "0", "-E" };
	static const char extended[] = "nodiscard,lazy_itable_init=1,lazy_journal_init=0";
	g_autofree char *seeded = g_strconcat(extended, ",hash_seed=", spec->uuid, NULL);
	const char *pairs[] = { "-O", features, "-b", block, "-I", inode, "-N", inodes, "-U",
		spec->uuid, "-L", spec->label };
	g_auto(WdrRun) run = { 0 };
	g_auto(WdrFd) fd = -1;

	for (size_t i = 0; i < G_N_ELEMENTS(fixed); i++)
		g_ptr_array_add(argv, (void *)fixed[i]);
	g_ptr_array_add(argv, wdr_world_is_reproducible(world) ? (void *)seeded : (void *)extended);
	for (size_t i = 0; i < G_N_ELEMENTS(pairs); i++)
		g_ptr_array_add(argv, (void *)pairs[i]);
	if (spec->flex_groups > 1 && strstr(spec->features, "flex_bg")) {
		g_ptr_array_add(argv, (void *)"-G");
		g_ptr_array_add(argv, flex);
	}
	g_ptr_array_add(argv, (void *)path);
	g_ptr_array_add(argv, blocks);
	g_ptr_array_add(argv, NULL);
	if (!wdr_make_scratch_file(path, size, &fd, error) ||
		!wdr_world_run(world, (const char *const *)argv->pdata, environment, &run, error))
		return false;
	if (run.exit_code == 0)
		return true;
	wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "mkfs.ext4 for a volume of %s blocks: %s",
		blocks, g_strstrip(run.output));
	return wdr_blame_full_disk(path, error);
}

bool wdr_ext_spec_capacity(const WdrWorld *world, const WdrExtSpec *spec, uint64_t size,
	const char *scratch, uint64_t *ret, GError **error)
{
	g_autofree char *path = g_build_filename(scratch, "capacity.ext", NULL);
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) volume = NULL;
	bool is_fine = wdr_ext_make_empty(world, spec, size, path, error) &&
		       wdr_blockdev_open(path, WDR_OPEN_READ, &dev, error) &&
		       wdr_ext_volume_open(dev, 0, size, &volume, error);

	if (is_fine) {
		g_auto(WdrExtInfo) info = { 0 };
		wdr_ext_volume_info(volume, &info);
		*ret = info.free_bytes;
	}
	unlink(path);
	return is_fine;
}
