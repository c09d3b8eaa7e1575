/* What each command ends with, as the manual page states it under EXIT STATUS: 0 done, 1 looked and
 * found something, 2 usage, 3 refused with nothing written. (4, stopped part-way, is looked at
 * where moves are cut off.) By whom it is run makes no difference, but for what he may not read. */
#include "bench.h"

#include <string.h>

Suite *suite_exit_codes(void);

#define MOVE "move --to nvme0n1 --erase nvme0n1"
#define ON_CARD(request) "debugfs -w -R '" request "' 'dev/mmcblk0?offset=138412032'"
#define FSTAB_OF_2_MIB                                                                             \
	"truncate -s 2M x; " ON_CARD("rm etc/fstab") "; " ON_CARD("write x etc/fstab")
#define CONFIG(text) "echo '" text "' >x; mcopy -o -i dev/mmcblk0@@4194304 x ::config.txt"

/* `prepare` runs in the bench's folder; `without` is the code of a user who may read no disk and no
 * records. Rows without a preparation are the bench as it is: from a card to an empty drive. */
static const struct {
	const char *prepare, *command;
	int code, without;
} rows[] = {
	{ "", "survey", 0, 1 },
	{ "", "ready --to nvme0n1", 0, 1 },
	{ "", "draft --to nvme0n1", 0, 3 },
	{ "", "rehearse mmcblk0", 0, 1 },
	{ "", "rehearse nvme0n1", 1, 1 },
	{ "", "drivers", 0, 3 },
	{ "", "loader", 0, 1 },
	{ "", "order", 0, 0 },
	{ "", "tune", 0, 3 },
	{ "", "rewind", 0, 0 },
	{ "mkdir -p root/var/lib/wanderitas", "rewind", 0, 3 },
	/* words that cannot be meant */
	{ "", "", 0, 0 },
	{ "", "status", 0, 0 },
	{ "", "status --nonsense", 2, 2 },
	{ "", "survey --names", 0, 0 },
	{ "", "survey --names --wait", 2, 2 },
	{ "", "copy", 2, 2 },
	{ "", "survey --nonsense", 2, 2 },
	{ "", "ready --nonsense", 2, 2 },
	{ "", "draft --nonsense", 2, 2 },
	{ "", "rehearse --nonsense", 2, 2 },
	{ "", "pace --nonsense", 2, 2 },
	{ "", "move --nonsense", 2, 2 },
	{ "", "catchup --nonsense", 2, 2 },
	{ "", "arrive --nonsense", 2, 2 },
	{ "", "readdress --nonsense", 2, 2 },
	{ "", "drivers --nonsense", 2, 2 },
	{ "", "loader --nonsense", 2, 2 },
	{ "", "order --nonsense", 2, 2 },
	{ "", "firmware --nonsense", 2, 2 },
	{ "", "rewind --nonsense", 2, 2 },
	{ "", "report --nonsense", 2, 2 },
	{ "", "tune --nonsense", 2, 2 },
	{ "", "demo --nonsense", 2, 2 },
	{ "", "catchup", 2, 2 },
	{ "", "move --resume", 2, 2 },
	{ "", "arrive", 2, 1 },
	{ "", "report", 2, 2 },
	{ "", "rehearse nowhere0", 2, 2 },
	{ "", "rehearse mmcblk0 --without mmcblk0", 2, 2 },
	{ "", "move --to nowhere0 --erase nowhere0", 2, 2 },
	{ "", "draft --to nvme0n1 -o dev/nvme0n1", 2, 3 },
	/* moves and changes that would be wrong */
	{ "", "move --to nvme0n1", 3, 3 },
	{ "", "move --to nvme0n1 --erase mmcblk0", 3, 3 },
	{ "", "move --to mmcblk0 --erase mmcblk0", 3, 3 },
	{ "", "draft --to mmcblk0", 3, 3 },
	{ "", "draft --to nvme0n1 -o no/such/folder", 3, 3 },
	{ "", "readdress nvme0n1", 3, 3 },
	{ "", "readdress nvme0n1 --write", 3, 3 },
	{ "", "order --set 0x6 --write", 3, 3 },
	{ "truncate -s 20M dev/nvme0n1", MOVE, 3, 3 },
	{ "truncate -s 20M dev/nvme0n1", "ready --to nvme0n1", 1, 1 },
	{ FSTAB_OF_2_MIB, "ready --to nvme0n1", 1, 1 },
	{ FSTAB_OF_2_MIB, MOVE, 3, 3 },
	{ CONFIG("include config.txt"), MOVE, 3, 3 },
	{ CONFIG("include config.txt"), "rehearse mmcblk0", 0, 1 },
	{ ON_CARD("feature mmp"), MOVE, 3, 3 },
	{ ON_CARD("feature encrypt"), MOVE, 3, 3 },
	{ ON_CARD("feature encrypt"), "ready --to nvme0n1", 1, 1 },
	{ "head -c 1024 /dev/zero | dd of=dev/mmcblk0 bs=1024 seek=135169 conv=notrunc", MOVE, 3,
		3 },
	{ "head -c 8192 /dev/urandom | dd of=dev/mmcblk0 conv=notrunc", MOVE, 3, 3 },
	{ "head -c 8192 /dev/urandom | dd of=dev/mmcblk0 conv=notrunc", "ready --to nvme0n1", 1,
		1 },
};

static void run_as(
	const char *program, const char *whom, const char *command, int code, bool is_nobody)
{
	g_autofree char *script = g_strdup_printf("cd '%s' && exec '%s' --bench '%s' %s </dev/null",
		bench_path("."), program, bench_path("."), command);
	const char *argv[] = { "setpriv", "--reuid=65534", "--clear-groups", "env",
		"ASAN_OPTIONS=detect_leaks=0:quarantine_size_mb=16", "bash", "-c", script, NULL };
	SupRun run = sup_run("", argv + (is_nobody ? 0 : 3));

	ck_assert_msg(run.code == code, "%s, %s: ended with %d, not %d:\n%.2000s%.1000s", command,
		whom, run.code, code, run.out, run.err);
	if (code > 0)
		ck_assert_msg(*run.out || *run.err, "%s, %s: no word", command, whom);
}

static void take_the_rights(const char *mode)
{
	g_autofree char *command = g_strdup_printf(
		"cd '%s'; for f in dev/mmcblk0 dev/nvme0n1 root/var/lib/wanderitas; do "
		"[ ! -e $f ] || chmod %s $f; done",
		bench_path("."), mode);

	SUP_TOOL("bash", "-c", command);
}

START_TEST(what_it_ends_with)
{
	g_autofree char *prepare = g_strdup_printf(
		"cd '%s'; %s", bench_path("."), *rows[_i].prepare ? rows[_i].prepare : "true");

	SUP_TOOL("bash", "-c", prepare);
	g_autofree char *card = g_strdup(sup_hash(bench_path("dev/mmcblk0")));
	g_autofree char *drive = g_strdup(sup_hash(bench_path("dev/nvme0n1")));
	SUP_TOOL("chmod", "755", sup_folder());
	const char *program = bench_program_for_others();
	take_the_rights("000");
	run_as(program, "without rights", rows[_i].command, rows[_i].without, sup_is_root());
	take_the_rights("u=rwX");
	run_as(program, "by whom it belongs to", rows[_i].command, rows[_i].code, false);
	if (sup_is_root()) {
		SUP_TOOL("chown", "-R", "65534", bench_path("."));
		run_as(program, "by a user", rows[_i].command, rows[_i].code, true);
	}
	ck_assert_str_eq(card, sup_hash(bench_path("dev/mmcblk0")));
	ck_assert_str_eq(drive, sup_hash(bench_path("dev/nvme0n1")));
}
END_TEST

Suite *suite_exit_codes(void)
{
	Suite *s = suite_create("cli/exit_codes");
	TCase *t = tcase_create("exit codes");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, what_it_ends_with, 0, (int)G_N_ELEMENTS(rows));
	suite_add_tcase(s, t);
	return s;
}
