/* A copy that becomes a second machine, in a move and on a finished disk. */
#include "boards.h"

#include <string.h>

Suite *suite_second(void);

/* What one machine alone has, on the card's root. */
static void prepare(const Board *b)
{
	board_shell(b, "",
		"echo key > k; printf '0123456789abcdef0123456789abcdef\\n' > m;"
		"printf '127.0.0.1 localhost\\n127.0.1.1 dipper-brook-4.field dipper-brook-4 "
		"dipper-brook-44\\n' > h;"
		"printf 'rm etc/hosts\\nrm etc/machine-id\\nwrite k etc/ssh/ssh_host_rsa_key\\nwrite k "
		"etc/ssh/ssh_host_rsa_key.pub\\nwrite k etc/ssh/sshd_config\\nwrite m "
		"etc/machine-id\\nwrite h etc/hosts\\nmkdir var/lib/systemd\\nwrite k "
		"var/lib/systemd/random-seed\\nmkdir var/lib/dhcp\\nwrite k "
		"var/lib/dhcp/dhclient.eth0.leases\\n' | debugfs -w -f - $V2");
}

static void expect_second(const char *image, const char *name)
{
	g_autofree char *hostname = g_strdup(board_file(image, 2, false, "etc/hostname"));
	g_autofree char *hosts = g_strdup(board_file(image, 2, false, "etc/hosts"));
	g_autofree char *want_name = g_strconcat(name, "\n", NULL);
	g_autofree char *want_hosts = g_strdup_printf(
		"127.0.0.1 localhost\n127.0.1.1 %s.field %s dipper-brook-44\n", name, name);

	ck_assert_str_eq(hostname, want_name);
	ck_assert_str_eq(hosts, want_hosts);
	ck_assert_ptr_nonnull(
		strstr(board_debugfs(image, 2, false, "stat etc/machine-id"), "Size: 0"));
	const char *ssh = board_debugfs(image, 2, false, "ls etc/ssh");
	ck_assert_ptr_nonnull(strstr(ssh, "sshd_config"));
	ck_assert_ptr_null(strstr(ssh, "ssh_host"));
	ck_assert_ptr_null(
		strstr(board_debugfs(image, 2, false, "ls var/lib/systemd"), "random-seed"));
	ck_assert_ptr_null(strstr(board_debugfs(image, 2, false, "ls var/lib/dhcp"), "leases"));
	board_judge(image);
}

START_TEST(in_a_move)
{
	const Board *b = &board_brook;
	prepare(b);
	g_autofree char *card = g_strdup(sup_hash(board_disk(b, false)));
	SupRun draft = BOARD_RUN(b, "draft", "--to", "nvme0n1", "--as-second-machine",
		"dipper-brook-5", "-o", sup_path("plan.json"));

	bench_expect(&draft, 0, "+dipper-brook-5\n");
	bench_expect(&draft, 0, "/etc/ssh/ssh_host_*_key             2");
	bench_expect(&draft, 0, "nothing on root creates new SSH host keys at the next boot");
	ck_assert_ptr_null(strstr(draft.out, "NetworkManager"));
	SupRun move = BOARD_RUN(
		b, "move", sup_path("plan.json"), "--erase", "nvme0n1", "--despite", "drivers");
	bench_expect(&move, 0, "done: everything was read back from nvme0n1");
	expect_second(board_disk(b, true), "dipper-brook-5");
	ck_assert_str_eq(card, sup_hash(board_disk(b, false)));
	/* Nothing of it comes back with what changed since. */
	SupRun catchup = BOARD_RUN(b, "catchup");
	bench_expect(&catchup, 0, "nothing changed on mmcblk1");
}
END_TEST

/* A copy by other means, which gets identifiers of its own at the same time. */
START_TEST(on_a_finished_disk)
{
	const Board *b = &board_brook;
	prepare(b);
	board_shell(b, "", "dd if=$I of=dev/nvme0n1 bs=1M conv=notrunc,sparse");
	g_autofree char *before = g_strdup(sup_hash(board_disk(b, true)));
	SupRun shown = BOARD_RUN(
		b, "readdress", "nvme0n1", "--renew", "--as-second-machine", "dipper-brook-5");
	bench_expect(
		&shown, 0, "/etc/ssh/ssh_host_rsa_key (partition 2, taken away): SSH host key");
	ck_assert_str_eq(before, sup_hash(board_disk(b, true)));
	SupRun run = BOARD_RUN(b, "readdress", "nvme0n1", "--renew", "--as-second-machine",
		"dipper-brook-5", "--write");
	bench_expect(&run, 0, "done: every change was read back");
	expect_second(board_disk(b, true), "dipper-brook-5");
	SupRun rewound = BOARD_RUN(b, "rewind");
	bench_expect(&rewound, 0, "put back  /etc/ssh/ssh_host_rsa_key on nvme0n1, partition 2");
	ck_assert_str_eq(
		board_file(board_disk(b, true), 2, false, "etc/hostname"), "dipper-brook-4\n");
	ck_assert_str_eq(
		board_file(board_disk(b, true), 2, false, "etc/ssh/ssh_host_rsa_key"), "key\n");
	board_judge(board_disk(b, true));
}
END_TEST

/* What would make new keys is there. */
START_TEST(keys_that_are_made_anew)
{
	static const char *const makers[] = { "sshd-keygen@.service", "sshd-keygen.service" };
	const Board *b = &board_brook;
	g_autofree char *command =
		g_strdup_printf("printf 'mkdir usr/lib/systemd/system\\nwrite k "
				"usr/lib/systemd/system/%s\\n' | debugfs -w -f - $V2",
			makers[_i]);
	prepare(b);
	board_shell(b, "", command);
	SupRun draft =
		BOARD_RUN(b, "draft", "--to", "nvme0n1", "--as-second-machine", "dipper-brook-5");

	bench_expect(&draft, 0, "+dipper-brook-5\n");
	ck_assert_ptr_null(strstr(draft.out, "makes new SSH host keys"));
}
END_TEST

/* Its own name is none for a second machine; of a finished disk it may be what was done before. */
START_TEST(of_the_same_name)
{
	const Board *b = &board_brook;
	prepare(b);
	SupRun draft =
		BOARD_RUN(b, "draft", "--to", "nvme0n1", "--as-second-machine", "Dipper-Brook-4");
	SupRun again =
		BOARD_RUN(b, "readdress", "mmcblk1", "--as-second-machine", "dipper-brook-4");

	bench_expect(&draft, 3, "the second machine needs another name");
	bench_expect(&again, 0, "/etc/machine-id (partition 2)");
	ck_assert_ptr_null(strstr(again.out, "still contains the host name"));
}
END_TEST

/* Files that nobody knows the form of are told, not changed. */
START_TEST(names_in_other_files)
{
	const Board *b = &board_brook;
	prepare(b);
	board_shell(b, "",
		"printf '# mail\ndipper-brook-4.field\n' > n; printf 'mkdir etc/dropbear\nwrite k "
		"etc/dropbear/dropbear_rsa_host_key\nwrite n etc/mailname\n' | debugfs -w -f - $V2");
	SupRun draft =
		BOARD_RUN(b, "draft", "--to", "nvme0n1", "--as-second-machine", "dipper-brook-5");

	bench_expect(&draft, 0,
		"second machine: etc/mailname:2 still contains the host name dipper-brook-4");
	bench_expect(&draft, 0, "/etc/dropbear/dropbear_*_host_key");
}
END_TEST

/* What lies behind a link, and what others know the machine by, stays and is told; the usual link
 * to the machine id is not. */
START_TEST(what_stays_the_old_ones)
{
	static const char *const told[] = {
		"second machine: /etc/ssh/ssh_host_ecdsa_key leads to /data/ecdsa, and the SSH host key "
		"there stays as it is",
		"second machine: /var/lib/dhcpcd/secret leads to /data/net/secret, and the network "
		"identity there",
		"second machine: /var/lib/systemd/random-seed leads to /mnt/seed, and the random seed",
		"second machine: /etc/wireguard/reeds.conf has the key of a WireGuard interface",
		"second machine: /etc/nvme/hostnqn has the name of an NVMe host",
	};
	const Board *b = &board_brook;
	prepare(b);
	board_shell(b, "",
		"echo own > k; printf 'mkdir data\nmkdir data/net\nwrite k data/ecdsa\nwrite k "
		"data/net/secret\nsymlink etc/ssh/ssh_host_ecdsa_key ../../data/ecdsa\nsymlink "
		"var/lib/dhcpcd /data/net\nrm var/lib/systemd/random-seed\nsymlink "
		"var/lib/systemd/random-seed /mnt/seed\nmkdir etc/wireguard\nwrite k "
		"etc/wireguard/reeds.conf\nmkdir etc/nvme\nwrite k etc/nvme/hostnqn\nmkdir "
		"var/lib/dbus\nsymlink var/lib/dbus/machine-id /etc/machine-id\nwrite k "
		"etc/dhcpcd.duid\nsymlink etc/dropbear ssh\nwrite k "
		"etc/ssh/dropbear_rsa_host_key\nsymlink etc/ssh/ssh_host_old_key "
		"ssh_host_rsa_key\n' | debugfs -w -f - $V2; dd if=$I of=dev/nvme0n1 bs=1M "
		"conv=notrunc,sparse");
	SupRun disk = BOARD_RUN(b, "readdress", "nvme0n1", "--renew", "--as-second-machine",
		"dipper-brook-5", "--write");
	for (size_t i = 0; i < G_N_ELEMENTS(told); i++)
		bench_expect(&disk, 0, told[i]);
	bench_expect(&disk, 0, "/etc/dhcpcd.duid (partition 2, taken away): network identity");
	ck_assert_ptr_null(strstr(disk.out, "dbus"));
	/* Behind a link, and none of the rows names it there. */
	bench_expect(&disk, 0, "/etc/dropbear/dropbear_rsa_host_key leads to /etc/ssh/dropbear");
	/* To one that goes itself. */
	ck_assert_ptr_null(strstr(disk.out, "ssh_host_old_key leads"));
	ck_assert_str_eq(board_file(board_disk(b, true), 2, false, "data/ecdsa"), "own\n");
	ck_assert_ptr_null(
		strstr(board_debugfs(board_disk(b, true), 2, false, "ls etc"), "dhcpcd.duid"));
	board_judge(board_disk(b, true));
	SupRun draft =
		BOARD_RUN(b, "draft", "--to", "nvme0n1", "--as-second-machine", "dipper-brook-5");
	for (size_t i = 0; i < G_N_ELEMENTS(told); i++)
		bench_expect(&draft, 0, told[i]);
	ck_assert_ptr_null(strstr(draft.out, "machine-id leads"));
}
END_TEST

static const struct {
	const char *arguments[8];
	const char *text;
} wrong[] = {
	{ { "draft", "--to", "nvme0n1", "--as-second-machine", "a b" }, "is no host name" },
	{ { "draft", "--to", "nvme0n1", "--as-second-machine", "-x" }, "is no host name" },
	{ { "draft", "--to", "nvme0n1", "--as-second-machine", "LocalHost" },
		"every machine calls itself localhost" },
	{ { "readdress", "mmcblk0", "--as-second-machine", "owl.field" }, "is no host name" },
	{ { "readdress", "--running", "--as-second-machine", "owl" }, "is for a copy" },
	{ { "move", "plan.json", "--as-second-machine", "owl" },
		"give either an itinerary file or --from/--to options" },
};

START_TEST(wrong_words)
{
	SupRun run = bench_run("", wrong[_i].arguments);

	bench_expect(&run, 2, wrong[_i].text);
}
END_TEST

Suite *suite_second(void)
{
	Suite *s = suite_create("cli/second");
	TCase *t = tcase_create("second");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, in_a_move);
	tcase_add_test(t, on_a_finished_disk);
	tcase_add_loop_test(t, keys_that_are_made_anew, 0, 2);
	tcase_add_test(t, of_the_same_name);
	tcase_add_test(t, names_in_other_files);
	tcase_add_test(t, what_stays_the_old_ones);
	tcase_add_loop_test(t, wrong_words, 0, (int)G_N_ELEMENTS(wrong));
	suite_add_tcase(s, t);
	return s;
}
