/* Any bytes as the indexes of a kernel's modules (form feeds stand between them), and as a module:
 * no crash, no hang, and no firmware from outside its folder. */
#include "boot/kernel/modules.h"

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void look(const WdrModules *m, const char *name)
{
	const GPtrArray *needs = wdr_modules_needs(m, name);
	const GPtrArray *wishes = wdr_modules_wishes(m, name);

	if (needs &&
		(wdr_modules_state(m, name) == WDR_MODULE_ABSENT || !wdr_modules_path(m, name)))
		abort();
	for (guint i = 0; wishes && i < wishes->len; i++) {
		const WdrModuleWish *w = wishes->pdata[i];
		if (!*w->name || (w->givers->len > 0 && !w->givers->pdata[0]))
			abort();
	}
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autofree char *text = g_strndup((const char *)data, size);
	g_auto(GStrv) parts = g_strsplit(text, "\f", 4);
	guint n = g_strv_length(parts);
	g_autofree char *info = g_malloc0(size + 1);

	memcpy(info, data, size);
	g_autoptr(WdrModules) m =
		wdr_modules_new(&(WdrModuleTexts){ n > 0 ? parts[0] : NULL, n > 1 ? parts[1] : NULL,
			n > 2 ? parts[2] : NULL, n > 3 ? parts[3] : NULL, info, size });
	look(m, "ext4");
	look(m, "nvme");
	g_autoptr(GPtrArray) firmware = wdr_module_firmware(data, size);
	for (guint i = 0; i < firmware->len; i++) {
		const char *name = firmware->pdata[i];
		if (!*name || *name == '/' || strstr(name, ".."))
			abort();
	}
	return 0;
}
