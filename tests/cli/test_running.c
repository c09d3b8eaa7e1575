/* Moves of a system while it runs: on a bench whose root/ is the running tree, and, as root, on a
 * mounted loop device that is written to meanwhile. */
#include "bench.h"

#include "base/io.h"
#include "base/stat.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

Suite *suite_running(void);

#define DRIVE bench_path("dev/nvme0n1")
#define CARD bench_path("dev/mmcblk0")
#define ROOT bench_path("root")

static void shell(const char *script)
{
	const char *argv[] = { "bash", "-ec", script, NULL };

	sup_tool(argv);
}

/* The card's tree becomes the running one. */
static void set_up(void)
{
	sup_setup();
	g_autofree char *script = g_strdup_printf(
		"cp -a '%s/boot/firmware' '%s'; rm -rf '%s'; mkdir '%s';"
		"debugfs -R 'rdump / %s' '%s?offset=%u' >'%s' 2>&1;"
		"mkdir -p '%s/boot/firmware' '%s/sbin'; cp -a '%s/.' '%s/boot/firmware/';"
		"ln -sf ../usr/lib/systemd/systemd '%s/sbin/init';"
		"mkdir -p '%s/var/cache/field'; echo cached > '%s/var/cache/field/a';"
		"echo kept > '%s/var/lib/kept'",
		ROOT, sup_path("boot"), ROOT, ROOT, ROOT, CARD, (unsigned)ROOT_AT,
		sup_path("rdump.log"), ROOT, ROOT, sup_path("boot"), ROOT, ROOT, ROOT, ROOT, ROOT);
	shell(script);
}

static char *root_of_drive(const char *to)
{
	g_autofree char *script =
		g_strdup_printf("rm -rf '%s'; mkdir '%s'; e2fsck -fn '%s?offset=%u';"
				"debugfs -R 'rdump / %s' '%s?offset=%u' >'%s' 2>&1",
			sup_path(to), sup_path(to), DRIVE, (unsigned)ROOT_AT, sup_path(to), DRIVE,
			(unsigned)ROOT_AT, sup_path("rdump.log"));

	shell(script);
	return g_strdup(sup_path(to));
}

/* All but what must differ, or what rdump cannot make. */
static void expect_same_tree(void)
{
	g_autofree char *drive = root_of_drive("drive");
	g_autofree char *script = g_strdup_printf(
		"diff -r --no-dereference -x lost+found -x fstab -x firmware -x wanderitas -x '*.fifo' "
		"-x '*.sock' '%s' '%s'",
		ROOT, drive);

	shell(script);
}

static void make_socket(void)
{
	g_autofree char *path = g_build_filename(ROOT, "run", "field.sock", NULL);
	struct sockaddr_un identifier = { .sun_family = AF_UNIX };
	int fd = socket(AF_UNIX, SOCK_STREAM, 0);

	g_strlcpy(identifier.sun_path, path, sizeof(identifier.sun_path));
	ck_assert_int_eq(bind(fd, (struct sockaddr *)&identifier, sizeof(identifier)), 0);
	close(fd);
}

/* A file from after January 2038, which 32-bit programs of some systems cannot even look at. */
static void make_later_file(void)
{
	g_autofree char *path = g_build_filename(ROOT, "etc", "later", NULL);

	sup_write(path, "from 2050");
	int fd = open(path, O_RDWR);
	ck_assert_int_eq(wdr_set_mtime(fd, 2524608000, 500000000), 0);
	close(fd);
}

static void expect_later_file(void)
{
	g_autofree char *volume = g_strdup_printf("%s?offset=%u", DRIVE, (unsigned)ROOT_AT);

	ck_assert_ptr_nonnull(strstr(SUP_TOOL("debugfs", "-R", "stat /etc/later", volume),
		"mtime: 0x967a7600:77359401 "));
}

static void move(void)
{
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, "the source is running");
	bench_expect(&run, 0, "meanwhile   nothing changed on the source");
	bench_expect(&run, 0, "power off, take the SD card out");
}

/* Whether the kernel has what came with Linux 5.2 and 5.6, or not. */
static const char *const kernels[] = { "", "old" };

START_TEST(the_running_tree_is_copied)
{
	const char *card = sup_hash(CARD);
	SupRun draft = BENCH_RUN("draft", "--to", "nvme0n1");

	if (*kernels[_i])
		bench_begin_old_kernel();
	make_socket();
	make_later_file();
	bench_expect(&draft, 0, "the source is running");
	move();
	bench_end_faults();
	ck_assert_str_eq(card, sup_hash(CARD));
	expect_same_tree();
	expect_later_file();
	/* What is mounted on a folder of root does not come along with root. */
	ck_assert_str_eq(SUP_TOOL("ls", sup_path("drive/boot/firmware")), "");
	ck_assert_int_eq(access(sup_path("drive/var/cache/field/a"), F_OK), 0);
	ck_assert_int_ne(access(sup_path("drive/run/field.sock"), F_OK), 0);
	/* Our own state stays behind; the records of the move come in its place. */
	ck_assert_int_ne(access(sup_path("drive/var/lib/wanderitas/to-nvme0n1"), F_OK), 0);
	ck_assert_int_eq(access(sup_path("drive/var/lib/wanderitas"), F_OK), 0);
	ck_assert_ptr_nonnull(strstr(bench_boot_file(DRIVE, "cmdline.txt"), "root=PARTUUID="));
}
END_TEST

START_TEST(what_changed_since_is_caught_up_with)
{
	g_autofree char *script = g_strdup_printf(
		"cd '%s'; echo new > etc/new; rm -r var/cache/field; echo more >> var/lib/kept;"
		"chmod 600 etc/hostname; mkdir srv/n; ln etc/new srv/n/linked",
		ROOT);

	move();
	shell(script);
	SupRun run = BENCH_RUN("catchup");
	bench_expect(&run, 0, "new               2  /srv/n/linked");
	bench_expect(&run, 0, "removed           2  /var/cache/field/a");
	bench_expect(&run, 0, "changed           2  /var/lib/kept");
	bench_expect(&run, 0, "metadata          2  /etc/hostname");
	bench_expect(&run, 0, "in 1 pass");
	expect_same_tree();
	SUP_TOOL("sfdisk", "--verify", DRIVE);
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("sfdisk", "-d", DRIVE), "bootable"));
	const char *drive = sup_hash(DRIVE);
	SupRun again =
		BENCH_RUN("--json", "catchup", bench_path("root/var/lib/wanderitas/to-nvme0n1"));
	bench_expect(&again, 0, "\"passes\": 0");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

START_TEST(boot_files_are_caught_up_with)
{
	move();
	bench_put_boot_file(CARD, "overlays-note.txt", "the card has more now");
	SupRun run = BENCH_RUN("catchup");
	bench_expect(&run, 0, "1  /overlays-note.txt");
	ck_assert_str_eq(bench_boot_file(DRIVE, "overlays-note.txt"), "the card has more now");
	ck_assert_ptr_null(strstr(bench_boot_file(DRIVE, "cmdline.txt"), "4c1fa2b0"));
	expect_same_tree();
}
END_TEST

START_TEST(an_edited_file_that_changed_is_told)
{
	g_autofree char *script = g_strdup_printf(
		"echo '# by hand' >> '%s/etc/fstab'; echo x > '%s/etc/x'", ROOT, ROOT);
	g_autofree char *boot_volume = g_strdup_printf("%s@@%u", CARD, (unsigned)BOOT_AT);

	bench_put_boot_file(CARD, "gone.txt", "soon\n");
	move();
	shell(script);
	SupRun run = BENCH_RUN("catchup");
	bench_expect(&run, 1, "not copied /etc/fstab on partition 2");
	bench_expect(&run, 1, "new               2  /etc/x");
	ck_assert_ptr_null(strstr(bench_root_file(DRIVE, "etc/fstab"), "by hand"));
	ck_assert_str_eq(bench_root_file(DRIVE, "etc/x"), "x\n");
	/* A boot volume is copied as a whole, which its edits must fit. */
	bench_put_boot_file(CARD, "cmdline.txt", "root=/dev/mmcblk0p2 by hand\n");
	bench_put_boot_file(CARD, "more.txt", "more\n");
	SUP_TOOL("mdel", "-i", boot_volume, "::gone.txt");
	SupRun boot = BENCH_RUN("catchup");
	bench_expect(&boot, 1, "not copied /cmdline.txt on partition 1");
	bench_expect(&boot, 1, "not copied /more.txt on partition 1");
	bench_expect(&boot, 1, "not copied /gone.txt on partition 1");
	ck_assert_ptr_nonnull(strstr(bench_boot_file(DRIVE, "cmdline.txt"), "root=PARTUUID="));
}
END_TEST

START_TEST(catching_up_is_refused)
{
	SupRun none = BENCH_RUN("catchup");
	bench_expect(&none, 2, "no move to continue");
	SupRun two = BENCH_RUN("catchup", "a", "b");
	bench_expect(&two, 2, "not also 'b'");
	move();
	/* Another disk in its place, then one that was started from. */
	SUP_TOOL("cp", DRIVE, sup_path("moved"));
	SUP_TOOL("sfdisk", "--disk-id", DRIVE, "0xdeadbeef");
	SupRun other = BENCH_RUN("catchup");
	bench_expect(&other, 3, "is not the disk");
	SUP_TOOL("cp", sup_path("moved"), DRIVE);
	bench_change_root(DRIVE, (const char *const[]){ "ssv mnt_count 1", NULL });
	g_autofree char *script = g_strdup_printf("echo x > '%s/etc/x'", ROOT);
	shell(script);
	SupRun started = BENCH_RUN("catchup");
	bench_expect(&started, 3, "mounted since it was made");
}
END_TEST

START_TEST(patterns_stay_behind)
{
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--leave-behind",
		"/var/cache/*", "--leave-behind", "*.jpg", "--boot-size", "192M");

	bench_expect(&run, 0, "LEFT BEHIND");
	bench_expect(&run, 0, "/var/cache/*");
	g_autofree char *table = g_strdup(SUP_TOOL("sfdisk", "-d", DRIVE));
	ck_assert_ptr_nonnull(strstr(table, "size=      393216"));
	SUP_TOOL("sfdisk", "--verify", DRIVE);
	g_autofree char *script =
		g_strdup_printf("R='%s?offset=205520896'; e2fsck -fn \"$R\";"
				"debugfs -R 'ls -p /var/cache' \"$R\" | (! grep field);"
				"debugfs -R 'cat /var/lib/kept' \"$R\" | grep kept",
			DRIVE);
	shell(script);
	SupRun again = BENCH_RUN("catchup");
	bench_expect(&again, 0, "nothing changed");
}
END_TEST

static const struct {
	const char *option, *value, *want;
} refusals[] = {
	{ "--leave-behind", "/etc/fstab", "must be copied" },
	{ "--leave-behind", "/etc", "must be copied" },
	{ "--leave-behind", "cmdline.txt", "must be copied" },
	{ "--leave-behind", "etc/fstab", "a path begins with /" },
	{ "--boot-size", "10%", "is a size" },
	{ "--boot-size", "1T", "too small" },
	{ "--boot-size", "4M", "too small" },
};

START_TEST(wrong_wishes_are_refused)
{
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));

	for (size_t i = 0; i < G_N_ELEMENTS(refusals); i++) {
		SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1",
			refusals[i].option, refusals[i].value);
		ck_assert(run.code == 2 || run.code == 3);
		bench_expect(&run, run.code, refusals[i].want);
	}
	ck_assert_str_eq(drive, sup_hash(DRIVE));
}
END_TEST

START_TEST(root_alone_changes_the_mounted_boot)
{
	const char *card = sup_hash(CARD);
	SupRun run = BENCH_RUN("move", "--to", "nvme0n1", "--erase", "nvme0n1", "--what", "root");
	g_autofree char *cmdline = g_build_filename(ROOT, "boot/firmware/cmdline.txt", NULL);

	bench_expect(&run, 0, "the boot files of mmcblk0 were changed");
	/* Through the mount, never under the kernel's feet. */
	ck_assert_str_eq(card, sup_hash(CARD));
	g_autofree char *now = sup_read(cmdline, NULL);
	ck_assert_ptr_null(strstr(now, "4c1fa2b0"));
	/* The boot files that were changed here are nothing to catch up with. */
	g_autofree char *script = g_strdup_printf("echo x > '%s/etc/x'", ROOT);
	shell(script);
	SupRun caught = BENCH_RUN("catchup");
	bench_expect(&caught, 0, "2  /etc/x");
	SupRun back = BENCH_RUN("rewind");
	bench_expect(&back, 0, "put back");
	g_autofree char *then = sup_read(cmdline, NULL);
	ck_assert_ptr_nonnull(strstr(then, "4c1fa2b0"));
}
END_TEST

START_TEST(databases_are_named)
{
	g_autofree char *script = g_strdup_printf(
		"cd '%s/proc'; for p in 41 57; do mkdir -p $p/fd $p/fdinfo; done;"
		"echo mariadbd >41/comm; echo reader >57/comm;"
		"for n in 3 4; do ln -s /var/lib/mysql/ib$n 41/fd/$n;"
		" printf 'pos:\t0\nflags:\t0100002\n' >41/fdinfo/$n; done;"
		"ln -s /var/lib/mysqlx/no 41/fd/5; printf 'flags:\t0100002\n' >41/fdinfo/5;"
		"ln -s /var/lib/mysql/ib3 57/fd/3; printf 'flags:\t0100000\n' >57/fdinfo/3",
		bench_path(""));

	shell(script);
	SupRun run = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&run, 0, "mariadbd has 2 files in /var/lib/mysql open for writing");
	ck_assert_ptr_null(strstr(run.out, "reader"));
}
END_TEST

/* The folder that moves of this machine keep their state in is taken. */
START_TEST(one_move_at_a_time)
{
	g_autofree char *state = g_build_filename(ROOT, "var/lib/wanderitas", NULL);
	g_autofree char *drive = g_strdup(sup_hash(DRIVE));

	SUP_TOOL("mkdir", "-p", state);
	SupRun run = SUP_RUN("flock", state, sup_program(), "--bench", bench_path("."), "move",
		"--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, 3, "another move is under way");
	ck_assert_str_eq(drive, sup_hash(DRIVE));
	move();
	SupRun again =
		SUP_RUN("flock", state, sup_program(), "--bench", bench_path("."), "catchup");
	bench_expect(&again, 3, "another move is under way");
}
END_TEST

static const char *const other_roots[][2] = {
	{ "overlay / overlay", "the system runs from overlay (overlay)" },
	{ "tmpfs / tmpfs", "the system runs from tmpfs (tmpfs)" },
	{ "ext4 / /dev/mapper/field-root", "the system runs from /dev/mapper/field-root (ext4)" },
};

START_TEST(other_kinds_of_root_are_named)
{
	for (size_t i = 0; i < G_N_ELEMENTS(other_roots); i++) {
		g_auto(GStrv) words = g_strsplit(other_roots[i][0], " ", 3);
		g_autofree char *line =
			g_strdup_printf("24 1 253:0 / / rw - %s %s rw\n", words[0], words[2]);
		sup_write(bench_path("proc/self/mountinfo"), line);
		SupRun run = BENCH_RUN("draft", "--to", "nvme0n1");
		bench_expect(&run, 3, other_roots[i][1]);
		SupRun ready = BENCH_RUN("ready", "--to", "nvme0n1");
		bench_expect(&ready, 1, "not ready: source");
	}
}
END_TEST

/* ---- as root ---- */

/* What a script calls for the program. */
static const char *program_on(const char *kernel)
{
	const char *path = sup_path("wanderitas-on-an-old-kernel");
	g_autofree char *text = g_strdup_printf(
		"#!/bin/sh\nexport WDR_OLD_KERNEL=1 LD_PRELOAD='%s'\nexec '%s' \"$@\"\n",
		bench_faults(), sup_program());

	if (!*kernel)
		return sup_program();
	sup_write(path, text);
	SUP_TOOL("chmod", "755", path);
	return path;
}

static const char mounted[] =
	"W='%s'; D='%s'; cd \"$D\"; S=$(losetup -f --show '%s'); partx -u $S || exit 77;"
	"T=$(losetup -f --show '%s'); mkdir m;"
	"trap 'set +e; kill $U; umount m; losetup -d $T; partx -d $S; losetup -d $S' EXIT;"
	"mount ${S}p2 m || exit 77; mkdir m/srv/n;"
	/* A service with a mount namespace of its own, in which all of this is mounted, too. */
	"unshare -m --propagation unchanged sleep 300 & U=$!;"
	"until [ \"$(readlink /proc/$U/ns/mnt)\" != \"$(readlink /proc/$$/ns/mnt)\" ]; do sleep 0.05; done;"
	"(for i in $(seq 250); do echo $i >> m/var/log/heard; echo $i > m/srv/n/f$i;"
	" rm -f m/srv/n/f$((i-9)); mv m/srv/n/f$i m/srv/n/g$((i%%5)); sleep 0.004; done) & P=$!;"
	"$W move --from ${S#/dev/} --to ${T#/dev/} --erase ${T#/dev/} --state \"$D/state\";"
	"wait $P; e2fsck -fn \"$T?offset=138412032\"; $W catchup \"$D/state\" || true;"
	"$W catchup \"$D/state\" | grep 'nothing changed'; e2fsck -fn \"$T?offset=138412032\";"
	"partx -u $T; mkdir n; mount -o ro ${T}p2 n;"
	"kill $U; wait $U || true; trap 'set +e; umount n m; partx -d $T; losetup -d $T; partx -d $S; losetup -d $S' EXIT;"
	"diff -r --no-dereference -x fstab -x wanderitas -x '*.fifo' -x '*.sock' m n;"
	"for t in m n; do (cd $t && find . -printf '%%P %%m %%U %%G %%l %%T@ %%y\\n' |"
	" grep -av -e ^lost -e 'sock ' -e ^etc/fstab -e ^var/lib/wanderitas | sort) >$t.list; done; diff -a m.list n.list";

START_TEST(a_mounted_disk_is_written_to_meanwhile)
{
	g_autofree char *script = NULL;

	if (!sup_is_root()) {
		sup_say_skipped("a_mounted_disk_is_written_to_meanwhile");
		return;
	}
	script = g_strdup_printf(mounted, program_on(kernels[_i]), sup_folder(), CARD, DRIVE);
	const char *argv[] = { "bash", "-ec", script, NULL };
	SupRun run = sup_run("", argv);
	if (run.code == 77) {
		puts("skipped (no partitions on loop devices here): a mounted disk");
		return;
	}
	bench_expect(&run, 0, "nothing changed");
}
END_TEST

/* What is mounted shows a folder of root only, or a folder lies over the whole of it: all of root
 * is moved. Where something else lies over it, the move is refused. */
static const char shown_in_part[] =
	"W='%s'; cd '%s'; S=$(losetup -f --show '%s'); mkdir m sub;"
	"trap 'set +e; umount -q sub m m; partx -d $S; losetup -d $S' EXIT; partx -u $S || exit 77;"
	"move() { $W --quiet move --from $S --to '%s' --erase nvme0n1 --state state; };"
	"look() { debugfs -R 'ls -l /' '%s?offset=138412032' | grep -c .; };"
	"mount ${S}p2 m || exit 77; N=$(ls -a m | wc -l); mount --bind m/etc sub; umount m;"
	"move; look | grep -x $N; umount sub;"
	"mount ${S}p2 m; mount --bind m/etc m; move; look | grep -x $N;"
	"umount m; truncate -s 300M m/srv/inner.img;"
	"$W --quiet move --from $S --to m/srv/inner.img --erase inner.img --state state;"
	"debugfs -R 'ls /srv' 'm/srv/inner.img?offset=138412032' | grep inner && exit 1; umount m;"
	"mount ${S}p2 m; mount -t tmpfs none m; move && exit 1; [ $? = 3 ]; umount m; umount m";

START_TEST(a_volume_that_is_shown_in_part)
{
	if (!sup_is_root()) {
		sup_say_skipped("a_volume_that_is_shown_in_part");
		return;
	}
	g_autofree char *script = g_strdup_printf(
		shown_in_part, program_on(kernels[_i]), sup_folder(), CARD, DRIVE, DRIVE);
	const char *argv[] = { "bash", "-exc", script, NULL };
	SupRun run = sup_run("", argv);
	if (run.code == 77) {
		puts("skipped (no partitions on loop devices here): a volume shown in part");
		return;
	}
	bench_expect(&run, 0, "something else is mounted over that");
}
END_TEST

START_TEST(a_bench_that_shows_a_folder_of_root)
{
	sup_write(bench_path("proc/self/mountinfo"),
		"24 1 179:2 /etc / rw - ext4 /dev/mmcblk0p2 rw\n");
	SupRun run = BENCH_RUN("draft", "--to", "nvme0n1");
	bench_expect(&run, 3, "only its folder /etc is mounted, at /");
}
END_TEST

/* A file that is replaced while it is looked at has no link in that moment; on the target it has.
 */
static const char *const bare[] = { "kept:bare:0:1", "kept:bare:0:3", "kept:bare:0:1000" };

START_TEST(replaced_while_looked_at)
{
	SupRun run = BENCH_WITH_FAULTS(bare[_i], "move", "--to", "nvme0n1", "--erase", "nvme0n1");

	bench_expect(&run, 0, "done: everything was read back");
	g_autofree char *drive = root_of_drive("drive");
	g_autofree char *kept = g_build_filename(drive, "var/lib/kept", NULL);
	g_autofree char *text = sup_read(kept, NULL);
	ck_assert_str_eq(text, "kept\n");
}
END_TEST

Suite *suite_running(void)
{
	Suite *s = suite_create("cli/running");
	TCase *tc = tcase_create("running");

	tcase_add_unchecked_fixture(tc, bench_make, bench_remove);
	tcase_add_checked_fixture(tc, set_up, sup_teardown);
	tcase_add_loop_test(tc, the_running_tree_is_copied, 0, G_N_ELEMENTS(kernels));
	tcase_add_loop_test(tc, replaced_while_looked_at, 0, G_N_ELEMENTS(bare));
	tcase_add_test(tc, what_changed_since_is_caught_up_with);
	tcase_add_test(tc, boot_files_are_caught_up_with);
	tcase_add_test(tc, an_edited_file_that_changed_is_told);
	tcase_add_test(tc, catching_up_is_refused);
	tcase_add_test(tc, patterns_stay_behind);
	tcase_add_test(tc, wrong_wishes_are_refused);
	tcase_add_test(tc, root_alone_changes_the_mounted_boot);
	tcase_add_test(tc, databases_are_named);
	tcase_add_test(tc, one_move_at_a_time);
	tcase_add_test(tc, other_kinds_of_root_are_named);
	tcase_add_loop_test(tc, a_mounted_disk_is_written_to_meanwhile, 0, G_N_ELEMENTS(kernels));
	tcase_add_loop_test(tc, a_volume_that_is_shown_in_part, 0, G_N_ELEMENTS(kernels));
	tcase_add_test(tc, a_bench_that_shows_a_folder_of_root);
	suite_add_tcase(s, tc);
	return s;
}
