#include "support.h"

#include "boot/mention.h"

#include <string.h>

Suite *suite_mention(void);

/* Mentions as one line of text: "LINE:COLUMN USE ADDRESS|…", remarks behind "#". */
static char *show(const WdrMentions *mentions, const WdrRemarks *remarks)
{
	GString *text = g_string_new(NULL);

	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		g_string_append_printf(
			text, "%u:%u %s %s|", m->line, m->column, wdr_use_name(m->use), m->text);
	}
	g_string_append_printf(text, "#%u", remarks->len);
	return g_string_free(text, FALSE);
}

static const struct {
	const char *text, *want;
} kernel[] = {
	{ "root=PARTUUID=4c1fa2b0-02", "1:6 root PARTUUID=4c1fa2b0-02|#0" },
	{ "quiet  root=/dev/mmcblk0p2\trootwait\n", "1:13 root /dev/mmcblk0p2|#0" },
	{ "root=UUID=a root=UUID=b\n", "1:6 root UUID=a|1:18 root UUID=b|#1" },
	{ "resume=/dev/sda3 root=LABEL=x", "1:8 resume /dev/sda3|1:23 root LABEL=x|#0" },
	{ "root=\"LABEL=reed bed\" quiet", "1:7 root LABEL=reed bed|#0" },
	{ "\"root=LABEL=reed bed\"", "1:7 root LABEL=reed bed|#0" },
	{ "xroot=/dev/sda1 nfsroot=/dev/sda1 quiet", "#0" },
	{ "root=/dev/nfs", "1:6 root /dev/nfs|#0" },
	{ "root=31:2 rw", "#0" },
	{ "quiet\nroot=/dev/sda1\n", "#1" },
	{ "root=/dev/sda1\r\n", "1:6 root /dev/sda1|#0" },
	{ "root=/dev/sda1\n\n\n", "1:6 root /dev/sda1|#0" },
	{ "rootwait root= rootflags=x", "#0" },
	{ "a=\"unclosed root=/dev/sda1", "#0" },
};

START_TEST(kernel_arguments)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();

	sup_ok(wdr_kernel_args_read("cmdline.txt", kernel[_i].text, strlen(kernel[_i].text),
		mentions, remarks, &error));
	g_autofree char *got = show(mentions, remarks);
	ck_assert_str_eq(got, kernel[_i].want);
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		ck_assert(strncmp(kernel[_i].text + m->offset, m->text, m->len) == 0);
	}
}
END_TEST

static const char *const empty[] = { "", "\n", "   \t \n", "\nroot=/dev/sda1\n" };

START_TEST(empty_kernel_arguments)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();

	sup_fails(WDR_ERROR_FORMAT, "cmdline.txt:1: the kernel command line is empty",
		wdr_kernel_args_read(
			"cmdline.txt", empty[_i], strlen(empty[_i]), mentions, remarks, &error));
}
END_TEST

static const struct {
	const char *text, *want;
} tables[] = {
	{ "UUID=a / ext4 defaults 0 1\n", "1:1 root UUID=a|#0" },
	{ "# c\n\n/dev/sda1\t/boot\tvfat\tdefaults\n", "3:1 boot /dev/sda1|#0" },
	{ "  PARTUUID=x-01   /boot/firmware vfat d 0 2", "1:3 boot PARTUUID=x-01|#0" },
	{ "UUID=s none swap sw 0 0\ntmpfs /tmp tmpfs d 0 0\n", "1:1 swap UUID=s|#0" },
	{ "LABEL=\"reed bed\" /srv ext4 d\n", "1:1 other LABEL=\"reed bed\"|#0" },
	{ "LABEL=reed\\040bed /srv/with\\040blank ext4 d\n", "1:1 other LABEL=reed\\040bed|#0" },
	{ "/dev/disk/by-uuid/F3A1-77C2 /boot vfat d", "1:1 boot /dev/disk/by-uuid/F3A1-77C2|#0" },
	{ "UUID=a /\nUUID=b / ext4 d\n", "2:1 root UUID=b|#1" },
	{ "UUID=a\r\nUUID=b / ext4 d 0 1\r\n", "2:1 root UUID=b|#1" },
	{ "#UUID=a / ext4 d\n   # x\n", "#0" },
	{ "/var/swap none swap sw 0 0\n", "#0" },
	{ "", "#0" },
	{ "\n\n\n", "#0" },
	{ "server:/export /mnt nfs d\n//s/x /mnt cifs d\n", "#0" },
};

START_TEST(fstab)
{
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();

	sup_ok(wdr_fstab_read(
		"etc/fstab", tables[_i].text, strlen(tables[_i].text), mentions, remarks, &error));
	g_autofree char *got = show(mentions, remarks);
	ck_assert_str_eq(got, tables[_i].want);
	for (guint i = 0; i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		ck_assert(strncmp(tables[_i].text + m->offset, m->text, m->len) == 0);
	}
}
END_TEST

START_TEST(escaped_fields_are_read)
{
	static const char text[] = "LABEL=reed\\040bed /srv/with\\011tab ext4 d\n";
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();

	sup_ok(wdr_fstab_read("etc/fstab", text, strlen(text), mentions, remarks, &error));
	const WdrMention *m = mentions->pdata[0];
	ck_assert_str_eq(m->address.value, "reed bed");
	ck_assert_str_eq(m->what, "/srv/with\ttab");
}
END_TEST

Suite *suite_mention(void)
{
	Suite *s = suite_create("boot/mention");
	TCase *t = tcase_create("mention");

	tcase_add_loop_test(t, kernel_arguments, 0, (int)G_N_ELEMENTS(kernel));
	tcase_add_loop_test(t, empty_kernel_arguments, 0, (int)G_N_ELEMENTS(empty));
	tcase_add_loop_test(t, fstab, 0, (int)G_N_ELEMENTS(tables));
	tcase_add_test(t, escaped_fields_are_read);
	suite_add_tcase(s, t);
	return s;
}
