/* Small made-up files in all formats and dialects (tests/data/mentions/FORMAT/NAME.in), each with
 * the mentions that are to be found in it (NAME.mentions) and its text after a move (NAME.out).
 *
 * In a name, +FORM stands for --name-by, and "no-initramfs" for a system without one. With
 * WDR_WRITE_EXPECTED set in the environment what is found is written down, to be reviewed. */
#include "support.h"

#include "boot/formats/edit.h"
#include "boot/formats/rewrite.h"
#include "boot/formats/search.h"

#include <stdlib.h>
#include <string.h>

Suite *suite_corpus(void);

static const WdrIdentity from[] = {
	{ "F3A1-77C2", "BOOTFS", "4c1fa2b0-01", "boot", 1, "mmcblk0", "0x2f41c7aa" },
	{ "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30", "rootfs", "4c1fa2b0-02", "root", 2, "mmcblk0",
		"0x2f41c7aa" },
	{ "a0b5c3de-1111-4222-8333-94d5e6f70812", "reed bed", "4c1fa2b0-03", "heron data", 3,
		"mmcblk0", "0x2f41c7aa" },
	{ "7e57ab1e-2222-4333-8444-05e6f7081923", "nest", "4c1fa2b0-05", "swap", 5, "mmcblk0",
		"0x2f41c7aa" },
};
static const WdrIdentity to[] = {
	{ "1A2B-3C4D", "BOOTFS-0A1B", "9d8e7f60-01", "boot-0a1b", 1, "nvme0n1", NULL },
	{ "e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8", "rootfs-0a1b", "9d8e7f60-02", "root-0a1b", 2,
		"nvme0n1", NULL },
	{ "c5d6e7f8-0919-4a2b-8c3d-4e5f60718293", "reed-0a1b", "9d8e7f60-03", "data-0a1b", 3,
		"nvme0n1", NULL },
	{ "b6c7d8e9-f00a-4b1c-8d2e-3f4051627384", "nest-0a1b", "9d8e7f60-05", "swap-0a1b", 5,
		"nvme0n1", NULL },
};

static GPtrArray *names; /* "FORMAT/NAME" */

static int by_text(const void *a, const void *b)
{
	return strcmp(*(char *const *)a, *(char *const *)b);
}

static void list_names(void)
{
	names = g_ptr_array_new_with_free_func(g_free);
	for (size_t i = 0; i < wdr_n_formats; i++) {
		g_autofree char *folder =
			g_build_filename(WDR_TEST_DATA, "mentions", wdr_formats[i].name, NULL);
		g_autoptr(GDir) dir = g_dir_open(folder, 0, NULL);
		for (const char *name; dir && (name = g_dir_read_name(dir));) {
			if (g_str_has_suffix(name, ".in"))
				g_ptr_array_add(
					names, g_strdup_printf("%s/%.*s", wdr_formats[i].name,
						       (int)(strlen(name) - strlen(".in")), name));
		}
	}
	g_ptr_array_sort(names, by_text);
}

static char *data_path(const char *name, const char *suffix)
{
	return g_strdup_printf("%s/mentions/%s%s", WDR_TEST_DATA, name, suffix);
}

/* The partition that a mention names; -1: none, -2: several. */
static int find(const WdrMention *m)
{
	int found = -1;

	for (size_t i = 0; i < G_N_ELEMENTS(from); i++) {
		if (wdr_identifier_matches(&m->identifier, &from[i]))
			found = found == -1 ? (int)i : -2;
	}
	return found;
}

static void describe(GString *text, const WdrMention *m)
{
	int part = find(m);

	g_string_append_printf(text, "%u:%u %s %s (%s) ", m->line, m->column, wdr_use_name(m->use),
		m->text, m->what);
	if (part < 0)
		g_string_append(text, part == -1 ? "names nothing" : "names several");
	else
		g_string_append_printf(text, "names %u", from[part].number);
	if (m->entry)
		g_string_append_printf(text, ", entry %s", m->entry);
	if (m->is_kernel)
		g_string_append_printf(text, ", for the kernel%s%s",
			m->has_initramfs ? " with an initramfs" : "",
			m->is_default ? ", by default" : "");
	if (m->frozen)
		g_string_append_printf(text, ", left: %s", m->frozen);
	g_string_append_c(text, '\n');
}

static void compare(const char *name, const char *suffix, const char *got, size_t len)
{
	g_autofree char *path = data_path(name, suffix);
	size_t want_len = 0;

	if (g_getenv("WDR_WRITE_EXPECTED"))
		g_file_set_contents(path, got, (gssize)len, NULL);
	g_autofree char *want = sup_read(path, &want_len);
	ck_assert_msg(len == want_len && memcmp(got, want, len) == 0, "%s%s is\n%.*s\nand not\n%s",
		name, suffix, (int)len, got, want);
}

static WdrNaming naming_of(const char *name)
{
	WdrNaming naming = { .has_initramfs = !strstr(name, "no-initramfs") };
	const char *plus = strrchr(name, '+');

	naming.has_name_by = plus && wdr_identifier_kind_parse(plus + 1, &naming.name_by);
	return naming;
}

/* Reads as a system does: the reader, then the search for what it left. */
static void read_all(const char *name, const char *text, size_t len, WdrMentions *mentions,
	WdrWarnings *warnings)
{
	g_auto(GStrv) parts = g_strsplit(name, "/", 2);
	const WdrFormat *format = wdr_format_find(parts[0]);
	g_autoptr(WdrSearch) search = wdr_search_new(from, G_N_ELEMENTS(from));
	WdrNaming naming = naming_of(name);
	WdrReading r = { parts[1], text, len, 0, mentions, warnings };
	GError *error = NULL;

	if (!format->read(&r, &error)) {
		g_ptr_array_add(warnings, g_strdup(error->message));
		g_error_free(error);
	}
	wdr_search_text(search, &r, 0,
		strcmp(parts[0], "text") == 0 ? NULL : "in a comment, or where nothing reads it");
	for (guint i = 0; i < mentions->len; i++) {
		WdrMention *m = mentions->pdata[i];
		ck_assert_msg(strncmp(text + m->offset, m->text, m->len) == 0, "%s: %u:%u", name,
			m->line, m->column);
		if (m->is_kernel && !m->entry)
			m->has_initramfs = naming.has_initramfs;
	}
}

static GBytes *move(
	const char *name, const char *text, size_t len, const WdrMentions *mentions, GString *notes)
{
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, name, wdr_hash(text, len));
	WdrNaming naming = naming_of(name);
	GBytes *bytes = NULL;

	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		g_autofree char *instead = NULL;
		g_autofree char *note = NULL;
		int part = find(m);
		if (m->frozen || part < 0)
			continue;
		sup_ok(wdr_rewrite(m, &to[part], &naming, &instead, &note, &error));
		if (note)
			g_string_append_printf(notes, "note: %s\n", note);
		wdr_edit_add(edit, m->offset, m->line, m->column, m->text, instead);
	}
	sup_ok(wdr_edit_apply(edit, text, len, &bytes, &error));
	return bytes;
}

START_TEST(files_of_all_formats)
{
	const char *name = names->pdata[_i];
	g_autofree char *path = data_path(name, ".in");
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(GString) found = g_string_new(NULL);
	size_t len = 0;
	g_autofree char *text = sup_read(path, &len);

	read_all(name, text, len, mentions, warnings);
	for (guint i = 0; i < mentions->len; i++)
		describe(found, mentions->pdata[i]);
	for (guint i = 0; i < warnings->len; i++)
		g_string_append_printf(found, "warning: %s\n", (const char *)warnings->pdata[i]);
	g_autoptr(GBytes) moved = move(name, text, len, mentions, found);
	compare(name, ".mentions", found->str, found->len);
	size_t new_len = 0;
	const char *new_text = g_bytes_get_data(moved, &new_len);
	compare(name, ".out", new_text ? new_text : "", new_len);
}
END_TEST

/* Every prefix of every file, and bytes of it changed: readers end, and what they find is there. */
START_TEST(damaged_files)
{
	const char *name = names->pdata[_i];
	g_autofree char *path = data_path(name, ".in");
	g_autoptr(GRand) rand = g_rand_new_with_seed(20261123);
	size_t len = 0;
	g_autofree char *text = sup_read(path, &len);

	for (size_t cut = 0; cut <= len; cut++) {
		g_autoptr(GPtrArray) mentions = wdr_mentions_new();
		g_autoptr(GPtrArray) warnings = wdr_warnings_new();
		g_autofree char *head = g_memdup2(text, len + 1);
		head[cut] = '\0';
		for (unsigned i = 0; cut > 0 && i < 3; i++)
			head[g_rand_int_range(rand, 0, (gint32)cut)] =
				"\n\r\t =\"'#\\,:;[]/-\x80"[g_rand_int_range(rand, 0, 17)];
		read_all(name, head, cut, mentions, warnings);
		for (guint i = 0; i < mentions->len; i++) {
			const WdrMention *m = mentions->pdata[i];
			ck_assert(m->offset <= cut && m->len <= cut - m->offset && m->line > 0);
		}
	}
}
END_TEST

START_TEST(there_are_enough_of_them)
{
	ck_assert_uint_ge(names->len, 60);
}
END_TEST

Suite *suite_corpus(void)
{
	Suite *s = suite_create("boot/corpus");
	TCase *t = tcase_create("corpus");

	list_names();
	tcase_add_test(t, there_are_enough_of_them);
	tcase_add_loop_test(t, files_of_all_formats, 0, (int)names->len);
	tcase_add_loop_test(t, damaged_files, 0, (int)names->len);
	suite_add_tcase(s, t);
	return s;
}
