#include "support.h"

#include "base/io.h"
#include "base/text.h"
#include "copy/volume_copy.h"
#include "volume/tree/tree.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_tree(void);

static WdrVolume *open_tree(const char *folder)
{
	WdrVolume *v = NULL;

	sup_ok(wdr_tree_volume_open(folder, &v, &error));
	return v;
}

START_TEST(entries_as_the_kernel_tells_them)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) file = { 0 };
	g_auto(WdrEntry) link = { 0 };
	struct stat st;
	bool found = false;

	sup_ok(wdr_make_folder(sup_path("t/sub"), &error));
	sup_write(sup_path("t/sub/file"), "twelve bytes");
	ck_assert_int_eq(chmod(sup_path("t/sub/file"), 04751), 0);
	ck_assert_int_eq(symlink("file", sup_path("t/sub/link")), 0);
	ck_assert_int_eq(stat(sup_path("t/sub/file"), &st), 0);
	v = open_tree(sup_path("t"));
	sup_ok(wdr_volume_lookup(v, "sub/file", &found, NULL, &file, &error));
	ck_assert(found);
	ck_assert_uint_eq(file.mode, 04751);
	ck_assert_uint_eq(file.size, 12);
	ck_assert_uint_eq(file.uid, st.st_uid);
	ck_assert_int_eq(file.mtime.sec, st.st_mtim.tv_sec);
	ck_assert_int_eq(file.mtime.nsec, st.st_mtim.tv_nsec);
	sup_ok(wdr_volume_lookup(v, "sub/link", &found, NULL, &link, &error));
	ck_assert_int_eq(link.kind, WDR_KIND_SYMLINK);
	ck_assert_str_eq(link.target, "file");
	/* A link on the way is not followed. */
	sup_ok(wdr_volume_lookup(v, "sub/link/x", &found, NULL, &link, &error));
	ck_assert(!found);
}
END_TEST

static bool is_found_as_listed(void *data, const WdrName *name, GError **error)
{
	WdrVolume *v = data;
	WdrNode folder = { v->root_id, "" };
	WdrNamed found;

	ck_assert(wdr_volume_find(v, &folder, name->name, &found, error));
	ck_assert(found.is_there);
	ck_assert_uint_eq(found.id, name->id);
	ck_assert_int_eq(found.kind, name->kind);
	return true;
}

/* A name is looked for by one call, without a list of the folder: the same comes of it. */
START_TEST(names_are_found_as_they_are_listed)
{
	g_autofree char *long_name = g_strnfill(300, 'n');
	const char *const not_there[] = { ".", "..", "a/..", "sub/..", "nothing", long_name, "" };
	g_autoptr(WdrVolume) v = NULL;
	WdrNamed found;

	sup_ok(wdr_make_folder(sup_path("t/sub/hidden"), &error));
	sup_write(sup_path("t/file"), "x");
	sup_write(sup_path("t/sub/hidden/file"), "x");
	ck_assert_int_eq(symlink("nowhere", sup_path("t/link")), 0);
	ck_assert_int_eq(mkfifo(sup_path("t/fifo"), 0600), 0);
	v = open_tree(sup_path("t"));
	wdr_tree_hide(v, "sub/hidden");
	WdrNode root = { v->root_id, "" };
	sup_ok(wdr_volume_list(v, &root, is_found_as_listed, v, &error));
	for (size_t i = 0; i < G_N_ELEMENTS(not_there); i++) {
		sup_ok(wdr_volume_find(v, &root, not_there[i], &found, &error));
		ck_assert_msg(!found.is_there, "%s", not_there[i]);
	}
	WdrNode hidden = { 0, "sub/hidden" };
	sup_ok(wdr_volume_find(v, &hidden, "file", &found, &error));
	ck_assert(!found.is_there);
	WdrNode gone = { 0, "gone" };
	sup_fails(WDR_ERROR_IO, "gone", wdr_volume_find(v, &gone, "file", &found, &error));
}
END_TEST

START_TEST(holes_are_kept)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);

	sup_ok(wdr_make_folder(sup_path("t"), &error));
	sup_make_image(sup_path("t/sparse"), 64 * WDR_MIB);
	sup_poke(sup_path("t/sparse"), 10 * WDR_MIB, "data", 4);
	sup_poke(sup_path("t/sparse"), 64 * WDR_MIB - 1, "e", 1);
	v = open_tree(sup_path("t"));
	sup_make_image(sup_path("disk"), 32 * WDR_MIB); /* smaller than the file's size */
	sup_build_ext(v, sup_path("disk"), 0, 32 * WDR_MIB, &spec);
}
END_TEST

START_TEST(very_deep_trees)
{
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	g_autofree char *name = g_strnfill(200, 'd');
	int at = -1;

	/* 40 x 201 bytes: longer than the kernel takes in one path. */
	sup_ok(wdr_make_folder(sup_path("t"), &error));
	at = open(sup_path("t"), O_RDONLY | O_DIRECTORY);
	for (unsigned i = 0; i < 40; i++) {
		ck_assert_int_eq(mkdirat(at, name, 0755), 0);
		int next = openat(at, name, O_RDONLY | O_DIRECTORY);
		close(at);
		at = next;
	}
	int fd = openat(at, "bottom", O_WRONLY | O_CREAT, 0644);
	ck_assert_int_eq(write(fd, "deep", 4), 4);
	close(fd);
	close(at);
	v = open_tree(sup_path("t"));
	sup_make_image(sup_path("disk"), 32 * WDR_MIB);
	sup_build_ext(v, sup_path("disk"), 0, 32 * WDR_MIB, &spec);
}
END_TEST

typedef struct {
	GString *paths;
} Seen;

static bool note_path(void *data, const WdrCopied *c, GError **error)
{
	(void)error;
	g_string_append_printf(((Seen *)data)->paths, "%s%s%s;", c->path, c->link_to ? "=" : "",
		c->link_to ? c->link_to : "");
	return true;
}

START_TEST(mounted_folders_are_left_empty)
{
	g_autoptr(WdrVolume) v = NULL;
	Seen seen = { g_string_new(NULL) };

	if (!sup_is_root()) {
		sup_say_skipped("mounted_folders_are_left_empty");
		return;
	}
	sup_ok(wdr_make_folder(sup_path("t/mnt"), &error));
	sup_write(sup_path("t/own"), "x");
	SUP_TOOL("mount", "-t", "tmpfs", "none", sup_path("t/mnt"));
	sup_write(sup_path("t/mnt/foreign"), "x");
	v = open_tree(sup_path("t"));
	WdrCopy copy = { .source = v, .record = note_path, .data = &seen };
	GError *error = NULL;
	bool is_fine = wdr_copy_volume(sup_world(), &copy, NULL, &error);
	SUP_TOOL("umount", sup_path("t/mnt"));
	ck_assert(is_fine);
	ck_assert_str_eq(seen.paths->str, ";mnt;own;");
	g_string_free(seen.paths, TRUE);
}
END_TEST

START_TEST(hard_links_and_their_order)
{
	g_autoptr(WdrVolume) v = NULL;
	Seen seen = { g_string_new(NULL) };

	sup_ok(wdr_make_folder(sup_path("t/b"), &error));
	sup_write(sup_path("t/b/second"), "x");
	ck_assert_int_eq(link(sup_path("t/b/second"), sup_path("t/a")), 0);
	ck_assert_int_eq(link(sup_path("t/b/second"), sup_path("outside")), 0);
	v = open_tree(sup_path("t"));
	WdrCopy copy = { .source = v, .record = note_path, .data = &seen };
	sup_ok(wdr_copy_volume(sup_world(), &copy, NULL, &error));
	ck_assert_str_eq(seen.paths->str, ";a;b;b/second=a;");
	g_string_free(seen.paths, TRUE);
	/* The third name is outside: the new file must have two links, or e2fsck complains. */
	g_auto(WdrExtSpec) spec = sup_ext_spec(NULL, 4096, 256);
	sup_make_image(sup_path("disk"), 32 * WDR_MIB);
	sup_build_ext(v, sup_path("disk"), 0, 32 * WDR_MIB, &spec);
	ck_assert_ptr_nonnull(
		strstr(SUP_TOOL("debugfs", "-R", "stat /a", sup_path("disk")), "Links: 2"));
}
END_TEST

/* A running system puts something else where a file was a moment ago. */
START_TEST(files_that_become_something_else)
{
	static const char *const scripts[] = { "mkdir $0", "mkfifo $0", "ln -s elsewhere $0",
		"perl -MIO::Socket::UNIX -e 'IO::Socket::UNIX->new(Local => $ARGV[0], Listen => 1)' $0",
		"true" };
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };
	g_autoptr(WdrContent) content = NULL;
	WdrNode node = { 0, "f" };
	WdrPiece piece = { .len = 1 };
	bool found = false;
	char buf[64];

	sup_ok(wdr_make_folder(sup_path("t"), &error));
	sup_write(sup_path("t/f"), "twelve bytes");
	v = open_tree(sup_path("t"));
	sup_ok(wdr_volume_lookup(v, "f", &found, &node.id, &entry, &error));
	sup_ok(wdr_volume_open(v, &node, &entry, &content, &error));
	ck_assert_int_eq(unlink(sup_path("t/f")), 0);
	SUP_TOOL("bash", "-c", scripts[_i], sup_path("t/f"));
	sup_ok(wdr_content_next(content, buf, sizeof(buf), &piece, &error));
	ck_assert_uint_eq(piece.len, 0);
}
END_TEST

START_TEST(unreadable_files_are_named)
{
	g_autoptr(WdrVolume) v = NULL;
	WdrCopy copy = { 0 };

	if (sup_is_root()) {
		printf("skipped (root reads everything): unreadable_files_are_named\n");
		return;
	}
	sup_ok(wdr_make_folder(sup_path("t"), &error));
	sup_write(sup_path("t/secret"), "x");
	ck_assert_int_eq(chmod(sup_path("t/secret"), 0), 0);
	v = open_tree(sup_path("t"));
	copy.source = v;
	sup_fails(WDR_ERROR_IO, "secret", wdr_copy_volume(sup_world(), &copy, NULL, &error));
}
END_TEST

Suite *suite_tree(void)
{
	Suite *s = suite_create("volume/tree");
	TCase *t = tcase_create("tree");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, entries_as_the_kernel_tells_them);
	tcase_add_test(t, names_are_found_as_they_are_listed);
	tcase_add_test(t, holes_are_kept);
	tcase_add_test(t, very_deep_trees);
	tcase_add_test(t, mounted_folders_are_left_empty);
	tcase_add_test(t, hard_links_and_their_order);
	tcase_add_loop_test(t, files_that_become_something_else, 0, 5);
	tcase_add_test(t, unreadable_files_are_named);
	suite_add_tcase(s, t);
	return s;
}
