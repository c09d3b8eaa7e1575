/* Which file has which format. */
#include "support.h"

#include "boot/formats/config.h"
#include "boot/formats/places.h"

#include <string.h>

Suite *suite_places(void);

static const struct {
	bool is_boot;
	const char *path, *format; /* NULL: none */
} built_in[] = {
	{ true, "cmdline.txt", "kernel-arguments" },
	{ true, "CMDLINE.TXT", "kernel-arguments" },
	{ false, "cmdline.txt", NULL },
	{ false, "boot/cmdline.txt", NULL },
	{ true, "weirEnv.txt", "settings" },
	{ true, "uEnv.txt", "settings" },
	{ true, "sub/uEnv.txt", NULL },
	{ true, "extlinux/extlinux.conf", "extlinux" },
	{ true, "loader/entries/a.conf", "loader-entry" },
	{ true, "boot.scr", "image" },
	{ true, "uInitrd-6.1", "image" },
	{ false, "etc/default/u-boot", "shell" },
	{ false, "etc/default/station.d/x.cfg", NULL },
	{ false, "etc/systemd/system/srv.mount", "unit" },
	{ false, "etc/systemd/system/multi-user.target.wants/srv.mount", NULL },
	{ false, "etc/fstab", "fstab" },
	{ false, "etc/FSTAB", NULL },
};

START_TEST(built_in_rows)
{
	g_autoptr(GPtrArray) p = wdr_places_new();
	const WdrFormat *f = wdr_places_find(p, built_in[_i].is_boot, built_in[_i].path);

	ck_assert_msg(
		g_strcmp0(f ? f->name : NULL, built_in[_i].format) == 0, "%s", built_in[_i].path);
}
END_TEST

START_TEST(rows_of_the_user)
{
	static const char text[] =
		"# ours\n/etc/station/*.ini text\r\n\tboot:hide.txt settings  \n"
		"root:/etc/fstab shell\n/etc/x nonsense\n/etc/y\nboot:z text more\n";
	g_autoptr(GPtrArray) p = wdr_places_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	WdrReading r = { "own.conf", text, strlen(text), 0, NULL, warnings };

	wdr_places_read(p, &r);
	ck_assert_str_eq(wdr_places_find(p, false, "etc/station/a.ini")->name, "text");
	ck_assert_ptr_null(wdr_places_find(p, false, "etc/station/sub/a.ini"));
	ck_assert_str_eq(wdr_places_find(p, true, "hide.txt")->name, "settings");
	ck_assert_str_eq(wdr_places_find(p, false, "etc/fstab")->name, "shell");
	ck_assert_uint_eq(warnings->len, 3);
	ck_assert_ptr_nonnull(strstr(warnings->pdata[0], "own.conf:5:8: 'nonsense' is no format"));
	ck_assert_ptr_nonnull(strstr(warnings->pdata[1], "own.conf:6:7: '' is no format"));
	ck_assert_ptr_nonnull(strstr(warnings->pdata[2], "own.conf:7:"));
}
END_TEST

/* What the firmware makes of its configuration, with its sections. */
static const struct {
	const char *text, *cmdline, *prefix;
	bool has_initramfs;
	const char *maybe;
} configs[] = {
	{ "", NULL, NULL, false, NULL },
	{ "auto_initramfs=1\n", NULL, NULL, true, NULL },
	{ "auto_initramfs=1\nauto_initramfs=0\n", NULL, NULL, false, NULL },
	{ "[pi4]\nauto_initramfs=1\n", NULL, NULL, false, "[pi4]" },
	{ "[pi4]\nauto_initramfs=1\n[all]\ninitramfs a followkernel\n", NULL, NULL, true, NULL },
	{ "[none]\nauto_initramfs=1\ncmdline=x\n", NULL, NULL, false, NULL },
	{ "[tryboot]\nos_prefix=new/\n", NULL, NULL, false, NULL },
	{ "[pi5]\n[0x12345678]\ninitramfs a followkernel\n[all]\n", NULL, NULL, false,
		"[0x12345678]" },
	{ "cmdline=hide.txt\r\nos_prefix=os/\r\n", "hide.txt", "os/", false, NULL },
	{ "  cmdline=a\n#cmdline=b\n", "a", NULL, false, NULL },
	{ "initramfs=a followkernel\n", NULL, NULL, false, NULL },
	{ "ramfsfile=a\n", NULL, NULL, true, NULL },
};

START_TEST(firmware_configurations)
{
	const char *text = configs[_i].text;
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(GPtrArray) config = wdr_config_new();
	WdrReading r = { "config.txt", text, strlen(text), 0, NULL, warnings };

	wdr_config_parse(&r, NULL, config);
	WdrConfigMeaning m = wdr_config_mean(config);
	ck_assert_int_eq(g_strcmp0(m.cmdline, configs[_i].cmdline), 0);
	ck_assert_int_eq(g_strcmp0(m.os_prefix, configs[_i].prefix), 0);
	ck_assert_int_eq(
		g_strcmp0(m.maybe_initramfs ? m.maybe_initramfs->section : NULL, configs[_i].maybe),
		0);
	ck_assert(m.has_initramfs == configs[_i].has_initramfs);
}
END_TEST

/* The same file for one board: which line counts there. */
static const struct {
	const char *board[3];
	const char *cmdline; /* NULL: the default */
} for_boards[] = {
	{ { "pi5" }, "five.txt" },
	{ { "pi4" }, "four.txt" },
	{ { "pi4", "cm4" }, "module.txt" },
	{ { "pi3" }, "all.txt" },
};

START_TEST(sections_for_one_board)
{
	static const char text[] = "cmdline=all.txt\n[pi4]\ncmdline=four.txt\n[cm4]\n"
				   "cmdline=module.txt\n[PI5]\ncmdline=five.txt\n[none]\n"
				   "cmdline=none.txt\n";
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(GPtrArray) config = wdr_config_new();
	WdrReading r = { "config.txt", text, strlen(text), 0, NULL, warnings };

	wdr_config_parse(&r, for_boards[_i].board, config);
	ck_assert_int_eq(g_strcmp0(wdr_config_mean(config).cmdline, for_boards[_i].cmdline), 0);
}
END_TEST

Suite *suite_places(void)
{
	Suite *s = suite_create("boot/places");
	TCase *t = tcase_create("places");

	tcase_add_loop_test(t, built_in_rows, 0, (int)G_N_ELEMENTS(built_in));
	tcase_add_loop_test(t, sections_for_one_board, 0, (int)G_N_ELEMENTS(for_boards));
	tcase_add_test(t, rows_of_the_user);
	tcase_add_loop_test(t, firmware_configurations, 0, (int)G_N_ELEMENTS(configs));
	suite_add_tcase(s, t);
	return s;
}
