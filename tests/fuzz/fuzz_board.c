/* Any bytes as what a board tells of itself and as an fstab: no crash, no hang. */
#include "boot/board/bootorder.h"

#include "boot/board/device_tree.h"
#include "boot/board/eeprom.h"
#include "boot/board/firmware_build.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "boot/board/ubootenv.h"
#include "boot/formats/configlines.h"
#include "boot/formats/fstab.h"
#include "boot/kernel/moduleindex.h"

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* What a setting's line becomes must read as it was asked for, and taking it out again, too. */
static void try_setting(const char *text, size_t len)
{
	static const char *const board[] = { "pi5", NULL };
	static const WdrConfigSetting setting = { "dtparam", "pciex1_gen", "3" };
	unsigned line = 0;
	size_t with_len = 0;
	g_autoptr(GBytes) with = wdr_config_set(text, len, board, &setting, true);
	const char *bytes = g_bytes_get_data(with, &with_len);
	g_autoptr(GBytes) without = wdr_config_set(bytes, with_len, board, &setting, false);
	size_t without_len = 0;
	const char *left = g_bytes_get_data(without, &without_len);

	if (wdr_config_state(bytes, with_len, board, &setting, &line) == WDR_SETTING_OFF ||
		wdr_config_state(left, without_len, board, &setting, &line) == WDR_SETTING_ON)
		abort();
}

/* An environment that is built reads back. */
static void try_environment(const char *text)
{
	g_autoptr(GHashTable) values = wdr_uboot_env_from_text(text);
	g_autoptr(GHashTable) back = NULL;
	g_autoptr(GBytes) bytes = NULL;
	uint8_t flag = 0;

	if (!wdr_uboot_env_build(values, 4096, 7, &bytes, NULL))
		return;
	if (!wdr_uboot_env_parse(
		    g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes), &back, &flag, NULL) ||
		flag != 7 || g_hash_table_size(back) != g_hash_table_size(values))
		abort();
}

/* An order in its one form is the same order. */
static void try_number(const WdrBootOrder *order)
{
	g_autofree char *number = wdr_boot_order_number(order);
	WdrBootOrder again = { 0 };

	if (!wdr_boot_order_parse(number, &again, NULL) || again.n != order->n ||
		memcmp(again.digits, order->digits, sizeof again.digits) != 0)
		abort();
}

static void try_texts(const char *text)
{
	g_autofree char *with = wdr_eeprom_with(text, "BOOT_ORDER", "0xf416");
	g_autofree char *order = wdr_eeprom_value(with, "BOOT_ORDER");

	if (g_strcmp0(order, "0xf416") != 0)
		abort();
	g_bytes_unref(wdr_module_index_of_dep(text));
	g_bytes_unref(wdr_module_index_of_alias(text));
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autofree char *text = g_strndup((const char *)data, size);
	g_autoptr(GPtrArray) lines = wdr_fstab_lines((const char *)data, size);
	g_autoptr(GHashTable) environment = NULL;
	g_autoptr(GHashTable) one_of_two = NULL;
	WdrBootOrder order;
	uint8_t flag = 0;

	if (!wdr_uboot_env_parse(data, size, &environment, NULL, NULL) &&
		!wdr_uboot_env_parse(data, size, &one_of_two, &flag, NULL))
		g_debug("no environment");
	g_auto(WdrLoaderFile) file = { 0 };
	g_ptr_array_unref(wdr_device_trees_in(data, size));
	g_free(wdr_loader_in(data, size));
	wdr_loader_file_look(data, size, &file);
	(void)wdr_build_day(data, size);
	try_setting((const char *)data, size);
	try_environment(text);
	try_texts(text);
	for (guint i = 0; i < lines->len; i++)
		(void)wdr_fstab_has_option(lines->pdata[i], "nofail");
	if (wdr_boot_order_parse(text, &order, NULL)) {
		try_number(&order);
		g_free(wdr_boot_order_words(&order));
		g_free(wdr_boot_order_with_first(&order, "NVMe"));
	}
	return 0;
}
