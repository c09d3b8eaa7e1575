/* Boot files that several sample boards have. */
#include "sample/bootfiles.h"

#include "base/cursor.h"
#include "boot/kernel/newc.h"
#include "sample/entries.h"

#include <elf.h>
#include <string.h>
#include <zlib.h>

enum { BANNER_AT = 4096, HEAD_BYTES = 4352, ARM64_MAGIC_AT = 56, ELF_HEADER_BYTES = 64 };

/* A file that begins with `head`; the rest is made up. */
static void begin_with(WdrMemoryVolume *m, const char *path, uint32_t mode, const void *head,
	size_t head_len, uint64_t len)
{
	uint64_t id = wdr_sample_file(m, path, mode, 0);

	wdr_memory_volume_put(m, id, 0, head, head_len);
	if (len > head_len)
		wdr_memory_volume_generate(m, id, head_len, len - head_len, g_str_hash(path));
}

void wdr_sample_kernel(WdrMemoryVolume *m, const char *path, const char *release, uint64_t len)
{
	uint8_t head[HEAD_BYTES] = { 0 };

	memcpy(head + ARM64_MAGIC_AT, "ARM\x64", 4);
	g_snprintf((char *)head + BANNER_AT, HEAD_BYTES - BANNER_AT,
		"Linux version %s (warden@field-station) #1 SMP", release);
	begin_with(m, path, 0644, head, sizeof(head), len);
}

void wdr_sample_device_tree(WdrMemoryVolume *m, const char *path, uint64_t len)
{
	begin_with(m, path, 0644, "\xd0\x0d\xfe\xed", 4, len);
}

void wdr_sample_program(WdrMemoryVolume *m, const char *path, uint64_t len)
{
	uint8_t head[ELF_HEADER_BYTES] = { 0x7f, 'E', 'L', 'F', ELFCLASS64, ELFDATA2LSB,
		EV_CURRENT };

	wdr_put_le16(head + 16, ET_EXEC);
	wdr_put_le16(head + 18, EM_AARCH64);
	wdr_put_le32(head + 20, EV_CURRENT);
	wdr_put_le16(head + 52, ELF_HEADER_BYTES);
	begin_with(m, path, 0755, head, sizeof(head), len);
}

void wdr_sample_system(WdrMemoryVolume *m, unsigned tools)
{
	wdr_sample_link(m, "etc/os-release", "../usr/lib/os-release");
	wdr_sample_link(m, "lib", "usr/lib");
	wdr_sample_link(m, "sbin/init", "../usr/lib/systemd/systemd");
	wdr_sample_program(m, "usr/lib/systemd/systemd", 90000);
	for (unsigned i = 0; i < tools; i++) {
		g_autofree char *path = g_strdup_printf("usr/bin/tool-%03u", i);
		wdr_sample_bytes(m, path, 0755, 9000 + i * 1291 % 70000);
	}
}

/* ---- initramfs ---- */

/* These are small. */
static void add(WdrNewc *a, const char *path, unsigned mode, const void *data, size_t len)
{
	(void)!wdr_newc_add(a, path, mode, data, len, NULL);
}

/* Packed with gzip, without the time of day in it. */
static void append_packed(GByteArray *to, const GByteArray *plain)
{
	enum { GZIP_WINDOW = 15 + 16, MEMORY = 8 };
	z_stream z = { .next_in = plain->data, .avail_in = plain->len };
	guint had = to->len;

	if (deflateInit2(&z, Z_DEFAULT_COMPRESSION, Z_DEFLATED, GZIP_WINDOW, MEMORY,
		    Z_DEFAULT_STRATEGY) != Z_OK)
		return;
	g_byte_array_set_size(to, had + (guint)deflateBound(&z, plain->len));
	z.next_out = to->data + had;
	z.avail_out = to->len - had;
	(void)deflate(&z, Z_FINISH);
	g_byte_array_set_size(to, had + (guint)z.total_out);
	deflateEnd(&z);
}

/* As much of a module as anybody looks at: that it is one, and for which kernel. */
GBytes *wdr_sample_module(const char *path, const char *release)
{
	enum { MODULE_BYTES = 24000 };
	uint8_t *bytes = g_malloc0(MODULE_BYTES);

	memcpy(bytes,
		"\x7f"
		"ELF",
		4);
	for (size_t i = ELF_HEADER_BYTES; i < MODULE_BYTES; i++)
		bytes[i] = (uint8_t)(g_str_hash(path) >> i % 24);
	g_snprintf((char *)bytes + ELF_HEADER_BYTES, MODULE_BYTES - ELF_HEADER_BYTES,
		"vermagic=%s SMP preempt mod_unload aarch64", release);
	return g_bytes_new_take(bytes, MODULE_BYTES);
}

/* The kernel makes no folder by itself. */
static void add_folders(WdrNewc *a, GHashTable *has, const char *path)
{
	for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
		g_autofree char *folder = g_strndup(path, (size_t)(slash - path));
		if (!g_hash_table_contains(has, folder)) {
			add(a, folder, 0040755, NULL, 0);
			g_hash_table_add(has, g_steal_pointer(&folder));
		}
	}
}

static void add_modules(
	WdrNewc *a, const char *release, const char *const *modules, const char *index)
{
	g_autoptr(GHashTable) folders =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	g_autoptr(GString) loaded = g_string_new(NULL);
	g_autoptr(GString) dep = g_string_new(NULL);
	g_autofree char *folder = g_strconcat("lib/modules/", release, "/", NULL);
	g_autofree char *dep_file = g_strconcat(folder, "modules.dep", NULL);
	g_auto(GStrv) lines = g_strsplit(index ? index : "", "\n", -1);

	for (size_t i = 0; modules[i]; i++) {
		g_autofree char *path = g_strconcat(folder, modules[i], NULL);
		g_autofree char *name = g_path_get_basename(modules[i]);
		g_autoptr(GBytes) bytes = wdr_sample_module(modules[i], release);
		g_string_append_printf(loaded, "%.*s\n", (int)strcspn(name, "."), name);
		add_folders(a, folders, path);
		add(a, path, 0100644, g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes));
		for (size_t k = 0; lines[k]; k++) {
			if (strncmp(lines[k], modules[i], strlen(modules[i])) == 0)
				g_string_append_printf(dep, "%s\n", lines[k]);
		}
	}
	if (index)
		add(a, dep_file, 0100644, dep->str, dep->len);
	add_folders(a, folders, "conf/modules");
	add(a, "conf/modules", 0100644, loaded->str, loaded->len);
}

GBytes *wdr_sample_initramfs(
	const char *release, const char *const *modules, const char *index, uint64_t len)
{
	GByteArray *bytes = g_byte_array_new();
	g_autoptr(GHashTable) folders =
		g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	g_autofree uint8_t *firmware = g_malloc((gsize)len);
	g_autoptr(GByteArray) plain = g_byte_array_new();
	WdrNewc a;

	for (uint64_t i = 0; i < len; i++)
		firmware[i] = (uint8_t)(i * 2654435761u >> 13);
	wdr_newc_begin(&a, bytes, 0);
	add_folders(&a, folders, "kernel/firmware/station.bin");
	add(&a, "kernel/firmware/station.bin", 0100644, firmware, (size_t)len);
	wdr_newc_end(&a);
	wdr_newc_begin(&a, plain, 0);
	add(&a, "init", 0100755, "#!/bin/sh\n", 10);
	add_modules(&a, release, modules, index);
	wdr_newc_end(&a);
	append_packed(bytes, plain);
	return g_byte_array_free_to_bytes(bytes);
}

void wdr_sample_put(WdrMemoryVolume *m, const char *path, uint32_t mode, GBytes *bytes)
{
	wdr_memory_volume_put(m, wdr_sample_file(m, path, mode, 0), 0,
		g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes));
}
