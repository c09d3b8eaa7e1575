/* Who is who: the ways in which source, target, records and images can be the same bytes or lie in
 * each other, or be in somebody's use. Each is refused, and not a byte is written. */
#include "bench.h"

#include <string.h>

Suite *suite_identity(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")

/* `script` runs with $A, the source's image, $T, the target's, $B, the bench, and $D, an empty
 * folder; the functions below keep what is to be taken down. It leaves the arguments in the array
 * `args`. Rows in which nobody but root can bring the case about are marked. What is mounted must
 * not write by itself between the two hashes of a disk: no inode tables to be cleared, no times of
 * access, nothing left in memory. */
static const char functions[] =
	"quiet=noatime,noinit_itable\n"
	"loop() { local l; l=$(losetup -f --show \"$@\"); echo \"losetup -d $l\" >>\"$D/down\"; "
	"echo \"$l\"; }\n"
	"on() { mkdir -p \"$2\"; mount -o \"$quiet\" \"$1\" \"$2\"; echo \"umount '$2'\" >>\"$D/down\"; }\n"
	"hold() { \"$@\" >/dev/null 2>&1 & echo \"kill $!\" >>\"$D/down\"; sleep 0.3; }\n"
	"elsewhere() { hold unshare -m sh -c \"mkdir -p '$2'; mount -o $quiet '$1' '$2'; exec sleep 60\"; "
	"for i in $(seq 100); do grep -q \"$1\" /proc/$!/mountinfo && break; sleep 0.1; done; }\n"
	"move() { args=(move --from \"$1\" --to \"$2\" --erase \"$(basename \"$2\")\"); }\n"
	"bench() { args=(--bench \"$B\" move --to nvme0n1 --erase nvme0n1); }\n";

#define OF_A_PARTITION "-o 138412032 --sizelimit 490733568"

static const struct {
	const char *name;
	bool needs_root;
	const char *script;
	const char *text;
} rows[] = {
	{ "the same path", false, "move \"$A\" \"$A\"", "the same disk" },
	{ "a path with dots", false, "move \"$A\" \"$B/dev/../dev/./mmcblk0\"", "the same disk" },
	{ "a hard link", false, "ln \"$A\" \"$D/h.img\"; move \"$A\" \"$D/h.img\"",
		"the same disk" },
	{ "a symbolic link", false, "ln -s \"$A\" \"$D/s.img\"; move \"$A\" \"$D/s.img\"",
		"the same disk" },
	{ "a link to its folder", false, "ln -s \"$B/dev\" \"$D/l\"; move \"$A\" \"$D/l/mmcblk0\"",
		"the same disk" },
	{ "a bench's disk and its image", false,
		"args=(--bench \"$B\" move --from \"$A\" --to mmcblk0 --erase mmcblk0)",
		"the same disk" },
	{ "a mapping of the source", false,
		"mkdir -p \"$B/sys/block/nvme0n1/slaves/mmcblk0\"; bench", "the same disk" },
	{ "the source by another path", false,
		"echo naa.5000c500a1b2c3d4 | tee \"$B\"/sys/block/{nvme0n1,mmcblk0}/device/wwid "
		">/dev/null; cp \"$B\"/sys/block/{nvme0n1,mmcblk0}/size; bench",
		"the same disk" },
	{ "a member of a mapping", false, "mkdir -p \"$B/sys/block/nvme0n1/holders/dm-0\"; bench",
		"RAID, LVM" },
	{ "swap", false, "echo '/dev/nvme0n1 partition 1 0 -2' >>\"$B/proc/swaps\"; bench",
		"in use as swap" },
	{ "mounted", false,
		"echo '31 24 259:0 / /media/x rw - ext4 /dev/x rw' >>\"$B/proc/self/mountinfo\"; bench",
		"is mounted at /media/x" },
	{ "mounted in another namespace", false,
		"mkdir -p \"$B/proc/812/ns\"; ln -s mnt:[402] \"$B/proc/812/ns/mnt\"; echo dockd "
		">\"$B/proc/812/comm\"; echo '31 24 259:0 / /vol rw - ext4 /dev/x rw' "
		">\"$B/proc/812/mountinfo\"; bench",
		"is mounted at /vol in the mount namespace of pid 812 (dockd)" },
	{ "a folder of it mounted", false,
		"echo '31 24 259:0 /sub /media/x rw - ext4 /dev/x rw' >>\"$B/proc/self/mountinfo\"; "
		"bench",
		"is mounted at /media/x" },
	{ "locked by another program", false, "hold flock \"$T\" sleep 60; move \"$A\" \"$T\"",
		"in use by another program" },
	{ "a source that is locked", false, "hold flock \"$A\" sleep 60; move \"$A\" \"$T\"",
		"another program has locked it for writing" },
	{ "a source that a program has open", false,
		"hold sh -c 'exec 9<>\"$0\"; exec sleep 60' \"$A\"; move \"$A\" \"$T\"",
		"has it open for writing" },
	{ "a loop device over the source", true, "move \"$A\" \"$(loop \"$A\")\"",
		"the same disk" },
	{ "a loop device as the source", true, "move \"$(loop \"$A\")\" \"$A\"", "the same disk" },
	{ "two loop devices over one file", true, "move \"$(loop \"$A\")\" \"$(loop \"$A\")\"",
		"the same disk" },
	{ "a loop device over a loop device", true, "move \"$A\" \"$(loop \"$(loop \"$A\")\")\"",
		"the same disk" },
	{ "a loop device over a link", true,
		"ln -s \"$A\" \"$D/s\"; move \"$A\" \"$(loop \"$D/s\")\"", "the same disk" },
	{ "a loop device over a name that is gone", true,
		"ln \"$A\" \"$D/h\"; L=$(loop \"$D/h\"); rm \"$D/h\"; move \"$A\" \"$L\"",
		"the same disk" },
	{ "a loop device over a renamed file", true,
		"ln \"$A\" \"$D/h\"; L=$(loop \"$D/h\"); mv \"$D/h\" \"$D/i\"; move \"$L\" \"$D/i\"",
		"the same disk" },
	{ "a part of the source", true, "move \"$A\" \"$(loop " OF_A_PARTITION " \"$A\")\"",
		"the same disk" },
	{ "a file seen through a bind mount", true,
		"mkdir \"$D/b\"; mount --bind \"$B/dev\" \"$D/b\"; echo \"umount '$D/b'\" "
		">>\"$D/down\"; move \"$A\" \"$D/b/mmcblk0\"",
		"the same disk" },
	{ "a source file on the target's file", true,
		"mkfs.ext4 -q -F \"$T\"; on \"$(loop \"$T\")\" \"$D/m\"; cp --sparse=always \"$A\" "
		"\"$D/m/a.img\"; move \"$D/m/a.img\" \"$T\"",
		"is a file on the target" },
	{ "a source file on the target's device", true,
		"mkfs.ext4 -q -F \"$T\"; L=$(loop \"$T\"); on \"$L\" \"$D/m\"; cp --sparse=always "
		"\"$A\" \"$D/m/a.img\"; move \"$D/m/a.img\" \"$L\"",
		"is a file on the target" },
	{ "a loop device over a file on the target", true,
		"mkfs.ext4 -q -F \"$T\"; L=$(loop \"$T\"); on \"$L\" \"$D/m\"; cp --sparse=always "
		"\"$A\" \"$D/m/a.img\"; M=$(loop \"$D/m/a.img\"); move \"$M\" \"$L\"",
		"is a file on the target" },
	{ "a target that is attached", true, "loop \"$T\" >/dev/null; move \"$A\" \"$T\"",
		"is attached to /dev/loop" },
	{ "a target that is mounted", true,
		"mkfs.ext4 -q -F \"$T\"; L=$(loop \"$T\"); on \"$L\" \"$D/m\"; move \"$A\" \"$L\"",
		"is mounted at" },
	{ "a target that is mounted elsewhere", true,
		"mkfs.ext4 -q -F \"$T\"; L=$(loop \"$T\"); elsewhere \"$L\" \"$D/m\"; move \"$A\" "
		"\"$L\"",
		"in the mount namespace of" },
	{ "a source that is mounted", true,
		"on \"$(loop " OF_A_PARTITION " \"$A\")\" \"$D/m\"; move \"$A\" \"$T\"",
		"is mounted for writing at" },
	{ "a loop device whose file is mounted", true,
		"on \"$(loop " OF_A_PARTITION " \"$A\")\" \"$D/m\"; move \"$(loop \"$A\")\" \"$T\"",
		"is mounted for writing at" },
	{ "a source that is mounted elsewhere", true,
		"elsewhere \"$(loop " OF_A_PARTITION " \"$A\")\" \"$D/m\"; move \"$A\" \"$T\"",
		"in the mount namespace of" },
	{ "a source in a mapping", true,
		"hold sh -c 'exec 9<>\"$0\"; exec sleep 60' \"$(loop \"$A\")\"; args=(move --from "
		"\"$(head -n1 \"$D/down\" | cut -d' ' -f3)\" --to \"$T\" --erase nvme0n1)",
		"has it open for writing" },
	{ "a disk to be readdressed", true,
		"loop \"$A\" >/dev/null; args=(readdress \"$A\" --renew --write)",
		"is attached to /dev/loop" },
	{ "a bench's disk to be readdressed", true,
		"loop \"$A\" >/dev/null; args=(--bench \"$B\" readdress mmcblk0 --renew --write)",
		"is attached to /dev/loop" },
	{ "a disk to be tuned", true,
		"loop \"$A\" >/dev/null; args=(tune --on \"$A\" --set usb-current --write)",
		"is attached to /dev/loop" },
};

/* Runs bash with the functions and the variables; the arguments come back, one a line. */
static char **arguments_of(guint row)
{
	g_autofree char *script = g_strdup_printf(
		"A='%s' T='%s' B='%s' D='%s'\n%s%s\n"
		"printf '%%s\\n' \"${args[@]}\" >\"$D/args\"; [ ! -d \"$D/m\" ] || sync",
		CARD, DRIVE, bench_path("."), sup_path("d"), functions, rows[row].script);
	size_t len = 0;

	SUP_TOOL("mkdir", "-p", sup_path("d"));
	SUP_TOOL("bash", "-ec", script);
	g_autofree char *text = sup_read(sup_path("d/args"), &len);
	return g_strsplit(g_strchomp(text), "\n", -1);
}

/* The last first. */
static void take_down(void)
{
	SUP_TOOL("bash", "-c",
		"touch \"$0\"; tac \"$0\" | while read -r line; do eval \"$line\"; done; sleep 0.1",
		sup_path("d/down"));
}

START_TEST(refused_before_a_byte_is_written)
{
	if (rows[_i].needs_root && !sup_is_root()) {
		sup_say_skipped(rows[_i].name);
		return;
	}
	g_auto(GStrv) arguments = arguments_of((guint)_i);
	g_autofree char *card = g_strdup(sup_hash(CARD));
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));
	const char *argv[24] = { sup_program() };
	for (size_t i = 0; arguments[i] && i < G_N_ELEMENTS(argv) - 2; i++)
		argv[i + 1] = arguments[i];
	SupRun run = sup_run("", argv);
	g_autofree char *card_after = g_strdup(sup_hash(CARD));
	g_autofree char *drive_after = g_strdup(sup_hash(DRIVE));
	take_down();
	ck_assert_msg(run.code == 3 && strstr(run.err, rows[_i].text), "%s: code %d, %s",
		rows[_i].name, run.code, run.err);
	ck_assert_str_eq(card, card_after);
	ck_assert_str_eq(drive, drive_after);
}
END_TEST

/* What is not the same must not be refused: a file beside it, a part that does not overlap, a loop
 * device that can only be read. */
START_TEST(others_are_none_of_it)
{
	g_autofree char *script = g_strdup_printf(
		"cp --sparse=always '%s' '%s'; losetup -r -f --show -o 138412032 '%s' >'%s'; mkdir '%s'; "
		"mount -o ro,noload \"$(cat '%s')\" '%s'",
		CARD, sup_path("copy.img"), CARD, sup_path("loop"), sup_path("m"), sup_path("loop"),
		sup_path("m"));

	if (!sup_is_root()) {
		sup_say_skipped("others_are_none_of_it");
		return;
	}
	SUP_TOOL("bash", "-ec", script);
	SupRun run = WANDERITAS("draft", "--from", CARD, "--to", sup_path("copy.img"), "--quiet");
	SUP_TOOL("umount", sup_path("m"));
	size_t len = 0;
	g_autofree char *loop = g_strchomp(sup_read(sup_path("loop"), &len));
	SUP_TOOL("losetup", "-d", loop);
	bench_expect(&run, 0, NULL);
}
END_TEST

Suite *suite_identity(void)
{
	Suite *s = suite_create("cli/identity");
	TCase *t = tcase_create("who is who");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, refused_before_a_byte_is_written, 0, G_N_ELEMENTS(rows));
	tcase_add_test(t, others_are_none_of_it);
	suite_add_tcase(s, t);
	return s;
}
