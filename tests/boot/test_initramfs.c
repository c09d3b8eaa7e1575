/* Initramfs archives that libarchive makes, packed by it and by the libraries themselves, whole and
 * damaged. */
#include "cpio.h"

#include "boot/kernel/initramfs.h"
#include "boot/kernel/modules.h"
#include "boot/kernel/unpack.h"
#include "support.h"

#include <archive.h>
#include <lz4.h>
#include <string.h>

Suite *suite_initramfs(void);

#define MODULE "usr/lib/modules/6.1.0-reed/kernel/drivers/nvme/host/nvme-core.ko.xz"

typedef int (*AddFilter)(struct archive *a);

/* Appends an archive to `to`; `has_all`: with an init and modules, else a note alone. */
static void append(GByteArray *to, AddFilter filter, const char *options, bool has_all)
{
	struct archive *a = cpio_begin(to, filter, options, 4);

	if (has_all) {
		cpio_add(a, "conf", 0040755, "");
		cpio_add(a, "init", 0100755, "#!/bin/sh\nexec switch_root\n");
		cpio_add(a, "conf/modules", 0100644, "nvme\n");
		cpio_add(a, MODULE, 0100644, "not really");
	} else {
		cpio_add(a, "etc/note", 0100644, "bittern");
	}
	cpio_end(a);
}

/* At least four zeros: without them lz4's last block has no end. */
static void align(GByteArray *to)
{
	static const uint8_t zeros[8];

	g_byte_array_append(to, zeros, 8 - to->len % 4);
}

/* As lz4 -l: a magic number, then blocks behind their lengths. */
static void append_lz4(GByteArray *to)
{
	g_autoptr(GByteArray) plain = g_byte_array_new();
	char packed[65536];
	uint8_t head[8] = { 0x02, 0x21, 0x4c, 0x18 };

	append(plain, NULL, NULL, true);
	int len = LZ4_compress_default(
		(const char *)plain->data, packed, (int)plain->len, sizeof(packed));
	for (unsigned i = 0; i < 4; i++)
		head[4 + i] = (uint8_t)((unsigned)len >> 8 * i);
	g_byte_array_append(to, head, sizeof(head));
	g_byte_array_append(to, (const uint8_t *)packed, (guint)len);
}

static const struct {
	const char *kind;
	AddFilter filter;
	const char *options;
} packings[] = {
	{ "plain", NULL, NULL },
	{ "gzip", archive_write_add_filter_gzip, NULL },
	{ "bzip2", archive_write_add_filter_bzip2, NULL },
	{ "lzma", archive_write_add_filter_lzma, NULL },
	{ "zstd", archive_write_add_filter_zstd, NULL },
	{ "lz4", NULL, NULL },
};

static void append_kind(GByteArray *to, int which)
{
	if (strcmp(packings[which].kind, "lz4") == 0)
		append_lz4(to);
	else
		append(to, packings[which].filter, packings[which].options, true);
}

START_TEST(every_packing_that_the_kernel_knows)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	g_autoptr(WdrInitramfs) i = NULL;

	append_kind(bytes, _i);
	sup_ok(wdr_initramfs_read(bytes->data, bytes->len, &i, &error));
	ck_assert_uint_eq(i->packed->len, 1);
	ck_assert_str_eq(i->packed->pdata[0], packings[_i].kind);
	ck_assert_uint_eq(g_hash_table_size(i->files), 3);
	ck_assert(i->has_init);
	g_autofree char *list = wdr_initramfs_text(i, "conf/modules");
	ck_assert_str_eq(list, "nvme\n");
	ck_assert_str_eq(i->release, "6.1.0-reed");
	ck_assert(wdr_initramfs_module(i, "nvme_core"));
	ck_assert(wdr_initramfs_module(i, "nvme-core"));
	ck_assert(!wdr_initramfs_module(i, "nvme"));
}
END_TEST

START_TEST(one_behind_the_other)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	g_autoptr(WdrInitramfs) i = NULL;

	append(bytes, NULL, NULL, false);
	align(bytes);
	append_kind(bytes, _i);
	align(bytes);
	append(bytes, archive_write_add_filter_gzip, NULL, false);
	sup_ok(wdr_initramfs_read(bytes->data, bytes->len, &i, &error));
	ck_assert_uint_eq(i->packed->len, 3);
	ck_assert_uint_eq(g_hash_table_size(i->files), 4);
	ck_assert(i->has_init);
}
END_TEST

/* Cut anywhere it is refused, or is whole but for zeros at its end. */
START_TEST(cut_anywhere)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	unsigned whole = 0;

	append_kind(bytes, _i);
	for (size_t len = 0; len < bytes->len; len++) {
		g_autoptr(WdrInitramfs) i = NULL;
		g_autoptr(GError) error = NULL;
		if (!wdr_initramfs_read(bytes->data, len, &i, &error)) {
			ck_assert(g_error_matches(error, WDR_ERROR, WDR_ERROR_FORMAT));
			continue;
		}
		ck_assert_uint_eq(g_hash_table_size(i->files), 3);
		whole++;
	}
	ck_assert_uint_le(whole, 512);
}
END_TEST

START_TEST(every_byte_flipped)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	unsigned refused = 0;

	append_kind(bytes, _i);
	for (size_t at = 0; at < bytes->len; at++) {
		g_autoptr(WdrInitramfs) i = NULL;
		bytes->data[at] ^= 0x55;
		sup_either(refused, wdr_initramfs_read(bytes->data, bytes->len, &i, &error));
		bytes->data[at] ^= 0x55;
	}
	ck_assert_uint_gt(refused, 0);
}
END_TEST

static const struct {
	const char *bytes;
	size_t len;
	const char *text;
} refused[] = {
	{ "", 0, "it is empty" },
	{ "\0\0\0\0\0\0\0\0", 8, "it is empty" },
	{ "\x04\x22\x4d\x18 and so on", 14, "lz4's modern frame" },
	{ "\xfd"
	  "7zXZ\0\0\x04 and so on",
		18, "a check that the kernel does not know" },
	/* A dictionary of 4 GiB, which the fuzzer found. */
	{ "]\0\0\x89\xff\xff\xff\xff\xff\xff\xff\x5f\xff\xff\xff\xff\xfe\xff\xff\xff\xf7", 21,
		"the lzma data is damaged or cut short" },
	{ "quack quack quack", 17, "in no way that the kernel knows" },
	{ "070707000000", 12, "the archive is cut short" },
	{ "\x1f\x8b\x08", 3, "the gzip data is damaged or cut short" },
};

START_TEST(what_the_kernel_does_not_take)
{
	WdrInitramfs *i = NULL;

	sup_fails(WDR_ERROR_FORMAT, refused[_i].text,
		wdr_initramfs_read(refused[_i].bytes, refused[_i].len, &i, &error));
	ck_assert_ptr_null(i);
}
END_TEST

/* A header that is none, behind the first entry, is told with its place. */
START_TEST(a_broken_entry)
{
	g_autoptr(GByteArray) bytes = g_byte_array_new();
	WdrInitramfs *i = NULL;

	append(bytes, NULL, NULL, true);
	uint8_t *second = memmem(bytes->data + 6, bytes->len - 6, "070701", 6);
	memcpy(second, "060606", 6);
	sup_fails(WDR_ERROR_FORMAT, "segment 1, from byte 0: no entry of a cpio archive",
		wdr_initramfs_read(bytes->data, bytes->len, &i, &error));
}
END_TEST

/* ---- indexes of modules ---- */

static const struct {
	const char *name;
	WdrModuleState state;
	guint needs;
} states[] = {
	{ "ext4", WDR_MODULE_BUILT_IN, 0 },
	{ "usb_storage", WDR_MODULE_BUILT_IN, 0 },
	{ "usb-storage", WDR_MODULE_BUILT_IN, 0 },
	{ "nvme", WDR_MODULE_LOADABLE, 2 },
	{ "nvme_core", WDR_MODULE_LOADABLE, 0 },
	{ "owl", WDR_MODULE_ABSENT, 0 },
	{ "", WDR_MODULE_ABSENT, 0 },
};

START_TEST(modules_and_their_needs)
{
	g_autoptr(WdrModules) m = wdr_modules_new(&(WdrModuleTexts){
		.builtin = "kernel/fs/ext4/ext4.ko\nkernel/drivers/usb/storage/usb-storage.ko\n",
		.dep = "kernel/drivers/nvme/host/nvme-core.ko.xz:\n"
		       "kernel/drivers/nvme/host/nvme.ko.xz: "
		       "kernel/drivers/nvme/host/nvme-core.ko.xz kernel/lib/crc-t10dif.ko\n"
		       "no colon here\n",
		.softdep = "softdep nvme pre: crc-t10dif post: nvme-fabrics\n" });
	const GPtrArray *needs = wdr_modules_needs(m, states[_i].name);

	ck_assert_int_eq(wdr_modules_state(m, states[_i].name), states[_i].state);
	ck_assert_uint_eq(needs ? needs->len : 0, states[_i].needs);
	if (states[_i].needs)
		ck_assert_str_eq(needs->pdata[1], "crc_t10dif");
}
END_TEST

/* ---- wishes ---- */

#define CRC "alias crypto-crc32c crc32c_generic\nalias crypto-crc32c crc32c_fast\n"

static const struct {
	const char *alias;
	const char *info; /* "|" stands for zero */
	const char *builtin;
	const char *givers; /* of the one wish of ext4 */
	bool is_built_in;
} wishes[] = {
	{ CRC, NULL, "", "crc32c_generic crc32c_fast ", false },
	{ "alias pci:v*d* crypto-crc32c\nalias crypto_crc32c crc32c-generic\n" CRC, NULL, "",
		"crc32c_generic crc32c_fast ", false },
	{ "alias owl owl\nalias crypto-crc32c\nalias\ncrypto-crc32c x\n", NULL, "", "", false },
	{ CRC, "ext4.license=GPL|crc32c_generic.alias=crypto-crc32c|", "",
		"crc32c_generic crc32c_fast ", true },
	{ CRC, "crc32c_generic.alias=crypto-crc32c", "", "crc32c_generic crc32c_fast ", true },
	{ CRC, "crc32c_generic.alias=crypto-crc32|.alias=|alias=", "",
		"crc32c_generic crc32c_fast ", false },
	{ NULL, NULL, "kernel/crypto/crypto-crc32c.ko\n", "", true },
	{ "alias crypto-crc32c crc32c_fast\n", NULL, "kernel/crypto/crc32c_generic.ko\n",
		"crc32c_fast ", true },
};

/* Two lines of one module are one list. */
START_TEST(what_modules_ask_for)
{
	g_autofree char *info = g_strdup(wishes[_i].info);
	size_t len = info ? strlen(info) : 0;
	g_autoptr(WdrModules) m = wdr_modules_new(&(WdrModuleTexts){ .builtin = wishes[_i].builtin,
		.softdep = "softdep ext4 pre: crypto-crc32c\nsoftdep ext4 post: owl\nsoftdep\n",
		.alias = wishes[_i].alias,
		.builtin_info = info ? g_strdelimit(info, "|", '\0') : NULL,
		.builtin_info_len = len });
	const GPtrArray *asked = wdr_modules_wishes(m, "ext4");
	g_autoptr(GString) givers = g_string_new(NULL);

	ck_assert_ptr_null(wdr_modules_wishes(m, "owl"));
	ck_assert_uint_eq(asked->len, 2);
	const WdrModuleWish *w = asked->pdata[0];
	ck_assert_str_eq(w->name, "crypto-crc32c");
	ck_assert(w->is_built_in == wishes[_i].is_built_in);
	for (guint i = 0; i < w->givers->len; i++)
		g_string_append_printf(givers, "%s ", (char *)w->givers->pdata[i]);
	ck_assert_str_eq(givers->str, wishes[_i].givers);
}
END_TEST

Suite *suite_initramfs(void)
{
	Suite *s = suite_create("boot/initramfs");
	TCase *t = tcase_create("initramfs");

	tcase_add_loop_test(t, every_packing_that_the_kernel_knows, 0, (int)G_N_ELEMENTS(packings));
	tcase_add_loop_test(t, one_behind_the_other, 0, (int)G_N_ELEMENTS(packings));
	tcase_add_loop_test(t, cut_anywhere, 0, (int)G_N_ELEMENTS(packings));
	tcase_add_loop_test(t, every_byte_flipped, 0, (int)G_N_ELEMENTS(packings));
	tcase_add_loop_test(t, what_the_kernel_does_not_take, 0, (int)G_N_ELEMENTS(refused));
	tcase_add_test(t, a_broken_entry);
	tcase_add_loop_test(t, modules_and_their_needs, 0, (int)G_N_ELEMENTS(states));
	tcase_add_loop_test(t, what_modules_ask_for, 0, (int)G_N_ELEMENTS(wishes));
	suite_add_tcase(s, t);
	return s;
}
