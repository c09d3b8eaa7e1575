/* Any bytes as what a board tells of itself and as an fstab: no crash, no hang. */
#include "boot/bootorder.h"
#include "boot/fstab.h"
#include "boot/loaderarea.h"
#include "boot/ubootenv.h"

#include <stdint.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

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
	g_free(wdr_loader_in(data, size));
	for (guint i = 0; i < lines->len; i++)
		(void)wdr_fstab_has_option(lines->pdata[i], "nofail");
	if (wdr_boot_order_parse(text, &order, NULL)) {
		g_free(wdr_boot_order_words(&order));
		g_free(wdr_boot_order_with_first(&order, "NVMe"));
	}
	return 0;
}
