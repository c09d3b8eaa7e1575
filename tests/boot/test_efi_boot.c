/* What a chain of UEFI programs starts: GRUB's menu, systemd-boot's entries, and the entries that
 * the firmware has stored. The cases of the lab's real firmware are in tests/lab/efi. */
#include "support.h"

#include "boot/board/efi_settings.h"
#include "boot/system/efi_boot.h"
#include "sample/bootfiles.h"
#include "sample/efi_file.h"
#include "sample/entries.h"

#include <string.h>

Suite *suite_efi_boot(void);

#define ESP_UUID "5EED-0001"
#define ROOT_UUID "6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30"

/* A disk of two volumes in memory: the EFI system partition, and root. */
typedef struct {
	WdrMemoryVolume *esp, *root;
	WdrSystem system;
	WdrSystemPart parts[2];
	WdrPartition *partitions[2];
} Disk;

/* The folders of a path, each once. */
static void make_folders(WdrMemoryVolume *m, const char *path)
{
	static GHashTable *made;

	made = made ? made : g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
		g_autofree char *folder = g_strndup(path, (size_t)(slash - path));
		const char *const one[] = { folder };
		if (g_hash_table_add(made, g_strdup_printf("%p %s", (void *)m, folder)))
			wdr_sample_folders(m, one, 1);
	}
}

static void put_text(WdrMemoryVolume *m, const char *path, const char *text)
{
	make_folders(m, path);
	wdr_sample_text(m, path, text);
}

static void begin(Disk *d)
{
	*d = (Disk){ .esp = wdr_memory_volume_new("esp"), .root = wdr_memory_volume_new("root") };
}

/* The volumes are whole; reading begins. */
static void finish(Disk *d)
{
	WdrVolume *volumes[] = { wdr_memory_volume_as_volume(d->esp),
		wdr_memory_volume_as_volume(d->root) };
	static const char *const types[] = { "vfat", "ext4" };
	static const char *const uuids[] = { ESP_UUID, ROOT_UUID };

	d->system.table = wdr_parttable_new(WDR_TABLE_GPT);
	d->system.parts = g_ptr_array_new();
	for (size_t i = 0; i < 2; i++) {
		WdrPartition *p = wdr_parttable_add(d->system.table);
		p->number = (unsigned)i + 1;
		p->type = g_strdup("");
		d->parts[i].partition = p;
		d->parts[i].probe.type = (char *)types[i];
		d->parts[i].probe.uuid = (char *)uuids[i];
		d->parts[i].volume = volumes[i];
		g_ptr_array_add(d->system.parts, &d->parts[i]);
	}
	d->system.boot = &d->parts[0];
	d->system.root = &d->parts[1];
	d->system.boot_folder = "";
}

static void end(Disk *d)
{
	wdr_volume_free(d->parts[0].volume);
	wdr_volume_free(d->parts[1].volume);
	g_ptr_array_unref(d->system.parts);
	wdr_parttable_free(d->system.table);
}

static void put_program(WdrMemoryVolume *m, const char *path, GBytes *bytes)
{
	make_folders(m, path);
	wdr_sample_put(m, path, 0644, bytes);
	g_bytes_unref(bytes);
}

/* "name|kernel|initramfs|arguments|doubt", or the first fault. */
static char *describe(const WdrEfiBoot *b)
{
	const WdrEfiEntry *e = b->list->len > 0 ? b->list->pdata[0] : NULL;

	if (!e)
		return g_strdup_printf("fault: %s",
			b->faults->len > 0 ? (const char *)b->faults->pdata[0] : "none");
	if (e->doubt)
		return g_strdup_printf("doubt: %s", e->doubt);
	return g_strdup_printf("%s|%u:%s|%s|%s", e->name, e->part ? e->part->partition->number : 0,
		e->kernel.path ? e->kernel.path : "-", e->initramfs.path ? e->initramfs.path : "-",
		e->arguments ? e->arguments : "-");
}

/* ---- GRUB ---- */

#define ENTRY(name, kernel)                                                                        \
	"menuentry '" name "' --id " name " {\nlinux /boot/" kernel " root=X\ninitrd /boot/i\n}\n"
#define FIND "search.fs_uuid " ROOT_UUID " root\n"

static const struct {
	const char *menu, *environment, *want, *warning;
} menus[] = {
	{ FIND ENTRY("a", "ka") ENTRY("b", "kb"), NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X",
		NULL },
	{ FIND "set default=1\n" ENTRY("a", "ka") ENTRY("b", "kb"), NULL,
		"menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND "default='b'\n" ENTRY("a", "ka") ENTRY("b", "kb"), NULL,
		"menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND "set default=9\n" ENTRY("a", "ka"), NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X",
		"GRUB's default '9' names no entry" },
	{ FIND "set default=\"s>1\"\n" ENTRY("a", "ka") "submenu 'More' --id s {\n" ENTRY("b", "kb")
			ENTRY("c", "kc") "}\n",
		NULL, "menu entry 'c'|2:boot/kc|boot/i|root=X", NULL },
	/* A submenu alone: the first of its entries. */
	{ FIND "set default=1\n" ENTRY("a", "ka") "submenu 'More' {\n" ENTRY("b", "kb") "}\n", NULL,
		"menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND "load_env\nset default=\"${saved_entry}\"\n" ENTRY("a", "ka") ENTRY("b", "kb"),
		"# GRUB Environment Block\nsaved_entry=b\n####",
		"menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND "if [ -s $prefix/grubenv ]; then load_env; fi\nif [ \"${next_entry}\" ] ; then set "
	       "default=\"${next_entry}\"; else set default=0; fi\n" ENTRY("a", "ka")
			ENTRY("b", "kb"),
		"# GRUB Environment Block\nnext_entry=b\n####",
		"menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND "if [ x$grub_platform = xxen ]; then set default=1; elif [ x$grub_platform = xefi -a ! "
	       "-f /boot/nothing ]; then set default=2; else set default=0; fi\n" ENTRY("a", "ka")
			ENTRY("b", "kb") ENTRY("c", "kc"),
		NULL, "menu entry 'c'|2:boot/kc|boot/i|root=X", NULL },
	{ FIND "if [ -z \"$owls\" -o \"$owls\" = 1 ]; then set default=1; fi\n" ENTRY("a", "ka")
			ENTRY("b", "kb"),
		NULL, "menu entry 'b'|2:boot/kb|boot/i|root=X", NULL },
	{ FIND ENTRY("a",
		  "ka") "if [ \"$grub_platform\" = \"efi\" ]; then\nfwsetup --is-supported\nif [ "
			"\"$?\" = 0 ]; then\nmenuentry 'UEFI-Firmware-Einstellungen' --id "
			"'uefi-firmware' {\nfwsetup\n}\nfi\nfi\n",
		NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X", NULL },
	/* What only the running loader knows. */
	{ FIND "if keystatus --shift; then set default=1; fi\n" ENTRY("a", "ka") ENTRY("b", "kb"),
		NULL,
		"doubt: EFI/owl/grub.cfg:2: 'set default=1' depends on what only the running loader knows",
		NULL },
	{ FIND "if loadfont x; then set gfxmode=auto; fi\n" ENTRY("a", "ka"), NULL,
		"menu entry 'a'|2:boot/ka|boot/i|root=X", NULL },
	{ FIND "function f { set default=1\n}\nfor x in 1 2; do echo $x; done\n" ENTRY("a", "ka"),
		NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X", NULL },
	{ FIND "for x in 1 2; do set default=$x; done\n" ENTRY("a", "ka"), NULL,
		"doubt: EFI/owl/grub.cfg:2: 'set default=' depends on what only the running loader knows",
		NULL },
	{ FIND "menuentry a { chainloader /EFI/other.efi; }\n", NULL,
		"doubt: EFI/owl/grub.cfg:2: what 'chainloader' starts is not followed", NULL },
	{ FIND "blscfg\n", NULL, "fault: GRUB's menu has no entries", NULL },
	{ "search --no-floppy --fs-uuid --set=root 00000000-0b7e-4f5e-9a43-2f8f5d1b9c30\n" ENTRY(
		  "a", "ka"),
		NULL, "menu entry 'a'|1:boot/ka|boot/i|root=X", NULL },
	{ "set root='hd0,gpt2'\n" ENTRY("a", "ka"), NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X",
		NULL },
	{ "set root='hd1,gpt2'\n" ENTRY("a", "ka"), NULL,
		"fault: EFI/owl/grub.cfg:3: GRUB does not find the partition of /boot/ka on this disk",
		NULL },
	{ "menuentry a {\nlinux (hd0,gpt2)/boot/k 'a b' c\"d\"e ${none} \\$x\ninitrd (hd0,gpt2)/boot/u "
	  "(hd0,gpt2)/boot/i\n}\n",
		NULL, "menu entry 'a'|2:boot/k|boot/i|\"a b\" cde $x", NULL },
	{ "menuentry empty { echo nothing; }\n", NULL,
		"fault: EFI/owl/grub.cfg:1: menu entry 'empty' loads no kernel", NULL },
	{ "set timeout=-1\n" FIND ENTRY("a", "ka"), NULL, "menu entry 'a'|2:boot/ka|boot/i|root=X",
		"GRUB's menu waits for a key for ever" },
	{ "search --file --set=r /boot/ka\nconfigfile ($r)/boot/more.cfg\n", NULL,
		"menu entry 'from more'|2:boot/km|-|", NULL },
	{ "configfile /nowhere.cfg\n", NULL,
		"fault: GRUB's configuration /nowhere.cfg is not there", NULL },
	{ "source $prefix/grub.cfg\n", NULL, "fault: GRUB's menu has no entries", NULL },
	{ "menuentry 'never closed {\nlinux /x\n", NULL, "fault: GRUB's menu has no entries",
		NULL },
	{ "if if if if then else fi fi }}}} {{{{ ] [ ! ! ! ( ) ;;; & | \\", NULL,
		"fault: GRUB's menu has no entries", NULL },
};

START_TEST(grub_menus)
{
	Disk d;

	begin(&d);
	put_program(
		d.esp, "EFI/owl/grubaa64.efi", wdr_sample_grub(WDR_SAMPLE_AA64, NULL, "/EFI/owl"));
	wdr_sample_text(d.esp, "EFI/owl/grub.cfg", menus[_i].menu);
	if (menus[_i].environment)
		wdr_sample_text(d.esp, "EFI/owl/grubenv", menus[_i].environment);
	put_text(d.root, "boot/ka", "a kernel");
	wdr_sample_text(d.root, "boot/more.cfg", "menuentry 'from more' { linux ($r)/boot/km; }\n");
	finish(&d);
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, "EFI/owl/grubaa64.efi");
	g_autofree char *got = describe(b);
	ck_assert_msg(strcmp(got, menus[_i].want) == 0, "%s\nis %s\nand not %s", menus[_i].menu,
		got, menus[_i].want);
	if (menus[_i].warning) {
		ck_assert_uint_eq(b->warnings->len, 1);
		ck_assert_ptr_nonnull(strstr(b->warnings->pdata[0], menus[_i].warning));
	}
	end(&d);
}
END_TEST

/* As grub-install builds it: the volume of the menu is searched for by what is inside. */
START_TEST(grub_with_its_configuration_inside)
{
	Disk d;

	begin(&d);
	put_program(d.esp, "EFI/BOOT/BOOTX64.EFI",
		wdr_sample_grub(WDR_SAMPLE_X64,
			"search.fs_uuid " ROOT_UUID
			" root hd0,gpt2 \nset prefix=($root)'/boot/grub'\n",
			"/boot/grub"));
	put_text(d.root, "boot/grub/grub.cfg", ENTRY("a", "ka"));
	finish(&d);
	g_autofree char *program = wdr_efi_removable(&d.parts[0]);
	ck_assert_str_eq(program, "EFI/BOOT/BOOTX64.EFI");
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, program);
	g_autofree char *got = describe(b);
	ck_assert_str_eq(got, "menu entry 'a'|2:boot/ka|boot/i|root=X");
	ck_assert_str_eq(((const WdrEfiEntry *)b->list->pdata[0])->config, "boot/grub/grub.cfg");
	end(&d);
}
END_TEST

/* Shim, its fallback, shim again, and GRUB. */
START_TEST(a_chain)
{
	static const char sbat[] = "sbat,1\nshim,4,UEFI shim\n";
	const WdrSampleSection s = { ".sbat", sbat, sizeof(sbat) };
	Disk d;

	begin(&d);
	put_program(d.esp, "EFI/BOOT/BOOTX64.EFI", wdr_sample_shim(WDR_SAMPLE_X64));
	if (_i != 1)
		put_program(d.esp, "EFI/BOOT/fbx64.efi", wdr_sample_efi(WDR_SAMPLE_X64, &s, 1));
	put_program(d.esp, "EFI/owl/shimx64.efi", wdr_sample_shim(WDR_SAMPLE_X64));
	put_program(
		d.esp, "EFI/owl/grubx64.efi", wdr_sample_grub(WDR_SAMPLE_X64, NULL, "/EFI/owl"));
	wdr_sample_text(d.esp, "EFI/owl/grub.cfg", FIND ENTRY("a", "ka"));
	if (_i != 2)
		put_program(d.esp, "EFI/owl/BOOTX64.CSV",
			g_bytes_new_static(
				"\xff\xfes\0h\0i\0m\0x\0006\0004\0.\0e\0f\0i\0,\0o\0", 28));
	finish(&d);
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, "EFI/BOOT/BOOTX64.EFI");
	g_autofree char *got = describe(b);
	static const char *const want[] = { "menu entry 'a'|2:boot/ka|boot/i|root=X",
		"fault: /EFI/BOOT/BOOTX64.EFI is shim, and there is no /EFI/BOOT/grubx64.efi for it to start",
		"fault: /EFI/BOOT/fbx64.efi finds no BOOTx64.CSV that names a program" };
	ck_assert_str_eq(got, want[_i]);
	end(&d);
}
END_TEST

/* ---- systemd-boot ---- */

typedef struct {
	const char *file, *text;
} File;

static const struct {
	File files[4];
	const char *want, *warning;
} entries[] = {
	{ { { "a.conf", "linux /k1\ninitrd /u\ninitrd /i\noptions root=X\noptions quiet\n" } },
		"entry a.conf|1:k1|i|root=X quiet", NULL },
	/* The newer one by its name, whatever its digits look like. */
	{ { { "owl-6.9.conf", "linux /k9" }, { "owl-6.10.conf", "linux /k10" } },
		"entry owl-6.10.conf|1:k10|-|-", NULL },
	{ { { "owl-6.1~rc1.conf", "linux /rc" }, { "owl-6.1.conf", "linux /k" } },
		"entry owl-6.1.conf|1:k|-|-", NULL },
	/* With a sort-key before without one; of two the lower, then the newer version. */
	{ { { "z.conf", "linux /z" }, { "a.conf", "sort-key owl\nversion 1\nlinux /a" },
		  { "b.conf", "sort-key owl\nversion 2\nlinux /b" } },
		"entry b.conf|1:b|-|-", NULL },
	{ { { "a.conf", "sort-key owl\nversion 9\nlinux /a" },
		  { "b.conf", "sort-key bat\nversion 1\nlinux /b" } },
		"entry b.conf|1:b|-|-", NULL },
	{ { { "a.conf", "linux /a" }, { "b.conf", "linux /b" },
		  { "../loader.conf", "default A*\n" } },
		"entry a.conf|1:a|-|-", NULL },
	{ { { "a.conf", "linux /a" }, { "../loader.conf", "default x\ntimeout 3\n" } },
		"entry a.conf|1:a|-|-", "fits no entry" },
	{ { { "a.conf", "linux /a" }, { "../loader.conf", "default @saved\n" } },
		"entry a.conf|1:a|-|-", "known to the firmware alone" },
	{ { { "a.conf", "linux /a" }, { "../loader.conf", "timeout menu-force\n" } },
		"entry a.conf|1:a|-|-", "waits for a key for ever" },
	/* One that has used up its tries comes last. */
	{ { { "b+0-3.conf", "linux /b" }, { "a.conf", "linux /a" } }, "entry a.conf|1:a|-|-",
		NULL },
	{ { { "b+2-1.conf", "linux /b" }, { "a.conf", "linux /a" } }, "entry b+2-1.conf|1:b|-|-",
		NULL },
	{ { { "a.conf", "efi /EFI/other.efi\n" } },
		"doubt: it starts another program, whose arguments are its own", NULL },
	{ { { "a.text", "linux /a" } },
		"fault: systemd-boot finds no entry: no loader/entries/*.conf, no EFI/Linux/*.efi",
		NULL },
};

START_TEST(systemd_boot_entries)
{
	Disk d;

	begin(&d);
	put_program(d.esp, "EFI/BOOT/BOOTAA64.EFI", wdr_sample_systemd_boot(WDR_SAMPLE_AA64));
	for (size_t i = 0; i < 4 && entries[_i].files[i].file; i++) {
		const File *f = &entries[_i].files[i];
		bool is_above = g_str_has_prefix(f->file, "../");
		g_autofree char *path = is_above ? g_strconcat("loader/", f->file + 3, NULL)
						 : g_strconcat("loader/entries/", f->file, NULL);
		put_text(d.esp, path, f->text);
	}
	finish(&d);
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, "EFI/BOOT/BOOTAA64.EFI");
	g_autofree char *got = describe(b);
	ck_assert_str_eq(got, entries[_i].want);
	if (entries[_i].warning) {
		ck_assert_uint_ge(b->warnings->len, 1);
		ck_assert_ptr_nonnull(strstr(b->warnings->pdata[0], entries[_i].warning));
	}
	end(&d);
}
END_TEST

/* Entries may lie on a second FAT volume of the type for it, with their kernels. */
START_TEST(a_second_boot_volume)
{
	Disk d;

	begin(&d);
	put_program(d.esp, "EFI/BOOT/BOOTAA64.EFI", wdr_sample_systemd_boot(WDR_SAMPLE_AA64));
	put_text(d.root, "loader/entries/owl.conf", "linux /k\noptions root=X\n");
	finish(&d);
	d.parts[1].probe.type = (char *)"vfat";
	d.system.root = NULL;
	g_free(d.parts[1].partition->type);
	d.parts[1].partition->type = g_strdup(_i ? "bc13c2ff-59e6-4262-a352-b275fd6f7172" : "");
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, "EFI/BOOT/BOOTAA64.EFI");
	g_autofree char *got = describe(b);
	ck_assert_str_eq(got,
		_i ? "entry owl.conf|2:k|-|root=X"
		   : "fault: systemd-boot finds no entry: no loader/entries/*.conf, no EFI/Linux/*.efi");
	end(&d);
}
END_TEST

START_TEST(unified_images)
{
	g_autoptr(GBytes) kernel = g_bytes_new_static("a kernel", 8);
	g_autoptr(GBytes) initramfs = g_bytes_new_static("an initramfs", 12);
	Disk d;

	begin(&d);
	put_program(d.esp, "EFI/BOOT/BOOTAA64.EFI", wdr_sample_systemd_boot(WDR_SAMPLE_AA64));
	put_program(d.esp, "EFI/Linux/owl.efi",
		wdr_sample_unified(WDR_SAMPLE_AA64, "root=X quiet\n", kernel, initramfs));
	finish(&d);
	g_autoptr(WdrEfiBoot) b = wdr_efi_boot_follow(&d.system, NULL, "EFI/BOOT/BOOTAA64.EFI");
	g_autofree char *got = describe(b);
	ck_assert_str_eq(got, "owl.efi|1:EFI/Linux/owl.efi|EFI/Linux/owl.efi|root=X quiet");
	const WdrEfiEntry *e = b->list->pdata[0];
	ck_assert_uint_eq(e->kernel.bytes, 8);
	ck_assert_uint_eq(e->initramfs.bytes, 12);
	end(&d);
}
END_TEST

/* ---- the firmware's entries ---- */

/* As efibootmgr made it on a machine: 'owl', partition 1 of a GPT, \EFI\owl.efi. */
static const uint8_t option[] = { 7, 0, 0, 0, 1, 0, 0, 0, 74, 0, 'o', 0, 'w', 0, 'l', 0, 0, 0, 4, 1,
	42, 0, 1, 0, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0, 4, 0, 0, 0, 0, 0, 0xf6, 0x4d, 0x2f, 0xba,
	0xf3, 0xa0, 0xdc, 0x4c, 0x9a, 0xc4, 0xf0, 0xfa, 0x7e, 0x6b, 0xee, 0x75, 2, 2, 4, 4, 28, 0,
	'\\', 0, 'E', 0, 'F', 0, 'I', 0, '\\', 0, 'o', 0, 'w', 0, 'l', 0, '.', 0, 'e', 0, 0, 0, 0,
	0, 0x7f, 0xff, 4, 0 };

START_TEST(an_entry_of_the_firmware)
{
	WdrEfiOption *o = wdr_efi_option_parse(3, option, sizeof(option));

	ck_assert_ptr_nonnull(o);
	ck_assert_uint_eq(o->number, 3);
	ck_assert(o->is_active);
	ck_assert_str_eq(o->name, "owl");
	ck_assert_str_eq(o->partuuid, "ba2f4df6-a0f3-4cdc-9ac4-f0fa7e6bee75");
	ck_assert_str_eq(o->file, "EFI/owl.e");
	wdr_efi_option_free(o);
	for (size_t len = 0; len < sizeof(option); len++) {
		g_autofree uint8_t *cut = g_memdup2(option, len);
		wdr_efi_option_free(wdr_efi_option_parse(3, cut, len));
	}
	for (size_t at = 0; at < sizeof(option); at++) {
		g_autofree uint8_t *changed = g_memdup2(option, sizeof(option));
		changed[at] ^= 0xff;
		wdr_efi_option_free(wdr_efi_option_parse(3, changed, sizeof(option)));
	}
}
END_TEST

Suite *suite_efi_boot(void)
{
	Suite *s = suite_create("boot/efi_boot");
	TCase *t = tcase_create("efi_boot");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_loop_test(t, grub_menus, 0, (int)G_N_ELEMENTS(menus));
	tcase_add_test(t, grub_with_its_configuration_inside);
	tcase_add_loop_test(t, a_chain, 0, 3);
	tcase_add_loop_test(t, systemd_boot_entries, 0, (int)G_N_ELEMENTS(entries));
	tcase_add_loop_test(t, a_second_boot_volume, 0, 2);
	tcase_add_test(t, unified_images);
	tcase_add_test(t, an_entry_of_the_firmware);
	suite_add_tcase(s, t);
	return s;
}
