/* Helpers to make up trees of files. */
#include "sample/entries.h"

#include "boot/formats/image.h"

#include <string.h>

/* 2026-05-04 06:30:00Z, a dawn count. */
#define DAWN INT64_C(1777876200)

WdrEntry wdr_sample_entry(WdrKind kind, uint32_t mode, uint32_t owner)
{
	WdrTime t = { DAWN, 123456789 };

	return (WdrEntry){ .kind = kind,
		.mode = mode,
		.uid = owner,
		.gid = owner,
		.atime = t,
		.mtime = t,
		.ctime = t,
		.crtime = t };
}

uint64_t wdr_sample_file(WdrMemoryVolume *m, const char *path, uint32_t mode, uint32_t owner)
{
	WdrEntry e = wdr_sample_entry(WDR_KIND_FILE, mode, owner);

	return wdr_memory_volume_add(m, path, &e);
}

void wdr_sample_text(WdrMemoryVolume *m, const char *path, const char *text)
{
	wdr_memory_volume_put(m, wdr_sample_file(m, path, 0644, 0), 0, text, strlen(text));
}

void wdr_sample_bytes(WdrMemoryVolume *m, const char *path, uint32_t mode, uint64_t len)
{
	wdr_memory_volume_generate(m, wdr_sample_file(m, path, mode, 0), 0, len, g_str_hash(path));
}

void wdr_sample_folders(WdrMemoryVolume *m, const char *const *paths, size_t n)
{
	WdrEntry e = wdr_sample_entry(WDR_KIND_FOLDER, 0755, 0);

	for (size_t i = 0; i < n; i++)
		wdr_memory_volume_add(m, paths[i], &e);
}

void wdr_sample_link(WdrMemoryVolume *m, const char *path, const char *target)
{
	WdrEntry e = wdr_sample_entry(WDR_KIND_SYMLINK, 0777, 0);

	e.target = (char *)target;
	wdr_memory_volume_add(m, path, &e);
}

void wdr_sample_image(
	WdrMemoryVolume *m, const char *path, uint8_t type, const void *data, size_t len)
{
	g_autofree char *name = g_path_get_basename(path);
	g_autoptr(GBytes) bytes = wdr_loader_image_wrap(type, name, data, len);

	wdr_memory_volume_put(m, wdr_sample_file(m, path, 0644, 0), 0,
		g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes));
}

void wdr_sample_texts(WdrMemoryVolume *m, const WdrSampleText *texts, size_t n)
{
	for (size_t i = 0; i < n; i++)
		wdr_sample_text(m, texts[i].path, texts[i].text);
}
