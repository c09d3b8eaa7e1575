/* Packed images: made by the programs that people pack with, and then damaged. */
#include "support.h"

#include "packed/packed.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

Suite *suite_packed(void);

/* In the test's folder, where "heron.img" is. zip CODE: Python with a zip file z to write to. */
static const char shorthands[] =
	"zip() { python3 -c \"import zipfile as f; z = f.ZipFile('heron.zip', 'w', f.ZIP_DEFLATED); $1; z.close()\"; };"
	"halves() { head -c 1000000 heron.img | $1 > heron.img.$2; tail -c +1000001 heron.img | $1 >> heron.img.$2; };";

/* Half of it zeros, and its size is no multiple of anything. */
static void make_image(void)
{
	SUP_TOOL("sh", "-euc",
		"cd $0; { head -c 300000 /dev/urandom; seq 200000; head -c 1500000 /dev/zero; echo end; } > "
		"heron.img",
		sup_folder());
}

static void make(const char *command)
{
	g_autofree char *script = g_strconcat(shorthands, "cd $0; ", command, NULL);

	SUP_TOOL("bash", "-euc", script, sup_folder());
}

static GString *told;

static void on_step(void *data, unsigned number, const char *step)
{
	(void)data;
	(void)number;
	g_string_append_printf(told, "%s\n", step);
}

/* With a world of its own, so that nothing is known from before. */
static bool unpack(const char *name, WdrWorld **ret, char **ret_path, GError **error)
{
	WdrObserver observer = { .on_step = on_step };

	told = g_string_new(NULL);
	if (!wdr_world_new(NULL, ret, error))
		return false;
	wdr_world_observe(*ret, &observer);
	return wdr_packed_unpack(*ret, sup_path(name), ret_path, error);
}

static void expect_image(const char *path)
{
	ck_assert_str_eq(sup_hash(path), sup_hash(sup_path("heron.img")));
}

static const struct {
	const char *command, *name;
	WdrErrorCode code;
	const char *text; /* of the error; NULL: it is unpacked */
} cases[] = {
	{ "xz -k heron.img", "heron.img.xz", 0, NULL },
	{ "xz -k -T2 --block-size=200KiB --check=sha256 heron.img", "heron.img.xz", 0, NULL },
	{ "xz -k --check=none heron.img", "heron.img.xz", 0, NULL },
	{ "gzip -k heron.img", "heron.img.gz", 0, NULL },
	{ "bzip2 -k heron.img", "heron.img.bz2", 0, NULL },
	{ "zstd -q heron.img", "heron.img.zst", 0, NULL },
	{ "zstd -q --no-check heron.img", "heron.img.zst", 0, NULL },
	{ "gzip -c heron.img > herons", "herons", 0, NULL },
	{ "halves xz xz", "heron.img.xz", 0, NULL },
	{ "halves gzip gz", "heron.img.gz", 0, NULL },
	{ "halves bzip2 bz2", "heron.img.bz2", 0, NULL },
	{ "halves 'zstd -q' zst", "heron.img.zst", 0, NULL },
	{ "gzip -k heron.img; head -c 5000 /dev/zero >> heron.img.gz", "heron.img.gz", 0, NULL },
	{ "xz -k heron.img; head -c 8 /dev/zero >> heron.img.xz", "heron.img.xz", 0, NULL },
	{ "zip \"z.write('heron.img')\"", "heron.zip", 0, NULL },
	{ "zip \"z.write('heron.img', compress_type=0)\"", "heron.zip", 0, NULL },
	{ "zip \"z.write('heron.img', 'station/heron.img'); z.writestr('READ.ME', 'a card'); "
	  "z.comment = b'of the hide'\"",
		"heron.zip", 0, NULL },
	{ "zip \"z.write('heron.img', 'card')\"", "heron.zip", 0, NULL },
	/* Sizes and offset in the fields of 64 bits. */
	{ "python3 -c \"import zipfile as f; f.ZIP64_LIMIT = 1000; z = f.ZipFile('heron.zip', 'w'); "
	  "z.write('heron.img', 'a'); z.write('heron.img'); z.close()\"",
		"heron.zip", 0, NULL },

	{ "gzip -k heron.img; echo more >> heron.img.gz", "heron.img.gz", WDR_ERROR_FORMAT,
		"gzip data is wrong" },
	{ "xz -k heron.img; seq 100 >> heron.img.xz", "heron.img.xz", WDR_ERROR_FORMAT,
		"xz data is wrong" },
	{ "bzip2 -k heron.img; echo more >> heron.img.bz2", "heron.img.bz2", WDR_ERROR_FORMAT,
		"bzip2 data is wrong" },
	{ "zstd -q heron.img; echo more >> heron.img.zst", "heron.img.zst", WDR_ERROR_FORMAT,
		"zstd data is wrong" },
	{ "xz -c heron.img | head -c 200000 > heron.img.xz", "heron.img.xz", WDR_ERROR_FORMAT,
		"goes on behind byte 200000" },
	{ "gzip -c heron.img | head -c 200000 > heron.img.gz", "heron.img.gz", WDR_ERROR_FORMAT,
		"goes on behind byte 200000" },
	{ "bzip2 -c heron.img | head -c 200000 > heron.img.bz2", "heron.img.bz2", WDR_ERROR_FORMAT,
		"goes on behind byte 200000" },
	{ "zstd -qc heron.img | head -c 200000 > heron.img.zst", "heron.img.zst", WDR_ERROR_FORMAT,
		"goes on behind byte 200000" },
	{ "gzip -c heron.img | head -c 5 > heron.img.gz", "heron.img.gz", WDR_ERROR_FORMAT,
		"ends too early" },
	{ "zstd -q --ultra --long=30 -c heron.img < /dev/null > /dev/null; "
	  "cat heron.img heron.img | zstd -q --ultra --long=30 > heron.img.zst",
		"heron.img.zst", WDR_ERROR_UNSUPPORTED, "needs more memory" },
	{ "zip \"z.write('heron.img'); z.write('heron.img', 'egret.IMG')\"", "heron.zip",
		WDR_ERROR_UNSUPPORTED, "has 2 disk images" },
	{ "zip \"z.writestr('a', 'a'); z.writestr('b', 'b')\"", "heron.zip", WDR_ERROR_UNSUPPORTED,
		"no file in the zip file is called a disk image" },
	{ "zip \"z.write('heron.img', compress_type=f.ZIP_BZIP2)\"", "heron.zip",
		WDR_ERROR_UNSUPPORTED, "packed by method 12" },
	{ "zip \"z.write('heron.img')\"; head -c -30 heron.zip > h; mv h heron.zip", "heron.zip",
		WDR_ERROR_FORMAT, "its directory is missing" },
	{ "zip \"z.write('heron.img')\"; head -c 20 heron.zip > h; mv h heron.zip", "heron.zip",
		WDR_ERROR_FORMAT, "it is too small" },
	{ "zip \"z.write('heron.img')\"; tail -c +5001 heron.zip > h; { printf 'PK\\3\\4'; cat h; } > heron.zip",
		"heron.zip", WDR_ERROR_FORMAT, "damaged or cut short" },
	{ "zip \"z.write('heron.img', compress_type=0)\"; printf X | dd of=heron.zip bs=1 seek=100000 conv=notrunc",
		"heron.zip", WDR_ERROR_FORMAT, "zip data is wrong" },
	/* Bit 0 of the flags in the directory. */
	{ "zip \"z.write('heron.img')\"; python3 -c \"b = bytearray(open('heron.zip', 'rb').read()); "
	  "b[b.rfind(b'PK\\\\1\\\\2') + 8] |= 1; open('heron.zip', 'wb').write(b)\"",
		"heron.zip", WDR_ERROR_UNSUPPORTED, "is encrypted" },
};

START_TEST(forms)
{
	g_autoptr(WdrWorld) world = NULL;
	g_autofree char *path = NULL;
	WdrWorld *made = NULL;

	make_image();
	make(cases[_i].command);
	g_autofree char *before = g_strdup(sup_hash(sup_path(cases[_i].name)));
	if (cases[_i].text) {
		sup_fails(cases[_i].code, cases[_i].text,
			unpack(cases[_i].name, &made, &path, &error));
		ck_assert_ptr_null(path);
	} else {
		sup_ok(unpack(cases[_i].name, &made, &path, &error));
		expect_image(path);
	}
	world = made;
	ck_assert_str_eq(before, sup_hash(sup_path(cases[_i].name)));
}
END_TEST

/* Once for a world, with holes, without a name, and nobody has it open for writing. */
START_TEST(what_is_kept)
{
	g_autoptr(WdrWorld) world = NULL;
	g_autofree char *path = NULL;
	g_autofree char *again = NULL;
	g_autofree char *anew = NULL;
	struct stat st;

	make_image();
	make("gzip -k heron.img");
	sup_ok(unpack("heron.img.gz", &world, &path, &error));
	ck_assert_int_eq(stat(path, &st), 0);
	ck_assert_uint_eq(st.st_nlink, 0);
	ck_assert_int_lt(st.st_blocks * 512, st.st_size - 1000000);
	g_autofree char *command =
		g_strdup_printf("grep -l 'flags:.*[12]$' /proc/%ld/fdinfo/%s || true",
			(long)getpid(), strrchr(path, '/') + 1);
	ck_assert_str_eq(SUP_TOOL("sh", "-c", command), "");
	sup_ok(wdr_packed_unpack(world, sup_path("heron.img.gz"), &again, &error));
	ck_assert_str_eq(path, again);
	make("echo more >> heron.img; gzip -kf heron.img");
	sup_ok(wdr_packed_unpack(world, sup_path("heron.img.gz"), &anew, &error));
	ck_assert_str_ne(path, anew);
	expect_image(anew);
	g_clear_pointer(&world, wdr_world_free);
	ck_assert_int_ne(stat(path, &st), 0);
}
END_TEST

static const struct {
	const char *command;
	WdrErrorCode code;
	const char *text; /* of the error, if there is a code, or of what was told; NULL: nothing */
} sums[] = {
	{ ":", 0, NULL },
	{ "sha256sum heron.img.gz > heron.img.gz.sha256", 0, "heron.img.gz matches * (SHA-256)" },
	{ "sha512sum heron.img.gz > heron.img.gz.sha512", 0, "(SHA-512)" },
	{ "sha1sum heron.img.gz > heron.img.gz.sha1sum", 0, "(SHA-1)" },
	{ "md5sum heron.img.gz > heron.img.gz.md5", 0, "(MD5)" },
	{ "sha256sum -b heron.img.gz > SHA256SUMS", 0, "SHA256SUMS (SHA-256)" },
	{ "sha256sum --tag heron.img.gz > heron.img.gz.sha256", 0, "(SHA-256)" },
	{ "sha256sum heron.img.gz | cut -c1-64 | tr a-f A-F > heron.img.gz.sha256", 0,
		"(SHA-256)" },
	{ "sha256sum ./heron.img.gz > sha256sum.txt; echo >> sha256sum.txt", 0, "(SHA-256)" },
	/* It was renamed. */
	{ "sha256sum heron.img.gz | sed s/heron/egret/ > heron.img.gz.sha256", 0, "(SHA-256)" },
	{ "sha256sum heron.img > heron.img.sha256", 0, "what is in * (SHA-256)" },
	{ "{ sha256sum heron.img.gz; sha256sum heron.img; } > SHA256SUMS", 0, "(SHA-256)" },
	/* The strongest counts. */
	{ "sha256sum heron.img.gz > heron.img.gz.sha256; echo 0 > heron.img.gz.md5; "
	  "md5sum heron.img > heron.img.gz.md5",
		0, "(SHA-256)" },
	/* A list without it, and none at all. */
	{ "sha256sum heron.img | sed s/heron/egret/ > SHA256SUMS", 0, NULL },
	{ "echo 'see the web page' > heron.img.gz.sha256", 0, NULL },
	{ "mkdir heron.img.gz.sha256", 0, NULL },
	{ "echo | sha256sum > heron.img.gz.sha256", WDR_ERROR_FORMAT, "does not match" },
	{ "echo | md5sum | sed 's/-$/heron.img/' > MD5SUMS", WDR_ERROR_FORMAT, "what is in" },
	{ "{ echo | sha256sum; sha256sum heron.img; } | sed 's/-$/heron.img.gz/' > SHA256SUMS",
		WDR_ERROR_FORMAT, "does not match" },
	{ "truncate -s 5M heron.img.gz.sha256", WDR_ERROR_FORMAT, "heron.img.gz.sha256" },
};

START_TEST(checksum_files)
{
	g_autoptr(WdrWorld) world = NULL;
	g_autofree char *path = NULL;
	WdrWorld *made = NULL;

	make_image();
	make("gzip -k heron.img");
	make(sums[_i].command);
	if (sums[_i].code) {
		sup_fails(
			sums[_i].code, sums[_i].text, unpack("heron.img.gz", &made, &path, &error));
	} else {
		g_autofree char *pattern = g_strconcat("*", sums[_i].text, "*", NULL);
		sup_ok(unpack("heron.img.gz", &made, &path, &error));
		expect_image(path);
		ck_assert_msg(sums[_i].text ? g_pattern_match_simple(pattern, told->str)
					    : !strstr(told->str, "matches"),
			"%s", told->str);
	}
	world = made;
}
END_TEST

static const char *const damaged[] = { "heron.img.xz", "heron.img.gz", "heron.img.bz2",
	"heron.img.zst", "heron.zip" };

/* Every check of the formats is on, so whatever is taken for whole has to be the image. */
START_TEST(damage)
{
	const char *name = damaged[_i];
	unsigned refused = 0;
	size_t len = 0;

	make("{ seq 20000; head -c 100000 /dev/zero; } > heron.img; xz -k heron.img; gzip -k heron.img;"
	     "bzip2 -k heron.img; zstd -q heron.img; zip \"z.write('heron.img')\"");
	g_autofree char *whole = sup_read(sup_path(name), &len);
	g_autofree char *before = g_strdup(sup_hash(sup_path("heron.img")));
	for (unsigned i = 0; i < 300; i++) {
		g_autoptr(WdrWorld) world = NULL;
		g_autofree char *path = NULL;
		g_autofree char *bytes = g_memdup2(whole, len);
		size_t kept = i < 100 ? len * i / 100 : len;
		size_t at = (i % 4 == 0 ? i / 4 : i * (len / 300)) % len;
		if (i >= 100)
			bytes[at] = (char)(bytes[at] ^ (1 << (i % 8)));
		sup_ok(g_file_set_contents(sup_path(name), bytes, (gssize)kept, &error));
		sup_either(refused, unpack(name, &world, &path, &error));
		if (path)
			ck_assert_str_eq(before, sup_hash(path));
		g_string_free(told, TRUE);
	}
	ck_assert_uint_gt(refused, 200);
}
END_TEST

static const struct {
	const char *bytes;
	size_t len;
	const char *kind, *command; /* NULL: none */
} foreign[] = {
	{ "QFI\xfb\0\0\0\3", 8, "a qcow2 image", "qemu-img convert -O raw " },
	{ "7z\xbc\xaf\x27\x1c\0\4", 8, "a 7-Zip archive", NULL },
	{ "\x3a\xff\x26\xed\1\0\0\0", 8, "an Android sparse image", "simg2img " },
	{ "QF", 2, NULL, NULL },
	{ "", 0, NULL, NULL },
};

START_TEST(other_forms)
{
	g_autofree char *hint = NULL;
	const char *path = sup_path("an egret's.img");

	sup_ok(g_file_set_contents(path, foreign[_i].bytes, (gssize)foreign[_i].len, &error));
	ck_assert_pstr_eq(wdr_packed_foreign(path, &hint), foreign[_i].kind);
	ck_assert_int_eq(hint != NULL, foreign[_i].command != NULL);
	if (hint) {
		g_auto(GStrv) words = NULL;
		ck_assert(g_str_has_prefix(hint, foreign[_i].command));
		sup_ok(g_shell_parse_argv(hint, NULL, &words, &error));
		ck_assert_str_eq(words[g_strv_length(words) - 2], path);
	}
	ck_assert_ptr_null(wdr_packed_kind(path));
}
END_TEST

Suite *suite_packed(void)
{
	Suite *suite = suite_create("packed/packed");
	TCase *tc = tcase_create("packed");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, forms, 0, G_N_ELEMENTS(cases));
	tcase_add_test(tc, what_is_kept);
	tcase_add_loop_test(tc, checksum_files, 0, G_N_ELEMENTS(sums));
	tcase_add_loop_test(tc, damage, 0, G_N_ELEMENTS(damaged));
	tcase_add_loop_test(tc, other_forms, 0, G_N_ELEMENTS(foreign));
	suite_add_tcase(suite, tc);
	return suite;
}
