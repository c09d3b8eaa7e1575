/* Any bytes as what UEFI firmware and its loaders read: a program, GRUB's menu, an entry of
 * systemd-boot, a stored entry of the firmware: no crash, no hang. */
#include "boot/board/efi_settings.h"
#include "boot/formats/efi_program.h"
#include "boot/formats/text_rooms.h"
#include "boot/system/efi_boot_priv.h"
#include "volume/memory.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void put(WdrMemoryVolume *m, const char *path, const uint8_t *data, size_t size)
{
	static const WdrEntry file = { .kind = WDR_KIND_FILE, .mode = 0644, .links = 1 };

	wdr_memory_volume_put(m, wdr_memory_volume_add(m, path, &file), 0, data, size);
}

/* A disk with one volume, which has the bytes as each of these files. */
static void follow(const uint8_t *data, size_t size)
{
	static const WdrEntry folder = { .kind = WDR_KIND_FOLDER, .mode = 0755 };
	static const char *const folders[] = { "EFI", "EFI/owl", "EFI/Linux", "loader",
		"loader/entries" };
	static const char *const files[] = { "EFI/owl/shimaa64.efi", "EFI/owl/grub.cfg",
		"EFI/owl/grubenv", "EFI/Linux/owl.efi", "loader/loader.conf",
		"loader/entries/owl+3-1.conf" };
	WdrMemoryVolume *m = wdr_memory_volume_new("esp");
	g_autoptr(WdrPartTable) table = wdr_parttable_new(WDR_TABLE_GPT);
	g_autoptr(GPtrArray) parts = g_ptr_array_new();
	WdrSystemPart esp = { .partition = wdr_parttable_add(table) };
	WdrSystem s = { .table = table, .parts = parts, .boot = &esp, .boot_folder = "" };

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++)
		wdr_memory_volume_add(m, folders[i], &folder);
	for (size_t i = 0; i < G_N_ELEMENTS(files); i++)
		put(m, files[i], data, size);
	esp.partition->number = 1;
	esp.probe.type = (char *)"vfat";
	g_autoptr(WdrVolume) volume = wdr_memory_volume_as_volume(m);
	esp.volume = volume;
	g_ptr_array_add(parts, &esp);
	wdr_efi_boot_free(wdr_efi_boot_follow(&s, NULL, files[0]));
	g_autoptr(WdrEfiBoot) grub = wdr_efi_boot_follow(&s, NULL, "nothing");
	WdrGrubStart start = { .part = &esp,
		.folder = "EFI/owl",
		.prefix = "/EFI/owl",
		.memdisk = data,
		.memdisk_bytes = size,
		.processor = "arm64" };
	wdr_grub_follow(&s, &start, grub);
	g_ptr_array_set_size(grub->faults, 0);
	wdr_loader_entries_follow(&s, &esp, grub);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	GArray *rooms = wdr_text_rooms((const char *)data, size);

	for (guint i = 0; rooms && i < rooms->len; i++) {
		const WdrTextRoom *r = &g_array_index(rooms, WdrTextRoom, i);
		g_assert(r->at <= size && r->room <= size - r->at && r->bytes <= r->room);
		g_assert(r->length_at == 0 || r->length_at <= size - 4);
	}
	if (rooms)
		g_array_unref(rooms);
	wdr_efi_option_free(wdr_efi_option_parse(1, data, size));
	follow(data, size);
	return 0;
}
