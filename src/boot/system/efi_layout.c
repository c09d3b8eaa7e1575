/* Where UEFI programs and the files of their loaders lie on a disk. */
#include "boot/system/system.h"

#include "volume/eachfile.h"
#include "volume/lookup.h"

#include <string.h>

static const char esp_guid[] = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";
static const char xbootldr_guid[] = "bc13c2ff-59e6-4262-a352-b275fd6f7172";

bool wdr_efi_is_system_partition(const WdrSystem *s, const WdrPartition *p)
{
	bool is_gpt = s->table->kind == WDR_TABLE_GPT;

	return p->type && g_ascii_strcasecmp(p->type, is_gpt ? esp_guid : "ef") == 0;
}

static bool has(const WdrSystemPart *p, const char *path)
{
	g_auto(WdrEntry) entry = { 0 };

	return p->volume && wdr_follow(p->volume, path, NULL, NULL, &entry);
}

WdrSystemPart *wdr_efi_other_boot(const WdrSystem *s, const char **ret_folder)
{
	static const char *const signs[] = { "grub/grub.cfg", "grub2/grub.cfg", "loader/entries" };

	for (guint i = 0; i < s->parts->len; i++) {
		WdrSystemPart *p = s->parts->pdata[i];
		bool is_loaders = s->table->kind == WDR_TABLE_GPT &&
				  g_strcmp0(p->partition->type, xbootldr_guid) == 0;
		for (size_t k = 0; k < G_N_ELEMENTS(signs); k++)
			is_loaders |= p->probe.type && g_str_has_prefix(p->probe.type, "ext") &&
				      has(p, signs[k]);
		*ret_folder = "";
		if (p->volume && p != s->boot && p != s->root && is_loaders)
			return p;
	}
	for (size_t k = 0; s->root && k < G_N_ELEMENTS(signs); k++) {
		g_autofree char *path = g_strconcat("boot/", signs[k], NULL);
		*ret_folder = "boot/";
		if (has(s->root, path))
			return s->root;
	}
	return NULL;
}

static void add_program(void *data, const WdrNode *node, WdrEntry *entry)
{
	size_t len = strlen(node->path);
	bool is_program = len > 8 && g_ascii_strncasecmp(node->path, "efi/", 4) == 0 &&
			  g_ascii_strcasecmp(node->path + len - 4, ".efi") == 0;

	if (is_program && entry->kind == WDR_KIND_FILE && entry->size > 0)
		g_ptr_array_add(data, g_strdup(node->path));
}

GPtrArray *wdr_efi_programs(const WdrSystemPart *esp)
{
	GPtrArray *all = g_ptr_array_new_with_free_func(g_free);

	if (esp->volume)
		wdr_each_file(esp->volume, "", add_program, all, NULL);
	return all;
}

/* The first of the programs that begins so; capitals do not matter. */
static char *find_program(const WdrSystemPart *esp, const char *const *starts, size_t n)
{
	g_autoptr(GPtrArray) all = wdr_efi_programs(esp);

	for (size_t k = 0; k < n; k++) {
		for (guint i = 0; i < all->len; i++) {
			const char *path = all->pdata[i];
			/* Behind the folder of whoever installed it. */
			const char *name = strchr(path + strlen("efi/"), '/');
			bool is_whole = strchr(starts[k], '/') != NULL;
			const char *compared = is_whole ? path : name ? name + 1 : "";
			if (g_ascii_strncasecmp(compared, starts[k], strlen(starts[k])) == 0)
				return g_strdup(path);
		}
	}
	return NULL;
}

char *wdr_efi_removable(const WdrSystemPart *esp)
{
	static const char *const names[] = { "EFI/BOOT/BOOTAA64.EFI", "EFI/BOOT/BOOTX64.EFI",
		"EFI/BOOT/BOOTRISCV64.EFI", "EFI/BOOT/BOOTARM.EFI", "EFI/BOOT/BOOTIA32.EFI" };

	return find_program(esp, names, G_N_ELEMENTS(names));
}

char *wdr_efi_installed(const WdrSystemPart *esp)
{
	static const char *const names[] = { "systemd-boot", "shim", "grub", "EFI/Linux/" };
	char *found = find_program(esp, names, G_N_ELEMENTS(names));

	return found ? found : wdr_efi_removable(esp);
}

char *wdr_efi_first_program(const WdrSystemPart *esp)
{
	static const char *const any[] = { "EFI/" };
	char *found = wdr_efi_removable(esp);

	found = found ? found : wdr_efi_installed(esp);
	return found ? found : find_program(esp, any, 1);
}
