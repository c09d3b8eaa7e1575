/* Disks that were copied by other means, put right in place, and put back. */
#include "boards.h"

#include <string.h>
#include <unistd.h>

Suite *suite_readdress(void);

/* A raw copy of the card on the drive. */
static const char *copy_card(const Board *b)
{
	const char *drive = board_disk(b, true);
	g_autofree char *copy =
		g_strdup_printf("dd if='%s' of='%s' bs=1M conv=notrunc,sparse status=none",
			board_disk(b, false), drive);

	SUP_TOOL("sh", "-c", copy);
	return drive;
}

static const char *const tags[] = { "UUID", "PARTUUID" };

START_TEST(renewed_and_back)
{
	const Board *b = &boards[_i];
	const char *drive = copy_card(b);
	g_autofree char *boot_before =
		g_strdup(board_file(drive, b->boot, b->is_boot_fat, b->boot_file));
	g_autofree char *untouched = g_strdup(sup_hash(drive));
	SupRun shown = BOARD_RUN(b, "readdress", b->drive, "--renew");

	bench_expect(&shown, 0, "preview only, nothing changed; to apply: ");
	ck_assert_str_eq(untouched, sup_hash(drive));
	SupRun run = BOARD_RUN(b, "readdress", b->drive, "--renew", "--write");
	bench_expect(&run, 0, "done: every change was read back");
	board_judge(drive);
	for (size_t i = 0; i < G_N_ELEMENTS(tags); i++) {
		g_autofree char *was = board_identifier(board_disk(b, false), b->root, tags[i]);
		g_autofree char *is = board_identifier(drive, b->root, tags[i]);
		ck_assert_str_ne(was, is);
	}
	const char *tag = _i == 0 ? "PARTUUID" : "UUID";
	g_autofree char *value = board_identifier(drive, b->root, tag);
	g_autofree char *want = g_strdup_printf("%s=%s", tag, value);
	const char *text = board_file(drive, b->boot, b->is_boot_fat, b->boot_file);
	g_autofree char *got = board_word(text, b->root_key);
	ck_assert_str_eq(got, want);
	ck_assert_ptr_nonnull(strstr(board_file(drive, b->root, false, "etc/fstab"), want));
	SupRun rewind = BOARD_RUN(b, "rewind");
	bench_expect(&rewind, 0, "put back  the identifiers of");
	board_judge(drive);
	for (size_t i = 0; i < G_N_ELEMENTS(tags); i++) {
		g_autofree char *was = board_identifier(board_disk(b, false), b->root, tags[i]);
		g_autofree char *is = board_identifier(drive, b->root, tags[i]);
		ck_assert_str_eq(was, is);
	}
	ck_assert_str_eq(boot_before, board_file(drive, b->boot, b->is_boot_fat, b->boot_file));
}
END_TEST

/* Somebody gave the copy another signature, and its files name the old one. */
START_TEST(stale_mentions_by_role_and_number)
{
	const Board *b = &boards[0];
	const char *drive = copy_card(b);

	board_put(drive, 2, false, "etc/fstab",
		"PARTUUID=4c1fa2b0-02 / ext4 defaults 0 1\nLABEL=elsewhere /x ext4 nofail 0 2\n"
		"/dev/mmcblk5p1 /boot/firmware vfat defaults 0 2\nUUID=6D1C7A52-0B7E-4F5E-9A43-2F8F5D1B9C30 /y ext4 ro 0 0\n");
	board_put(drive, 2, false, "etc/crypttab", "nest PARTUUID=4c1fa2b0-01 none\n");
	SUP_TOOL("sfdisk", "-q", "--disk-id", drive, "0x11112222");
	g_autofree char *untouched = g_strdup(sup_hash(drive));
	SupRun shown = BOARD_RUN(b, "readdress", "nvme0n1");
	bench_expect(&shown, 0, "+PARTUUID=11112222-02 / ext4");
	bench_expect(&shown, 0, "+PARTUUID=11112222-01 /boot/firmware");
	bench_expect(&shown, 0, "+nest PARTUUID=11112222-01 none");
	bench_expect(&shown, 0, "LABEL=elsewhere (/x) matches no partition of this disk");
	bench_expect(&shown, 0, "mmcblk0 has the same identifiers as nvme0n1");
	ck_assert_str_eq(untouched, sup_hash(drive));
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1", "--write");
	bench_expect(&run, 0, "done:");
	ck_assert_ptr_nonnull(
		strstr(board_file(drive, 1, true, "cmdline.txt"), "root=PARTUUID=11112222-02 "));
	/* What was true in other capitals is not, for those who read it. */
	ck_assert_ptr_nonnull(
		strstr(board_file(drive, 2, false, "etc/fstab"), "UUID=6d1c7a52-0b7e"));
	board_judge(drive);
	SupRun again = BOARD_RUN(b, "readdress", "nvme0n1", "--write");
	bench_expect(&again, 0, "none: every reference stays correct");
}
END_TEST

START_TEST(what_cannot_be_matched_is_told_by_the_exit_code)
{
	const Board *b = &boards[0];
	const char *drive = copy_card(b);

	board_put(drive, 2, false, "etc/fstab",
		"PARTUUID=4c1fa2b0-02 / ext4 defaults 0 1\nUUID=11111111-2222-4333-8444-555555555555 none swap sw 0 0\n");
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1");
	bench_expect(&run, 1, "(none) matches no partition of this disk");
}
END_TEST

START_TEST(names_can_be_changed)
{
	const Board *b = &boards[1];
	const char *drive = copy_card(b);
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1", "--name-by", "partuuid", "--write");

	bench_expect(&run, 0, "done:");
	ck_assert_ptr_nonnull(strstr(board_file(drive, 1, false, "etc/fstab"),
		"PARTUUID=b1773e20-4a5c-4f0e-9d11-60a7e5c20011  /  ext4"));
	board_judge(drive);
}
END_TEST

START_TEST(a_row_of_the_user_names_a_file)
{
	const Board *b = &boards[1];
	const char *drive = copy_card(b);

	SUP_TOOL("mkdir", "-p", board_path(b, "root/etc/wanderitas/places.d"));
	sup_write(board_path(b, "root/etc/wanderitas/places.d/station.conf"),
		"# the recorder's archive\n/etc/station/*.ini  text\n/etc/other  frogs\n");
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1", "--renew", "--write");
	bench_expect(&run, 0, "'frogs' is no format");
	ck_assert_ptr_nonnull(
		strstr(board_file(drive, 1, false, "etc/station/recorder.ini"), "by-label/sound"));
	/* A label stays true; by UUID it is the link that the file can hold. */
	SupRun by = BOARD_RUN(b, "readdress", "nvme0n1", "--name-by", "uuid", "--write");
	bench_expect(&by, 0, "done:");
	g_autofree char *uuid = board_identifier(drive, 2, "UUID");
	g_autofree char *want = g_strdup_printf("device = /dev/disk/by-uuid/%s\n", uuid);
	ck_assert_ptr_nonnull(
		strstr(board_file(drive, 1, false, "etc/station/recorder.ini"), want));
}
END_TEST

/* The running system, by way of its mounts: the bench's own tree. */
START_TEST(the_running_system)
{
	const Board *b = &boards[0];
	const char *cmdline = board_path(b, "root/boot/firmware/cmdline.txt");
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));

	sup_write(cmdline, "root=PARTUUID=00000000-02 rootwait\n");
	SUP_TOOL("chmod", "600", cmdline);
	SUP_TOOL("touch", "-d", "@1777876200", cmdline);
	SupRun run = BOARD_RUN(b, "readdress", "--running", "--write");
	bench_expect(&run, 0, "+root=PARTUUID=4c1fa2b0-02 rootwait");
	g_autofree char *got = sup_read(cmdline, NULL);
	ck_assert_str_eq(got, "root=PARTUUID=4c1fa2b0-02 rootwait\n");
	ck_assert_str_eq(SUP_TOOL("stat", "-c", "%a", cmdline), "600\n");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
	SupRun rewind = BOARD_RUN(b, "rewind");
	bench_expect(&rewind, 0, "put back");
	g_autofree char *back = sup_read(cmdline, NULL);
	ck_assert_str_eq(back, "root=PARTUUID=00000000-02 rootwait\n");
	ck_assert_str_eq(SUP_TOOL("stat", "-c", "%a %Y", cmdline), "600 1777876200\n");
	SupRun renew = BOARD_RUN(b, "readdress", "--running", "--renew");
	bench_expect(&renew, 2, "a mounted file system cannot get a new UUID");
}
END_TEST

static const struct {
	const char *arguments[4], *text;
	int code;
} usage[] = {
	{ { NULL }, "one disk or image, or --running", 2 },
	{ { "nvme0n1", "--running" }, "one disk or image, or --running", 2 },
	{ { "a", "b" }, "one disk or image, or --running", 2 },
	{ { "nvme0n1", "--name-by", "colour" }, "--name-by is", 2 },
	{ { "nvme0n1" }, "has no partition table", 3 },
	{ { "nowhere" }, "no disk and no image", 2 },
};

START_TEST(what_is_refused)
{
	const char *arguments[6] = { "readdress" };

	for (size_t i = 0; i < 4 && usage[_i].arguments[i]; i++)
		arguments[1 + i] = usage[_i].arguments[i];
	SupRun run = board_run(&boards[0], arguments);
	bench_expect(&run, usage[_i].code, usage[_i].text);
}
END_TEST

START_TEST(images_anywhere)
{
	const Board *b = &boards[2];
	const char *image = sup_path("copy?.img");

	SUP_TOOL("cp", board_disk(b, false), image);
	SupRun run = WANDERITAS("-q", "--json", "readdress", image, "--renew", "--write");
	bench_expect(&run, 0, "\"wanderitas-readdress/2\"");
	SUP_TOOL("cp", image, sup_path("plain.img"));
	board_judge(sup_path("plain.img"));
	g_autofree char *state = board_word(run.out, "\"records\": \"");
	SupRun rewind = WANDERITAS("--json", "rewind", state);
	bench_expect(&rewind, 0, "\"put back\"");
}
END_TEST

/* ---- rewind ---- */

/* A root-only move of the heron, which changed cmdline.txt and put cmdline.old beside it. */
static const char *root_only(void)
{
	SupRun run = BOARD_RUN(
		&boards[0], "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");

	bench_expect(&run, 0, NULL);
	return board_disk(&boards[0], false);
}

/* What came before is told, and stays; the same command goes on where it stopped. */
START_TEST(stops_part_way)
{
	const Board *b = &boards[0];
	const char *state = board_path(b, "root/var/lib/wanderitas");
	const char *cmdline = board_path(b, "root/boot/firmware/cmdline.txt");
	const char *fstab = board_path(b, "root/etc/fstab");

	SUP_TOOL("sed", "-i", "s/4c1fa2b0/00000000/", cmdline, fstab);
	g_autofree char *before = sup_read(fstab, NULL);
	SupRun write = BOARD_RUN(b, "readdress", "--running", "--write");
	bench_expect(&write, 0, "done:");
	SUP_TOOL("sh", "-c", "cd \"$0\"/readdress-* && mv originals/*-cmdline.txt kept", state);
	SupRun run = BOARD_RUN(b, "rewind");
	bench_expect(&run, 4, "put back  /etc/fstab");
	bench_expect(&run, 4, "to continue: ");
	g_autofree char *after = sup_read(fstab, NULL);
	ck_assert_str_eq(before, after);
	SUP_TOOL("sh", "-c",
		"cd \"$0\"/readdress-* && mv kept originals/$(grep -o '[^\"]*-cmdline.txt' logbook.jsonl)",
		state);
	SupRun again = BOARD_RUN(b, "rewind");
	bench_expect(&again, 0, "put back  /cmdline.txt");
	ck_assert_ptr_null(strstr(again.out, "fstab"));
}
END_TEST

START_TEST(what_somebody_changed_is_left)
{
	const Board *b = &boards[0];
	const char *card = root_only();
	static const char own[] = "root=PARTUUID=4c1fa2b0-02 my own words\n";

	board_put(card, 1, true, "cmdline.txt", own);
	SupRun run = BOARD_RUN(b, "rewind");
	bench_expect(&run, 1,
		"left      /cmdline.txt on mmcblk0, partition 1: somebody changed it since");
	bench_expect(&run, 1, "+root=PARTUUID=4c1fa2b0-02 my own words");
	bench_expect(&run, 1, "another file of this change was left");
	ck_assert_str_eq(board_file(card, 1, true, "cmdline.txt"), own);
	ck_assert_ptr_nonnull(strstr(board_file(card, 1, true, "cmdline.old"), "fsck.repair=yes"));
	ck_assert_str_eq(SUP_TOOL("stat", "-c", "%a",
				 board_path(b, "root/var/lib/wanderitas/to-nvme0n1/originals")),
		"700\n");
	SupRun forced = BOARD_RUN(b, "rewind", "--force");
	bench_expect(&forced, 0, "put back  /cmdline.txt");
	ck_assert_ptr_nonnull(strstr(board_file(card, 1, true, "cmdline.txt"), "fsck.repair=yes"));
}
END_TEST

START_TEST(a_file_that_was_put_back_by_hand)
{
	const Board *b = &boards[0];
	const char *card = root_only();
	g_autofree char *old = g_strdup(board_file(card, 1, true, "cmdline.old"));

	board_put(card, 1, true, "cmdline.txt", old);
	SupRun run = BOARD_RUN(b, "rewind");
	bench_expect(&run, 0, "was back already  /cmdline.txt");
}
END_TEST

START_TEST(a_second_move_keeps_the_way_back)
{
	const Board *b = &boards[0];
	const char *card = board_disk(b, false);
	g_autofree char *before = g_strdup(board_file(card, 1, true, "cmdline.txt"));

	root_only();
	/* The boot file names the new disk now: a source whose root= is elsewhere is refused. */
	SupRun again =
		BOARD_RUN(b, "move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");
	bench_expect(&again, 3, "matches no partition of this disk");
	SupRun run = BOARD_RUN(b, "rewind");
	bench_expect(&run, 0, "put back");
	ck_assert_str_eq(before, board_file(card, 1, true, "cmdline.txt"));
}
END_TEST

START_TEST(a_file_that_is_gone)
{
	const Board *b = &boards[0];
	const char *card = root_only();
	g_autofree char *volume = g_strdup_printf("%s@@4194304", card);

	SUP_TOOL("mdel", "-i", volume, "::cmdline.txt");
	SupRun run = BOARD_RUN(b, "rewind");
	bench_expect(&run, 1, "somebody removed it since");
	SupRun forced = BOARD_RUN(b, "rewind", "--force");
	bench_expect(&forced, 0, "put back  /cmdline.txt");
	ck_assert_ptr_nonnull(strstr(board_file(card, 1, true, "cmdline.txt"), "fsck.repair=yes"));
	board_judge(card);
}
END_TEST

/* Logbooks and originals that somebody spoiled. */
static const struct {
	const char *script, *text;
	int code;
} spoiled[] = {
	{ "cd \"$0\" && for f in originals/*; do echo x >> $f; done", "is not what was kept there",
		4 },
	{ "cd \"$0\" && rm originals/*", "opening", 4 },
	{ "cd \"$0\" && echo nonsense > logbook.jsonl", "no line of a logbook", 3 },
	{ "cd \"$0\" && : > logbook.jsonl", "it is empty", 3 },
	{ "cd \"$0\" && sed -i 's|\"original\": \"|&../../|' logbook.jsonl", "no line of a logbook",
		3 },
	{ "cd \"$0\" && sed -i 's|\"4c1fa2b0\"|\"00000000\"|' logbook.jsonl",
		"is not the disk that was changed", 4 },
	{ "cd \"$0\" && printf '{\"at\": 1, \"ev' >> logbook.jsonl", "put back  /cmdline.txt", 0 },
};

/* A power cut within the first line of another logbook: nothing was done yet, and nothing is in the
 * way. */
START_TEST(a_logbook_that_has_just_begun)
{
	root_only();
	g_autofree char *later = g_strdup(board_path(&boards[0], "root/var/lib/wanderitas/later"));
	SUP_TOOL("sh", "-c", "mkdir \"$0\" && printf '{\"format\": \"wand' > \"$0/logbook.jsonl\"",
		later);
	SupRun run = BOARD_RUN(&boards[0], "rewind");

	bench_expect(&run, 0, "put back  /cmdline.txt");
}
END_TEST

START_TEST(spoiled_records)
{
	const char *card = root_only();
	const char *state = board_path(&boards[0], "root/var/lib/wanderitas/to-nvme0n1");
	g_autofree char *before = g_strdup(sup_hash(card));

	SUP_TOOL("sh", "-c", spoiled[_i].script, state);
	SupRun run = BOARD_RUN(&boards[0], "rewind", state);
	bench_expect(&run, spoiled[_i].code, spoiled[_i].text);
	/* One that tells nothing any more is not passed over: that would say that all is back. */
	if (strcmp(spoiled[_i].text, "no line of a logbook") == 0) {
		SupRun newest = BOARD_RUN(&boards[0], "rewind");
		bench_expect(&newest, spoiled[_i].code, spoiled[_i].text);
		bench_expect(&newest, spoiled[_i].code, "/originals");
	}
	if (spoiled[_i].code != 0)
		ck_assert_str_eq(before, sup_hash(card));
}
END_TEST

/* ---- interruptions ---- */

/* A power cut at any line of the logbook, which is always ahead of the disk: rewind brings back
 * what was, whether the last change that it tells of was made or not. */
START_TEST(cut_off_anywhere)
{
	const Board *b = &boards[0];
	const char *card = board_disk(b, false);
	g_autofree char *logbook =
		g_strdup(board_path(b, "root/var/lib/wanderitas/to-nvme0n1/logbook.jsonl"));
	g_autofree char *before = g_strdup(board_file(card, 1, true, "cmdline.txt"));

	SUP_TOOL("cp", card, sup_path("before.img"));
	root_only();
	SUP_TOOL("cp", card, sup_path("after.img"));
	g_autofree char *text = sup_read(logbook, NULL);
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	unsigned changes = 0;
	g_autoptr(GString) head = g_string_new(NULL);
	for (size_t i = 0; lines[i] && *lines[i]; i++) {
		g_string_append_printf(head, "%s\n", lines[i]);
		changes += strstr(lines[i], "\"change\"") ? 1 : 0;
		for (unsigned made = 0; changes > 0 && made < (changes == 2 ? 2 : 1); made++) {
			SUP_TOOL("cp", sup_path(made ? "after.img" : "before.img"), card);
			sup_write(logbook, head->str);
			SupRun run = BOARD_RUN(b, "rewind");
			bench_expect(&run, 0, NULL);
			ck_assert_str_eq(before, board_file(card, 1, true, "cmdline.txt"));
			SupRun old = SUP_RUN("mtype", "-i", sup_path("none"), "::cmdline.old");
			ck_assert_int_ne(old.code, 0);
		}
	}
	ck_assert_uint_eq(changes, 2);
	board_judge(card);
}
END_TEST

/* A power cut while identifiers were being renewed: some are new, some are old. */
static void set_serial(const char *drive, const char *bytes)
{
	sup_poke(drive, 4194304 + 67, bytes, 4);
}

START_TEST(identifiers_half_renewed_and_back)
{
	const Board *b = &boards[0];
	const char *drive = copy_card(b);
	g_autofree char *state = g_strdup(sup_path("state"));
	g_autofree char *logbook = g_strdup(sup_path("state/logbook.jsonl"));

	SUP_TOOL("cp", drive, sup_path("before.img"));
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1", "--renew", "--write", "--state", state);
	bench_expect(&run, 0, "done:");
	/* Cut off behind the first volume's serial: no more than that was announced and done. */
	g_autofree char *text = sup_read(logbook, NULL);
	const char *first = strstr(text, "\"change\"");
	g_autofree char *head = g_strndup(text, (size_t)(strchr(first, '\n') - text) + 1);
	sup_write(logbook, head);
	SUP_TOOL("cp", sup_path("before.img"), drive);
	set_serial(drive, "\x44\x33\x22\x11");
	SupRun rewind = BOARD_RUN(b, "rewind", state);
	bench_expect(&rewind, 0, "put back  the identifiers of nvme0n1");
	g_autofree char *uuid = board_identifier(drive, 1, "UUID");
	ck_assert_str_eq(uuid, "F3A1-77C2");
	board_judge(drive);
}
END_TEST

START_TEST(identifiers_half_renewed_and_on)
{
	const Board *b = &boards[0];
	const char *drive = copy_card(b);

	SUP_TOOL("sfdisk", "-q", "--disk-id", drive, "0x11112222");
	set_serial(drive, "\x44\x33\x22\x11");
	SupRun again = BOARD_RUN(b, "readdress", "nvme0n1", "--renew", "--write");
	bench_expect(&again, 0, "done:");
	g_autofree char *partuuid = board_identifier(drive, 2, "PARTUUID");
	ck_assert_ptr_nonnull(strstr(board_file(drive, 1, true, "cmdline.txt"), partuuid));
	ck_assert_str_ne(partuuid, "11112222-02");
	board_judge(drive);
}
END_TEST

/* On the heron's root: a row of the user's for files whose names are no text, and a label that is
 * none. The terminal gets no orders from them. */
static const char any_bytes[] =
	"U=$(blkid -p -O 138412032 -s UUID -o value $I); mkdir -p root/etc/wanderitas/places.d;"
	"echo '/etc/station/*.ini text' > p; cp p root/etc/wanderitas/places.d/a.conf;"
	"echo disk=/dev/disk/by-uuid/$U > v; printf 'mkdir etc/station\nmkdir etc/wanderitas\n"
	"mkdir etc/wanderitas/places.d\nwrite p etc/wanderitas/places.d/a.conf\nwrite v "
	"\"etc/station/v\xf6gel.ini\"\nwrite v \"etc/station/\x1b[31mred.ini\"\n"
	"ssv volume_name b\xfcro\n' | debugfs -w -f - $V2";

START_TEST(names_of_any_bytes)
{
	const Board *b = &boards[0];
	board_shell(b, "", any_bytes);
	SupRun run = BOARD_RUN(b, "readdress", "mmcblk0", "--renew", "--write");

	bench_expect(&run, 0, "done: every change was read back");
	bench_expect(&run, 0, "+++ root:/etc/station/v\\xf6gel.ini\n");
	ck_assert(g_utf8_validate(run.out, -1, NULL) && !strchr(run.out, '\x1b'));
	ck_assert(g_utf8_validate(run.err, -1, NULL) && !strchr(run.err, '\x1b'));
	SupRun back = BOARD_RUN(b, "rewind");
	bench_expect(&back, 0, "put back  /etc/station/v\\xf6gel.ini on mmcblk0, partition 2");
	bench_expect(&back, 0, "put back  /cmdline.txt on mmcblk0, partition 1");
	bench_expect(&back, 0, "put back  the identifiers of mmcblk0");
	board_judge(board_disk(b, false));
	board_shell(b, "",
		"debugfs -R \"dump \\\"$(printf 'etc/station/v\\xf6gel.ini')\\\" w\" $V2; cmp v w");
}
END_TEST

/* A plan that was kept has all of it too. */
START_TEST(an_itinerary_of_any_bytes)
{
	const Board *b = &boards[0];
	board_shell(b, "", any_bytes);
	SupRun draft = BOARD_RUN(b, "draft", "--to", "nvme0n1", "-o", sup_path("plan.json"));
	SupRun move = BOARD_RUN(b, "move", sup_path("plan.json"), "--erase", "nvme0n1");
	SupRun json = BOARD_RUN(b, "--json", "draft", "--to", "nvme0n1");

	bench_expect(&draft, 0, "2  LABEL     b\\xfcro                               kept");
	bench_expect(&move, 0, "rehearsed: nvme0n1 boots");
	bench_expect(&json, 0, "{\n        \"escaped\": \"etc/station/v\\\\xf6gel.ini\"");
	const char *found =
		board_debugfs(board_disk(b, true), 2, false, "cat \"etc/station/v\xf6gel.ini\"");
	g_autofree char *uuid = board_identifier(board_disk(b, true), 2, "UUID");
	ck_assert_msg(strstr(found, uuid) != NULL, "%s", found);
	SupRun catchup = BOARD_RUN(b, "catchup");
	bench_expect(&catchup, 0, "nothing changed on mmcblk0");
	board_judge(board_disk(b, true));
}
END_TEST

Suite *suite_readdress(void)
{
	Suite *s = suite_create("cli/readdress");
	TCase *t = tcase_create("readdress");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, renewed_and_back, 0, BOARDS);
	tcase_add_test(t, stale_mentions_by_role_and_number);
	tcase_add_test(t, what_cannot_be_matched_is_told_by_the_exit_code);
	tcase_add_test(t, names_can_be_changed);
	tcase_add_test(t, a_row_of_the_user_names_a_file);
	tcase_add_test(t, names_of_any_bytes);
	tcase_add_test(t, an_itinerary_of_any_bytes);
	tcase_add_test(t, the_running_system);
	tcase_add_loop_test(t, what_is_refused, 0, (int)G_N_ELEMENTS(usage));
	tcase_add_test(t, images_anywhere);
	tcase_add_test(t, stops_part_way);
	tcase_add_test(t, what_somebody_changed_is_left);
	tcase_add_test(t, a_file_that_was_put_back_by_hand);
	tcase_add_test(t, a_file_that_is_gone);
	tcase_add_test(t, a_second_move_keeps_the_way_back);
	tcase_add_test(t, a_logbook_that_has_just_begun);
	tcase_add_loop_test(t, spoiled_records, 0, (int)G_N_ELEMENTS(spoiled));
	tcase_add_test(t, cut_off_anywhere);
	tcase_add_test(t, identifiers_half_renewed_and_back);
	tcase_add_test(t, identifiers_half_renewed_and_on);
	suite_add_tcase(s, t);
	return s;
}
