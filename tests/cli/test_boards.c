/* Moves of all three boards: what is moved, and how mentions name it; and the way back. */
#include "boards.h"

#include <string.h>
#include <unistd.h>

Suite *suite_boards(void);

static const struct {
	const char *name_by; /* NULL: by default */
	const char *tag;     /* what root is named by then; NULL: a device path */
} forms[] = {
	{ NULL, NULL },
	{ "partuuid", "PARTUUID" },
	{ "uuid", "UUID" },
	{ "label", "LABEL" },
	{ "partlabel", "PARTLABEL" },
	{ "path", NULL },
};
enum { FORMS = G_N_ELEMENTS(forms), CASES = BOARDS * FORMS };

/* Without --name-by the form stays: PARTUUID on the heron's card, UUID elsewhere. */
static const char *tag_of(const Board *b, size_t form)
{
	if (form > 0)
		return forms[form].tag;
	return strcmp(b->name, "heron-hide-3") == 0 ? "PARTUUID" : "UUID";
}

/* The new root as the target's own table and volume would have it. */
static char *wanted_root(const Board *b, size_t form)
{
	const char *tag = tag_of(b, form);

	if (!tag)
		return g_strdup_printf("/dev/%s%s%u", b->drive,
			g_ascii_isdigit(b->drive[strlen(b->drive) - 1]) ? "p" : "", b->root);
	g_autofree char *value = board_identifier(board_disk(b, true), b->root, tag);
	return g_strdup_printf("%s=%s", tag, value);
}

static SupRun move(const Board *b, size_t form, const char *what)
{
	const char *arguments[16] = { "move", "--to", b->drive, "--erase", b->drive, "--what",
		what };
	size_t n = 7;

	if (forms[form].name_by) {
		arguments[n++] = "--name-by";
		arguments[n++] = forms[form].name_by;
	}
	if (form == 4) {
		arguments[n++] = "--table";
		arguments[n++] = "gpt";
	}
	return board_run(b, arguments);
}

/* No file that counts on the target still names the old root. */
static void check_target_root(const Board *b, const char *want)
{
	const char *drive = board_disk(b, true);
	g_autofree char *fstab = g_strdup(board_file(drive, b->root, false, "etc/fstab"));

	ck_assert_msg(strstr(fstab, want) != NULL, "no %s in %s", want, fstab);
	g_autofree char *old_line = g_strdup_printf("UUID=%s  /  ", b->old_root);
	ck_assert_ptr_null(strstr(fstab, old_line));
}

START_TEST(everything)
{
	const Board *b = &boards[_i / FORMS];
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	SupRun run = move(b, (size_t)_i % FORMS, "everything");

	bench_expect(&run, 0, "done: everything was read back");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
	board_judge(board_disk(b, true));
	g_autofree char *want = wanted_root(b, (size_t)_i % FORMS);
	const char *text = board_file(board_disk(b, true), b->boot, b->is_boot_fat, b->boot_file);
	g_autofree char *got = board_word(text, b->root_key);
	ck_assert_str_eq(got, want);
	ck_assert_ptr_null(strstr(text, b->old_root));
	check_target_root(b, want);
	/* Nothing was changed in place: there is nothing to rewind. */
	SupRun rewind = BOARD_RUN(b, "rewind");
	bench_expect(&rewind, 0, "there is no change to undo");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
}
END_TEST

/* Every file of the boot volume, as the other programs see it. */
static char *boot_files(const Board *b)
{
	const char *card = board_disk(b, false);

	if (b->is_boot_fat) {
		g_autofree char *at =
			g_strdup_printf("%s@@%" G_GUINT64_FORMAT, card, board_start(card, b->boot));
		g_autofree char *list = g_strdup(SUP_TOOL("mdir", "-i", at, "::"));
		/* The free space is a hint that we do not keep. */
		char *end = strstr(list, " bytes free");
		while (end && end > list && *end != '\n')
			*end-- = '\0';
		return g_strconcat(list, board_file(card, b->boot, true, b->boot_file), NULL);
	}
	g_autofree char *text = g_strdup(board_file(card, b->boot, false, b->boot_file));
	g_autofree char *request = g_strdup_printf("stat /%s", b->boot_file);
	g_autofree char *stat = g_strdup(board_debugfs(card, b->boot, false, request));
	g_autoptr(GRegex) places =
		g_regex_new("(?s)ctime.*?\n|EXTENTS.*|atime.*?\n|Inode checksum.*\n", 0, 0, NULL);
	g_autofree char *metadata = g_regex_replace(places, stat, -1, 0, "", 0, NULL);
	return g_strconcat(text, metadata, NULL);
}

START_TEST(root_alone_and_back)
{
	const Board *b = &boards[_i / FORMS];
	const char *card = board_disk(b, false);
	g_autofree char *before = boot_files(b);
	g_autofree char *root_before = g_strdup(board_file(card, b->root, false, "etc/fstab"));
	SupRun run = move(b, (size_t)_i % FORMS, "root");

	bench_expect(&run, 0, "the boot files of");
	board_judge(board_disk(b, true));
	board_judge(card);
	g_autofree char *want = wanted_root(b, (size_t)_i % FORMS);
	g_autofree char *text = g_strdup(board_file(card, b->boot, b->is_boot_fat, b->boot_file));
	g_autofree char *got = board_word(text, b->root_key);
	ck_assert_str_eq(got, want);
	check_target_root(b, want);
	ck_assert_str_eq(root_before, board_file(card, b->root, false, "etc/fstab"));
	SupRun rewind = BOARD_RUN(b, "rewind");
	bench_expect(&rewind, 0, "put back");
	board_judge(card);
	g_autofree char *after = boot_files(b);
	ck_assert_str_eq(before, after);
	SupRun again = BOARD_RUN(b, "rewind");
	bench_expect(&again, 0, "there is no change to undo");
}
END_TEST

/* --what root on each board, in detail. */
START_TEST(a_command_line_keeps_its_original_beside_it)
{
	const Board *b = &boards[0];
	const char *card = board_disk(b, false);
	g_autofree char *before = g_strdup(board_file(card, 1, true, "cmdline.txt"));

	board_put(card, 1, true, "cmdline.old", "somebody's own\n");
	SupRun run = move(b, 0, "root");
	bench_expect(&run, 0, NULL);
	ck_assert_str_eq(board_file(card, 1, true, "cmdline.old"), "somebody's own\n");
	ck_assert_str_eq(board_file(card, 1, true, "cmdline.2"), before);
	const char *fstab = board_file(board_disk(b, true), 2, false, "etc/fstab");
	ck_assert_ptr_nonnull(strstr(fstab, "PARTUUID=4c1fa2b0-01    /boot/firmware"));
}
END_TEST

START_TEST(a_menu_gets_a_second_entry)
{
	const Board *b = &boards[1];
	SupRun run = move(b, 0, "root");

	bench_expect(&run, 0, NULL);
	g_autofree char *menu = g_strdup(board_file(board_disk(b, false), 1, false, b->boot_file));
	ck_assert_ptr_nonnull(strstr(menu, "\ndefault l0-on-nvme\n"));
	ck_assert_ptr_nonnull(strstr(menu, "\ntimeout 50\n"));
	ck_assert_ptr_nonnull(strstr(menu, "6.1.0-field-arm64 (NVMe)\n"));
	ck_assert_ptr_nonnull(strstr(menu, "6.1.0-field-arm64 (SD card)\n"));
	const char *old_entry = strstr(menu, "\nlabel l0\n");
	g_autofree char *old_root = board_word(old_entry, "append root=UUID=");
	ck_assert_str_eq(old_root, b->old_root);
	const char *fstab = board_file(board_disk(b, true), 1, false, "etc/fstab");
	ck_assert_ptr_nonnull(
		strstr(fstab, "UUID=2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21  /mnt/old-root  ext4"));
	ck_assert_ptr_nonnull(
		strstr(fstab, "\n/mnt/old-root/boot  /boot  none  bind,nofail  0  0\n"));
	ck_assert_ptr_nonnull(strstr(fstab, "\nLABEL=sound  /srv/sound"));
}
END_TEST

START_TEST(a_script_and_its_source_move_together)
{
	const Board *b = &boards[2];
	SupRun run = move(b, 0, "everything");
	const char *drive = board_disk(b, true);

	bench_expect(&run, 0, NULL);
	g_autofree char *source = g_strdup(board_file(drive, 1, false, "boot.cmd"));
	g_autofree char *dump = g_strdup_printf("dump /boot.scr %s", sup_path("boot.scr"));
	board_debugfs(drive, 1, false, dump);
	sup_write(sup_path("boot.cmd"), source);
	SUP_TOOL("mkimage", "-A", "arm64", "-T", "script", "-C", "none", "-n", "boot.scr", "-d",
		sup_path("boot.cmd"), sup_path("want.scr"));
	/* mkimage makes the same of the source, but for the time of making. */
	SUP_TOOL("cmp", "-i", "12", sup_path("boot.scr"), sup_path("want.scr"));
	SUP_TOOL("mkimage", "-l", sup_path("boot.scr"));
	g_autofree char *partuuid = board_identifier(drive, 2, "PARTUUID");
	ck_assert_ptr_nonnull(strstr(source, partuuid));
	const char *unit = board_file(drive, 2, false, "etc/systemd/system/srv-keys.mount");
	g_autofree char *keys = board_identifier(drive, 3, "PARTUUID");
	ck_assert_ptr_nonnull(strstr(unit, keys));
	g_autofree char *serial = board_identifier(drive, 3, "UUID");
	ck_assert_ptr_nonnull(strstr(board_file(drive, 2, false, "etc/crypttab"), serial));
}
END_TEST

START_TEST(kernels_without_modules)
{
	const Board *b = &boards[1];
	g_autofree char *card = g_strdup(board_disk(b, false));

	/* The modules are those of another kernel. */
	board_put(card, 1, false, "boot/vmlinuz-9.9.9-other", "kernel");
	board_debugfs(card, 1, true, "rm /boot/vmlinuz-6.1.0-field-arm64");
	g_autofree char *before = g_strdup(sup_hash(card));
	SupRun run = move(b, 0, "root");
	bench_expect(&run, 3, "no kernel in /boot has its modules");
	ck_assert_str_eq(before, sup_hash(card));
}
END_TEST

START_TEST(a_root_alone_by_an_itinerary)
{
	const Board *b = &boards[1];
	SupRun draft = BOARD_RUN(
		b, "draft", "--to", "nvme0n1", "--what", "root", "-o", sup_path("it.json"));
	const char *card = board_disk(b, false);

	bench_expect(&draft, 0, "EDITS ON THE SOURCE, in place");
	g_autofree char *plan = sup_read(sup_path("it.json"), NULL);
	ck_assert_ptr_nonnull(strstr(plan, "\"on\": \"source\""));
	SupRun run = BOARD_RUN(b, "move", sup_path("it.json"), "--erase", "nvme0n1");
	bench_expect(&run, 0, "restart with both plugged in");
	ck_assert_ptr_nonnull(
		strstr(board_file(card, 1, false, b->boot_file), "default l0-on-nvme\n"));
	board_judge(card);
}
END_TEST

/* What would stop the change of the source, which comes last, is known before anything is written.
 */
static const char *const stoppers[][2] = {
	{ "feature needs_recovery", "its journal would undo a change" },
	{ "set_inode_field /boot/extlinux/extlinux.conf flags 0x80010", "marked immutable" },
};

START_TEST(boot_files_that_cannot_be_changed)
{
	const Board *b = &boards[1];
	const char *card = board_disk(b, false);

	board_debugfs(card, 1, true, stoppers[_i][0]);
	g_autofree char *before = g_strdup(sup_hash(card));
	SupRun run = move(b, 0, "root");
	bench_expect(&run, 3, stoppers[_i][1]);
	ck_assert_str_eq(before, sup_hash(card));
}
END_TEST

static const struct {
	const char *options[4], *text;
	int code;
} refusals[] = {
	{ { "--what", "boot" }, "--what is everything or root", 2 },
	{ { "--what", "root", "--keep-identifiers" },
		"--keep-identifiers cannot go with --what root", 2 },
};

START_TEST(what_cannot_be)
{
	const char *arguments[10] = { "move", "--to", "nvme0n1", "--erase", "nvme0n1" };

	for (size_t i = 0; i < 4 && refusals[_i].options[i]; i++)
		arguments[5 + i] = refusals[_i].options[i];
	g_autofree char *card = g_strdup(sup_hash(board_disk(&boards[0], false)));
	SupRun run = board_run(&boards[0], arguments);
	bench_expect(&run, refusals[_i].code, refusals[_i].text);
	ck_assert_str_eq(card, sup_hash(board_disk(&boards[0], false)));
}
END_TEST

/* Boot files that would not start, or that an edit would spoil. */
static const struct {
	size_t board;
	const char *what, *text, *why;
} spoiled[] = {
	{ 1, "root", "default a\nlabel a\n linux /k\n append quiet\n",
		"no root= that names a disk" },
	{ 1, "everything", "label a\n linux /k\n append root=UUID=0\n",
		"matches no partition of this disk" },
	{ 1, "root",
		"default a\nlabel a\n linux /k\n append root=UUID=2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21\n"
		"label b\n menu default\n linux /k\n append root=/dev/mmcblk1p1\n",
		"two defaults" },
	{ 2, "everything", "rootdev=UUID=0\n", "matches no partition of this disk" },
	{ 2, "root", "rootdev=/dev/mmcblk0p1\n", "names partition 1" },
};

START_TEST(boot_files_that_are_refused)
{
	const Board *b = &boards[spoiled[_i].board];
	const char *card = board_disk(b, false);

	board_put(card, b->boot, false, b->boot_file, spoiled[_i].text);
	g_autofree char *before = g_strdup(sup_hash(card));
	g_autofree char *drive = g_strdup(sup_hash(board_disk(b, true)));
	SupRun run = move(b, 0, spoiled[_i].what);
	bench_expect(&run, 3, spoiled[_i].why);
	ck_assert_str_eq(before, sup_hash(card));
	ck_assert_str_eq(drive, sup_hash(board_disk(b, true)));
}
END_TEST

START_TEST(a_line_that_would_be_too_long)
{
	const Board *b = &boards[0];
	g_autofree char *filler = g_strnfill(2020, 'x');
	g_autofree char *line = g_strdup_printf("root=/dev/mmcblk0p2 quiet=%s\n", filler);

	board_put(board_disk(b, false), 1, true, "cmdline.txt", line);
	SupRun run = move(b, 1, "everything");
	bench_expect(&run, 3, "would make a line of");
}
END_TEST

Suite *suite_boards(void)
{
	Suite *s = suite_create("cli/boards");
	TCase *t = tcase_create("boards");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, everything, 0, CASES);
	tcase_add_loop_test(t, root_alone_and_back, 0, CASES);
	tcase_add_test(t, a_command_line_keeps_its_original_beside_it);
	tcase_add_test(t, a_menu_gets_a_second_entry);
	tcase_add_test(t, a_script_and_its_source_move_together);
	tcase_add_test(t, kernels_without_modules);
	tcase_add_test(t, a_root_alone_by_an_itinerary);
	tcase_add_loop_test(t, boot_files_that_cannot_be_changed, 0, (int)G_N_ELEMENTS(stoppers));
	tcase_add_loop_test(t, what_cannot_be, 0, (int)G_N_ELEMENTS(refusals));
	tcase_add_loop_test(t, boot_files_that_are_refused, 0, (int)G_N_ELEMENTS(spoiled));
	tcase_add_test(t, a_line_that_would_be_too_long);
	suite_add_tcase(s, t);
	return s;
}
