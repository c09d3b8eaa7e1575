#include "support.h"

#include "base/cleanup.h"
#include "base/text.h"
#include "plan/itinerary.h"

#include <string.h>

Suite *suite_itinerary(void);

static const char good[] =
	"{\"format\": \"wanderitas-itinerary/1\", \"made_by\": \"0.1.0\", \"made_at\": 1777876200, \"what\": \"everything\",\n"
	" \"source\": {\"name\": \"mmcblk0\", \"path\": \"/dev/mmcblk0\", \"medium\": \"SD card\",\n"
	"  \"link\": null, \"model\": \"RB600\", \"serial\": null, \"image\": false, \"size\": 629145600,\n"
	"  \"sector_size\": 512, \"table\": \"MBR\", \"table_id\": \"4c1fa2b0\"},\n"
	" \"target\": {\"name\": \"a.img\", \"path\": \"/tmp/a.img\", \"medium\": \"image\",\n"
	"  \"link\": \"PCIe 5.0 GT/s x1\", \"model\": null, \"serial\": null, \"image\": true, \"size\": 2147483648,\n"
	"  \"sector_size\": 512, \"table\": \"none\", \"table_id\": null},\n"
	" \"table\": \"MBR\", \"table_id\": \"deadbeef\",\n"
	" \"on_target_now\": [{\"number\": 0, \"start\": 0, \"size\": 2147483648, \"fs\": \"exfat\", \"uuid\": null,\n"
	"  \"label\": \"TERNS\", \"used\": 77, \"blank\": false, \"first_mib_xxh128\": \"00112233445566778899aabbccddeeff\"}],\n"
	" \"partitions\": [\n"
	"  {\"number\": 1, \"role\": \"boot\", \"fs\": \"vfat\",\n"
	"   \"from\": {\"start\": 4194304, \"size\": 134217728, \"uuid\": \"F3A1-77C2\", \"label\": \"BOOTFS\",\n"
	"    \"partuuid\": \"4c1fa2b0-01\", \"partlabel\": null},\n"
	"   \"to\": {\"start\": 4194304, \"size\": 134217728, \"uuid\": \"1234-ABCD\", \"label\": \"BOOTFS\",\n"
	"    \"partuuid\": \"deadbeef-01\", \"partlabel\": null},\n"
	"   \"type\": \"0c\", \"attributes\": null, \"active\": true, \"entries\": 45, \"bytes\": 45000000,\n"
	"   \"spare\": 80000000, \"inodes\": 0, \"cluster_bytes\": 512},\n"
	"  {\"number\": 2, \"role\": \"root\", \"fs\": \"ext4\",\n"
	"   \"from\": {\"start\": 138412032, \"size\": 490733568,\n"
	"    \"uuid\": \"6d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30\", \"label\": \"rootfs\",\n"
	"    \"partuuid\": \"4c1fa2b0-02\", \"partlabel\": null},\n"
	"   \"to\": {\"start\": 138412032, \"size\": 2009071616,\n"
	"    \"uuid\": \"9d1c7a52-0b7e-4f5e-9a43-2f8f5d1b9c30\", \"label\": \"rootfs\",\n"
	"    \"partuuid\": \"deadbeef-02\", \"partlabel\": null},\n"
	"   \"type\": \"83\", \"attributes\": null, \"active\": false, \"entries\": 4163,\n"
	"   \"bytes\": 127000000, \"spare\": 1800000000, \"inodes\": 134000, \"cluster_bytes\": 0}],\n"
	" \"edits\": [{\"on\": \"target\", \"partition\": 1, \"file\": \"cmdline.txt\",\n"
	"  \"loader_image\": false, \"xxh128\": \"0123456789abcdef0123456789abcdef\", \"changes\": [{\"offset\": 5, \"line\": 1,\n"
	"   \"column\": 6, \"old\": \"PARTUUID=4c1fa2b0-02\", \"new\": \"PARTUUID=deadbeef-02\"}],\n"
	"  \"diff\": \"--- x\\n\"}],\n"
	" \"loader_area\": {\"start\": 512, \"size\": 4193792, \"boot_code\": false, \"what\": \"U-Boot\"},\n"
	" \"left_behind\": [{\"pattern\": \"/var/cache/*\", \"entries\": 12, \"bytes\": 4096}],\n"
	" \"notes\": [\"a note\"]}\n";

/* Names and labels are bytes, and come back as these. */
START_TEST(names_of_any_bytes)
{
	static const char name[] = "etc/v\xf6gel/\x1b[31m\\x41.ini";
	g_autoptr(WdrItinerary) it = NULL;
	g_autoptr(WdrItinerary) again = NULL;

	sup_ok(wdr_itinerary_from_json(good, strlen(good), &it, &error));
	WdrItineraryPart *root = wdr_itinerary_part(it, 2);
	WdrEdit *edit = it->edits->pdata[0];
	WdrSplice *splice = edit->splices->pdata[0];
	g_free(root->to.label);
	root->to.label = g_strdup("b\xfcro");
	g_free(edit->file);
	edit->file = g_strdup(name);
	g_free(splice->old_text);
	splice->old_text = g_strdup("\xe4");
	g_free(it->source.path);
	it->source.path = g_strdup("/srv/\xff.img");
	g_free(((WdrLeft *)it->left->pdata[0])->pattern);
	((WdrLeft *)it->left->pdata[0])->pattern = g_strdup("/\xf6*");
	g_autofree char *text = wdr_itinerary_to_json(it);
	ck_assert(g_utf8_validate(text, -1, NULL));
	sup_ok(wdr_itinerary_from_json(text, strlen(text), &again, &error));
	edit = again->edits->pdata[0];
	splice = edit->splices->pdata[0];
	ck_assert_str_eq(wdr_itinerary_part(again, 2)->to.label, "b\xfcro");
	ck_assert_str_eq(edit->file, name);
	ck_assert_str_eq(splice->old_text, "\xe4");
	ck_assert_str_eq(again->source.path, "/srv/\xff.img");
	ck_assert_str_eq(((WdrLeft *)again->left->pdata[0])->pattern, "/\xf6*");
}
END_TEST

START_TEST(what_is_read_is_written_again)
{
	g_autoptr(WdrItinerary) it = NULL;
	json_error_t e;

	sup_ok(wdr_itinerary_from_json(good, strlen(good), &it, &error));
	g_autofree char *text = wdr_itinerary_to_json(it);
	g_autoptr(json_t) want = json_loads(good, 0, &e);
	g_autoptr(json_t) got = json_loads(text, 0, &e);
	ck_assert_ptr_nonnull(want);
	ck_assert_msg(json_equal(want, got), "%s", text);
	const WdrItineraryPart *root = wdr_itinerary_part(it, 2);
	ck_assert_int_eq(root->role, WDR_ROLE_ROOT);
	ck_assert_uint_eq(root->inodes, 134000);
	ck_assert_ptr_null(it->source.serial);
	g_autoptr(WdrPartTable) table = wdr_itinerary_table(it);
	ck_assert_str_eq(wdr_parttable_find(table, 1)->partuuid, "deadbeef-01");
	ck_assert(wdr_parttable_find(table, 1)->is_active);
}
END_TEST

static const struct {
	const char *old_text, *new_text, *want;
	WdrErrorCode code;
} changes[] = {
	{ "itinerary/1", "itinerary/2", "in format 'wanderitas-itinerary/2'", WDR_ERROR_REFUSED },
	{ "wanderitas-itinerary/1", "wanderitas-survey/2", "not an itinerary", WDR_ERROR_FORMAT },
	{ "\"made_at\": 1777876200,", "", "made_at", WDR_ERROR_FORMAT },
	{ "\"made_at\": 1777876200", "\"made_at\": \"x\"", "expected integer, got string",
		WDR_ERROR_FORMAT },
	{ "\"made_by\"", "\"made_at\": 1, \"made_by\"", "a key is given twice", WDR_ERROR_FORMAT },
	{ "\"size\": 629145600", "\"size\": -1", "source", WDR_ERROR_FORMAT },
	{ "\"size\": 2147483648", "\"size\": 99999999999999999999", "a number is too large",
		WDR_ERROR_FORMAT },
	{ "\"sector_size\": 512, \"table\": \"none\"", "\"sector_size\": 500, \"table\": \"none\"",
		"target", WDR_ERROR_FORMAT },
	{ "\"table\": \"none\"", "\"table\": \"BSD\"", "target", WDR_ERROR_FORMAT },
	{ "\"table_id\": \"deadbeef\"", "\"table_id\": \"deadbeefs\"", "partition table",
		WDR_ERROR_FORMAT },
	{ "\"number\": 2", "\"number\": 1", "numbers make no sense", WDR_ERROR_FORMAT },
	{ "\"number\": 2", "\"number\": 0", "numbers make no sense", WDR_ERROR_FORMAT },
	{ "\"fs\": \"ext4\"", "\"fs\": \"ext 4\"", "numbers make no sense", WDR_ERROR_FORMAT },
	{ "\"fs\": \"ext4\"", "\"fs\": \"btrfs\"", "no file system that we build",
		WDR_ERROR_FORMAT },
	{ "\"role\": \"root\"", "\"role\": \"king\"", "role is unknown", WDR_ERROR_FORMAT },
	{ "\"role\": \"root\"", "\"role\": \"data\"", "no root partition", WDR_ERROR_FORMAT },
	{ "\"start\": 138412032, \"size\": 2009071616",
		"\"start\": 134217728, \"size\": 2009071616", "overlap", WDR_ERROR_FORMAT },
	{ "\"size\": 2009071616", "\"size\": 2009075712", "do not lie on the target",
		WDR_ERROR_FORMAT },
	{ "\"size\": 2009071616", "\"size\": 2009071615", "do not lie on the target",
		WDR_ERROR_FORMAT },
	{ "9d1c7a52-0b7e", "9d1c7a52_0b7e", "an identifier", WDR_ERROR_FORMAT },
	{ "1234-ABCD", "1234-abcd", "an identifier", WDR_ERROR_FORMAT },
	{ "\"partition\": 1", "\"partition\": 7", "an edit makes no sense", WDR_ERROR_FORMAT },
	{ "0123456789abcdef0123456789abcdef", "0123", "an edit makes no sense", WDR_ERROR_FORMAT },
	{ "\"offset\": 5", "\"offset\": -5", "a change makes no sense", WDR_ERROR_FORMAT },
	{ "PARTUUID=deadbeef-02\"}", "a\\nb\"}", "a change makes no sense", WDR_ERROR_FORMAT },
	{ "PARTUUID=deadbeef-02\"}", "\"}", "a change makes no sense", WDR_ERROR_FORMAT },
	{ "\"notes\": [\"a note\"]", "\"notes\": 5", "a list is missing", WDR_ERROR_FORMAT },
	{ "\"notes\"", "notes", "line 34", WDR_ERROR_FORMAT },
	{ "\"size\": 4193792", "\"size\": 4193793", "before the first partition",
		WDR_ERROR_FORMAT },
	{ "\"start\": 512", "\"start\": 511", "before the first partition", WDR_ERROR_FORMAT },
	{ "\"start\": 512", "\"start\": 0", "the loader area", WDR_ERROR_FORMAT },
	{ "\"on_target_now\"", "\"on_target\"", "what is on the target", WDR_ERROR_FORMAT },
	{ "00112233445566778899aabbccddeeff", "00", "what is on the target", WDR_ERROR_FORMAT },
	{ "\"number\": 0", "\"number\": -1", "what is on the target", WDR_ERROR_FORMAT },
	{ "\"left_behind\"", "\"left\"", "a list is missing", WDR_ERROR_FORMAT },
	{ "/var/cache/*", "var/cache/*", "what is left behind", WDR_ERROR_FORMAT },
	{ "\"entries\": 12", "\"entries\": -1", "what is left behind", WDR_ERROR_FORMAT },
	{ "\"what\": \"everything\"", "\"what\": \"nothing\"", "what it moves", WDR_ERROR_FORMAT },
	{ "\"what\": \"everything\"", "\"what\": \"everything\", \"into\": 2", "not a root alone",
		WDR_ERROR_FORMAT },
	{ "\"what\": \"everything\"", "\"what\": \"everything\", \"into\": -2", "moves into",
		WDR_ERROR_FORMAT },
	{ "\"what\": \"everything\"", "\"what\": \"boot\"", "what it moves", WDR_ERROR_FORMAT },
	{ "\"on\": \"target\"", "\"on\": \"source\"", "an edit makes no sense", WDR_ERROR_FORMAT },
	{ "\"old\": \"PARTUUID=4c1fa2b0-02\"", "\"old\": \"two\\nlines\"",
		"a change makes no sense", WDR_ERROR_FORMAT },
};

START_TEST(changed_by_hand)
{
	const char *at = strstr(good, changes[_i].old_text);
	WdrItinerary *it = NULL;

	ck_assert_ptr_nonnull(at);
	g_autofree char *text = g_strdup_printf("%.*s%s%s", (int)(at - good), good,
		changes[_i].new_text, at + strlen(changes[_i].old_text));
	sup_fails(changes[_i].code, changes[_i].want,
		wdr_itinerary_from_json(text, strlen(text), &it, &error));
}
END_TEST

/* Root as partition 5, within an extended partition 2. */
static const struct {
	const char *extended, *want; /* NULL: sound */
} logical[] = {
	{ "\"number\": 2, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013265920", NULL },
	{ "\"number\": 2, \"type\": \"83\", \"start\": 134217728, \"size\": 2013265920",
		"the extended partition" },
	{ "\"number\": 0, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013265920",
		"the extended partition" },
	{ "\"number\": 5, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013265920",
		"its logical partitions" },
	/* The boot partition's number, no room in front, too short, past the end, over boot. */
	{ "\"number\": 1, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013265920",
		"its logical partitions" },
	{ "\"number\": 2, \"type\": \"0f\", \"start\": 138412032, \"size\": 2009071616",
		"its logical partitions" },
	{ "\"number\": 2, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013265408",
		"its logical partitions" },
	{ "\"number\": 2, \"type\": \"0f\", \"start\": 134217728, \"size\": 2013266432",
		"its logical partitions" },
	{ "\"number\": 2, \"type\": \"0f\", \"start\": 4194304, \"size\": 2143289344",
		"its logical partitions" },
	{ "\"number\": 2, \"start\": 134217728, \"size\": 2013265920", "the extended partition" },
};

/* `good` with boot ending 4 MiB earlier. */
static char *with_logical_root(const char *extended)
{
	g_auto(GStrv) number = g_strsplit(good, "\"number\": 2", -1);
	g_autofree char *five = g_strjoinv("\"number\": 5", number);
	g_auto(GStrv) size = g_strsplit(five, "\"size\": 134217728", -1);
	g_autofree char *shorter = g_strjoinv("\"size\": 130023424", size);
	g_auto(GStrv) key = g_strsplit(shorter, " \"partitions\"", -1);
	g_autofree char *insert =
		extended ? g_strdup_printf(" \"extended\": {%s},\n \"partitions\"", extended)
			 : g_strdup(" \"partitions\"");

	return g_strjoinv(insert, key);
}

START_TEST(logical_partitions_changed_by_hand)
{
	g_autofree char *text = with_logical_root(logical[_i].extended);
	WdrItinerary *it = NULL;
	json_error_t e;

	if (logical[_i].want) {
		sup_fails(WDR_ERROR_FORMAT, logical[_i].want,
			wdr_itinerary_from_json(text, strlen(text), &it, &error));
		return;
	}
	sup_ok(wdr_itinerary_from_json(text, strlen(text), &it, &error));
	g_autofree char *again = wdr_itinerary_to_json(it);
	g_autoptr(json_t) want = json_loads(text, 0, &e);
	g_autoptr(json_t) got = json_loads(again, 0, &e);
	ck_assert_msg(json_equal(want, got), "%s", again);
	g_autoptr(WdrPartTable) table = wdr_itinerary_table(it);
	ck_assert(wdr_parttable_find(table, 2)->is_extended);
	ck_assert(wdr_parttable_find(table, 5)->is_logical);
	wdr_itinerary_free(it);
}
END_TEST

START_TEST(a_logical_partition_in_nothing)
{
	g_autofree char *text = with_logical_root(NULL);
	WdrItinerary *it = NULL;

	sup_fails(WDR_ERROR_FORMAT, "its logical partitions",
		wdr_itinerary_from_json(text, strlen(text), &it, &error));
}
END_TEST

START_TEST(cut_off_anywhere)
{
	for (size_t len = 0; len < strlen(good) - 2; len++) {
		WdrItinerary *it = NULL;
		ck_assert(!wdr_itinerary_from_json(good, len, &it, NULL));
	}
}
END_TEST

START_TEST(nested_beyond_reason)
{
	g_autofree char *text = g_strnfill(200000, '[');
	WdrItinerary *it = NULL;

	sup_fails(WDR_ERROR_FORMAT, "cannot be read",
		wdr_itinerary_from_json(text, 200000, &it, &error));
}
END_TEST

static const struct {
	const char *what;
	size_t offset;
} fields[] = { { "model", offsetof(WdrItineraryDisk, model) },
	{ "serial", offsetof(WdrItineraryDisk, serial) },
	{ "disk identifier", offsetof(WdrItineraryDisk, table_id) } };

START_TEST(another_disk_is_refused)
{
	WdrItineraryDisk then = { .name = (char *)"sda",
		.model = (char *)"m",
		.serial = (char *)"s",
		.table_id = (char *)"i",
		.size = 1000,
		.table = WDR_TABLE_MBR };
	WdrItineraryDisk now = then;
	char **field = (char **)(void *)((uint8_t *)&now + fields[_i].offset);

	sup_ok(wdr_itinerary_check_disk(&then, &now, "target", &error));
	*field = (char *)"other";
	sup_fails(WDR_ERROR_REFUSED, fields[_i].what,
		wdr_itinerary_check_disk(&then, &now, "target", &error));
	*field = NULL;
	sup_fails(WDR_ERROR_REFUSED, "is unknown",
		wdr_itinerary_check_disk(&then, &now, "target", &error));
	now = then;
	now.size = 1001;
	sup_fails(
		WDR_ERROR_REFUSED, "size", wdr_itinerary_check_disk(&then, &now, "target", &error));
	now = then;
	now.table = WDR_TABLE_GPT;
	sup_fails(WDR_ERROR_REFUSED, "was MBR and is GPT",
		wdr_itinerary_check_disk(&then, &now, "target", &error));
}
END_TEST

Suite *suite_itinerary(void)
{
	Suite *s = suite_create("plan/itinerary");
	TCase *t = tcase_create("itinerary");

	tcase_add_test(t, names_of_any_bytes);
	tcase_add_test(t, what_is_read_is_written_again);
	tcase_add_loop_test(t, changed_by_hand, 0, (int)G_N_ELEMENTS(changes));
	tcase_add_loop_test(t, logical_partitions_changed_by_hand, 0, (int)G_N_ELEMENTS(logical));
	tcase_add_test(t, a_logical_partition_in_nothing);
	tcase_add_test(t, cut_off_anywhere);
	tcase_add_test(t, nested_beyond_reason);
	tcase_add_loop_test(t, another_disk_is_refused, 0, (int)G_N_ELEMENTS(fields));
	suite_add_tcase(s, t);
	return s;
}
