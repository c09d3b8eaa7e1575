/* Kernels, programs, and the ways to them. */
#include "support.h"

#include "boot/kernel/program.h"
#include "volume/lookup.h"

#include <string.h>

Suite *suite_program(void);

/* ---- kernels ---- */

static const struct {
	const char *kind;
	WdrCpu cpu;
	struct {
		size_t at;
		const char *bytes;
		size_t len;
	} marks[3];
	const char *release;
} kernels[] = {
	{ "Image", WDR_CPU_ARM64,
		{ { 56, "ARM\x64", 4 }, { 3000, "Linux version 6.1.0-reed (x)", 28 } },
		"6.1.0-reed" },
	/* The first banner is a format, the second is the one. */
	{ "Image", WDR_CPU_ARM64,
		{ { 56, "ARM\x64", 4 }, { 900, "Linux version %s", 16 },
			{ 3000, "Linux version 6.6.31+ ", 22 } },
		"6.6.31+" },
	{ "Image", WDR_CPU_RISCV, { { 48, "RISCV", 5 } }, NULL },
	{ "zImage", WDR_CPU_ARM, { { 0x24, "\x18\x28\x6f\x01", 4 } }, NULL },
	{ "bzImage", WDR_CPU_X86_64,
		{ { 0x1fe, "\x55\xaa", 2 }, { 0x202, "HdrS", 4 }, { 0x20e, "\0\x04", 2 } }, NULL },
	{ "FIT", WDR_CPU_UNKNOWN, { { 0, "\xd0\x0d\xfe\xed", 4 } }, NULL },
	{ "ELF", WDR_CPU_ARM64,
		{ { 0,
			  "\x7f"
			  "ELF",
			  4 },
			{ 18, "\xb7\0", 2 } },
		NULL },
	{ NULL, WDR_CPU_UNKNOWN, { { 0, "", 0 } }, NULL },
	{ NULL, WDR_CPU_UNKNOWN, { { 0, "\x1f\x8b\x08", 3 } }, NULL },
};

START_TEST(kernels_by_their_heads)
{
	uint8_t bytes[4096] = { 0 };
	g_auto(WdrKernel) k = { 0 };

	for (size_t i = 0; i < G_N_ELEMENTS(kernels[_i].marks); i++)
		memcpy(bytes + kernels[_i].marks[i].at,
			kernels[_i].marks[i].bytes ? kernels[_i].marks[i].bytes : "",
			kernels[_i].marks[i].len);
	wdr_kernel_look(bytes, sizeof(bytes), &k);
	ck_assert_pstr_eq(k.kind, kernels[_i].kind);
	ck_assert_int_eq(k.cpu, kernels[_i].cpu);
	ck_assert_pstr_eq(k.release, kernels[_i].release);
	for (size_t len = 0; len < 700; len++) {
		g_auto(WdrKernel) cut = { 0 };
		wdr_kernel_look(bytes, len, &cut);
	}
}
END_TEST

START_TEST(a_kernel_packed_by_gzip)
{
	uint8_t bytes[4096] = { 0 };
	g_auto(WdrKernel) k = { 0 };
	size_t len = 0;

	memcpy(bytes + 56, "ARM\x64", 4);
	sup_setup();
	ck_assert(g_file_set_contents(sup_path("Image"), (char *)bytes, sizeof(bytes), NULL));
	SUP_TOOL("gzip", sup_path("Image"));
	g_autofree char *packed = sup_read(sup_path("Image.gz"), &len);
	wdr_kernel_look(packed, len, &k);
	ck_assert_str_eq(k.kind, "gzip");
	ck_assert_int_eq(k.cpu, WDR_CPU_ARM64);
	sup_teardown();
}
END_TEST

/* ---- programs ---- */

START_TEST(this_very_program)
{
	g_auto(WdrProgram) p = { 0 };
	size_t len = 0;
	g_autofree char *bytes = sup_read("/proc/self/exe", &len);
	bool has_libc = false;
	unsigned refused = 0;

	sup_ok(wdr_program_look(bytes, len, &p, &error));
	ck_assert_int_ne(p.cpu, WDR_CPU_UNKNOWN);
	ck_assert_ptr_nonnull(p.interpreter);
	ck_assert_msg(g_str_has_prefix(p.interpreter, "/lib"), "%s", p.interpreter);
	for (guint i = 0; i < p.needed->len; i++)
		has_libc |= strcmp(p.needed->pdata[i], "libc.so.6") == 0;
	ck_assert(has_libc);
	for (size_t cut = 0; cut < 4096; cut++) {
		g_auto(WdrProgram) less = { 0 };
		sup_either(refused, wdr_program_look(bytes, cut, &less, &error));
		ck_assert(less.cpu == WDR_CPU_UNKNOWN || less.cpu == p.cpu);
	}
	ck_assert_uint_gt(refused, 0);
}
END_TEST

static const struct {
	const char *text, *interpreter, *error;
} scripts[] = {
	{ "#!/bin/sh\n", "/bin/sh", NULL },
	{ "#! /usr/bin/env python3\n", "/usr/bin/env", NULL },
	{ "#!/bin/sh\r\n", NULL, "ends in CR" },
	{ "#!\n", NULL, "without an interpreter" },
	{ "#!sh\n", NULL, "without an interpreter" },
	{ "echo quack\n", NULL, "neither a program nor a script" },
	{ "", NULL, "an empty file" },
	{ "\x7f"
	  "ELF and no more",
		NULL, "a damaged ELF file" },
};

START_TEST(scripts_and_what_is_none)
{
	g_auto(WdrProgram) p = { 0 };
	const char *text = scripts[_i].text;

	if (scripts[_i].error) {
		sup_fails(WDR_ERROR_FORMAT, scripts[_i].error,
			wdr_program_look(text, strlen(text), &p, &error));
		return;
	}
	sup_ok(wdr_program_look(text, strlen(text), &p, &error));
	ck_assert(p.is_script);
	ck_assert_str_eq(p.interpreter, scripts[_i].interpreter);
}
END_TEST

START_TEST(processors)
{
	ck_assert(wdr_cpu_runs(WDR_CPU_ARM64, WDR_CPU_ARM));
	ck_assert(wdr_cpu_runs(WDR_CPU_X86_64, WDR_CPU_X86));
	ck_assert(wdr_cpu_runs(WDR_CPU_UNKNOWN, WDR_CPU_ARM));
	ck_assert(!wdr_cpu_runs(WDR_CPU_ARM, WDR_CPU_ARM64));
	ck_assert(!wdr_cpu_runs(WDR_CPU_ARM64, WDR_CPU_X86_64));
}
END_TEST

/* ---- paths ---- */

static const struct {
	const char *path, *end; /* end NULL: it leads nowhere */
} paths[] = {
	{ "usr/lib/init", "usr/lib/init" },
	{ "/usr//lib/./init", "usr/lib/init" },
	{ "lib/init", "usr/lib/init" },
	{ "sbin/init", "usr/lib/init" },
	{ "usr/up", "usr/lib/init" },
	{ "absolute", "usr/lib/init" },
	{ "usr/lib/../lib/init", "usr/lib/init" },
	{ "../../usr/lib/init", "usr/lib/init" },
	{ "circle", NULL },
	{ "nowhere", NULL },
	{ "usr/lib/INIT", NULL },
	{ "usr/lib/init/more", NULL },
	{ "", "" },
};

static WdrVolume *tree_of_links(void)
{
	static const struct {
		const char *path, *target;
	} links[] = { { "lib", "usr/lib" }, { "sbin/init", "../lib/init" },
		{ "usr/up", "../lib/init" }, { "absolute", "/sbin/init" }, { "circle", "circle" },
		{ "nowhere", "not/there" } };
	WdrMemoryVolume *m = wdr_memory_volume_new("links");
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0755);
	WdrEntry file = sup_entry(WDR_KIND_FILE, 0755);

	wdr_memory_volume_add(m, "usr", &folder);
	wdr_memory_volume_add(m, "usr/lib", &folder);
	wdr_memory_volume_add(m, "sbin", &folder);
	wdr_memory_volume_put(
		m, wdr_memory_volume_add(m, "usr/lib/init", &file), 0, "#!/bin/sh\n", 10);
	for (size_t i = 0; i < G_N_ELEMENTS(links); i++) {
		WdrEntry e = sup_entry(WDR_KIND_SYMLINK, 0777);
		e.target = (char *)links[i].target;
		wdr_memory_volume_add(m, links[i].path, &e);
	}
	return wdr_memory_volume_as_volume(m);
}

START_TEST(links_are_followed)
{
	g_autoptr(WdrVolume) v = tree_of_links();
	g_auto(WdrEntry) entry = { 0 };
	g_autofree char *end = NULL;
	bool found = wdr_follow(v, paths[_i].path, &end, NULL, &entry);

	ck_assert_msg(found == (paths[_i].end != NULL), "%s", paths[_i].path);
	if (found)
		ck_assert_str_eq(end, paths[_i].end);
}
END_TEST

START_TEST(capitals_on_fat)
{
	g_autoptr(WdrBlockDev) dev = NULL;
	g_autoptr(WdrVolume) v = NULL;
	g_auto(WdrEntry) entry = { 0 };

	sup_setup();
	sup_make_image(sup_path("fat"), 8 << 20);
	SUP_TOOL("mkfs.vfat", sup_path("fat"));
	SUP_TOOL("mmd", "-i", sup_path("fat"), "::overlays");
	SUP_TOOL("mcopy", "-i", sup_path("fat"), "/etc/hostname", "::overlays/Kernel8.img");
	sup_ok(wdr_blockdev_open(sup_path("fat"), WDR_OPEN_READ, &dev, &error));
	sup_ok(wdr_fat_volume_open(dev, 0, 8 << 20, &v, &error));
	ck_assert(wdr_follow(v, "OVERLAYS/kernel8.IMG", NULL, NULL, &entry));
	ck_assert(!wdr_follow(v, "OVERLAYS/kernel9.IMG", NULL, NULL, &entry));
	sup_teardown();
}
END_TEST

Suite *suite_program(void)
{
	Suite *s = suite_create("boot/program");
	TCase *t = tcase_create("program");

	tcase_add_loop_test(t, kernels_by_their_heads, 0, (int)G_N_ELEMENTS(kernels));
	tcase_add_test(t, a_kernel_packed_by_gzip);
	tcase_add_test(t, this_very_program);
	tcase_add_loop_test(t, scripts_and_what_is_none, 0, (int)G_N_ELEMENTS(scripts));
	tcase_add_test(t, processors);
	tcase_add_loop_test(t, links_are_followed, 0, (int)G_N_ELEMENTS(paths));
	tcase_add_test(t, capitals_on_fat);
	suite_add_tcase(s, t);
	return s;
}
