/* Packed card images as the source of every command that only reads one, and refused by the others.
 */
#include "bench.h"

#include <signal.h>
#include <string.h>
#include <unistd.h>

Suite *suite_packed_images(void);

#define CARD bench_path("dev/mmcblk0")
#define PACKED sup_path("heron.img.gz")
#define TARGET bench_path("dev/nvme0n1")

static void pack(const char *program, const char *suffix)
{
	g_autofree char *command =
		g_strdup_printf("%s < '%s' > '%s%s'", program, CARD, sup_path("heron.img"), suffix);

	SUP_TOOL("sh", "-c", command);
}

static void pack_quickly(void)
{
	pack("gzip -1", ".gz");
}

/* Where nobody comes to what is in it. */
static void pack_anything(void)
{
	g_autofree char *command =
		g_strdup_printf("head -c 3000000 /dev/urandom | gzip -1 > '%s'", PACKED);

	SUP_TOOL("sh", "-c", command);
}

static const struct {
	const char *program, *suffix, *medium;
} forms[] = {
	{ "xz -0 -T2", ".xz", "xz image" },
	{ "gzip -1", ".gz", "gzip image" },
	{ "bzip2 -1", ".bz2", "bzip2 image" },
	{ "zstd -q -1", ".zst", "zstd image" },
};

/* The target has what that of the image itself has, but for the records, which name the image. */
START_TEST(the_same_target)
{
	g_autofree char *packed = g_strconcat(sup_path("heron.img"), forms[_i].suffix, NULL);
	const char *plain_target = sup_path("plain.img");
	const char *target = sup_path("target.img");
	const char *itinerary = sup_path("itinerary.json");

	pack(forms[_i].program, forms[_i].suffix);
	setenv("SOURCE_DATE_EPOCH", "1700000000", 1);
	sup_make_image(plain_target, UINT64_C(700) << 20);
	sup_make_image(target, UINT64_C(700) << 20);
	SupRun draft = BENCH_RUN("draft", "--from", CARD, "--to", plain_target, "-o", itinerary);
	bench_expect(&draft, 0, NULL);
	SupRun plain = BENCH_RUN("move", itinerary, "--erase", plain_target);
	bench_expect(&plain, 0, "boots");
	SUP_TOOL("sed", "-i", "-e", "s/plain.img/target.img/", "-e",
		"s|\"path\": *\"[^\"]*mmcblk0\"|\"path\": \"X\"|", itinerary);
	g_autofree char *with_packed =
		g_strdup_printf("s|\"path\": \"[^\"]*mmcblk0\"|\"path\": \"%s\"|;"
				"s|\"path\": \"X\"|\"path\": \"%s\"|",
			packed, packed);
	SUP_TOOL("sed", "-i", with_packed, itinerary);
	SupRun run = BENCH_RUN("move", itinerary, "--erase", target);
	bench_expect(&run, 0, "boots");
	SUP_TOOL("cmp", "-n", "138412032", plain_target, target);
	SUP_TOOL("cmp", sup_path("plain.img.wanderitas/packing-2.list"),
		sup_path("target.img.wanderitas/packing-2.list"));
	SUP_TOOL("sfdisk", "--verify", target);
	sup_judge_ext(target, ROOT_AT);
	SupRun survey = BENCH_RUN("--json", "survey", packed);
	bench_expect(&survey, 0, forms[_i].medium);
	ck_assert_ptr_null(strstr(survey.out, "/proc/"));
}
END_TEST

/* Interrupted, gone on with, and brought up to date: each unpacks it anew. */
START_TEST(interrupted)
{
	pack_quickly();
	g_autofree char *before = g_strdup(sup_hash(PACKED));
	ck_assert_int_eq(BENCH_INTERRUPT(SIGKILL, "copying partition 2", "move", "--from", PACKED,
				 "--to", "nvme0n1", "--erase", "nvme0n1"),
		128 + SIGKILL);
	SupRun resume = BENCH_RUN("move", "--resume");
	bench_expect(&resume, 0, "boots");
	SUP_TOOL("sfdisk", "--verify", TARGET);
	sup_judge_ext(TARGET, ROOT_AT);
	SupRun catchup = BENCH_RUN("catchup");
	bench_expect(&catchup, 0, "nothing changed on ");
	SupRun report = BENCH_RUN("--json", "report");
	bench_expect(&report, 0, "gzip image");
	ck_assert_str_eq(before, sup_hash(PACKED));
}
END_TEST

/* Several machines from one packed image, which is unpacked once for all. */
START_TEST(many)
{
	const char *roster = sup_path("dock.json");

	pack_quickly();
	sup_write(roster, "{ \"format\": \"wanderitas-roster/1\", \"from\": \"heron.img.gz\","
			  " \"host_names\": \"heron-hide-#\", \"slots\": ["
			  " { \"name\": \"one\", \"image\": \"one.img\" },"
			  " { \"name\": \"two\", \"image\": \"two.img\" } ] }");
	sup_make_image(sup_path("one.img"), UINT64_C(700) << 20);
	sup_make_image(sup_path("two.img"), UINT64_C(500) << 20);
	ck_assert_int_eq(chdir(sup_folder()), 0);
	SupRun run = BENCH_RUN("move", "--roster", "dock.json", "--erase", "one.img,two.img");
	bench_expect(&run, 0, "2 of 2 disks are ready");
	const char *first = strstr(run.err, "unpacking ");
	ck_assert_ptr_nonnull(first);
	ck_assert_ptr_null(strstr(first + 1, "unpacking "));
	sup_judge_ext(sup_path("one.img"), ROOT_AT);
	sup_judge_ext(sup_path("two.img"), ROOT_AT);
}
END_TEST

/* PACKED stands for the packed image. */
static const struct {
	const char *words[8];
	int code;
	const char *text;
} refused[] = {
	{ { "move", "--to", "PACKED", "--erase", "PACKED" }, 2, "is packed with gzip" },
	{ { "ready", "--to", "PACKED" }, 2, "to unpack it: gzip -dk " },
	{ { "readdress", "PACKED", "--renew", "--write" }, 2, "is packed with gzip" },
	{ { "pace", "PACKED" }, 2, "is packed with gzip" },
	{ { "drivers", "--on", "PACKED", "--for", "nvme" }, 2, "is packed with gzip" },
	{ { "rehearse", "mmcblk0", "--without", "PACKED" }, 2, "is packed with gzip" },
	{ { "loader", "--on", "PACKED" }, 2, "is packed with gzip" },
	{ { "firmware", "--on", "PACKED" }, 2, "is packed with gzip" },
};

START_TEST(only_read)
{
	const char *words[G_N_ELEMENTS(refused[0].words) + 1] = { NULL };

	pack_anything();
	g_autofree char *before = g_strdup(sup_hash(PACKED));
	for (size_t i = 0; refused[_i].words[i]; i++)
		words[i] =
			strcmp(refused[_i].words[i], "PACKED") == 0 ? PACKED : refused[_i].words[i];
	SupRun run = bench_run("", words);
	bench_expect(&run, refused[_i].code, refused[_i].text);
	ck_assert_str_eq(before, sup_hash(PACKED));
}
END_TEST

/* Nothing is written anywhere when the source turns out to be bad. */
static const struct {
	const char *damage, *tmpdir;
	int code;
	const char *text;
} bad[] = {
	{ "truncate -s -1000 heron.img.gz", NULL, 3, "ends too early" },
	{ "printf XXXX | dd of=heron.img.gz bs=1 seek=1000000 conv=notrunc", NULL, 3,
		"is damaged" },
	{ "echo | sha256sum > heron.img.gz.sha256", NULL, 3, "does not match" },
	{ "printf 'QFI\\373' > heron.img.gz", NULL, 3, "is a qcow2 image, not a raw disk image" },
	{ ":", "/nowhere", 3, "no folder for scratch files can be made" },
};

START_TEST(bad_source)
{
	g_autofree char *command = g_strdup_printf("cd '%s'; %s", sup_folder(), bad[_i].damage);

	pack_anything();
	SUP_TOOL("sh", "-c", command);
	g_autofree char *before = g_strdup(sup_hash(TARGET));
	if (bad[_i].tmpdir)
		setenv("TMPDIR", bad[_i].tmpdir, 1);
	SupRun run = BENCH_RUN("move", "--from", PACKED, "--to", "nvme0n1", "--erase", "nvme0n1");
	bench_expect(&run, bad[_i].code, bad[_i].text);
	ck_assert_str_eq(before, sup_hash(TARGET));
}
END_TEST

/* The file system runs full while it is unpacked. */
START_TEST(too_little_room)
{
	if (!sup_is_root()) {
		sup_say_skipped("packed images where there is little room");
		return;
	}
	pack_quickly();
	g_autofree char *before = g_strdup(sup_hash(TARGET));
	g_autofree char *command = g_strdup_printf(
		"mkdir small; mount -t tmpfs -o size=60M none small; TMPDIR=small '%s' --bench '%s' move --from "
		"heron.img.gz --to nvme0n1 --erase nvme0n1; echo ended with $?; ls -A small; umount small",
		sup_program(), bench_path(""));
	g_autofree char *in = g_strdup_printf("cd '%s'; unshare -m sh -c \"$0\"", sup_folder());
	SupRun run = SUP_RUN("sh", "-c", in, command);
	bench_expect(&run, 0, "small has too little room");
	ck_assert_str_eq(run.out, "ended with 3\n");
	ck_assert_str_eq(before, sup_hash(TARGET));
}
END_TEST

Suite *suite_packed_images(void)
{
	Suite *s = suite_create("cli/packed_images");
	TCase *t = tcase_create("packed_images");

	tcase_set_timeout(t, 120);
	tcase_add_unchecked_fixture(t, bench_make, bench_remove);
	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, the_same_target, 0, (int)G_N_ELEMENTS(forms));
	tcase_add_test(t, interrupted);
	tcase_add_test(t, many);
	tcase_add_loop_test(t, only_read, 0, (int)G_N_ELEMENTS(refused));
	tcase_add_loop_test(t, bad_source, 0, (int)G_N_ELEMENTS(bad));
	tcase_add_test(t, too_little_room);
	suite_add_tcase(s, t);
	return s;
}
