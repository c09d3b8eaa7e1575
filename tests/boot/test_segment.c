/* Segments that are put behind an initramfs, judged by libarchive and by kmod's own modprobe. */
#include "cpio.h"

#include "boot/formats/image.h"
#include "boot/kernel/moduleindex.h"
#include "boot/kernel/segment.h"
#include "sample/bootfiles.h"
#include "sample/entries.h"
#include "support.h"

#include <archive.h>
#include <archive_entry.h>
#include <string.h>
#include <sys/stat.h>

Suite *suite_segment(void);

#define RELEASE "6.1.0-reed"
#define MODULES "usr/lib/modules/" RELEASE
#define HOST "kernel/drivers/nvme/host/"

static const char dep[] =
	"kernel/fs/ext4/ext4.ko:\n" HOST "nvme-core.ko:\n" HOST "nvme.ko: " HOST "nvme-core.ko\n";

/* ---- the binary indexes ---- */

static void put_bytes(const char *name, GBytes *bytes)
{
	size_t len = 0;
	const char *data = g_bytes_get_data(bytes, &len);

	ck_assert(g_file_set_contents(sup_path(name), data, (gssize)len, NULL));
}

/* A tree that modprobe takes for a system's. */
static void put_indexes(const char *dep_text, const char *alias_text)
{
	g_autoptr(GBytes) dep_index = wdr_module_index_of_dep(dep_text);
	g_autoptr(GBytes) alias_index = wdr_module_index_of_alias(alias_text);

	SUP_TOOL("mkdir", "-p", sup_path("lib/modules/" RELEASE));
	put_bytes("lib/modules/" RELEASE "/modules.dep.bin", dep_index);
	put_bytes("lib/modules/" RELEASE "/modules.alias.bin", alias_index);
}

static char *modprobe(const char *option, const char *name)
{
	return g_strdup(
		SUP_TOOL("modprobe", "-d", sup_folder(), "-S", RELEASE, "-q", option, name));
}

static bool has_modprobe(void)
{
	g_autofree char *path = g_find_program_in_path("modprobe");

	if (!path && !g_file_test("/usr/sbin/modprobe", G_FILE_TEST_EXISTS) &&
		!g_file_test("/sbin/modprobe", G_FILE_TEST_EXISTS)) {
		puts("skipped: there is no modprobe to judge indexes");
		return false;
	}
	return true;
}

START_TEST(modprobe_finds_what_a_module_needs)
{
	if (!has_modprobe())
		return;
	put_indexes(dep, "");
	/* It passes over what is not there. */
	SUP_TOOL("mkdir", "-p", sup_path("lib/modules/" RELEASE "/" HOST));
	sup_write(sup_path("lib/modules/" RELEASE "/" HOST "nvme-core.ko"), "");
	g_autofree char *said = modprobe("--show-depends", "nvme");
	g_autofree char *want = g_strdup_printf("insmod %s/lib/modules/" RELEASE "/" HOST
						"nvme-core.ko \ninsmod %s/lib/modules/" RELEASE
						"/" HOST "nvme.ko \n",
		sup_folder(), sup_folder());

	ck_assert_str_eq(said, want);
}
END_TEST

/* Names that begin alike, are parts of each other, and go to the ends of the alphabet. */
START_TEST(modprobe_finds_each_of_many)
{
	enum { MANY = 600 };
	g_autoptr(GString) text = g_string_new(NULL);

	if (!has_modprobe())
		return;
	for (unsigned i = 0; i < MANY; i++)
		g_string_append_printf(text, "kernel/m/%c%s%u%s.ko:\n", 'a' + (int)(i * 7 % 26),
			i % 3 ? "bit" : "", i / 5,
			i % 5 == 2   ? "_tern"
			: i % 5 == 4 ? "-x"
				     : "");
	g_auto(GStrv) lines = g_strsplit(text->str, "\n", -1);
	put_indexes(text->str, "");
	for (unsigned i = 0; i < MANY; i += 11) {
		g_autofree char *name = g_path_get_basename(lines[i]);
		name[strlen(name) - strlen(".ko:")] = '\0';
		g_autofree char *file = g_strndup(lines[i], strlen(lines[i]) - 1);
		g_autofree char *said = modprobe("--show-depends", name);
		ck_assert_msg(strstr(said, file) != NULL, "%s: %s", name, said);
	}
	SupRun none = SUP_RUN(
		"modprobe", "-d", sup_folder(), "-S", RELEASE, "-q", "--show-depends", "owl");
	ck_assert_int_ne(none.code, 0);
}
END_TEST

START_TEST(modprobe_finds_modules_by_hardware)
{
	if (!has_modprobe())
		return;
	put_indexes(dep, "alias pci:v*d*sv*sd*bc01sc08i02* nvme\n"
			 "alias pci:v0000144Dd0000A8[0-2]8sv*sd*bc*sc*i* nvme\n"
			 "alias nvme-subsystem nvme-core\n");
	g_autofree char *by_class = modprobe("-R", "pci:v00001987d00005012sv0sd0bc01sc08i02");
	g_autofree char *by_range = modprobe("-R", "pci:v0000144Dd0000A818sv1sd1bc00sc00i00");
	g_autofree char *by_name = modprobe("-R", "nvme_subsystem");

	ck_assert_str_eq(by_class, "nvme\n");
	ck_assert_str_eq(by_range, "nvme\n");
	ck_assert_str_eq(by_name, "nvme-core\n");
}
END_TEST

/* ---- segments ---- */

/* As Debian's generator makes it: lib is a link, and so the real path is another. */
static GByteArray *make(int (*filter)(struct archive *a), const char *list)
{
	static const char *const folders[] = { "usr", "usr/lib", "usr/lib/modules", MODULES,
		MODULES "/kernel" };
	GByteArray *to = g_byte_array_new();
	struct archive *a = cpio_begin(to, filter, NULL, 1);

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++)
		cpio_add(a, folders[i], 0040755, "");
	cpio_add(a, "lib", 0120777, "usr/lib");
	cpio_add(a, "init", 0100755, "#!/bin/sh\nexec switch_root\n");
	cpio_add(a, "lib/modules/" RELEASE "/kernel/ext4.ko", 0100644,
		"\x7f"
		"ELF");
	cpio_add(a, MODULES "/modules.dep", 0100644, "kernel/ext4.ko:");
	cpio_add(a, MODULES "/modules.alias", 0100644, "alias fs-ext4 ext4\n");
	if (list) {
		g_autofree char *folder = g_path_get_dirname(list);
		for (char *slash = strchr(folder, '/'); slash; slash = strchr(slash + 1, '/')) {
			*slash = '\0';
			cpio_add(a, folder, 0040755, "");
			*slash = '/';
		}
		cpio_add(a, folder, 0040755, "");
		cpio_add(a, list, 0100644, "mmc_block\n");
	}
	cpio_end(a);
	return to;
}

/* A module that loads firmware: one file that is there, one that is packed, and such as are not. */
static GBytes *module_with_firmware(const char *release)
{
	static const char firmware[] =
		"\0firmware=reed/bridge.bin\0firmware=reed/packed.bin\0"
		"firmware=not/there.bin\0firmware=../../etc/shadow\0"
		"firmware=reed/*.bin\0firmware=/etc/shadow\0parm=x:firmware=y\0"
		"firmware=reed/bridge.bin\0firmware=cut";
	g_autoptr(GBytes) plain = wdr_sample_module("nvme", release);
	g_autofree uint8_t *bytes =
		g_memdup2(g_bytes_get_data(plain, NULL), g_bytes_get_size(plain));

	memcpy(bytes + g_bytes_get_size(plain) - (sizeof firmware - 1), firmware,
		sizeof firmware - 1);
	return g_bytes_new(bytes, g_bytes_get_size(plain));
}

static WdrVolume *make_root(const char *release, bool is_module)
{
	static const char *const folders[] = { "lib", "lib/modules", "lib/modules/" RELEASE,
		"lib/modules/" RELEASE "/kernel", "lib/modules/" RELEASE "/kernel/drivers",
		"lib/modules/" RELEASE "/kernel/drivers/nvme",
		"lib/modules/" RELEASE "/kernel/drivers/nvme/host", "lib/firmware",
		"lib/firmware/reed", "etc" };
	static const char *const files[] = { HOST "nvme-core.ko", HOST "nvme.ko" };
	WdrMemoryVolume *m = wdr_memory_volume_new("root");

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
		g_autofree char *path = g_strconcat("lib/modules/" RELEASE "/", files[i], NULL);
		g_autoptr(GBytes) bytes = !is_module ? g_bytes_new("owl", 3)
					  : i == 0   ? wdr_sample_module(files[i], release)
						     : module_with_firmware(release);
		wdr_sample_put(m, path, 0644, bytes);
	}
	wdr_sample_text(m, "lib/modules/" RELEASE "/modules.alias",
		"alias pci:v*d*sv*sd*bc01sc08i02* nvme\nalias owl owl\n");
	wdr_sample_text(m, "lib/firmware/reed/bridge.bin", "warbler");
	wdr_sample_text(m, "lib/firmware/reed/packed.bin.xz", "bunting");
	wdr_sample_text(m, "etc/shadow", "");
	return wdr_memory_volume_as_volume(m);
}

static bool make_segment(
	const GByteArray *initramfs, WdrVolume *root, WdrSegment *ret, GError **error)
{
	g_autoptr(WdrInitramfs) i = NULL;
	g_autoptr(WdrModules) m = wdr_modules_new(&(WdrModuleTexts){ .builtin = "", .dep = dep });
	g_autoptr(GPtrArray) names = g_ptr_array_new();
	g_autoptr(GPtrArray) load = g_ptr_array_new();

	if (!wdr_initramfs_read_file(initramfs->data, initramfs->len, &i, error))
		return false;
	g_ptr_array_add(names, (void *)"nvme");
	g_ptr_array_add(names, (void *)"nvme_core");
	g_ptr_array_add(load, (void *)"nvme");
	return wdr_segment_make(
		&(WdrSegmentFrom){ i, RELEASE, m, root, 1800000000 }, names, load, ret, error);
}

/* What libarchive reads in the segment, as a list of paths. */
static char *listed(GBytes *segment)
{
	struct archive *a = archive_read_new();
	struct archive_entry *e = NULL;
	GString *paths = g_string_new(NULL);

	archive_read_support_format_cpio(a);
	ck_assert_int_eq(archive_read_open_memory(a, (void *)g_bytes_get_data(segment, NULL),
				 g_bytes_get_size(segment)),
		ARCHIVE_OK);
	while (archive_read_next_header(a, &e) == ARCHIVE_OK)
		g_string_append_printf(paths, "%s%s\n", archive_entry_pathname(e),
			archive_entry_filetype(e) == AE_IFDIR ? "/" : "");
	archive_read_free(a);
	return g_string_free(paths, FALSE);
}

START_TEST(only_what_is_missing_below_what_is_there)
{
	g_autoptr(GByteArray) initramfs = make(NULL, "conf/modules");
	g_autoptr(WdrVolume) root = make_root(RELEASE, true);
	g_auto(WdrSegment) segment = { 0 };

	sup_ok(make_segment(initramfs, root, &segment, &error));
	g_autofree char *paths = listed(segment.bytes);
	ck_assert_uint_eq(segment.firmware, 2);
	ck_assert_str_eq(paths, MODULES
		"/kernel/drivers/\n" MODULES "/kernel/drivers/nvme/\n" MODULES
		"/kernel/drivers/nvme/host/\n" MODULES "/" HOST
		"nvme.ko\nusr/lib/firmware/\nusr/lib/firmware/reed/\n"
		"usr/lib/firmware/reed/bridge.bin\nusr/lib/firmware/reed/packed.bin.xz\n" MODULES
		"/" HOST "nvme-core.ko\n" MODULES "/modules.dep\n" MODULES
		"/modules.dep.bin\n" MODULES "/modules.alias\n" MODULES
		"/modules.alias.bin\nconf/modules\n");
}
END_TEST

static const struct {
	int (*filter)(struct archive *a);
	const char *list;
	bool is_wrapped;
} forms[] = { { NULL, "conf/modules", false },
	{ archive_write_add_filter_gzip, "conf/modules", false },
	{ archive_write_add_filter_zstd, "conf/modules", false },
	{ archive_write_add_filter_bzip2, "etc/modules-load.d/wanderitas.conf", false },
	{ archive_write_add_filter_lzma, "conf/modules", false },
	{ archive_write_add_filter_gzip, "conf/modules", true } };

START_TEST(behind_every_packing)
{
	g_autoptr(GByteArray) initramfs = make(forms[_i].filter, forms[_i].list);
	g_autoptr(WdrVolume) root = make_root(RELEASE, true);
	g_auto(WdrSegment) segment = { 0 };
	g_autoptr(GBytes) joined = NULL;
	g_autoptr(WdrInitramfs) i = NULL;
	size_t len = 0;

	if (forms[_i].is_wrapped) {
		g_autoptr(GBytes) image = wdr_loader_image_wrap(
			WDR_IMAGE_RAMDISK, "uInitrd", initramfs->data, initramfs->len);
		g_byte_array_set_size(initramfs, 0);
		g_byte_array_append(
			initramfs, g_bytes_get_data(image, NULL), (guint)g_bytes_get_size(image));
	}
	sup_ok(make_segment(initramfs, root, &segment, &error));
	sup_ok(wdr_segment_append(initramfs->data, initramfs->len, segment.bytes, &joined, &error));
	const uint8_t *bytes = g_bytes_get_data(joined, &len);
	size_t head = forms[_i].is_wrapped ? WDR_IMAGE_HEADER_BYTES : 0;
	ck_assert_mem_eq(bytes + head, initramfs->data + head, initramfs->len - head);
	ck_assert_uint_eq((len - g_bytes_get_size(segment.bytes) - head) % 4, 0);
	sup_ok(wdr_initramfs_read_file(bytes, len, &i, &error));
	ck_assert_str_eq(i->packed->pdata[1], "plain");
	g_autofree char *list = wdr_initramfs_text(i, forms[_i].list);
	ck_assert_str_eq(list, "mmc_block\nnvme\n");
	g_autofree char *needs = wdr_initramfs_text(i, MODULES "/modules.dep");
	ck_assert_str_eq(needs,
		"kernel/ext4.ko:\n" HOST "nvme.ko: " HOST "nvme-core.ko\n" HOST "nvme-core.ko:\n");
	g_autofree char *aliases = wdr_initramfs_text(i, MODULES "/modules.alias");
	ck_assert_str_eq(aliases, "alias fs-ext4 ext4\nalias pci:v*d*sv*sd*bc01sc08i02* nvme\n");
	if (forms[_i].is_wrapped) {
		put_bytes("uInitrd", joined);
		SUP_TOOL("dumpimage", "-l", sup_path("uInitrd"));
		const char *said = SUP_TOOL("mkimage", "-l", sup_path("uInitrd"));
		ck_assert_msg(strstr(said, "RAMDisk") && !strstr(said, "orrupt"), "%s", said);
	}
}
END_TEST

static const struct {
	const char *list, *release;
	bool is_module;
	int code;
	const char *text;
} refusals[] = {
	{ "conf/modules", "6.1.0-marsh", true, WDR_ERROR_FORMAT,
		"nvme.ko: it is for Linux 6.1.0-marsh, and the kernel is 6.1.0-reed" },
	{ "conf/modules", RELEASE "2", true, WDR_ERROR_FORMAT, "it is for Linux 6.1.0-reed2" },
	{ "conf/modules", RELEASE, false, WDR_ERROR_FORMAT, "nvme.ko: it is no module" },
	{ NULL, RELEASE, true, WDR_ERROR_UNSUPPORTED, "which modules the initramfs loads" },
};

START_TEST(what_is_refused)
{
	g_autoptr(GByteArray) initramfs = make(NULL, refusals[_i].list);
	g_autoptr(WdrVolume) root = make_root(refusals[_i].release, refusals[_i].is_module);
	g_auto(WdrSegment) segment = { 0 };

	sup_fails(refusals[_i].code, refusals[_i].text,
		make_segment(initramfs, root, &segment, &error));
}
END_TEST

Suite *suite_segment(void)
{
	Suite *s = suite_create("boot/segment");
	TCase *t = tcase_create("segment");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, modprobe_finds_what_a_module_needs);
	tcase_add_test(t, modprobe_finds_each_of_many);
	tcase_add_test(t, modprobe_finds_modules_by_hardware);
	tcase_add_test(t, only_what_is_missing_below_what_is_there);
	tcase_add_loop_test(t, behind_every_packing, 0, (int)G_N_ELEMENTS(forms));
	tcase_add_loop_test(t, what_is_refused, 0, (int)G_N_ELEMENTS(refusals));
	suite_add_tcase(s, t);
	return s;
}
