/* Makes UEFI programs; see boot/formats/efi_program.h for the format. */
#include "sample/efi_file.h"

#include "base/cursor.h"

#include <string.h>

enum {
	PE_AT = 0x80,
	OPTIONAL_AT = PE_AT + 24,
	OPTIONAL_BYTES = 240,
	SECTIONS_AT = OPTIONAL_AT + OPTIONAL_BYTES,
	SECTION_BYTES = 40,
	HEADERS_BYTES = 1024,
	FILE_STEP = 512,
	MEMORY_STEP = 4096,
	CODE_BYTES = 6000,
};

static size_t up(size_t n, size_t step)
{
	return (n + step - 1) / step * step;
}

static void begin(GByteArray *to, uint16_t machine, size_t n)
{
	g_byte_array_set_size(to, HEADERS_BYTES);
	memset(to->data, 0, HEADERS_BYTES);
	memcpy(to->data, "MZ", 2);
	wdr_put_le32(to->data + 0x3c, PE_AT);
	memcpy(to->data + PE_AT, "PE\0\0", 4);
	wdr_put_le16(to->data + PE_AT + 4, machine);
	wdr_put_le16(to->data + PE_AT + 6, (uint16_t)n);
	wdr_put_le16(to->data + PE_AT + 20, OPTIONAL_BYTES);
	wdr_put_le16(to->data + OPTIONAL_AT, 0x20b);
	wdr_put_le32(to->data + OPTIONAL_AT + 32, MEMORY_STEP);
	wdr_put_le32(to->data + OPTIONAL_AT + 36, FILE_STEP);
	wdr_put_le16(to->data + OPTIONAL_AT + 68, 10);
	wdr_put_le32(to->data + OPTIONAL_AT + 108, 16);
}

/* Returns the address that comes next. */
static size_t add(GByteArray *to, size_t index, size_t address, const WdrSampleSection *s)
{
	size_t at = to->len;
	size_t room = up(s->len, FILE_STEP);
	uint8_t *header = NULL;

	g_byte_array_set_size(to, (guint)(at + room));
	memset(to->data + at, 0, room);
	memcpy(to->data + at, s->bytes, s->len);
	header = to->data + SECTIONS_AT + index * SECTION_BYTES;
	memcpy(header, s->name, strlen(s->name));
	wdr_put_le32(header + 8, (uint32_t)s->len);
	wdr_put_le32(header + 12, (uint32_t)address);
	wdr_put_le32(header + 16, (uint32_t)room);
	wdr_put_le32(header + 20, (uint32_t)at);
	return up(address + s->len, MEMORY_STEP);
}

GBytes *wdr_sample_efi(uint16_t machine, const WdrSampleSection *sections, size_t n)
{
	GByteArray *to = g_byte_array_new();
	uint8_t code[CODE_BYTES];
	const WdrSampleSection text = { ".text", code, sizeof(code) };

	for (size_t i = 0; i < sizeof(code); i++)
		code[i] = (uint8_t)(i * 2654435761u >> 11);
	begin(to, machine, n + 1);
	size_t address = add(to, 0, MEMORY_STEP, &text);
	for (size_t i = 0; i < n; i++)
		address = add(to, i + 1, address, &sections[i]);
	return g_byte_array_free_to_bytes(to);
}

/* A module of GRUB's: its type, its size with this header, and a text that 0s fill up. */
static void add_object(GByteArray *to, uint32_t type, const char *text)
{
	guint at = to->len;
	size_t room = up(strlen(text) + 1, 8);

	g_byte_array_set_size(to, (guint)(at + 8 + room));
	memset(to->data + at, 0, 8 + room);
	wdr_put_le32(to->data + at, type);
	wdr_put_le32(to->data + at + 4, (uint32_t)(8 + room));
	memcpy(to->data + at + 8, text, strlen(text));
}

GBytes *wdr_sample_grub(uint16_t machine, const char *config, const char *prefix)
{
	enum { INFO_BYTES = 24, MODULE = 0, CONFIG = 2, PREFIX = 3 };
	g_autoptr(GByteArray) mods = g_byte_array_new();

	g_byte_array_set_size(mods, INFO_BYTES);
	memset(mods->data, 0, INFO_BYTES);
	add_object(mods, MODULE, "code of a module");
	if (config)
		add_object(mods, CONFIG, config);
	add_object(mods, PREFIX, prefix);
	wdr_put_le32(mods->data, 0x676d696d);
	wdr_put_le64(mods->data + 8, INFO_BYTES);
	wdr_put_le64(mods->data + 16, mods->len);
	const WdrSampleSection s = { "mods", mods->data, mods->len };
	return wdr_sample_efi(machine, &s, 1);
}

GBytes *wdr_sample_shim(uint16_t machine)
{
	static const char certificate[] = "a certificate of the field station";
	const WdrSampleSection s = { ".vendor_", certificate, sizeof(certificate) };

	return wdr_sample_efi(machine, &s, 1);
}

GBytes *wdr_sample_systemd_boot(uint16_t machine)
{
	static const char magic[] = "#### LoaderInfo: systemd-boot 252.39 ####";
	const WdrSampleSection s = { ".sdmagic", magic, sizeof(magic) };

	return wdr_sample_efi(machine, &s, 1);
}

GBytes *wdr_sample_unified(
	uint16_t machine, const char *arguments, GBytes *kernel, GBytes *initramfs)
{
	static const char release[] = "ID=field\nVERSION_ID=12\nPRETTY_NAME=\"Field\"\n";
	const WdrSampleSection sections[] = {
		{ ".osrel", release, sizeof(release) - 1 },
		{ ".cmdline", arguments, strlen(arguments) },
		{ ".linux", g_bytes_get_data(kernel, NULL), g_bytes_get_size(kernel) },
		{ ".initrd", g_bytes_get_data(initramfs, NULL), g_bytes_get_size(initramfs) },
	};

	return wdr_sample_efi(machine, sections, G_N_ELEMENTS(sections));
}
