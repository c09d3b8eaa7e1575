/* The engine under failing media, stop requests, and contents that do not keep to their size. */
#include "support.h"

#include "base/stop.h"
#include "base/text.h"
#include "copy/volume_copy.h"

#include <errno.h>
#include <signal.h>
#include <string.h>

Suite *suite_volume_copy(void);

#define SIZE (64 * WDR_MIB)

/* A medium in memory whose accesses fail from the Nth on. */
typedef struct {
	uint8_t *bytes;
	bool fails_reading;
	gint left;
} Bad;

static bool spend(Bad *b, const char *what, uint64_t offset, GError **error)
{
	if (g_atomic_int_dec_and_test(&b->left) || g_atomic_int_get(&b->left) < 0) {
		g_atomic_int_set(&b->left, 0);
		return wdr_error_set_errno(
			error, EIO, "%s at byte %" G_GUINT64_FORMAT, what, offset);
	}
	return true;
}

static bool bad_read(void *self, void *buf, size_t len, uint64_t offset, GError **error)
{
	Bad *b = self;

	memcpy(buf, b->bytes + offset, len);
	return !b->fails_reading || spend(b, "reading", offset, error);
}

static bool bad_write(void *self, const void *buf, size_t len, uint64_t offset, GError **error)
{
	Bad *b = self;

	memcpy(b->bytes + offset, buf, len);
	return b->fails_reading || spend(b, "writing", offset, error);
}

static bool bad_flush(void *self, GError **error)
{
	(void)self;
	(void)error;
	return true;
}

static void bad_free(void *self)
{
	g_free(((Bad *)self)->bytes);
	g_free(self);
}

static WdrBlockDev *bad_disk(Bad **ret, gint accesses)
{
	static const WdrBlockOps ops = {
		.read = bad_read, .write = bad_write, .flush = bad_flush, .free = bad_free
	};
	Bad *b = g_new0(Bad, 1);

	b->bytes = g_malloc0(SIZE);
	b->left = accesses;
	*ret = b;
	return wdr_blockdev_new("bad disk", SIZE, 512, &ops, b);
}

static bool fill(WdrVolume *from, WdrBlockDev *dev, GError **failure)
{
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	g_autoptr(WdrBuilder) builder = NULL;
	WdrBuildTarget target = { dev, 0, SIZE, sup_folder(), NULL, NULL };

	spec.inodes = 1024;
	if (!wdr_ext_builder_new(sup_world(), &target, &spec, &builder, failure))
		return false;
	WdrCopy copy = { .source = from, .builder = builder };
	return wdr_copy_volume(sup_world(), &copy, NULL, failure) &&
	       builder->ops->finish(builder, failure);
}

START_TEST(every_write_can_fail)
{
	SupTree tree = { .seed = 21, .entries = 120 };
	gint accesses = 1;

	for (bool is_fine = false; !is_fine; accesses++) {
		g_autoptr(WdrVolume) from = sup_tree(&tree);
		g_autoptr(GError) failure = NULL;
		Bad *bad = NULL;
		g_autoptr(WdrBlockDev) dev = bad_disk(&bad, accesses);
		is_fine = fill(from, dev, &failure);
		ck_assert(is_fine == (failure == NULL));
		if (failure)
			ck_assert_msg(strstr(failure->message, "bad disk") != NULL, "%s",
				failure->message);
		ck_assert_int_lt(accesses, 1000);
	}
	ck_assert_int_gt(accesses, 10);
}
END_TEST

START_TEST(reads_can_fail_anywhere)
{
	SupTree tree = { .seed = 21, .entries = 120 };
	bool is_fine = false;

	for (gint accesses = 1; !is_fine; accesses += accesses < 40 ? 1 : 31) {
		g_autoptr(WdrVolume) from = sup_tree(&tree);
		g_autoptr(WdrVolume) built = NULL;
		g_autoptr(GError) failure = NULL;
		Bad *bad = NULL;
		g_autoptr(WdrBlockDev) dev = bad_disk(&bad, G_MAXINT);
		sup_ok(fill(from, dev, &error));
		bad->fails_reading = true;
		bad->left = accesses;
		if (!wdr_ext_volume_open(dev, 0, SIZE, &built, NULL))
			continue;
		WdrCopy copy = { .source = built };
		is_fine = wdr_copy_volume(sup_world(), &copy, NULL, &failure);
		if (!is_fine)
			ck_assert_msg(strstr(failure->message, "reading at byte") != NULL, "%s",
				failure->message);
		ck_assert_int_lt(accesses, 5000);
	}
}
END_TEST

typedef struct {
	unsigned left;
} Stopping;

static bool stop_soon(void *data, const WdrCopied *c, GError **error)
{
	(void)c;
	(void)error;
	if (((Stopping *)data)->left-- == 1)
		wdr_stop_request(SIGINT);
	return true;
}

START_TEST(a_stop_ends_it)
{
	SupTree tree = { .seed = 4, .entries = 300 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	Stopping s = { 1 };
	WdrMemoryVolume *m = (WdrMemoryVolume *)from;
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);

	/* More entries than one batch holds. */
	for (unsigned i = 0; i < 12000; i++) {
		g_autofree char *path = g_strdup_printf("more-%u", i);
		wdr_memory_volume_put(m, wdr_memory_volume_add(m, path, &e), 0, "x", 1);
	}
	WdrCopy copy = { .source = from, .record = stop_soon, .data = &s };
	sup_fails(WDR_ERROR_STOPPED, "Ctrl-C", wdr_copy_volume(sup_world(), &copy, NULL, &error));
	wdr_stop_clear();
}
END_TEST

static bool refuse(void *data, const WdrCopied *c, GError **error)
{
	(void)data;
	return strcmp(c->path, "") == 0 ||
	       wdr_error_set(error, WDR_ERROR_IO, "no room for the list");
}

START_TEST(a_failing_record_ends_it)
{
	SupTree tree = { .seed = 4, .entries = 300 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	WdrCopy copy = { .source = from, .record = refuse };

	sup_fails(WDR_ERROR_IO, "no room for the list",
		wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

typedef struct {
	unsigned found;
} Replaced;

static bool look_for_new(void *data, const WdrCopied *c, GError **error)
{
	(void)error;
	if (strcmp(c->path, "etc/fstab") == 0) {
		ck_assert_uint_eq(c->entry->size, 8);
		ck_assert(wdr_hash_equal(c->content, wdr_hash("new text", 8)));
		ck_assert_uint_eq(c->entry->mode, 0640);
		((Replaced *)data)->found++;
	}
	return true;
}

START_TEST(replacements)
{
	WdrMemoryVolume *m = wdr_memory_volume_new("m");
	g_autoptr(WdrVolume) from = wdr_memory_volume_as_volume(m);
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0640);
	g_autoptr(GHashTable) instead = wdr_replacements_new();
	Replaced r = { 0 };

	wdr_memory_volume_add(m, "etc", &folder);
	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "etc/fstab", &file), 0, "old", 3);
	wdr_memory_volume_put(m, wdr_memory_volume_add(m, "fstab", &file), 0, "kept", 4);
	g_hash_table_insert(instead, g_strdup("etc/fstab"), g_bytes_new("new text", 8));
	WdrCopy copy = {
		.source = from, .replacements = instead, .record = look_for_new, .data = &r
	};
	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
	ck_assert_uint_eq(r.found, 1);
}
END_TEST

static void take_progress(void *data, const WdrProgress *p)
{
	WdrProgress *last = data;

	ck_assert_uint_ge(p->bytes_done, last->bytes_done);
	ck_assert_uint_ge(p->entries_done, last->entries_done);
	ck_assert_uint_le(p->bytes_done, p->bytes_total);
	*last = *p;
}

START_TEST(progress_only_rises)
{
	SupTree tree = { .seed = 8, .entries = 500 };
	g_autoptr(WdrVolume) from = sup_tree(&tree);
	WdrProgress last = { 0 };
	WdrObserver observer = { .on_progress = take_progress, .data = &last };
	WdrCopy copy = { .source = from,
		.total = { .bytes_total = 1000000, .entries_total = 501 } };

	wdr_world_observe(sup_world(), &observer);
	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
	ck_assert_uint_eq(last.entries_done, 501);
	ck_assert_uint_eq(last.bytes_done, 1000000);
}
END_TEST

/* A large file, and a writer that is slower than the readers: they must wait for it. */
enum { HUGE_PIECES = 400, AHEAD_MAX = 32 };
static gint pieces_read, pieces_written;

static bool huge_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	int index = g_atomic_int_get(&pieces_read);

	(void)content;
	(void)error;
	*ret = (WdrPiece){ .offset = (uint64_t)index * cap, .len = index < HUGE_PIECES ? cap : 0 };
	memset(buf, index, cap);
	g_atomic_int_inc(&pieces_read);
	return true;
}

static void huge_free(WdrContent *content)
{
	g_free(content);
}

static bool huge_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { huge_next, huge_free, NULL, NULL };

	(void)v;
	(void)node;
	(void)entry;
	(void)error;
	*ret = g_new0(WdrContent, 1);
	(*ret)->ops = &ops;
	return true;
}

static bool huge_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	WdrName name = { .name = "huge", .id = 1, .kind = WDR_KIND_FILE, .links = 1 };

	(void)v;
	(void)folder;
	return each(data, &name, error);
}

static bool huge_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	(void)v;
	(void)error;
	*ret = sup_entry(node->id ? WDR_KIND_FILE : WDR_KIND_FOLDER, 0755);
	/* Not of whole pages: nobody looks into it whether it is a swap file. */
	ret->size = node->id ? HUGE_PIECES * UINT64_C(524288) + 1 : 0;
	return true;
}

static bool slow_names(
	WdrBuilder *b, const WdrBuildNode *folder, WdrChild *children, size_t n, GError **error)
{
	(void)b;
	(void)folder;
	(void)children;
	(void)error;
	return n == 1;
}

static bool slow_entry(WdrBuilder *b, const WdrBuildNode *at, const WdrEntry *entry, GError **error)
{
	(void)b;
	(void)at;
	(void)entry;
	(void)error;
	return true;
}

static bool slow_piece(WdrBuilder *b, const WdrPiece *piece, const void *data, GError **error)
{
	(void)b;
	(void)piece;
	(void)data;
	(void)error;
	g_usleep(300);
	g_atomic_int_inc(&pieces_written);
	ck_assert_int_le(
		g_atomic_int_get(&pieces_read) - g_atomic_int_get(&pieces_written), AHEAD_MAX);
	return true;
}

static bool slow_end(WdrBuilder *b, GError **error)
{
	(void)b;
	(void)error;
	return true;
}

static void huge_volume_free(WdrVolume *v)
{
	(void)v;
}

START_TEST(readers_wait_for_a_slow_writer)
{
	static const WdrVolumeOps volume_ops = { "huge", huge_list, huge_stat, huge_open,
		huge_volume_free, NULL };
	static const WdrBuilderOps builder_ops = { .fill_folder = slow_names,
		.add = slow_entry,
		.begin_file = slow_entry,
		.piece = slow_piece,
		.end_file = slow_end };
	WdrVolume volume = { .ops = &volume_ops, .name = (char *)"huge" };
	WdrBuilder builder = { .ops = &builder_ops };
	WdrCopy copy = { .source = &volume, .builder = &builder };

	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
	ck_assert_int_eq(pieces_written, HUGE_PIECES);
}
END_TEST

Suite *suite_volume_copy(void)
{
	Suite *s = suite_create("copy/volume_copy");
	TCase *t = tcase_create("volume_copy");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, every_write_can_fail);
	tcase_add_test(t, reads_can_fail_anywhere);
	tcase_add_test(t, a_stop_ends_it);
	tcase_add_test(t, a_failing_record_ends_it);
	tcase_add_test(t, replacements);
	tcase_add_test(t, progress_only_rises);
	tcase_add_test(t, readers_wait_for_a_slow_writer);
	suite_add_tcase(s, t);
	return s;
}
