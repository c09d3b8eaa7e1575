/* Reads the headers of UEFI programs, and recognises loaders by their sections. */
#include "boot/formats/efi_program.h"

#include "base/cursor.h"
#include "boot/formats/mention.h"

#include <string.h>

enum {
	AT_PE = 0x3c,
	PE_MAGIC = 0x00004550,
	SECTIONS_MAX = 96,
	SECTION_BYTES = 40,
	NAME_BYTES = 8,
	OPTIONAL_32 = 0x10b,
	OPTIONAL_64 = 0x20b,
	SUBSYSTEM_AT = 68,
	/* Directories of the optional header: the certificates are the fifth. */
	CERTIFICATES_AT_32 = 96 + 4 * 8,
	CERTIFICATES_AT_64 = 112 + 4 * 8,
	GRUB_MAGIC = 0x676d696d,
	GRUB_MEMDISK = 1,
	GRUB_CONFIG = 2,
	GRUB_PREFIX = 3,
	GRUB_OBJECTS_MAX = 4096,
	GRUB_OBJECT_BYTES = 8,
};

typedef struct {
	const uint8_t *bytes;
	size_t len;
	WdrEfiProgram *ret;
	bool has_sbat_of_shim, has_profile;
} Parsing;

const char *wdr_efi_kind_name(WdrEfiKind kind)
{
	static const char *const names[] = { "a program that is not known", "shim",
		"shim's fallback", "GRUB", "systemd-boot", "a unified kernel image", "a kernel" };

	return names[kind];
}

const char *wdr_efi_machine_word(uint16_t machine)
{
	/* UEFI specification 2.10, 3.5.1.1: names of removable media's programs. */
	static const struct {
		uint16_t machine;
		const char *word;
	} words[] = { { 0x8664, "x64" }, { 0xaa64, "aa64" }, { 0x014c, "ia32" }, { 0x01c2, "arm" },
		{ 0x5064, "riscv64" } };

	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (words[i].machine == machine)
			return words[i].word;
	}
	return NULL;
}

/* ---- what is inside GRUB ---- */

/* A text that a 0 may end before the span does. */
static WdrEfiSpan text_span(const Parsing *p, size_t at, size_t room)
{
	WdrEfiSpan s = { at, strnlen((const char *)p->bytes + at, room), room, 0 };

	return s;
}

/* The modules lie one behind the other, each with its type and size, header included. */
static void take_objects(Parsing *p, size_t at, size_t end)
{
	for (unsigned i = 0; i < GRUB_OBJECTS_MAX && end - at >= GRUB_OBJECT_BYTES; i++) {
		uint32_t type = wdr_get_le32(p->bytes + at);
		uint32_t size = wdr_get_le32(p->bytes + at + 4);
		if (size <= GRUB_OBJECT_BYTES || size > end - at)
			return;
		size_t room = size - GRUB_OBJECT_BYTES;
		/* The 0 at its end has to stay. */
		if (type == GRUB_CONFIG)
			p->ret->config = text_span(p, at + GRUB_OBJECT_BYTES, room - 1);
		else if (type == GRUB_PREFIX)
			p->ret->prefix = text_span(p, at + GRUB_OBJECT_BYTES, room);
		else if (type == GRUB_MEMDISK)
			p->ret->memdisk = (WdrEfiSpan){ at + GRUB_OBJECT_BYTES, room, room, 0 };
		at += size;
	}
}

static void take_grub(Parsing *p, size_t at, size_t bytes)
{
	WdrCursor c = wdr_cursor(p->bytes + at, bytes);
	bool is_64 =
		p->ret->machine == 0x8664 || p->ret->machine == 0xaa64 || p->ret->machine == 0x5064;

	p->ret->kind = WDR_EFI_GRUB;
	if (wdr_cursor_le32(&c) != GRUB_MAGIC)
		return;
	if (is_64)
		wdr_cursor_skip(&c, 4);
	uint64_t offset = is_64 ? wdr_cursor_le64(&c) : wdr_cursor_le32(&c);
	uint64_t size = is_64 ? wdr_cursor_le64(&c) : wdr_cursor_le32(&c);
	if (wdr_cursor_overrun(&c) || size > bytes || offset > size)
		return;
	take_objects(p, at + (size_t)offset, at + (size_t)size);
}

/* ---- sections ---- */

/* "#### LoaderInfo: systemd-boot 252.39-1 ####" */
static void take_magic(Parsing *p, const char *text, size_t len)
{
	static const char before[] = "LoaderInfo: ";
	const char *found = memmem(text, len, before, sizeof(before) - 1);

	if (!found)
		return;
	found += sizeof(before) - 1;
	size_t left = len - (size_t)(found - text);
	const char *end = memmem(found, left, " ####", 5);
	WdrEfiSpan *v = &p->ret->version;
	v->at = (size_t)(found - (const char *)p->bytes);
	v->bytes = end ? (size_t)(end - found) : strnlen(found, left);
	if (left >= 12 && memcmp(found, "systemd-boot", 12) == 0)
		p->ret->kind = WDR_EFI_SYSTEMD_BOOT;
}

static void take_arguments(Parsing *p, const WdrEfiSpan *s)
{
	WdrEfiProgram *r = p->ret;

	if (r->n_arguments == WDR_EFI_ARGUMENTS_MAX)
		return;
	/* Some tools end the text with a 0. */
	r->arguments[r->n_arguments] = *s;
	r->arguments[r->n_arguments++].bytes = strnlen((const char *)p->bytes + s->at, s->bytes);
}

static void take_section(Parsing *p, const char *name, const WdrEfiSpan *s)
{
	const char *text = (const char *)p->bytes + s->at;

	if (strcmp(name, "mods") == 0)
		take_grub(p, s->at, s->bytes);
	else if (strcmp(name, ".sdmagic") == 0)
		take_magic(p, text, s->bytes);
	else if (strcmp(name, ".vendor_") == 0 || strcmp(name, ".vendor_cert") == 0)
		p->ret->kind = WDR_EFI_SHIM;
	else if (strcmp(name, ".sbat") == 0)
		p->has_sbat_of_shim = memmem(text, s->bytes, "\nshim,", 6) != NULL;
	else if (strcmp(name, ".osrel") == 0 && p->ret->release.bytes == 0)
		p->ret->release = *s;
	else if (strcmp(name, ".profile") == 0)
		p->has_profile = true;
	else if (strcmp(name, ".cmdline") == 0)
		take_arguments(p, s);
	else if (strcmp(name, ".linux") == 0 && p->ret->kernel.bytes == 0)
		p->ret->kernel = *s;
	else if (strcmp(name, ".initrd") == 0 && !p->has_profile)
		p->ret->initramfs = *s;
}

/* Long names lie in a string table, which these files keep behind the sections: "/4". */
static void section_name(
	const Parsing *p, const uint8_t *field, size_t strings, char *ret, size_t room)
{
	char plain[NAME_BYTES + 1] = { 0 };

	memcpy(plain, field, NAME_BYTES);
	g_strlcpy(ret, plain, room);
	if (*plain != '/' || strings == 0)
		return;
	uint64_t offset = g_ascii_strtoull(plain + 1, NULL, 10);
	if (offset >= p->len - strings)
		return;
	const char *text = (const char *)p->bytes + strings + offset;
	size_t left = p->len - strings - (size_t)offset;
	g_autofree char *name = g_strndup(text, MIN(left, room - 1));
	g_strlcpy(ret, name, room);
}

static void read_section(Parsing *p, size_t header, size_t strings)
{
	WdrCursor c = wdr_cursor(p->bytes, p->len);
	char name[24];

	section_name(p, p->bytes + header, strings, name, sizeof(name));
	wdr_cursor_seek(&c, header + NAME_BYTES);
	uint32_t used = wdr_cursor_le32(&c);
	wdr_cursor_skip(&c, 4);
	uint32_t room = wdr_cursor_le32(&c);
	uint32_t at = wdr_cursor_le32(&c);
	if (wdr_cursor_overrun(&c) || at > p->len || room > p->len - at)
		return;
	WdrEfiSpan s = { at, MIN(used ? used : room, room), room, header + NAME_BYTES };
	take_section(p, name, &s);
}

/* Builds for arm64 have these texts among their data. */
static void recognise_by_text(Parsing *p)
{
	static const char boot[] = "#### LoaderInfo: systemd-boot ";
	static const char shim[] = "UEFI SHIM\n";
	const char *found = memmem(p->bytes, p->len, boot, sizeof(boot) - 1);

	if (found)
		take_magic(p, found, MIN(256, p->len - (size_t)(found - (const char *)p->bytes)));
	else if (p->has_sbat_of_shim)
		p->ret->kind = memmem(p->bytes, p->len, shim, sizeof(shim) - 1) ? WDR_EFI_SHIM
										: WDR_EFI_FALLBACK;
}

/* ---- headers ---- */

/* The header's facts; false: this is none. *ret_sections is where the section headers begin. */
static bool read_header(Parsing *p, size_t *ret_sections, unsigned *ret_n, size_t *ret_strings)
{
	WdrCursor c = wdr_cursor(p->bytes, p->len);
	bool is_program = wdr_cursor_le16(&c) == 0x5a4d;

	wdr_cursor_seek(&c, AT_PE);
	size_t pe = wdr_cursor_le32(&c);
	wdr_cursor_seek(&c, pe);
	is_program &= wdr_cursor_le32(&c) == PE_MAGIC;
	p->ret->machine = wdr_cursor_le16(&c);
	*ret_n = wdr_cursor_le16(&c);
	wdr_cursor_skip(&c, 4);
	uint32_t symbols = wdr_cursor_le32(&c);
	uint32_t n_symbols = wdr_cursor_le32(&c);
	size_t optional_bytes = wdr_cursor_le16(&c);
	wdr_cursor_skip(&c, 2);
	size_t optional = c.pos;
	uint16_t magic = wdr_cursor_le16(&c);
	is_program &= magic == OPTIONAL_32 || magic == OPTIONAL_64;
	wdr_cursor_seek(&c,
		optional + (magic == OPTIONAL_64 ? CERTIFICATES_AT_64 : CERTIFICATES_AT_32) + 4);
	p->ret->is_signed = wdr_cursor_le32(&c) != 0;
	*ret_sections = optional + optional_bytes;
	size_t table = (size_t)*ret_n * SECTION_BYTES;
	*ret_strings =
		symbols > 0 && n_symbols < 1 << 20 && symbols + (uint64_t)n_symbols * 18 < p->len
			? symbols + (size_t)n_symbols * 18
			: 0;
	return is_program && !wdr_cursor_overrun(&c) && *ret_n <= SECTIONS_MAX &&
	       *ret_sections <= p->len && table <= p->len - *ret_sections;
}

/* A kernel for amd64 has its own magic behind the boot sector, one for arm64 and riscv64 in the
 * header of its image. */
static bool is_kernel(const Parsing *p)
{
	return p->len > 0x206 && (memcmp(p->bytes + 0x202, "HdrS", 4) == 0 ||
					 memcmp(p->bytes + 0x38, "ARM\x64", 4) == 0 ||
					 memcmp(p->bytes + 0x38, "RSC\x05", 4) == 0);
}

bool wdr_efi_program_parse(const void *bytes, size_t len, WdrEfiProgram *ret, GError **error)
{
	Parsing p = { .bytes = bytes, .len = len, .ret = ret };
	size_t sections = 0;
	size_t strings = 0;
	unsigned n = 0;

	*ret = (WdrEfiProgram){ .kind = WDR_EFI_UNKNOWN };
	if (!read_header(&p, &sections, &n, &strings))
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "this is no UEFI program, or it is damaged");
	for (unsigned i = 0; i < n; i++)
		read_section(&p, sections + (size_t)i * SECTION_BYTES, strings);
	if (ret->kind == WDR_EFI_UNKNOWN)
		recognise_by_text(&p);
	if (ret->kernel.bytes > 0)
		ret->kind = WDR_EFI_UNIFIED;
	else if (ret->kind == WDR_EFI_UNKNOWN && is_kernel(&p))
		ret->kind = WDR_EFI_KERNEL;
	return true;
}

/* ---- mentions ---- */

static const char is_signed[] = "inside a signed program; an edit would break its signature";

/* The text at a span, read as if it were a file; offsets count from the program's start. */
static bool read_inside(const WdrReading *r, const WdrEfiSpan *s,
	bool (*read)(const WdrReading *r, GError **error), GError **error)
{
	g_autofree char *text = g_strndup(r->text + s->at, s->bytes);
	WdrReading inner = { r->file, text, s->bytes, r->base + s->at, r->mentions, r->warnings };

	return s->bytes == 0 || read(&inner, error);
}

bool wdr_efi_program_read(const WdrReading *r, GError **error)
{
	WdrEfiProgram p;
	guint first = r->mentions->len;
	bool is_fine = true;

	if (!wdr_efi_program_parse(r->text, r->len, &p, error)) {
		g_prefix_error(error, "%s: ", r->file);
		return false;
	}
	for (unsigned i = 0; is_fine && p.kind == WDR_EFI_UNIFIED && i < p.n_arguments; i++)
		is_fine = read_inside(r, &p.arguments[i], wdr_kernel_args_read, error);
	if (is_fine && p.kind == WDR_EFI_GRUB)
		is_fine = read_inside(r, &p.config, wdr_grub_read, error);
	g_autofree char *name = g_path_get_basename(r->file);
	for (guint i = first; i < r->mentions->len; i++) {
		WdrMention *m = r->mentions->pdata[i];
		if (p.kind == WDR_EFI_UNIFIED && !m->entry)
			m->entry = g_strdup(name);
		m->has_initramfs = p.initramfs.bytes > 0;
		m->is_default = false;
		m->frozen = p.is_signed ? is_signed : m->frozen;
	}
	return is_fine;
}
