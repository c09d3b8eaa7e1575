/* What links copy. */
#include "support.h"

#include "disk/link.h"

#include <string.h>

Suite *suite_link(void);

/* From the standards' own tables of what is left after encoding. */
static const struct {
	const char *text;
	uint64_t rate;
} rates[] = {
	{ "PCIe 2.5 GT/s x1", 250000000 },
	{ "PCIe 5.0 GT/s x1", 500000000 },
	{ "PCIe 5.0 GT/s x4", 2000000000 },
	{ "PCIe 8.0 GT/s x1", 984615384 },
	{ "PCIe 16.0 GT/s x4", 7876923076 },
	{ "USB 12 Mbit/s", 1500000 },
	{ "USB 480 Mbit/s", 53248000 },
	{ "USB 5000 Mbit/s", 500000000 },
	{ "USB 10000 Mbit/s", 1212121212 },
	{ "something else", 0 },
	{ "PCIe", 0 },
	{ "PCIe 5.0 GT/s", 0 },
	{ NULL, 0 },
};

START_TEST(rate_of_links)
{
	ck_assert_uint_eq(wdr_link_rate(rates[_i].text), rates[_i].rate);
}
END_TEST

static const struct {
	const char *ios, *text;
	uint64_t rate;
} buses[] = {
	{ "clock:\t\t200000000 Hz\nactual clock:\t199000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t6 "
	  "(sd uhs SDR104)\n",
		"sd uhs SDR104, 199 MHz x 4", 99500000 },
	{ "clock:\t\t50000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t2 (sd high-speed)\n",
		"sd high-speed, 50 MHz x 4", 25000000 },
	{ "clock:\t\t50000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t7 (sd uhs DDR50)\n",
		"sd uhs DDR50, 50 MHz x 4", 50000000 },
	{ "clock:\t\t200000000 Hz\nbus width:\t3 (8 bits)\ntiming spec:\t10 (mmc HS400)\n",
		"mmc HS400, 200 MHz x 8", 400000000 },
	{ "clock:\t\t0 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t0 (legacy)\n", NULL, 0 },
	{ "clock:\t\t50000000 Hz\nbus width:\t99 (4 bits)\ntiming spec:\t0 (legacy)\n", NULL, 0 },
	{ "clock:\t\t50000000 Hz\nbus width:\t2\ntiming spec:\t0", NULL, 0 },
	{ "", NULL, 0 },
};

START_TEST(bus_of_cards)
{
	g_auto(WdrLink) link = wdr_link_of_card_bus(buses[_i].ios);

	ck_assert_pstr_eq(link.text, buses[_i].text);
	ck_assert_uint_eq(link.rate, buses[_i].rate);
}
END_TEST

/* What a kernel shows, in a folder. */
static WdrWorld *small_machine(void)
{
	WdrWorld *world = NULL;
	const char *const files[][2] = {
		{ "sys/block/sda/stat", "  10 0 2000 5 7 0 400 9 0 0 0\n" },
		{ "sys/block/sda/size", "2048\n" },
		{ "sys/block/nvme0n1/device/hwmon3/temp1_input", "81850\n" },
		{ "dev/none", "" },
		{ "root/none", "" },
	};

	for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
		g_autofree char *folder = g_path_get_dirname(sup_path(files[i][0]));
		SUP_TOOL("mkdir", "-p", folder);
		sup_write(sup_path(files[i][0]), files[i][1]);
	}
	sup_ok(wdr_world_new(sup_folder(), &world, &error));
	return world;
}

START_TEST(traffic_and_heat)
{
	g_autoptr(WdrWorld) world = small_machine();
	uint64_t read = 0;
	uint64_t written = 0;
	int celsius = 0;

	ck_assert(wdr_disk_traffic(world, "sda", &read, &written));
	ck_assert_uint_eq(read, UINT64_C(2000) * 512);
	ck_assert_uint_eq(written, UINT64_C(400) * 512);
	ck_assert(!wdr_disk_traffic(world, "sdb", &read, &written));
	ck_assert(wdr_disk_temperature(world, "nvme0n1", &celsius));
	ck_assert_int_eq(celsius, 81);
	ck_assert(!wdr_disk_temperature(world, "sda", &celsius));
}
END_TEST

Suite *suite_link(void)
{
	Suite *s = suite_create("disk/link");
	TCase *tc = tcase_create("link");

	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_loop_test(tc, rate_of_links, 0, G_N_ELEMENTS(rates));
	tcase_add_loop_test(tc, bus_of_cards, 0, G_N_ELEMENTS(buses));
	tcase_add_test(tc, traffic_and_heat);
	suite_add_tcase(s, tc);
	return s;
}
