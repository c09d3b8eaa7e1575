#include "support.h"

#include "disk/buffers.h"
#include "base/cleanup.h"
#include "base/hash.h"
#include "base/io.h"
#include "copy/packing_list.h"
#include "copy/volume_copy.h"

#include <fcntl.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>

static char *folder;
static GPtrArray *paths;
static WdrWorld *the_world;

void sup_setup(void)
{
	const char *path = getenv("PATH");
	g_autofree char *wide = g_strconcat(path ? path : "", ":/usr/sbin:/sbin", NULL);

	setenv("PATH", wide, 1);
	folder = g_dir_make_tmp("wanderitas-test-XXXXXX", NULL);
	ck_assert_ptr_nonnull(folder);
	paths = g_ptr_array_new_with_free_func(g_free);
	sup_ok(wdr_world_new(NULL, &the_world, &error));
}

void sup_teardown(void)
{
	/* They are mapped, not allocated: the sanitizers would not miss them. */
	ck_assert_uint_eq(wdr_buffers_in_use(), 0);
	wdr_world_free(the_world);
	wdr_remove_folder(folder);
	g_ptr_array_unref(paths);
	g_free(folder);
}

const char *sup_path(const char *name)
{
	char *path = g_build_filename(folder, name, NULL);

	g_ptr_array_add(paths, path);
	return path;
}

const char *sup_folder(void)
{
	return folder;
}

WdrWorld *sup_world(void)
{
	return the_world;
}

const char *sup_program(void)
{
	const char *program = g_getenv("WANDERITAS");

	return program ? program : WDR_TEST_PROGRAM;
}

bool sup_blames_data(const GError *error)
{
	return error->domain == WDR_ERROR && error->message[0] != '\0' &&
	       (error->code == WDR_ERROR_FORMAT || error->code == WDR_ERROR_UNSUPPORTED);
}

bool sup_is_root(void)
{
	return geteuid() == 0;
}

void sup_say_skipped(const char *test)
{
	printf("skipped (needs root): %s\n", test);
	fflush(stdout);
}

static char *keep(char *text)
{
	g_ptr_array_add(paths, text);
	return text;
}

/* Not by fork(): copying the page tables of a sanitized process takes longer than most programs. */
static int spawn(
	const char *const *argv, const char *in, const char *out, const char *err, pid_t *ret)
{
	posix_spawn_file_actions_t files;
	char **env = g_get_environ();

	env = g_environ_setenv(env, "LC_ALL", "C.UTF-8", TRUE);
	/* libfdisk and libblkid keep small things until the end. */
	env = g_environ_setenv(env, "ASAN_OPTIONS",
		"detect_leaks=0:verify_asan_link_order=0:quarantine_size_mb=16", TRUE);
	posix_spawn_file_actions_init(&files);
	posix_spawn_file_actions_addopen(&files, 0, in, O_RDONLY, 0);
	posix_spawn_file_actions_addopen(&files, 1, out, O_WRONLY | O_CREAT | O_TRUNC, 0666);
	posix_spawn_file_actions_addopen(&files, 2, err, O_WRONLY | O_CREAT | O_TRUNC, 0666);
	int why = posix_spawnp(ret, argv[0], &files, NULL, (char *const *)(uintptr_t)argv, env);
	posix_spawn_file_actions_destroy(&files);
	g_strfreev(env);
	return why;
}

/* What the program prints with --json is judged when all tests have run: scripts/test names a
 * folder for it. */
static void keep_document(const char *const *argv, const char *text)
{
	static unsigned number = 0;
	const char *documents = g_getenv("WANDERITAS_TEST_DOCUMENTS");

	if (!documents || *text == '\0' || !g_strv_contains(argv, "--json"))
		return;
	g_autofree char *path =
		g_strdup_printf("%s/%d-%u.json", documents, (int)getpid(), number++);
	sup_write(path, text);
}

SupRun sup_run(const char *input, const char *const *argv)
{
	g_autofree char *in = g_build_filename(folder, ".stdin", NULL);
	g_autofree char *out = g_build_filename(folder, ".stdout", NULL);
	g_autofree char *err = g_build_filename(folder, ".stderr", NULL);
	SupRun run = { 0 };
	pid_t child = 0;
	int status = 0;

	sup_write(in, input);
	int why = spawn(argv, in, out, err, &child);
	if (why == 0)
		ck_assert_int_eq(waitpid(child, &status, 0), child);
	run.code = why ? 127 : WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
	run.out = keep(sup_read(out, NULL));
	run.err = keep(sup_read(err, NULL));
	keep_document(argv, run.out);
	return run;
}

char *sup_tool(const char *const *argv)
{
	SupRun run = sup_run("", argv);

	ck_assert_msg(
		run.code == 0, "%s ended with %d:\n%s%s", argv[0], run.code, run.out, run.err);
	return run.out;
}

void sup_write(const char *path, const char *text)
{
	FILE *file = fopen(path, "w");

	ck_assert_msg(file && fputs(text, file) != EOF && fclose(file) == 0, "writing %s", path);
}

char *sup_read(const char *path, size_t *ret_len)
{
	char *text = NULL;
	size_t len = 0;

	sup_ok(wdr_read_file(path, 1 << 30, &text, &len, &error));
	if (ret_len)
		*ret_len = len;
	return text;
}

void sup_make_image(const char *path, uint64_t size)
{
	int fd = open(path, O_RDWR | O_CREAT | O_TRUNC, 0644);

	ck_assert_msg(fd >= 0 && ftruncate(fd, (off_t)size) == 0, "making %s", path);
	close(fd);
}

void sup_poke(const char *path, uint64_t offset, const void *data, size_t len)
{
	int fd = open(path, O_WRONLY);

	ck_assert_int_eq(pwrite(fd, data, len, (off_t)offset), (ssize_t)len);
	close(fd);
}

void sup_peek(const char *path, uint64_t offset, void *data, size_t len)
{
	int fd = open(path, O_RDONLY);

	ck_assert_int_eq(pread(fd, data, len, (off_t)offset), (ssize_t)len);
	close(fd);
}

enum { HASH_BLOCK = 65536 };

/* Only what is not zero, with its place: reading two GiB of hole takes seconds. */
static void hash_extent(WdrHasher *h, int fd, off_t from, off_t to)
{
	g_autofree uint8_t *buf = g_malloc(HASH_BLOCK);

	for (off_t at = from / HASH_BLOCK * HASH_BLOCK; at < to; at += HASH_BLOCK) {
		ssize_t got = pread(fd, buf, HASH_BLOCK, at);
		ck_assert_int_gt(got, 0);
		if (wdr_is_zero(buf, (size_t)got))
			continue;
		wdr_hasher_add(h, &at, sizeof(at));
		wdr_hasher_add(h, buf, (size_t)got);
	}
}

char *sup_hash(const char *path)
{
	g_autoptr(WdrHasher) h = wdr_hasher_new();
	char *text = g_malloc(WDR_HASH_TEXT_LEN + 1);
	int fd = open(path, O_RDONLY);
	off_t end = lseek(fd, 0, SEEK_END);
	off_t from = 0, to = 0;

	ck_assert_int_ge(end, 0);
	wdr_hasher_add(h, &end, sizeof(end));
	while ((from = lseek(fd, to, SEEK_DATA)) >= 0) {
		/* To the end of a block, which the next extent may share. */
		to = (lseek(fd, from, SEEK_HOLE) + HASH_BLOCK - 1) / HASH_BLOCK * HASH_BLOCK;
		hash_extent(h, fd, from, MIN(to, end));
	}
	close(fd);
	wdr_hash_to_text(wdr_hasher_result(h), text);
	return keep(text);
}

/* ---- made-up trees ---- */

WdrEntry sup_entry(WdrKind kind, uint32_t mode)
{
	WdrTime t = { 1777876200, 0 };

	return (WdrEntry){ .kind = kind,
		.mode = mode,
		.atime = { 1777852800, 0 },
		.mtime = t,
		.ctime = t,
		.crtime = t };
}

typedef struct {
	const SupTree *spec;
	WdrMemoryVolume *m;
	GRand *rand;
	GPtrArray *folders; /* char * */
	GArray *files;      /* numbers, for hard links */
	unsigned made;
} Making;

static uint32_t pick(Making *k, uint32_t below)
{
	return (uint32_t)g_rand_int_range(k->rand, 0, (gint32)below);
}

static char *make_name(Making *k)
{
	static const char *const fat_names[] = { "README.TXT", "kernel8.img",
		"a long name with blanks", "Config.Txt", "x", "UPPER", "many.points.in.name",
		"reed bed \xc3\xa9", "bird \xf0\x9f\x90\xa6" };
	static const char *const other_names[] = { "with\nline", "tab\there", "latin-\xe9", "-rf",
		"..x", "back\\slash", "quote\"", "star*" };
	unsigned serial = k->made++;
	const char *base = k->spec->is_fat || pick(k, 4)
				   ? fat_names[pick(k, G_N_ELEMENTS(fat_names))]
				   : other_names[pick(k, G_N_ELEMENTS(other_names))];

	if (pick(k, 40) == 0) {
		g_autofree char *stem = g_strnfill(200, 'n');
		return g_strdup_printf("%s%u", stem, serial);
	}
	return g_strdup_printf("%u%s", serial, base);
}

static WdrTime make_time(Making *k)
{
	if (k->spec->has_old_inodes)
		return (WdrTime){ 1000000000 + (int64_t)pick(k, 1000000000), 0 };
	if (k->spec->is_fat)
		return (WdrTime){ 946684800 + (int64_t)pick(k, 900000000) * 2, 0 };
	/* e2fsck takes what is later than 2310 for a mistake. */
	return (WdrTime){ (int64_t)g_rand_double_range(k->rand, -2147483648.0, 10737418240.0),
		pick(k, 1000000000) };
}

static void make_xattrs(Making *k, WdrEntry *e)
{
	unsigned n = pick(k, 6) ? 0 : pick(k, 5);

	for (unsigned i = 0; i < n; i++) {
		g_autofree char *name = g_strdup_printf("%s.key%u", i % 2 ? "trusted" : "user", i);
		uint8_t value[150];
		size_t len = pick(k, pick(k, 3) ? 40 : sizeof(value));
		memset(value, (int)(i + 1), sizeof(value));
		wdr_entry_add_xattr(e, name, value, len);
	}
}

static WdrEntry make_entry(Making *k, WdrKind kind)
{
	WdrEntry e = sup_entry(kind, pick(k, 07777));

	e.mtime = e.ctime = make_time(k);
	e.crtime = k->spec->has_old_inodes ? e.mtime : make_time(k);
	if (k->spec->is_fat) {
		e.mode = kind == WDR_KIND_FOLDER ? 0755 : 0644;
		return e;
	}
	e.atime = make_time(k);
	e.uid = pick(k, 3) ? 0 : pick(k, 2000000000);
	e.gid = pick(k, 70000);
	e.project = k->spec->has_projects ? pick(k, 5000) : 0;
	make_xattrs(k, &e);
	return e;
}

static void make_content(Making *k, uint64_t id)
{
	uint64_t at = 0;
	bool is_small = k->spec->has_small_files;
	unsigned pieces = is_small || pick(k, 5) ? 1 : pick(k, 30);

	for (unsigned i = 0; i < pieces; i++) {
		uint64_t len = pick(k, is_small || pick(k, 10) ? 9000 : 900000);
		if (pick(k, 6) == 0 && len && !k->spec->is_fat)
			wdr_memory_volume_preallocate(k->m, id, at, len);
		else
			wdr_memory_volume_generate(k->m, id, at, len, k->made * 31 + i);
		at += len + (pick(k, 2) ? 0 : pick(k, 50000));
	}
	if (!is_small && pick(k, 10) == 0)
		wdr_memory_volume_set_size(k->m, id, at + pick(k, 100000));
}

static void make_one(Making *k)
{
	static const WdrKind kinds[] = { WDR_KIND_SYMLINK, WDR_KIND_CHAR, WDR_KIND_BLOCK,
		WDR_KIND_FIFO, WDR_KIND_SOCKET };
	const char *parent = k->folders->pdata[pick(k, k->folders->len)];
	g_autofree char *name = make_name(k);
	g_autofree char *path = *parent ? g_strconcat(parent, "/", name, NULL) : g_strdup(name);
	unsigned what = pick(k, 20);

	if (!k->spec->is_fat && what == 0 && k->files->len) {
		wdr_memory_volume_link(
			k->m, path, g_array_index(k->files, uint64_t, pick(k, k->files->len)));
		return;
	}
	WdrKind kind = what < 4                       ? WDR_KIND_FOLDER
		       : what < 9 && !k->spec->is_fat ? kinds[pick(k, G_N_ELEMENTS(kinds))]
						      : WDR_KIND_FILE;
	WdrEntry e = make_entry(k, kind);
	if (kind == WDR_KIND_SYMLINK)
		e.target = g_strnfill(1 + pick(k, pick(k, 3) ? 70 : 1000), 't');
	e.rdev_major = kind == WDR_KIND_CHAR ? pick(k, 4095) : 8;
	e.rdev_minor = pick(k, 1000000);
	if (kind != WDR_KIND_CHAR && kind != WDR_KIND_BLOCK)
		e.rdev_major = e.rdev_minor = 0;
	uint64_t id = wdr_memory_volume_add(k->m, path, &e);
	wdr_entry_clear(&e);
	if (kind == WDR_KIND_FOLDER)
		g_ptr_array_add(k->folders, g_steal_pointer(&path));
	if (kind != WDR_KIND_FILE)
		return;
	make_content(k, id);
	g_array_append_val(k->files, id);
}

WdrVolume *sup_tree(const SupTree *t)
{
	Making k = { .spec = t, .m = wdr_memory_volume_new("made-up tree") };

	k.rand = g_rand_new_with_seed((guint32)t->seed);
	k.folders = g_ptr_array_new_with_free_func(g_free);
	k.files = g_array_new(FALSE, FALSE, sizeof(uint64_t));
	g_ptr_array_add(k.folders, g_strdup(""));
	for (unsigned i = 0; i < t->entries; i++)
		make_one(&k);
	g_rand_free(k.rand);
	g_ptr_array_unref(k.folders);
	g_array_unref(k.files);
	return wdr_memory_volume_as_volume(k.m);
}

/* ---- building ---- */

WdrExtSpec sup_ext_spec(const char *features, uint32_t block_size, uint32_t inode_size)
{
	WdrExtSpec spec;

	wdr_ext_spec_default(&spec);
	if (features) {
		g_free(spec.features);
		spec.features = g_strdup(features);
	}
	spec.block_size = block_size;
	spec.inode_size = inode_size;
	spec.inodes = 8192;
	g_strlcpy(spec.uuid, "5a2c8d1e-4b3f-4c6a-8e7d-1f0a9b8c7d6e", sizeof(spec.uuid));
	g_strlcpy(spec.label, "test", sizeof(spec.label));
	return spec;
}

static void fill(WdrVolume *from, WdrBuilder *builder, const char *list)
{
	g_autoptr(WdrPacking) packing = NULL;

	sup_ok(wdr_packing_create(list, 1000, &packing, &error));
	WdrCopy copy = { .source = from,
		.builder = builder,
		.record = wdr_packing_record,
		.data = packing,
		.renews_swap = true };
	sup_ok(wdr_copy_volume(the_world, &copy, NULL, &error));
	sup_ok(builder->ops->finish(builder, &error));
	sup_ok(wdr_packing_finish(packing, &error));
}

void sup_compare(WdrVolume *built, const char *list)
{
	g_autoptr(WdrPacking) packing = NULL;

	sup_ok(wdr_packing_open(list, &packing, &error));
	WdrCopy copy = { .source = built, .record = wdr_packing_compare, .data = packing };
	sup_ok(wdr_copy_volume(the_world, &copy, NULL, &error));
	sup_ok(wdr_packing_compare_end(packing, &error));
}

void sup_judge_ext(const char *image, uint64_t offset)
{
	g_autofree char *where = g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, image, offset);

	SUP_TOOL("e2fsck", "-fn", where);
}

void sup_judge_fat(const char *image)
{
	SUP_TOOL("fsck.fat", "-n", image);
}

void sup_build_ext(
	WdrVolume *from, const char *image, uint64_t offset, uint64_t size, const WdrExtSpec *spec)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;
	g_autoptr(WdrVolume) built = NULL;
	const char *list = sup_path("packing.list");

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, offset, size, folder, NULL, NULL };
	sup_ok(wdr_ext_builder_new(the_world, &target, spec, &builder, &error));
	fill(from, builder, list);
	g_clear_pointer(&builder, wdr_builder_free);
	g_clear_pointer(&dev, wdr_blockdev_free);
	sup_judge_ext(image, offset);
	sup_ok(wdr_blockdev_open(image, WDR_OPEN_MEDIUM, &dev, &error));
	sup_ok(wdr_ext_volume_open(dev, offset, size, &built, &error));
	sup_compare(built, list);
}

void sup_build_fat(
	WdrVolume *from, const char *image, uint64_t offset, uint64_t size, const WdrFatSpec *spec)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrBuilder) builder = NULL;

	sup_ok(wdr_blockdev_open(image, WDR_OPEN_WRITE, &dev, &error));
	WdrBuildTarget target = { dev, offset, size, folder, NULL, NULL };
	sup_ok(wdr_fat_builder_new(the_world, &target, spec, &builder, &error));
	fill(from, builder, sup_path("packing.list"));
	if (offset == 0)
		sup_judge_fat(image);
}
