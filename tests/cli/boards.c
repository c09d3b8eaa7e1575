#include "boards.h"

#include <stdlib.h>
#include <string.h>

const Board boards[] = {
	{ "heron-hide-3", ".", "mmcblk0", "nvme0n1", 2, 1, true, false, "cmdline.txt",
		" root=", "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30" },
	{ "bittern-tower-1", "boards/bittern-tower-1", "mmcblk1", "nvme0n1", 1, 1, false, true,
		"boot/extlinux/extlinux.conf",
		"append root=", "2f9a61c4-7d3e-4b88-a1c5-0e6d5b4f7a21" },
	{ "kingfisher-weir-2", "boards/kingfisher-weir-2", "mmcblk0", "sda", 2, 1, false, false,
		"weirEnv.txt", "\nrootdev=", "d5c9e3a7-2b4f-4d68-8ae1-6f8a7b9c0d12" },
};

const Board board_brook = { "dipper-brook-4", "boards/dipper-brook-4", "mmcblk1", "nvme0n1", 2, 1,
	false, false, "extlinux/extlinux.conf",
	"append root=", "b8d2f6e4-5c3a-4f79-8e1d-2a4b6c8d0f12" };

const char board_firmware[] =
	"T=proc/device-tree;"
	"is() { printf '%s\\0' \"$@\" > $T/compatible; };"
	"built() { printf \"\\\\x$1\\\\x$2\\\\x$3\\\\x$4\" > $T/chosen/bootloader/build-timestamp; };"
	"says() { { echo '#!/bin/sh'; echo 'case $1 in'; for a; do echo \"${a%%:*}) echo '${a#*:}' ;;\";"
	" done; echo '*) exit 1 ;;'; echo esac; } > bin/vcgencmd; };"
	"environment() { printf '%s\n' \"$@\" | mkenvimage -s 8192 -o e -; dd if=e of=dev/mtd0 bs=1M "
	"seek=3 conv=notrunc; echo /dev/mtd0 0x300000 0x2000 > root/etc/fw_env.config; };"
	"copy() { echo boot_targets=$1 | mkenvimage -r -s 8192 -o e -; printf \"\\\\$2\" | dd of=e bs=1 seek=4 "
	"conv=notrunc; dd if=e of=dev/mtd0 bs=8192 seek=$3 conv=notrunc; };"
	"copies() { copy mmc1 $1 384; copy nvme0 $2 385; printf '/dev/mtd0 0x300000 0x2000\n/dev/mtd0 "
	"0x302000 0x2000\n' > root/etc/fw_env.config; };";

const char *board_path(const Board *b, const char *path)
{
	g_autofree char *full = g_build_filename(b->bench, path, NULL);

	/* "." is there already: for the others the heron's bench is only in the way. */
	if (strcmp(b->bench, ".") != 0)
		bench_add(b->bench);

	return bench_path(full);
}

const char *board_disk(const Board *b, bool is_drive)
{
	g_autofree char *path = g_build_filename("dev", is_drive ? b->drive : b->card, NULL);

	return board_path(b, path);
}

SupRun board_run(const Board *b, const char *const *arguments)
{
	const char *argv[32] = { sup_program(), "--bench", board_path(b, "") };
	size_t n = 3;

	for (size_t i = 0; arguments[i]; i++)
		argv[n++] = arguments[i];
	return sup_run("", argv);
}

SupRun board_run_with_faults(const Board *b, const char *faults, const char *const *arguments)
{
	/* The bench is made by programs whose media are whole. */
	board_path(b, "");
	bench_begin_faults(faults);
	SupRun run = board_run(b, arguments);
	bench_end_faults();
	return run;
}

/* The line of sfdisk's dump that describes the partition. */
static char *table_line(const char *image, unsigned number)
{
	g_auto(GStrv) lines = g_strsplit(SUP_TOOL("sfdisk", "-d", image), "\n", -1);
	size_t len = strlen(image);

	for (size_t i = 0; lines[i]; i++) {
		if (strncmp(lines[i], image, len) != 0)
			continue;
		const char *digits = lines[i] + len + strspn(lines[i] + len, "p");
		if (strtoul(digits, NULL, 10) == number)
			return g_strdup(lines[i]);
	}
	ck_abort_msg("%s has no partition %u", image, number);
	return NULL;
}

uint64_t board_start(const char *image, unsigned number)
{
	g_autofree char *line = table_line(image, number);

	return g_ascii_strtoull(strstr(line, "start=") + strlen("start="), NULL, 10) * 512;
}

static uint64_t size_of(const char *image, unsigned number)
{
	g_autofree char *line = table_line(image, number);

	return g_ascii_strtoull(strstr(line, "size=") + strlen("size="), NULL, 10) * 512;
}

char *board_debugfs(const char *image, unsigned number, bool writes, const char *request)
{
	g_autofree char *where =
		g_strdup_printf("%s?offset=%" G_GUINT64_FORMAT, image, board_start(image, number));

	return writes ? SUP_TOOL("debugfs", "-w", "-R", request, where)
		      : SUP_TOOL("debugfs", "-R", request, where);
}

static char *mtools_volume(const char *image, unsigned number)
{
	return g_strdup_printf("%s@@%" G_GUINT64_FORMAT, image, board_start(image, number));
}

char *board_file(const char *image, unsigned number, bool is_fat, const char *file)
{
	g_autofree char *volume = mtools_volume(image, number);
	g_autofree char *path = g_strconcat("::", file, NULL);
	g_autofree char *request = g_strconcat("cat /", file, NULL);

	return is_fat ? SUP_TOOL("mtype", "-i", volume, path)
		      : board_debugfs(image, number, false, request);
}

void board_put(const char *image, unsigned number, bool is_fat, const char *file, const char *text)
{
	g_autofree char *volume = mtools_volume(image, number);
	g_autofree char *path = g_strconcat("::", file, NULL);
	g_autofree char *remove = g_strconcat("rm /", file, NULL);
	g_autofree char *write = g_strdup_printf("write %s %s", sup_path("put"), file);

	sup_write(sup_path("put"), text);
	if (is_fat) {
		SUP_TOOL("mcopy", "-o", "-D", "o", "-i", volume, sup_path("put"), path);
		return;
	}
	board_debugfs(image, number, true, remove);
	board_debugfs(image, number, true, write);
}

char *board_word(const char *text, const char *before)
{
	const char *at = strstr(text, before);

	ck_assert_msg(at != NULL, "no '%s' in %s", before, text);
	at += strlen(before);
	return g_strndup(at, strcspn(at, " \n\t\""));
}

char *board_identifier(const char *image, unsigned number, const char *tag)
{
	g_autofree char *digits = g_strdup_printf("%u", number);

	if (strcmp(tag, "PARTLABEL") == 0)
		return g_strstrip(g_strdup(SUP_TOOL("sfdisk", "--part-label", image, digits)));
	if (strcmp(tag, "PARTUUID") == 0) {
		const char *dump = SUP_TOOL("sfdisk", "-d", image);
		if (strstr(dump, "label: dos")) {
			g_autofree char *id = board_word(dump, "label-id: 0x");
			return g_strdup_printf("%s-%02x", id, number);
		}
		g_autofree char *guid =
			g_strstrip(g_strdup(SUP_TOOL("sfdisk", "--part-uuid", image, digits)));
		return g_ascii_strdown(guid, -1);
	}
	g_autofree char *offset = g_strdup_printf("%" G_GUINT64_FORMAT, board_start(image, number));
	g_autofree char *before = g_strdup_printf(" %s=\"", tag);
	return board_word(SUP_TOOL("blkid", "-p", "-O", offset, image), before);
}

void board_judge(const char *image)
{
	const char *dump = SUP_TOOL("sfdisk", "-d", image);

	SUP_TOOL("sfdisk", "--verify", image);
	for (unsigned number = 1; number <= 3; number++) {
		g_autofree char *mark = g_strdup_printf("%s%u :", image, number);
		if (!strstr(dump, mark))
			continue;
		uint64_t start = board_start(image, number);
		g_autofree char *offset = g_strdup_printf("%" G_GUINT64_FORMAT, start);
		if (strstr(SUP_TOOL("blkid", "-p", "-O", offset, image), "TYPE=\"ext4\"")) {
			sup_judge_ext(image, start);
			continue;
		}
		g_autofree char *cut = g_strdup_printf(
			"dd if='%s' of='%s' bs=1M skip=%u count=%u conv=sparse status=none", image,
			sup_path("cut.fat"), (unsigned)(start >> 20),
			(unsigned)(size_of(image, number) >> 20));
		SUP_TOOL("sh", "-c", cut);
		sup_judge_fat(sup_path("cut.fat"));
	}
}

void board_shell(const Board *b, const char *shorthands, const char *commands)
{
	g_autofree char *folder = g_strdup(board_path(b, ""));
	g_autofree char *image = g_strdup(board_disk(b, false));
	g_autofree char *script = g_strdup_printf(
		"set -e; cd '%s'; export PATH=$PATH:/sbin:/usr/sbin MTOOLS_SKIP_CHECK=1; I='%s';"
		" V1=\"$I?offset=%" G_GUINT64_FORMAT "\"; V2=\"$I?offset=%" G_GUINT64_FORMAT
		"\"; %s %s",
		folder, image, board_start(image, 1), board_start(image, 2), shorthands, commands);
	const char *argv[] = { "bash", "-c", script, NULL };

	sup_tool(argv);
}

/* The command at the end of the advice that follows a text; fails the test where there is none. The
 * first word of another program's command is given. The caller's. */
static char *advice_after(const SupRun *run, const char *finding)
{
	static const char *const others[] = { "e2fsck ", "umount ", "losetup " };
	g_autofree char *all = g_strconcat(run->out, run->err, NULL);
	g_autofree char *begins = g_strconcat(sup_program(), " ", NULL);
	const char *found = strstr(all, finding);

	ck_assert_msg(found != NULL, "no '%s' in:\n%s", finding, all);
	const char *command = strstr(found, begins);
	for (size_t i = 0; !command && i < G_N_ELEMENTS(others); i++)
		command = strstr(found, others[i]);
	ck_assert_msg(command != NULL, "no command behind '%s' in:\n%s", finding, all);
	return g_strndup(command, strcspn(command, "\n"));
}

SupRun board_follow(const SupRun *run, const char *finding)
{
	static const char preview[] = "preview only, nothing changed; to apply";
	g_autofree char *command = advice_after(run, finding);
	SupRun pasted = SUP_RUN("bash", "-c", command);

	/* 1: done, and something else was left for a person. */
	ck_assert_msg(pasted.code <= 1, "%s\nended with %d:\n%s%s", command, pasted.code,
		pasted.out, pasted.err);
	return strstr(pasted.out, preview) && !strstr(finding, "preview")
		       ? board_follow(&pasted, preview)
		       : pasted;
}

void loader_case(const Board *b, const char *shorthands, const LoaderCase *c)
{
	const char *argv[10] = { "loader" };

	for (size_t i = 0; i < 5; i++)
		argv[1 + i] = c->options[i];
	board_shell(b, shorthands, c->command);
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	SupRun run = board_run(b, argv);
	bench_expect(&run, c->code, c->text);
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
}
