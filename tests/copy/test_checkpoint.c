/* A filling that is cut off in the middle, with what was not flushed lost in part, and taken up
 * from its last checkpoint: the volume and its packing list are those of a filling without a cut.
 */
#include "support.h"

#include "base/text.h"
#include "copy/checkpoint.h"
#include "copy/packing_list.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

Suite *suite_checkpoint(void);

#define SIZE (160 * WDR_MIB)
enum { ENTRIES = 16000, FAT_ENTRIES = 14000, ROUNDS_MAX = 40 };

/* A medium with a cache of its own: what was written since the last flush may be lost when the
 * power goes, each write by itself. The power goes at the Nth write. */
typedef struct {
	uint64_t offset;
	GBytes *data;
} Unflushed;

typedef struct {
	uint8_t *now, *stable;
	GPtrArray *unflushed; /* Unflushed */
	GRand *rand;
	GMutex lock;
	gint left; /* writes; negative: no end */
} Medium;

static void unflushed_free(void *data)
{
	g_bytes_unref(((Unflushed *)data)->data);
	g_free(data);
}

static bool medium_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	(void)error;
	memcpy(buf, ((Medium *)self)->now + offset, len);
	return true;
}

static bool medium_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	Medium *m = self;

	g_mutex_lock(&m->lock);
	bool has_power = m->left != 0;
	if (has_power) {
		Unflushed *u = g_new0(Unflushed, 1);
		u->offset = offset;
		u->data = g_bytes_new(buf, len);
		g_ptr_array_add(m->unflushed, u);
		memcpy(m->now + offset, buf, len);
		m->left -= m->left > 0;
	}
	g_mutex_unlock(&m->lock);
	return has_power || wdr_error_set_errno(error, EIO, "no power");
}

static void make_stable(Medium *m, const Unflushed *u)
{
	size_t len = 0;
	const void *data = g_bytes_get_data(u->data, &len);

	memcpy(m->stable + u->offset, data, len);
}

static bool medium_flush(void *self, GError **error)
{
	Medium *m = self;

	if (m->left == 0)
		return wdr_error_set_errno(error, EIO, "no power");
	g_mutex_lock(&m->lock);
	for (guint i = 0; i < m->unflushed->len; i++)
		make_stable(m, m->unflushed->pdata[i]);
	g_ptr_array_set_size(m->unflushed, 0);
	g_mutex_unlock(&m->lock);
	return true;
}

static void medium_free(void *self)
{
	Medium *m = self;

	g_free(m->now);
	g_free(m->stable);
	g_ptr_array_unref(m->unflushed);
	g_rand_free(m->rand);
	g_mutex_clear(&m->lock);
	g_free(m);
}

static WdrBlockDev *medium_new(Medium **ret)
{
	static const WdrBlockOps ops = { .read = medium_read,
		.write = medium_write,
		.flush = medium_flush,
		.free = medium_free };
	Medium *m = g_new0(Medium, 1);

	m->now = g_malloc(SIZE);
	/* What another system left must not show through. */
	memset(m->now, 0xa5, SIZE);
	m->stable = g_memdup2(m->now, SIZE);
	m->unflushed = g_ptr_array_new_with_free_func(unflushed_free);
	m->rand = g_rand_new_with_seed(7);
	m->left = -1;
	g_mutex_init(&m->lock);
	*ret = m;
	return wdr_blockdev_new("medium", SIZE, 512, &ops, m);
}

/* Of the unflushed writes some came through. */
static void lose_power(Medium *m)
{
	for (guint i = 0; i < m->unflushed->len; i++) {
		if (g_rand_boolean(m->rand))
			make_stable(m, m->unflushed->pdata[i]);
	}
	g_ptr_array_set_size(m->unflushed, 0);
	memcpy(m->now, m->stable, SIZE);
}

/* ---- a volume with a file of gigabytes, most of it a hole ---- */

#define LONG_BYTES (UINT64_C(3) * 1024 * WDR_MIB + 12345)

/* Around the places where a checkpoint may be: pieces that end at them, begin there and reach over
 * them, a block that is written in part, and preallocated room. */
static const struct {
	uint64_t offset, len;
	bool is_unwritten;
} pieces[] = {
	{ 0, 3 * WDR_MIB, false },
	{ 700 * WDR_MIB, 5000, false },
	{ 1023 * WDR_MIB + 4096, 2 * WDR_MIB, false },
	{ 1500 * WDR_MIB, 8 * WDR_MIB, true },
	{ 2046 * WDR_MIB, 2 * WDR_MIB, false },
	{ 2048 * WDR_MIB, 4 * WDR_MIB, false },
	{ 3071 * WDR_MIB, WDR_MIB + 4096, true },
	{ LONG_BYTES - 100, 100, false },
};

typedef struct {
	WdrContent content;
	uint64_t size;
	size_t piece;
	uint64_t pos; /* bytes of the piece already given */
} LongContent;

static bool long_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	LongContent *c = WDR_DERIVED(content, LongContent, content);

	(void)error;
	*ret = (WdrPiece){ .offset = c->size };
	if (c->size != LONG_BYTES || c->piece == G_N_ELEMENTS(pieces))
		return true;
	uint64_t at = pieces[c->piece].offset + c->pos;
	uint64_t left = MIN(pieces[c->piece].len - c->pos, LONG_BYTES - at);
	uint64_t len = pieces[c->piece].is_unwritten ? left : MIN(left, cap);
	*ret = (WdrPiece){ at, len, pieces[c->piece].is_unwritten };
	for (uint64_t i = 0; !ret->is_unwritten && i < len; i++)
		((uint8_t *)buf)[i] = (uint8_t)((at + i) * 2654435761u >> 13 | 1);
	c->pos += len;
	if (len == left) {
		c->piece++;
		c->pos = 0;
	}
	return true;
}

static void long_free(WdrContent *content)
{
	g_free(content);
}

static const char *const long_names[] = { "a", "long", "z" };

static bool long_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	(void)v;
	(void)folder;
	for (unsigned i = 0; i < G_N_ELEMENTS(long_names); i++) {
		WdrName name = { .name = long_names[i], .id = i + 2, .links = 1 };
		if (!each(data, &name, error))
			return false;
	}
	return true;
}

static bool long_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	bool is_folder = node->id == v->root_id;

	(void)error;
	*ret = sup_entry(is_folder ? WDR_KIND_FOLDER : WDR_KIND_FILE, is_folder ? 0755 : 0640);
	ret->links = is_folder ? 2 : 1;
	ret->size = is_folder ? 0 : node->id == 3 ? LONG_BYTES : 10000;
	wdr_entry_add_xattr(ret, "user.field", "heron", 5);
	return true;
}

static bool long_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { long_next, long_free, NULL, NULL };
	LongContent *c = g_new0(LongContent, 1);

	(void)v;
	(void)node;
	(void)error;
	c->content.ops = &ops;
	c->size = entry->size;
	*ret = &c->content;
	return true;
}

static void long_volume_free(WdrVolume *v)
{
	g_free(v);
}

static WdrVolume *long_volume(void)
{
	static const WdrVolumeOps ops = { "long", long_list, long_stat, long_open, long_volume_free,
		NULL };
	WdrVolume *v = g_new0(WdrVolume, 1);

	v->ops = &ops;
	v->name = g_strdup("long");
	v->root_id = 1;
	return v;
}

static WdrVolume *many_files(void)
{
	SupTree tree = { .seed = 11, .entries = ENTRIES, .has_small_files = true };

	return sup_tree(&tree);
}

/* On a FAT, whose short names and attributes come along. */
static WdrVolume *fat_files(void)
{
	static WdrBlockDev *dev; /* of the test's process */
	SupTree tree = {
		.seed = 12, .entries = FAT_ENTRIES, .is_fat = true, .has_small_files = true
	};
	WdrVolume *v = NULL;

	if (!dev) {
		g_autoptr(WdrVolume) made = sup_tree(&tree);
		WdrFatSpec spec;
		wdr_fat_spec_default(SIZE, 16, &spec);
		sup_make_image(sup_path("source"), SIZE);
		sup_build_fat(made, sup_path("source"), 0, SIZE, &spec);
		sup_ok(wdr_blockdev_open(sup_path("source"), WDR_OPEN_READ, &dev, &error));
	}
	sup_ok(wdr_fat_volume_open(dev, 0, SIZE, &v, &error));
	return v;
}

enum { MANY, LONG, FAT16, FAT32 };
static const struct {
	WdrVolume *(*make)(void);
	unsigned width; /* of a FAT; 0: ext */
} sources[] = { { many_files, 0 }, { long_volume, 0 }, { fat_files, 16 }, { fat_files, 32 } };

/* ---- filling ---- */

typedef struct {
	WdrBuilder *builder;
	WdrPacking *packing;
	unsigned made;
} Filling;

static bool checkpoint(void *data, GVariant *walk, GError **error)
{
	Filling *f = data;
	g_auto(WdrCheckpoint)
		c = { .walk = g_variant_ref(walk), .entries = wdr_packing_entries(f->packing) };

	f->made++;
	return f->builder->ops->checkpoint(f->builder, &c.builder, error) &&
	       wdr_packing_flush(f->packing, &c.list_bytes, error) &&
	       wdr_checkpoint_save(sup_path("checkpoint"), &c, error);
}

static bool begin_ext(
	Filling *f, const WdrBuildTarget *target, GVariant *checkpointed, GError **error)
{
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);

	spec.inodes = 20000;
	return checkpointed ? wdr_ext_builder_resume(
				      sup_world(), target, &spec, checkpointed, &f->builder, error)
			    : wdr_ext_builder_new(sup_world(), target, &spec, &f->builder, error);
}

static bool begin_fat(Filling *f, const WdrBuildTarget *target, unsigned width,
	GVariant *checkpointed, GError **error)
{
	WdrFatSpec spec;

	wdr_fat_spec_default(SIZE, width, &spec);
	spec.serial = 0x1234abcd;
	g_strlcpy(spec.label, "TERNS", sizeof(spec.label));
	return checkpointed
		       ? wdr_fat_builder_resume(target, &spec, checkpointed, &f->builder, error)
		       : wdr_fat_builder_new(sup_world(), target, &spec, &f->builder, error);
}

static bool begin(Filling *f, const WdrBuildTarget *target, unsigned width,
	const WdrCheckpoint *from, const char *list, GError **error)
{
	if (!(width ? begin_fat(f, target, width, from->builder, error)
		    : begin_ext(f, target, from->builder, error)))
		return false;
	return from->walk ? wdr_packing_resume(
				    list, from->list_bytes, from->entries, &f->packing, error)
			  : wdr_packing_create(list, 1000, &f->packing, error);
}

/* One run: from the checkpoint if there is one; *ret_made counts those that it made. */
static bool fill(WdrBlockDev *dev, int which, const char *list, unsigned *ret_made, GError **error)
{
	g_autoptr(WdrVolume) source = sources[which].make();
	g_auto(WdrCheckpoint) from = { 0 };
	WdrBuildTarget target = { dev, 0, SIZE, sup_folder(), NULL, NULL };
	Filling f = { 0 };

	bool is_fine = wdr_checkpoint_load(sup_path("checkpoint"), &from, error) &&
		       begin(&f, &target, sources[which].width, &from, list, error);
	if (is_fine) {
		WdrCopy copy = { .source = source,
			.builder = f.builder,
			.record = wdr_packing_record,
			.data = f.packing,
			.renews_swap = true,
			.checkpoint = checkpoint,
			.checkpoint_data = &f,
			.checkpoint_bytes = 1,
			.resume_from = from.walk };
		is_fine = wdr_copy_volume(sup_world(), &copy, NULL, error) &&
			  f.builder->ops->finish(f.builder, error) &&
			  wdr_packing_finish(f.packing, error);
	}
	*ret_made = f.made;
	wdr_builder_free(f.builder);
	wdr_packing_free(f.packing);
	return is_fine;
}

static void judge(WdrBlockDev *dev, const Medium *m, int which, const char *list)
{
	g_autoptr(WdrVolume) built = NULL;
	bool is_fat = sources[which].width != 0;

	ck_assert(g_file_set_contents(sup_path("image"), (char *)m->now, SIZE, NULL));
	if (is_fat)
		sup_judge_fat(sup_path("image"));
	else
		sup_judge_ext(sup_path("image"), 0);
	sup_ok((is_fat ? wdr_fat_volume_open : wdr_ext_volume_open)(dev, 0, SIZE, &built, &error));
	sup_compare(built, list);
}

static gint count_writes(int which, const char *list)
{
	Medium *m = NULL;
	g_autoptr(WdrBlockDev) dev = medium_new(&m);
	unsigned made = 0;

	m->left = G_MAXINT;
	sup_ok(fill(dev, which, list, &made, &error));
	ck_assert_uint_ge(made, 2);
	judge(dev, m, which, list);
	unlink(sup_path("checkpoint"));
	return G_MAXINT - m->left;
}

START_TEST(power_cuts_anywhere)
{
	static const int kinds[] = { MANY, FAT16, FAT32 };
	int which = kinds[_i];
	gint all = count_writes(which, sup_path("list"));
	g_autofree char *want = sup_read(sup_path("list"), NULL);
	unsigned resumed = 0;

	for (gint share = 1; share <= 9; share += 3) {
		Medium *m = NULL;
		g_autoptr(WdrBlockDev) dev = medium_new(&m);
		bool is_done = false;
		unsigned rounds = 0;
		unlink(sup_path("checkpoint"));
		/* Each run gets as far as this share of all writes, the later ones from where they
		 * took it up. */
		for (; !is_done && rounds < ROUNDS_MAX; rounds++) {
			unsigned made = 0;
			/* One that makes no progress is given more time, as a user would. */
			m->left = all * (share + (gint)rounds) / 10 + 1;
			resumed += access(sup_path("checkpoint"), F_OK) == 0;
			is_done = fill(dev, which, sup_path("list"), &made, NULL);
			if (!is_done)
				lose_power(m);
		}
		ck_assert(is_done);
		judge(dev, m, which, sup_path("list"));
		g_autofree char *got = sup_read(sup_path("list"), NULL);
		ck_assert_str_eq(got, want);
	}
	ck_assert_uint_ge(resumed, 3);
}
END_TEST

/* The checkpoint that there is was made within the long file. */
static bool is_within(void)
{
	g_auto(WdrCheckpoint) c = { 0 };
	g_autoptr(GVariant) files = NULL;

	sup_ok(wdr_checkpoint_load(sup_path("checkpoint"), &c, &error));
	if (c.walk)
		files = g_variant_get_child_value(c.walk, 1);
	return files && g_variant_n_children(files) == 1;
}

/* Nearly all writes come before the data: the cuts are among the last. */
START_TEST(power_cuts_within_a_long_file)
{
	gint all = count_writes(LONG, sup_path("list"));
	g_autofree char *want = sup_read(sup_path("list"), NULL);
	unsigned within = 0;
	unsigned made = 0;

	for (gint cut = 1; cut < 32; cut += 2) {
		Medium *m = NULL;
		g_autoptr(WdrBlockDev) dev = medium_new(&m);
		unlink(sup_path("checkpoint"));
		m->left = all - cut;
		ck_assert(!fill(dev, LONG, sup_path("list"), &made, NULL));
		lose_power(m);
		within += is_within();
		m->left = -1;
		sup_ok(fill(dev, LONG, sup_path("list"), &made, &error));
		judge(dev, m, LONG, sup_path("list"));
		g_autofree char *got = sup_read(sup_path("list"), NULL);
		ck_assert_str_eq(got, want);
	}
	ck_assert_uint_ge(within, 2);
}
END_TEST

/* ---- the file ---- */

static void save_one(GByteArray *ret)
{
	g_auto(WdrCheckpoint) c = { 17, 4, 99, g_variant_ref_sink(g_variant_new_string("walk")),
		g_variant_ref_sink(g_variant_new_uint32(5)) };
	size_t len = 0;

	sup_ok(wdr_checkpoint_save(sup_path("c"), &c, &error));
	g_autofree char *data = sup_read(sup_path("c"), &len);
	g_byte_array_append(ret, (guint8 *)data, (guint)len);
}

START_TEST(it_comes_back_as_it_was)
{
	g_autoptr(GByteArray) file = g_byte_array_new();
	g_auto(WdrCheckpoint) c = { 0 };

	save_one(file);
	sup_ok(wdr_checkpoint_load(sup_path("c"), &c, &error));
	ck_assert_uint_eq(c.list_bytes, 17);
	ck_assert_uint_eq(c.entries, 4);
	ck_assert_uint_eq(c.bytes, 99);
	ck_assert_str_eq(g_variant_get_string(c.walk, NULL), "walk");
	ck_assert_uint_eq(g_variant_get_uint32(c.builder), 5);
	sup_ok(wdr_checkpoint_load(sup_path("none"), &c, &error));
	ck_assert_ptr_null(c.walk);
}
END_TEST

START_TEST(a_damaged_one_is_none)
{
	g_autoptr(GByteArray) file = g_byte_array_new();

	save_one(file);
	for (guint i = 0; i < file->len; i++) {
		g_auto(WdrCheckpoint) c = { 0 };
		file->data[i] ^= 0x10;
		sup_fails(WDR_ERROR_FORMAT, "no checkpoint, or a damaged one",
			wdr_checkpoint_parse("x", file->data, file->len, &c, &error));
		file->data[i] ^= 0x10;
		sup_fails(WDR_ERROR_FORMAT, "no checkpoint, or a damaged one",
			wdr_checkpoint_parse("x", file->data, i, &c, &error));
	}
}
END_TEST

static bool resume_with(GVariant *state, GError **failure)
{
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	g_autoptr(WdrBlockDev) dev = wdr_blockdev_new_memory("medium", 32 * WDR_MIB);
	g_autoptr(WdrBuilder) first = NULL;
	g_autoptr(WdrBuilder) second = NULL;
	g_autoptr(GVariant) owned = g_variant_ref_sink(state);
	WdrBuildTarget target = { dev, 0, 32 * WDR_MIB, sup_folder(), NULL, NULL };

	sup_ok(wdr_ext_builder_new(sup_world(), &target, &spec, &first, &error));
	return wdr_ext_builder_resume(sup_world(), &target, &spec, owned, &second, failure);
}

START_TEST(states_that_cannot_be)
{
	const char *const states[] = {
		"'text'", "(uint32 12, uint32 0)",
		"(uint32 2, uint32 0, uint64 0, @a(uu) [], @a(uu) [], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 99999999, @a(uu) [], @a(uu) [], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 3, @a(uu) [], @a(uu) [], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 0, @a(uu) [(4, 1)], @a(uu) [], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 0, @a(uu) [(12, 4294967295)], @a(uu) [], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 0, @a(uu) [], @a(uu) [(9999, 1)], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 0, @a(uu) [], @a(uu) [(0, 4294967295)], @a(uaytta(ttub)) [])",
		"(uint32 12, uint32 0, uint64 0, @a(uu) [], @a(uu) [], [(uint32 12, [byte 0], uint64 0, uint64 0, @a(ttub) [])])"
	};

	for (size_t i = 0; i < G_N_ELEMENTS(states); i++) {
		GVariant *state = g_variant_parse(NULL, states[i], NULL, NULL, NULL);
		g_autoptr(GError) error = NULL;
		ck_assert_ptr_nonnull(state);
		ck_assert_msg(!resume_with(state, &error), "%s", states[i]);
		ck_assert(g_error_matches(error, WDR_ERROR, WDR_ERROR_FORMAT));
	}
}
END_TEST

Suite *suite_checkpoint(void)
{
	Suite *s = suite_create("copy/checkpoint");
	TCase *tc = tcase_create("checkpoint");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, power_cuts_anywhere, 0, 3);
	tcase_add_test(tc, power_cuts_within_a_long_file);
	tcase_add_test(tc, it_comes_back_as_it_was);
	tcase_add_test(tc, a_damaged_one_is_none);
	tcase_add_test(tc, states_that_cannot_be);
	suite_add_tcase(s, tc);
	return s;
}
