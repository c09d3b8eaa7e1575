/* A machine's name in its files: as a word of its own, not as a part of another. */
#include "plan/hostname.h"

#include "sample/entries.h"
#include "suite.h"

#include <string.h>

Suite *suite_hostname(void);

static const struct {
	const char *text;
	int at; /* -1: nowhere */
} texts[] = {
	{ "heron-3", 0 },
	{ "127.0.1.1\theron-3\n", 10 },
	{ "127.0.1.1 heron-3.field heron-3", 10 },
	{ "heron-33 heron-3-b heron-3_c heron-3", 29 },
	{ "old-heron-3 grey.heron-3 _heron-3", -1 },
	{ "mail=heron-3;", 5 },
	{ "HERON-3", -1 },
	{ "", -1 },
};

START_TEST(as_a_word_of_its_own)
{
	const char *text = texts[_i].text;
	const char *at = wdr_host_name_in(text, text, "heron-3");

	ck_assert_int_eq(at ? (int)(at - text) : -1, texts[_i].at);
	ck_assert_ptr_null(wdr_host_name_in(text, text, ""));
}
END_TEST

START_TEST(each_file_that_keeps_it_is_told)
{
	static const char *const folders[] = { "etc", "etc/ssh", "etc/cron.d", "srv" };
	static const WdrSampleText files[] = {
		{ "etc/hostname", "heron-3\n" },
		{ "etc/hosts", "127.0.1.1 heron-3\n" },
		{ "etc/ssh/ssh_host_rsa_key.pub", "ssh-rsa AAAA root@heron-3\n" },
		{ "etc/mailname", "# here\nheron-3.field\n" },
		{ "etc/cron.d/count", "@daily warden echo heron-33\n" },
		{ "srv/notes", "heron-3\n" },
	};
	WdrMemoryVolume *m = wdr_memory_volume_new("root");
	g_autoptr(GPtrArray) notes = g_ptr_array_new_with_free_func(g_free);

	wdr_sample_folders(m, folders, G_N_ELEMENTS(folders));
	wdr_sample_texts(m, files, G_N_ELEMENTS(files));
	for (unsigned i = 0; i < 20; i++) {
		g_autofree char *path = g_strdup_printf("etc/zone-%02u", i);
		if (i == (unsigned)_i)
			break;
		wdr_sample_text(m, path, "x heron-3");
	}
	g_autoptr(WdrVolume) root = wdr_memory_volume_as_volume(m);
	wdr_host_name_left(root, "heron-3", notes);
	ck_assert_str_eq(notes->pdata[0],
		"second machine: etc/mailname:2 still contains the host name heron-3");
	ck_assert_uint_eq(notes->len, _i == 0 ? 1 : 13);
	if (_i > 0)
		ck_assert_str_eq(notes->pdata[12],
			"second machine: 2 more files below /etc have the name heron-3");
}
END_TEST

Suite *suite_hostname(void)
{
	Suite *s = suite_create("plan/hostname");
	TCase *t = tcase_create("hostname");

	tcase_add_loop_test(t, as_a_word_of_its_own, 0, (int)G_N_ELEMENTS(texts));
	tcase_add_loop_test(t, each_file_that_keeps_it_is_told, 0, 1);
	tcase_add_loop_test(t, each_file_that_keeps_it_is_told, 13, 14);
	suite_add_tcase(s, t);
	return s;
}
