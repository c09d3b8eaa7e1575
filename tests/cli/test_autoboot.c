/* Two boot volumes that take turns: autoboot.txt on a volume of its own leads to the one, and for a
 * trial to the other. Both are moved with what they name; mtools and debugfs look at the result. */
#include "bench.h"

#include <string.h>

Suite *suite_autoboot(void);

/* In sectors: the volume with autoboot.txt, the two with boot files, root. */
static const char make[] =
	"cd '%s'; truncate -s 1G ab.img; printf 'label: dos\\nlabel-id: 0x4c1fa2b0\\nstart=8192,size=65536,type=c\\n"
	"start=73728,size=262144,type=c\\nstart=335872,size=262144,type=c\\nstart=598016,type=83\\n' | sfdisk -q ab.img;"
	"dd if=dev/mmcblk0 of=boot bs=512 skip=8192 count=262144 status=none;"
	"printf 'root=PARTUUID=4c1fa2b0-04 rootwait\\n' >cmdline.txt; mcopy -o -i boot cmdline.txt ::;"
	"mmd -i boot ::previous; mcopy -i boot cmdline.txt ::previous/cmdline.txt;"
	"for at in 73728 335872; do dd if=boot of=ab.img bs=512 seek=$at conv=notrunc,sparse status=none; done;"
	"truncate -s 32M auto; mkfs.vfat auto >/dev/null; printf '%s' >autoboot.txt; mcopy -i auto autoboot.txt ::;"
	"dd if=auto of=ab.img bs=512 seek=8192 conv=notrunc status=none;"
	"dd if=dev/mmcblk0 of=root.ext bs=512 skip=270336 count=958464 status=none;"
	"printf 'PARTUUID=4c1fa2b0-02 /boot/firmware vfat defaults 0 2\\nPARTUUID=4c1fa2b0-04 / ext4 defaults 0 1\\n' >fstab;"
	"debugfs -w -R 'rm etc/fstab' root.ext; debugfs -w -R 'write fstab etc/fstab' root.ext;"
	"dd if=root.ext of=ab.img bs=512 seek=598016 conv=notrunc,sparse status=none; truncate -s 2G to.img";

#define TURNS "[all]\\ntryboot_a_b=1\\nboot_partition=2\\n[tryboot]\\nboot_partition=3\\n"

static void make_image(const char *autoboot)
{
	g_autofree char *text = g_strdup_printf(make, bench_path("."), autoboot);
	const char *argv[] = { "bash", "-ec", text, NULL };

	sup_tool(argv);
}

START_TEST(both_are_moved)
{
	make_image(TURNS);
	g_autofree char *from = g_strdup(bench_path("ab.img"));
	g_autofree char *to = g_strdup(bench_path("to.img"));
	SupRun run = BENCH_RUN("move", "--from", from, "--to", to, "--erase", to);

	bench_expect(&run, 0, "done:");
	g_autofree char *look = g_strdup_printf(
		"cd '%s'; id=$(sfdisk -d to.img | sed -n 's/label-id: 0x//p'); [ $id != 4c1fa2b0 ];"
		"for n in 2 3; do at=$(sfdisk -d to.img | sed -n \"s/.*to.img$n : start= *\\([0-9]*\\),.*/\\1/p\");"
		"for f in cmdline.txt previous/cmdline.txt; do "
		"[ \"$(mtype -i to.img@@$((at * 512)) ::$f)\" = \"root=PARTUUID=$id-04 rootwait\" ]; done; done",
		bench_path("."));
	SUP_TOOL("bash", "-ec", look);
	SupRun rehearsal = BENCH_RUN("rehearse", "--medium", "sd", to);
	bench_expect(&rehearsal, rehearsal.code,
		"autoboot.txt on partition 1 leads to partition 2, and for a trial (tryboot) to "
		"partition 3");
	bench_expect(&rehearsal, rehearsal.code, "config.txt and cmdline.txt on partition 2");
}
END_TEST

static const struct {
	const char *autoboot;
	const char *text;
} cases[] = {
	{ "boot_partition=3\\n", "autoboot.txt on partition 1 leads to partition 3\n" },
	{ "boot_partition=2\\nboot_partition=3\\n", "leads to partition 3\n" },
	{ "[tryboot]\\nboot_partition=3\\n", "the firmware reads the first FAT partition, 1" },
	{ "", "the firmware reads the first FAT partition, 1" },
	{ "boot_partition=owls\\n", "the firmware reads the first FAT partition, 1" },
	{ "boot_partition=4\\n", "leads to partition 4, which has no boot files" },
	{ "boot_partition=9\\n", "leads to partition 9, which has no boot files" },
	{ "[none]\\nboot_partition=3\\n[all]\\nboot_partition=2\\n", "leads to partition 2\n" },
};

START_TEST(where_it_leads)
{
	make_image(cases[_i].autoboot);
	SupRun run = BENCH_RUN("rehearse", "--medium", "sd", bench_path("ab.img"));

	bench_expect(&run, run.code, cases[_i].text);
}
END_TEST

/* Everything that config.txt names lies below os_prefix. */
START_TEST(files_below_a_prefix)
{
	static const char commands[] =
		"cd '%s'; export MTOOLS_SKIP_CHECK=1; cp --sparse=always dev/mmcblk0 prefix.img; v=prefix.img@@4M;"
		"mmd -i $v ::current; for f in kernel8.img $(mdir -b -i $v :: | grep -o '[^/]*dtb$'); do "
		"mmove -i $v ::$f ::current/; done;"
		"mmove -i $v ::cmdline.txt ::current/station.txt; mmove -i $v ::initramfs8 ::current/mine.img;"
		"{ mtype -i $v ::config.txt; printf '[all]\nos_prefix=current/\ncmdline=station.txt\ninitramfs mine.img followkernel\n'; } >c;"
		"mcopy -o -i $v c ::config.txt; truncate -s 2G to.img";
	g_autofree char *text = g_strdup_printf(commands, bench_path("."));
	SUP_TOOL("bash", "-ec", text);
	g_autofree char *from = g_strdup(bench_path("prefix.img"));
	g_autofree char *to = g_strdup(bench_path("to.img"));
	SupRun run = BENCH_RUN("move", "--from", from, "--to", to, "--erase", to, "--table", "gpt");
	bench_expect(&run, 0, "done:");
	g_autofree char *look = g_strdup_printf(
		"cd '%s'; export MTOOLS_SKIP_CHECK=1; at=$(sfdisk -d to.img | sed -n 's/.*to.img1 : start= *\\([0-9]*\\),.*/\\1/p');"
		"id=$(sfdisk --part-uuid to.img 2 | tr A-F a-f);"
		"mtype -i to.img@@$((at * 512)) ::current/station.txt | grep -q \"root=PARTUUID=$id \"",
		bench_path("."));
	SUP_TOOL("bash", "-ec", look);
	SupRun rehearsal = BENCH_RUN("rehearse", "--medium", "nvme", to);
	bench_expect(&rehearsal, 0, "initramfs /current/mine.img");
	bench_expect(&rehearsal, 0, "a GPT is read by boards with firmware in an EEPROM only");
	bench_expect(&rehearsal, 0, "boots with warnings");
}
END_TEST

Suite *suite_autoboot(void)
{
	Suite *s = suite_create("cli/autoboot");
	TCase *t = tcase_create("autoboot");

	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, both_are_moved);
	tcase_add_test(t, files_below_a_prefix);
	tcase_add_loop_test(t, where_it_leads, 0, (int)G_N_ELEMENTS(cases));
	suite_add_tcase(s, t);
	return s;
}
