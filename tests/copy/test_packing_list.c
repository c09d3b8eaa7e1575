#include "support.h"

#include "copy/packing_list.h"

#include <string.h>

Suite *suite_packing_list(void);

static WdrCopied copied(const char *path, const WdrEntry *e)
{
	return (WdrCopied){ .path = path, .entry = e, .content = { 1, 2 } };
}

static void record(const WdrCopied *entries, size_t n)
{
	g_autoptr(WdrPacking) p = NULL;

	sup_ok(wdr_packing_create(sup_path("list"), 1000, &p, &error));
	for (size_t i = 0; i < n; i++)
		sup_ok(wdr_packing_record(p, &entries[i], &error));
	sup_ok(wdr_packing_finish(p, &error));
	ck_assert_uint_eq(wdr_packing_entries(p), n);
}

static WdrEntry file(void)
{
	WdrEntry e = sup_entry(WDR_KIND_FILE, 0644);

	e.size = 10;
	return e;
}

START_TEST(the_same_is_the_same)
{
	WdrEntry e = file();
	WdrCopied c = copied("etc/a\tb\n\\", &e);
	g_autoptr(WdrPacking) p = NULL;

	record(&c, 1);
	sup_ok(wdr_packing_open(sup_path("list"), &p, &error));
	sup_ok(wdr_packing_compare(p, &c, &error));
	sup_ok(wdr_packing_compare_end(p, &error));
	g_autofree char *text = sup_read(sup_path("list"), NULL);
	ck_assert_ptr_nonnull(strstr(text, "\tetc/a\\x09b\\x0a\\x5c\n"));
}
END_TEST

typedef void (*Change)(WdrEntry *e, WdrCopied *c);

static void change_mode(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->mode = 0600;
}

static void change_owner(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->uid = 5;
}

static void change_time(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->mtime.nsec++;
}

static void change_flags(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->flags = 0x10;
}

static void change_created(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->crtime.sec++;
}

static void change_content(WdrEntry *e, WdrCopied *c)
{
	(void)e;
	c->content.low++;
}

static void change_kind(WdrEntry *e, WdrCopied *c)
{
	(void)c;
	e->kind = WDR_KIND_FIFO;
}

static void change_xattr(WdrEntry *e, WdrCopied *c)
{
	static WdrXattr x = { (char *)"user.k", (uint8_t *)"v", 1 };

	(void)c;
	e->xattrs = &x;
	e->n_xattrs = 1;
}

static void change_link(WdrEntry *e, WdrCopied *c)
{
	(void)e;
	c->link_to = "elsewhere";
}

static void change_path(WdrEntry *e, WdrCopied *c)
{
	(void)e;
	c->path = "etc/b";
}

static const struct {
	Change change;
	const char *want;
} changes[] = { { change_mode, "mode of 'etc/a'" }, { change_owner, "owner of" },
	{ change_time, "modification time of" }, { change_flags, "metadata of" },
	{ change_created, "metadata of" }, { change_content, "content of" },
	{ change_kind, "kind" }, { change_xattr, "metadata of" }, { change_link, "kind" },
	{ change_path, "found 'etc/b' where 'etc/a' should be" } };

START_TEST(every_difference_is_seen)
{
	WdrEntry e = file();
	WdrCopied c = copied("etc/a", &e);
	g_autoptr(WdrPacking) p = NULL;

	record(&c, 1);
	changes[_i].change(&e, &c);
	sup_ok(wdr_packing_open(sup_path("list"), &p, &error));
	sup_fails(WDR_ERROR_IO, changes[_i].want, wdr_packing_compare(p, &c, &error));
}
END_TEST

START_TEST(missing_and_extra_entries)
{
	WdrEntry e = file();
	WdrCopied both[] = { copied("a", &e), copied("b", &e) };
	WdrCopied more = copied("c", &e);
	g_autoptr(WdrPacking) p = NULL;

	record(both, 2);
	sup_ok(wdr_packing_open(sup_path("list"), &p, &error));
	sup_ok(wdr_packing_compare(p, &both[0], &error));
	sup_fails(WDR_ERROR_IO, "entries are missing", wdr_packing_compare_end(p, &error));
	g_clear_pointer(&p, wdr_packing_free);
	sup_ok(wdr_packing_open(sup_path("list"), &p, &error));
	sup_ok(wdr_packing_compare(p, &both[0], &error));
	sup_ok(wdr_packing_compare(p, &both[1], &error));
	sup_fails(WDR_ERROR_IO, "'c' was never copied", wdr_packing_compare(p, &more, &error));
}
END_TEST

START_TEST(made_lost_and_found_is_passed_over)
{
	WdrEntry e = file();
	WdrEntry folder = sup_entry(WDR_KIND_FOLDER, 0700);
	WdrCopied given[] = { copied("a", &e), copied("z", &e) };
	WdrCopied found = copied("lost+found", &folder);
	g_autoptr(WdrPacking) p = NULL;

	record(given, 2);
	sup_ok(wdr_packing_open(sup_path("list"), &p, &error));
	sup_ok(wdr_packing_compare(p, &given[0], &error));
	sup_ok(wdr_packing_compare(p, &found, &error));
	sup_ok(wdr_packing_compare(p, &given[1], &error));
	sup_ok(wdr_packing_compare_end(p, &error));
}
END_TEST

START_TEST(other_files_are_no_lists)
{
	WdrPacking *p = NULL;

	sup_write(sup_path("list"), "wanderitas-packing-list/2\n");
	sup_fails(WDR_ERROR_FORMAT, "not a packing list",
		wdr_packing_open(sup_path("list"), &p, &error));
	sup_write(sup_path("list"), "");
	sup_fails(WDR_ERROR_FORMAT, "not a packing list",
		wdr_packing_open(sup_path("list"), &p, &error));
	sup_fails(WDR_ERROR_IO, "No such file", wdr_packing_open(sup_path("none"), &p, &error));
}
END_TEST

Suite *suite_packing_list(void)
{
	Suite *s = suite_create("copy/packing_list");
	TCase *t = tcase_create("packing_list");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, the_same_is_the_same);
	tcase_add_loop_test(t, every_difference_is_seen, 0, (int)G_N_ELEMENTS(changes));
	tcase_add_test(t, missing_and_extra_entries);
	tcase_add_test(t, made_lost_and_found_is_passed_over);
	tcase_add_test(t, other_files_are_no_lists);
	suite_add_tcase(s, t);
	return s;
}
