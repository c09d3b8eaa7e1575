/* Records of measurements, written and read; and what is said of figures. */
#include "support.h"

#include "pace/pace_record.h"

#include <string.h>

Suite *suite_pace_record(void);

static WdrPaceFigure steady(double per_s)
{
	WdrPaceFigure f = {
		.is_there = true, .median = per_s, .min = per_s * 0.98, .max = per_s * 1.02
	};

	for (size_t i = 0; i < WDR_PACE_ROUNDS; i++)
		f.bytes_per_s[i] = per_s;
	f.requests = 500;
	f.bytes = 500 * 1048576;
	f.latency_median = 23500;
	f.latency_p99 = 81000;
	f.latency_max = 1234500;
	f.cpu = 0.0123;
	return f;
}

static WdrPaced *card(void)
{
	WdrPaced *p = wdr_paced_new("mmcblk0", "disk");

	p->disk = g_strdup("mmcblk0");
	p->medium = g_strdup("SD card");
	p->serial = g_strdup("0x\xff");
	p->link = (WdrLink){ g_strdup("sd uhs SDR104, 200 MHz x 4"), 100000000 };
	p->size = 31914983424;
	p->span = p->size;
	p->is_past_cache = true;
	p->figures[WDR_PACE_READ_IN_SEQUENCE] = steady(43.8e6);
	p->figures[WDR_PACE_COMMIT] = steady(2.1e6);
	g_ptr_array_add(p->warnings, g_strdup("a warning"));
	return p;
}

static WdrPaceRecord *record(void)
{
	WdrPaceRecord *r = wdr_pace_record_new(sup_world(), 5);

	wdr_pace_record_add(r, card());
	return r;
}

START_TEST(comes_back_as_it_was)
{
	g_autoptr(WdrPaceRecord) r = record();
	g_autoptr(WdrPaceRecord) back = NULL;

	sup_ok(wdr_pace_record_save(r, sup_path("a.json"), &error));
	sup_ok(wdr_pace_record_load(sup_path("a.json"), &back, &error));
	ck_assert_int_eq(back->at, r->at);
	ck_assert_uint_eq(back->measured->len, 1);
	const WdrPaced *p = back->measured->pdata[0];
	const WdrPaceFigure *f = &p->figures[WDR_PACE_READ_IN_SEQUENCE];
	ck_assert_str_eq(p->name, "mmcblk0");
	ck_assert_str_eq(p->medium, "SD card");
	ck_assert_str_eq(p->serial, "0x\\xff");
	ck_assert_str_eq(p->link.text, "sd uhs SDR104, 200 MHz x 4");
	ck_assert_uint_eq(p->link.rate, 100000000);
	ck_assert_uint_eq(p->size, UINT64_C(31914983424));
	ck_assert(p->is_past_cache && !p->is_stand_in && !p->failure && !p->label);
	ck_assert(f->is_there && f->median == 43.8e6 && f->bytes_per_s[4] == 43.8e6);
	ck_assert_uint_eq(f->latency_median, 23500);
	ck_assert_uint_eq(f->latency_p99, 81000);
	ck_assert(!p->figures[WDR_PACE_READ_MANY].is_there);
	ck_assert(p->figures[WDR_PACE_COMMIT].is_there);
	ck_assert_str_eq(p->warnings->pdata[0], "a warning");
	/* Others read it: jq is nobody's parser of ours. */
	ck_assert_str_eq(
		SUP_TOOL("jq", "-r", ".measured[0].figures[0].requests_per_s", sup_path("a.json")),
		"41.8\n");
}
END_TEST

/* However it is cut off, it is told, and nothing is believed. */
START_TEST(cut_off_anywhere)
{
	g_autoptr(WdrPaceRecord) r = record();
	size_t len = 0;

	sup_ok(wdr_pace_record_save(r, sup_path("a.json"), &error));
	g_autofree char *text = sup_read(sup_path("a.json"), &len);
	for (size_t n = 0; n + 2 < len; n++) {
		WdrPaceRecord *back = NULL;
		g_autoptr(GError) error = NULL;
		ck_assert_msg(!wdr_pace_record_parse("a.json", text, n, &back, &error), "%zu", n);
		ck_assert(g_error_matches(error, WDR_ERROR, WDR_ERROR_FORMAT));
		ck_assert_ptr_null(back);
	}
}
END_TEST

static const struct {
	const char *old, *new, *says;
} changes[] = {
	{ "wanderitas-pace/3", "wanderitas-pace/9", "of another version: 'wanderitas-pace/9'" },
	{ "wanderitas-pace/3", "wanderitas-move/2", "no record of pace" },
	{ "\"min\": 4", "\"min\": 9", "read-in-sequence makes no sense" },
	{ "\"bytes_per_s\": 43800000", "\"bytes_per_s\": 1e300",
		"read-in-sequence makes no sense" },
	{ "\"rounds\": [", "\"rounds\": [1,", "read-in-sequence makes no sense" },
	{ "\"requests\": 500", "\"requests\": -1", "read-in-sequence makes no sense" },
	{ "\"name\": \"mmcblk0\"", "\"name\": 5", "what was measured makes no sense" },
	{ "\"what\": \"read-in-sequence\"", "\"what\": null", "a figure makes no sense" },
	/* What a later version may measure is none of ours. */
	{ "\"what\": \"read-in-sequence\"", "\"what\": \"read-sideways\"", NULL },
	{ "\"past_cache\"", "\"past_caches\"", NULL },
};

START_TEST(changed_by_hand)
{
	g_autoptr(WdrPaceRecord) r = record();
	g_autoptr(WdrPaceRecord) back = NULL;

	sup_ok(wdr_pace_record_save(r, sup_path("a.json"), &error));
	g_autofree char *text = sup_read(sup_path("a.json"), NULL);
	g_autoptr(GString) changed = g_string_new(text);
	ck_assert_uint_eq(g_string_replace(changed, changes[_i].old, changes[_i].new, 1), 1);
	if (changes[_i].says)
		sup_fails(WDR_ERROR_FORMAT, changes[_i].says,
			wdr_pace_record_parse("a.json", changed->str, changed->len, &back, &error));
	else
		sup_ok(wdr_pace_record_parse("a.json", changed->str, changed->len, &back, &error));
}
END_TEST

START_TEST(before_and_after_stand_together)
{
	WdrPaceRecord *other = record();
	g_autoptr(WdrPaceRecord) r = record();

	wdr_pace_record_add(r, wdr_paced_new("nvme0n1", "disk"));
	wdr_pace_record_take(r, other, "before", false);
	ck_assert_uint_eq(r->measured->len, 3);
	g_autofree char *title = wdr_paced_title(r->measured->pdata[1]);
	ck_assert_str_eq(title, "mmcblk0 (before)");
}
END_TEST

/* ---- what is said of figures ---- */

static void put(const char *path, const char *text)
{
	g_autofree char *folder = g_path_get_dirname(sup_path(path));

	SUP_TOOL("mkdir", "-p", folder);
	sup_write(sup_path(path), text);
}

static void link_to(const char *path, const char *target)
{
	g_autofree char *folder = g_path_get_dirname(sup_path(path));

	SUP_TOOL("mkdir", "-p", folder);
	SUP_TOOL("ln", "-s", target, sup_path(path));
}

/* A board with a USB disk behind a slow driver, a hot NVMe drive, and a card. */
static WdrWorld *machine(const char *usb_speed)
{
	WdrWorld *world = NULL;

	put("dev/kmsg", "3,1,1,-;nvme nvme0: I/O 5 QID 1 timeout, aborting\n");
	put("root/none", "");
	put("sys/devices/usb1/1-1/bMaxPacketSize0", "9\n");
	put("sys/devices/usb1/1-1/speed", usb_speed);
	put("sys/devices/usb1/1-1/1-1:1.0/bInterfaceClass", "08\n");
	link_to("sys/devices/usb1/1-1/1-1:1.0/driver", "../../../../bus/usb/drivers/usb-storage");
	put("sys/devices/usb1/1-1/1-1:1.0/host0/model", "Reedbed\n");
	put("sys/block/sda/size", "1000000\n");
	link_to("sys/block/sda/device", "../../devices/usb1/1-1/1-1:1.0/host0");
	put("sys/block/nvme0n1/size", "1000000\n");
	put("sys/block/nvme0n1/device/hwmon0/temp1_input", "79000\n");
	put("sys/block/nvme0n1/device/device/current_link_speed", "5.0 GT/s PCIe\n");
	put("sys/block/nvme0n1/device/device/current_link_width", "1\n");
	put("sys/block/nvme0n1/device/device/max_link_speed", "8.0 GT/s PCIe\n");
	put("sys/block/nvme0n1/device/device/max_link_width", "4\n");
	put("sys/block/mmcblk0/size", "1000000\n");
	put("sys/block/mmcblk0/device/type", "SD\n");
	sup_ok(wdr_world_new(sup_folder(), &world, &error));
	return world;
}

static const struct {
	const char *disk, *usb_speed, *link;
	double rate;
	bool is_cached, is_stand_in;
	double cpu, zeros;
	const char *says[3];
} judged[] = {
	{ "sda", "5000\n", "USB 5000 Mbit/s", 60e6, false, false, 0.01, 0,
		{ "far below its link, at 12 % of it", "driven by usb-storage" } },
	{ "sda", "480\n", "USB 480 Mbit/s", 42e6, false, false, 0.01, 0,
		{ "as fast as its link lets it be, and that is slow: a USB 3 port" } },
	{ "nvme0n1", "480\n", "PCIe 5.0 GT/s x1", 120e6, false, false, 0.01, 0,
		{ "far below its link, at 24 % of it", "it is at 79 degrees",
			"timeout, aborting" } },
	{ "nvme0n1", "480\n", "PCIe 5.0 GT/s x1", 440e6, false, false, 0.01, 0,
		{ "the drive itself can do PCIe 8.0 GT/s x4" } },
	{ "nvme0n1", "480\n", "PCIe 5.0 GT/s x1", 2000e6, false, false, 0.01, 0,
		{ "more than its link allows" } },
	{ "mmcblk0", "480\n", "sd uhs SDR104, 200 MHz x 4", 43e6, false, false, 0.01, 0,
		{ "at 43 % of it. Likely causes: most cards are slower than their bus" } },
	{ "mmcblk0", "480\n", NULL, 43e6, true, false, 0.01, 0,
		{ "the figures may be those of this machine's memory" } },
	{ "mmcblk0", "480\n", NULL, 43e6, false, false, 0.99, 0,
		{ "this machine's processor was the limit" } },
	{ "mmcblk0", "480\n", NULL, 43e6, false, false, 0.01, 0.8,
		{ "80 % of what was read were zeros" } },
	/* Of a file nothing is said about the bus. */
	{ "nvme0n1", "480\n", "PCIe 5.0 GT/s x1", 20e6, false, true, 0.01, 0,
		{ "this is a file: the figures are those of the disk of this machine" } },
	/* Between: nothing to say. */
	{ "nvme0n1", "480\n", "PCIe 5.0 GT/s x1", 330e6, false, false, 0.01, 0, { NULL } },
};

START_TEST(says_what_is_to_be_said)
{
	g_autoptr(WdrWorld) world = machine(judged[_i].usb_speed);
	g_autoptr(WdrPaced) p = wdr_paced_new(judged[_i].disk, "disk");
	WdrPaceFigure *f = &p->figures[WDR_PACE_READ_IN_SEQUENCE];
	g_autoptr(GString) all = g_string_new(NULL);

	p->disk = g_strdup(judged[_i].disk);
	p->link.text = g_strdup(judged[_i].link);
	p->link.rate = g_strcmp0(judged[_i].disk, "mmcblk0") == 0 && judged[_i].link
			       ? 100000000
			       : wdr_link_rate(judged[_i].link);
	p->span = UINT64_C(1) << 34;
	p->is_past_cache = !judged[_i].is_cached;
	p->is_stand_in = judged[_i].is_stand_in;
	*f = steady(judged[_i].rate);
	f->cpu = judged[_i].cpu;
	f->zeros = judged[_i].zeros;
	wdr_paced_judge(world, p);
	for (guint i = 0; i < p->warnings->len; i++)
		g_string_append_printf(all, "%s\n", (char *)p->warnings->pdata[i]);
	for (size_t i = 0; i < 3 && judged[_i].says[i]; i++)
		ck_assert_msg(strstr(all->str, judged[_i].says[i]), "%s", all->str);
	ck_assert_msg(p->warnings->len == (judged[_i].says[0] ? 1 : 0), "%s", all->str);
}
END_TEST

Suite *suite_pace_record(void)
{
	Suite *s = suite_create("pace/pace_record");
	TCase *tc = tcase_create("pace_record");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, comes_back_as_it_was);
	tcase_add_test(tc, cut_off_anywhere);
	tcase_add_loop_test(tc, changed_by_hand, 0, G_N_ELEMENTS(changes));
	tcase_add_test(tc, before_and_after_stand_together);
	tcase_add_loop_test(tc, says_what_is_to_be_said, 0, G_N_ELEMENTS(judged));
	suite_add_tcase(s, tc);
	return s;
}
