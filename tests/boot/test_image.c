/* Loader images, made and judged by mkimage. */
#include "support.h"

#include "boot/formats/edit.h"
#include "boot/formats/image.h"
#include "boot/formats/mention.h"

#include <string.h>

Suite *suite_image(void);

static const char script[] = "# boot\nsetenv rootdev \"/dev/mmcblk0p2\"\nbooti ${kernel_addr_r}\n";

static char *made_by_mkimage(const char *text, size_t *ret_len)
{
	sup_write(sup_path("boot.cmd"), text);
	SUP_TOOL("mkimage", "-A", "arm64", "-T", "script", "-C", "none", "-n", "hide", "-d",
		sup_path("boot.cmd"), sup_path("boot.scr"));
	return sup_read(sup_path("boot.scr"), ret_len);
}

START_TEST(reads_what_mkimage_made)
{
	size_t len = 0;
	g_autofree char *bytes = made_by_mkimage(script, &len);
	WdrLoaderImage image;

	sup_ok(wdr_loader_image_parse(bytes, len, &image, &error));
	ck_assert_uint_eq(image.type, WDR_IMAGE_SCRIPT);
	ck_assert_str_eq(image.name, "hide");
	ck_assert_uint_eq(image.text_bytes, strlen(script));
	ck_assert_mem_eq(bytes + image.text_at, script, strlen(script));
}
END_TEST

START_TEST(mkimage_would_have_made_the_same)
{
	g_autoptr(GBytes) bytes =
		wdr_loader_image_wrap(WDR_IMAGE_SCRIPT, "hide", script, strlen(script));
	size_t want_len = 0;
	size_t len = 0;
	g_autofree char *want = made_by_mkimage(script, &want_len);
	const char *got = g_bytes_get_data(bytes, &len);

	/* All but the time of making, and the header's checksum, which covers it. */
	ck_assert_uint_eq(len, want_len);
	ck_assert_mem_eq(got + 12, want + 12, len - 12);
	ck_assert(g_file_set_contents(sup_path("ours.scr"), got, (gssize)len, NULL));
	ck_assert_ptr_nonnull(strstr(SUP_TOOL("mkimage", "-l", sup_path("ours.scr")), "Script"));
}
END_TEST

/* Shorter and longer identifiers: mkimage makes the same bytes of the same text. */
static const char *const identifiers[] = { "PARTUUID=9d8e7f60-02", "/dev/sda2",
	"UUID=e4a1b2c3-d4e5-4f60-8172-93a4b5c6d7e8" };

START_TEST(edits_are_what_mkimage_would_have_made)
{
	size_t len = 0;
	size_t want_len = 0;
	size_t got_len = 0;
	g_autofree char *bytes = made_by_mkimage(script, &len);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) warnings = wdr_warnings_new();
	g_autoptr(GBytes) edited = NULL;
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, "boot.scr", wdr_hash(bytes, len));
	WdrReading r = { "boot.scr", bytes, len, 0, mentions, warnings };

	sup_ok(wdr_image_read(&r, &error));
	ck_assert_uint_eq(mentions->len, 1);
	const WdrMention *m = mentions->pdata[0];
	ck_assert_uint_eq(m->line, 2);
	ck_assert_uint_eq(m->column, 17);
	edit->is_image = true;
	wdr_edit_add(edit, m->offset, m->line, m->column, m->text, identifiers[_i]);
	sup_ok(wdr_edit_apply(edit, bytes, len, &edited, &error));
	g_autofree char *new_script = g_strdup_printf(
		"# boot\nsetenv rootdev \"%s\"\nbooti ${kernel_addr_r}\n", identifiers[_i]);
	g_autofree char *want = made_by_mkimage(new_script, &want_len);
	char *got = (char *)g_bytes_get_data(edited, &got_len);
	ck_assert_uint_eq(got_len, want_len);
	ck_assert_mem_eq(got + 12, want + 12, want_len - 12);
	WdrLoaderImage image;
	sup_ok(wdr_loader_image_parse(got, got_len, &image, &error));
}
END_TEST

static const struct {
	const char *name;
	size_t at;
	uint8_t flipped; /* bits: mkimage writes the time, so any byte may be there already */
	const char *text;
} damages[] = {
	{ "magic", 0, 0xff, "no loader image" },
	{ "header checksum", 4, 0xff, "the header's checksum is wrong" },
	{ "a header field", 30, 9, "the header's checksum is wrong" },
	{ "the data", 75, 0xff, "the data's checksum is wrong" },
};

START_TEST(damaged_images)
{
	size_t len = 0;
	g_autofree char *bytes = made_by_mkimage(script, &len);
	WdrLoaderImage image;

	bytes[damages[_i].at] = (char)(bytes[damages[_i].at] ^ damages[_i].flipped);
	sup_fails(WDR_ERROR_FORMAT, damages[_i].text,
		wdr_loader_image_parse(bytes, len, &image, &error));
}
END_TEST

START_TEST(images_cut_short)
{
	size_t len = 0;
	g_autofree char *bytes = made_by_mkimage(script, &len);
	WdrLoaderImage image;

	for (size_t cut = 0; cut < len; cut++)
		sup_fails(WDR_ERROR_FORMAT,
			cut < WDR_IMAGE_HEADER_BYTES ? "no loader image" : "cut short",
			wdr_loader_image_parse(bytes, cut, &image, &error));
}
END_TEST

Suite *suite_image(void)
{
	Suite *s = suite_create("boot/image");
	TCase *t = tcase_create("image");

	tcase_add_checked_fixture(t, sup_setup, sup_teardown);
	tcase_add_test(t, reads_what_mkimage_made);
	tcase_add_test(t, mkimage_would_have_made_the_same);
	tcase_add_loop_test(
		t, edits_are_what_mkimage_would_have_made, 0, (int)G_N_ELEMENTS(identifiers));
	tcase_add_loop_test(t, damaged_images, 0, (int)G_N_ELEMENTS(damages));
	tcase_add_test(t, images_cut_short);
	suite_add_tcase(s, t);
	return s;
}
