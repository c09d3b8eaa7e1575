/* UEFI programs: which loader one is, the texts inside it, and putting others in their places.
 * objdump and objcopy look at what came of an edit. */
#include "support.h"

#include "boot/formats/edit.h"
#include "boot/formats/efi_program.h"
#include "boot/formats/text_rooms.h"
#include "sample/efi_file.h"

#include <stdio.h>
#include <string.h>

Suite *suite_efi_program(void);

#define OLD "root=UUID=6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30"
#define NEW "root=PARTUUID=9d8e7f60-0b7e-4f5e-9a43-2f8f5d1b9c30"

static GBytes *unified(const char *arguments)
{
	g_autoptr(GBytes) kernel = g_bytes_new_static("a kernel", 8);
	g_autoptr(GBytes) initramfs = g_bytes_new_static("an initramfs", 12);

	return wdr_sample_unified(WDR_SAMPLE_X64, arguments, kernel, initramfs);
}

static GBytes *make(WdrEfiKind kind, uint16_t machine)
{
	static const char sbat[] = "sbat,1\nshim,4,UEFI shim\n";
	const WdrSampleSection s = { ".sbat", sbat, sizeof(sbat) };

	switch (kind) {
	case WDR_EFI_SHIM:
		return wdr_sample_shim(machine);
	case WDR_EFI_FALLBACK:
		return wdr_sample_efi(machine, &s, 1);
	case WDR_EFI_GRUB:
		return wdr_sample_grub(machine, "search.fs_uuid X root", "(,gpt2)/boot/grub");
	case WDR_EFI_SYSTEMD_BOOT:
		return wdr_sample_systemd_boot(machine);
	case WDR_EFI_UNIFIED:
		return unified(OLD);
	case WDR_EFI_KERNEL:
	case WDR_EFI_UNKNOWN:
		break;
	}
	return wdr_sample_efi(machine, NULL, 0);
}

static bool parse(GBytes *bytes, WdrEfiProgram *ret)
{
	size_t len = 0;
	const void *data = g_bytes_get_data(bytes, &len);

	return wdr_efi_program_parse(data, len, ret, NULL);
}

START_TEST(kinds)
{
	WdrEfiKind kind = (WdrEfiKind)_i;
	WdrEfiKind want = kind == WDR_EFI_KERNEL ? WDR_EFI_UNKNOWN : kind;
	g_autoptr(GBytes) bytes = make(kind, WDR_SAMPLE_X64);
	WdrEfiProgram p;

	ck_assert(parse(bytes, &p));
	ck_assert_msg(
		p.kind == want, "%s is %s", wdr_efi_kind_name(kind), wdr_efi_kind_name(p.kind));
	ck_assert(!p.is_signed);
	ck_assert_str_eq(wdr_efi_machine_word(p.machine), "x64");
}
END_TEST

START_TEST(what_is_inside)
{
	g_autoptr(GBytes) grub = make(WDR_EFI_GRUB, WDR_SAMPLE_AA64);
	const char *data = g_bytes_get_data(grub, NULL);
	WdrEfiProgram p;

	ck_assert(parse(grub, &p));
	ck_assert_uint_eq(p.config.bytes, strlen("search.fs_uuid X root"));
	ck_assert(memcmp(data + p.config.at, "search.fs_uuid X root", p.config.bytes) == 0);
	ck_assert(memcmp(data + p.prefix.at, "(,gpt2)/boot/grub", p.prefix.bytes) == 0);
	g_autoptr(GBytes) boot = make(WDR_EFI_SYSTEMD_BOOT, WDR_SAMPLE_AA64);
	ck_assert(parse(boot, &p));
	data = g_bytes_get_data(boot, NULL);
	ck_assert(memcmp(data + p.version.at, "systemd-boot 252.39", p.version.bytes) == 0);
	g_autoptr(GBytes) image = make(WDR_EFI_UNIFIED, WDR_SAMPLE_AA64);
	ck_assert(parse(image, &p));
	data = g_bytes_get_data(image, NULL);
	ck_assert_uint_eq(p.n_arguments, 1);
	ck_assert(memcmp(data + p.arguments[0].at, OLD, p.arguments[0].bytes) == 0);
	ck_assert(memcmp(data + p.kernel.at, "a kernel", p.kernel.bytes) == 0);
	ck_assert(memcmp(data + p.initramfs.at, "an initramfs", p.initramfs.bytes) == 0);
}
END_TEST

/* Cut anywhere, or with any byte changed: what is found lies inside, and nothing falls. */
START_TEST(damaged_programs)
{
	g_autoptr(GBytes) bytes = make((WdrEfiKind)_i, WDR_SAMPLE_X64);
	size_t len = 0;
	const uint8_t *data = g_bytes_get_data(bytes, &len);
	WdrEfiProgram p;

	for (size_t cut = 0; cut < len; cut += cut < 1200 ? 1 : 61) {
		g_autofree uint8_t *part = g_memdup2(data, cut);
		if (!wdr_efi_program_parse(part, cut, &p, NULL))
			continue;
		ck_assert_uint_le(p.kernel.at + p.kernel.bytes, cut);
		ck_assert_uint_le(p.config.at + p.config.room, cut);
	}
	for (size_t at = 0; at < len; at += at < 1200 ? 1 : 61) {
		g_autofree uint8_t *changed = g_memdup2(data, len);
		changed[at] ^= 0xff;
		if (wdr_efi_program_parse(changed, len, &p, NULL))
			ck_assert_uint_le(p.arguments[0].at + p.arguments[0].room, len);
		GArray *rooms = wdr_text_rooms((const char *)changed, len);
		if (rooms)
			g_array_unref(rooms);
	}
}
END_TEST

/* The mentions of a program, and an edit that puts another text in the place of the first. */
static bool edit(GBytes *bytes, const char *new_text, GBytes **ret, GError **error)
{
	size_t len = 0;
	const char *data = g_bytes_get_data(bytes, &len);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(WdrEdit) e = wdr_edit_new(1, "EFI/Linux/owl.efi", wdr_hash(data, len));
	WdrReading r = { "EFI/Linux/owl.efi", data, len, 0, mentions, warnings };

	ck_assert(wdr_efi_program_read(&r, NULL));
	ck_assert_uint_ge(mentions->len, 1);
	const WdrMention *m = mentions->pdata[0];
	ck_assert(!m->frozen);
	wdr_edit_add(e, m->offset, m->line, m->column, m->text, new_text);
	return wdr_edit_apply(e, data, len, ret, error);
}

static void write_file(const char *name, GBytes *bytes)
{
	size_t len = 0;
	const char *data = g_bytes_get_data(bytes, &len);

	ck_assert(g_file_set_contents(sup_path(name), data, (gssize)len, NULL));
}

static void dump_section(const char *section, const char *name)
{
	g_autofree char *what = g_strdup_printf("%s=%s", section, sup_path(name));

	SUP_TOOL("objcopy", "--dump-section", what, sup_path("owl.efi"), sup_path("copy.efi"));
}

/* What somebody else's tool takes out of the section afterwards, shorter or longer than before. */
START_TEST(an_edit_is_a_section)
{
	static const char *const texts[] = { "UUID=e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8",
		"PARTUUID=e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8", "/dev/sda2" };
	g_autoptr(GBytes) before = unified("quiet " OLD " ro\n");
	g_autoptr(GBytes) after = NULL;

	sup_ok(edit(before, texts[_i], &after, &error));
	ck_assert_uint_eq(g_bytes_get_size(after), g_bytes_get_size(before));
	write_file("owl.efi", after);
	/* Those of other processors do not know this format, and some systems have none. */
	SupRun info = SUP_RUN("objcopy", "--info");
	if (info.code != 0 || !strstr(info.out, "pei-x86-64")) {
		printf("skipped: an_edit_is_a_section: no objcopy here knows UEFI programs\n");
		return;
	}
	dump_section(".cmdline", "cmdline");
	dump_section(".linux", "linux");
	g_autofree char *want = g_strdup_printf("quiet root=%s ro\n", texts[_i]);
	size_t len = 0;
	g_autofree char *got = sup_read(sup_path("cmdline"), &len);
	ck_assert_str_eq(got, want);
	g_autofree char *kernel = sup_read(sup_path("linux"), &len);
	ck_assert_uint_eq(len, 8);
	ck_assert_str_eq(kernel, "a kernel");
}
END_TEST

START_TEST(what_does_not_fit_is_refused)
{
	g_autofree char *padding = g_strnfill(464, 'x');
	g_autofree char *full = g_strconcat(OLD " ", padding, NULL);
	g_autoptr(GBytes) before = unified(full);
	g_autoptr(GBytes) after = NULL;
	g_autoptr(GBytes) grub = wdr_sample_grub(WDR_SAMPLE_X64,
		"search.fs_uuid 6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30 root", "/grub");

	sup_fails(WDR_ERROR_REFUSED, "the file has room for 512",
		edit(before, "PARTUUID=e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8", &after, &error));
	/* Of GRUB's, the 0 at the end of the text stays. */
	sup_fails(WDR_ERROR_REFUSED, "configuration inside GRUB",
		edit(grub, "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30-and-more", &after, &error));
	sup_ok(edit(grub, "e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8", &after, &error));
}
END_TEST

/* With a certificate behind it, nothing is to be edited. */
START_TEST(signed_programs_are_left)
{
	enum { CERTIFICATES_AT = 0x80 + 24 + 112 + 4 * 8 + 4 };
	g_autoptr(GBytes) bytes = unified(OLD);
	size_t len = 0;
	g_autofree char *data = g_memdup2(g_bytes_get_data(bytes, &len), g_bytes_get_size(bytes));
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { "owl.efi", data, len, 0, mentions, warnings };

	data[CERTIFICATES_AT] = 64;
	ck_assert(wdr_efi_program_read(&r, NULL));
	ck_assert_uint_eq(mentions->len, 1);
	ck_assert_str_eq(((const WdrMention *)mentions->pdata[0])->frozen,
		"inside a signed program; an edit would break its signature");
}
END_TEST

/* The environment block keeps its 1024 bytes. */
START_TEST(an_environment_keeps_its_size)
{
	char block[1024 + 1];
	g_autoptr(WdrEdit) e = NULL;
	g_autoptr(GBytes) after = NULL;
	static const char begin[] = "# GRUB Environment Block\nsaved_entry=owls\n";

	memset(block, '#', sizeof(block) - 1);
	memcpy(block, begin, strlen(begin));
	block[1024] = '\0';
	e = wdr_edit_new(1, "grubenv", wdr_hash(block, 1024));
	wdr_edit_add(e, strlen(begin) - 5, 2, 13, "owls", "night jars");
	sup_ok(wdr_edit_apply(e, block, 1024, &after, &error));
	ck_assert_uint_eq(g_bytes_get_size(after), 1024);
	ck_assert(g_str_has_prefix(g_bytes_get_data(after, NULL),
		"# GRUB Environment Block\nsaved_entry=night jars\n##"));
}
END_TEST

Suite *suite_efi_program(void)
{
	Suite *s = suite_create("boot/efi_program");
	TCase *t = tcase_create("efi_program");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, kinds, 0, WDR_EFI_KERNEL + 1);
	tcase_add_test(t, what_is_inside);
	tcase_add_loop_test(t, damaged_programs, 0, WDR_EFI_UNIFIED + 1);
	tcase_add_loop_test(t, an_edit_is_a_section, 0, 3);
	tcase_add_test(t, what_does_not_fit_is_refused);
	tcase_add_test(t, signed_programs_are_left);
	tcase_add_test(t, an_environment_keeps_its_size);
	suite_add_tcase(s, t);
	return s;
}
