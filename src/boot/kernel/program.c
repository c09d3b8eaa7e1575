/* Recognizes kernels and ELF programs, and what they need. */
#include "boot/kernel/program.h"

#include "base/cursor.h"
#include "boot/formats/image.h"
#include "boot/kernel/unpack.h"

#include <gelf.h>
#include <libelf.h>
#include <string.h>

enum {
	ARM64_MAGIC_AT = 56,
	RISCV_MAGIC_AT = 48,
	ZIMAGE_MAGIC_AT = 0x24,
	X86_FLAG_AT = 0x1fe,
	X86_MAGIC_AT = 0x202,
	X86_RELEASE_AT = 0x20e, /* counts from 0x200 */
	X86_HEADER_BYTES = 0x250,
	UNPACKED_BYTES_MAX = 256 * 1024 * 1024,
	RELEASE_BYTES_MAX = 128,
	INTERPRETER_BYTES_MAX = 4096,
	NEEDED_MAX = 256,
};

/* ---- processors ---- */

const char *wdr_cpu_name(WdrCpu cpu)
{
	static const char *const names[] = { "unknown", "arm", "arm64", "x86", "x86_64", "riscv" };

	return names[cpu];
}

bool wdr_cpu_runs(WdrCpu kernel, WdrCpu program)
{
	if (kernel == WDR_CPU_UNKNOWN || program == WDR_CPU_UNKNOWN || kernel == program)
		return true;
	return (kernel == WDR_CPU_ARM64 && program == WDR_CPU_ARM) ||
	       (kernel == WDR_CPU_X86_64 && program == WDR_CPU_X86);
}

static WdrCpu cpu_of_elf(unsigned machine)
{
	switch (machine) {
	case EM_ARM:
		return WDR_CPU_ARM;
	case EM_AARCH64:
		return WDR_CPU_ARM64;
	case EM_386:
		return WDR_CPU_X86;
	case EM_X86_64:
		return WDR_CPU_X86_64;
	case EM_RISCV:
		return WDR_CPU_RISCV;
	default:
		return WDR_CPU_UNKNOWN;
	}
}

/* ---- kernels ---- */

void wdr_kernel_clear(WdrKernel *k)
{
	g_clear_pointer(&k->release, g_free);
}

static bool has_at(const uint8_t *bytes, size_t len, size_t at, const char *magic, size_t magic_len)
{
	return len >= at + magic_len && memcmp(bytes + at, magic, magic_len) == 0;
}

/* The word behind `at`, if it can be a release. */
static char *word_at(const uint8_t *bytes, size_t len, size_t at)
{
	size_t end = at;

	while (end < len && end - at < RELEASE_BYTES_MAX && g_ascii_isgraph((char)bytes[end]))
		end++;
	return end > at && g_ascii_isdigit((char)bytes[at])
		       ? g_strndup((const char *)bytes + at, end - at)
		       : NULL;
}

/* Every kernel has its banner in it. */
static char *find_release(const uint8_t *bytes, size_t len)
{
	static const char banner[] = "Linux version ";
	const size_t banner_len = sizeof(banner) - 1;

	for (size_t at = 0; at < len;) {
		const uint8_t *hit = memmem(bytes + at, len - at, banner, banner_len);
		if (!hit)
			return NULL;
		at = (size_t)(hit - bytes) + banner_len;
		char *release = word_at(bytes, len, at);
		if (release)
			return release;
	}
	return NULL;
}

static char *x86_release(const uint8_t *bytes, size_t len)
{
	size_t at = len >= X86_HEADER_BYTES ? wdr_get_le16(bytes + X86_RELEASE_AT) : 0;

	return at ? word_at(bytes, len, at + 0x200) : NULL;
}

static bool collect(void *data, const uint8_t *bytes, size_t len, GError **error)
{
	GByteArray *out = data;

	if (len > UNPACKED_BYTES_MAX - out->len)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "more than a kernel can be");
	g_byte_array_append(out, bytes, (guint)len);
	return true;
}

/* All of what gzip packed; NULL: it is damaged, or more than a kernel can be. */
static GByteArray *unpack(const uint8_t *bytes, size_t len)
{
	g_autoptr(GByteArray) out = g_byte_array_new();
	size_t used = 0;

	return wdr_unpack(bytes, len, collect, out, &used, NULL) ? g_steal_pointer(&out) : NULL;
}

static bool look_at_plain(const uint8_t *bytes, size_t len, WdrKernel *ret)
{
	if (has_at(bytes, len, ARM64_MAGIC_AT, "ARM\x64", 4))
		*ret = (WdrKernel){ "Image", WDR_CPU_ARM64, find_release(bytes, len) };
	else if (has_at(bytes, len, RISCV_MAGIC_AT, "RISCV", 5))
		*ret = (WdrKernel){ "Image", WDR_CPU_RISCV, find_release(bytes, len) };
	else if (has_at(bytes, len, ZIMAGE_MAGIC_AT, "\x18\x28\x6f\x01", 4))
		*ret = (WdrKernel){ "zImage", WDR_CPU_ARM, NULL };
	else if (has_at(bytes, len, X86_FLAG_AT, "\x55\xaa", 2) &&
		 has_at(bytes, len, X86_MAGIC_AT, "HdrS", 4))
		*ret = (WdrKernel){ "bzImage", WDR_CPU_X86_64, x86_release(bytes, len) };
	else if (has_at(bytes, len, 0, "\xd0\x0d\xfe\xed", 4))
		*ret = (WdrKernel){ "FIT", WDR_CPU_UNKNOWN, NULL };
	else if (has_at(bytes, len, 0,
			 "\x7f"
			 "ELF",
			 4) &&
		 len > 20)
		*ret = (WdrKernel){ "ELF", cpu_of_elf(wdr_get_le16(bytes + 18)),
			find_release(bytes, len) };
	else
		return false;
	return true;
}

void wdr_kernel_look(const void *data, size_t len, WdrKernel *ret)
{
	const uint8_t *bytes = data;
	WdrLoaderImage image;

	*ret = (WdrKernel){ 0 };
	if (has_at(bytes, len, 0, "\x1f\x8b", 2)) {
		g_autoptr(GByteArray) plain = unpack(bytes, len);
		if (plain && look_at_plain(plain->data, plain->len, ret))
			ret->kind = "gzip";
	} else if (wdr_loader_image_parse(data, len, &image, NULL)) {
		if (look_at_plain(bytes + WDR_IMAGE_HEADER_BYTES, image.data_bytes, ret))
			ret->kind = "loader image";
	} else {
		(void)look_at_plain(bytes, len, ret);
	}
}

/* ---- programs ---- */

void wdr_program_clear(WdrProgram *p)
{
	g_clear_pointer(&p->interpreter, g_free);
	g_clear_pointer(&p->needed, g_ptr_array_unref);
	g_clear_pointer(&p->folders, g_ptr_array_unref);
}

static bool look_at_script(const uint8_t *bytes, size_t len, WdrProgram *ret, GError **error)
{
	size_t at = 2;

	while (at < len && (bytes[at] == ' ' || bytes[at] == '\t'))
		at++;
	size_t end = at;
	while (end < len && end - at < INTERPRETER_BYTES_MAX && g_ascii_isgraph((char)bytes[end]))
		end++;
	if (end == at || bytes[at] != '/')
		return wdr_error_set(error, WDR_ERROR_FORMAT, "a script without an interpreter");
	if (end < len && bytes[end] == '\r')
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"a script whose first line ends in CR: its interpreter is not found");
	ret->is_script = true;
	ret->interpreter = g_strndup((const char *)bytes + at, end - at);
	return true;
}

static void add_folders(WdrProgram *p, const char *list)
{
	g_auto(GStrv) folders = g_strsplit(list, ":", -1);

	for (size_t i = 0; folders[i]; i++) {
		if (*folders[i])
			g_ptr_array_add(p->folders, g_strdup(folders[i]));
	}
}

/* The section is found by the loader's own view: the strings lie where a segment says. */
static void take_dynamic(Elf *elf, Elf_Scn *section, WdrProgram *p)
{
	GElf_Shdr header;
	Elf_Data *data = elf_getdata(section, NULL);

	if (!data || !gelf_getshdr(section, &header) || header.sh_entsize == 0)
		return;
	for (size_t i = 0; i < header.sh_size / header.sh_entsize && p->needed->len < NEEDED_MAX;
		i++) {
		GElf_Dyn dyn;
		if (!gelf_getdyn(data, (int)i, &dyn) || dyn.d_tag == DT_NULL)
			return;
		bool is_wanted =
			dyn.d_tag == DT_NEEDED || dyn.d_tag == DT_RPATH || dyn.d_tag == DT_RUNPATH;
		const char *text =
			is_wanted ? elf_strptr(elf, header.sh_link, (size_t)dyn.d_un.d_val) : NULL;
		if (text && dyn.d_tag == DT_NEEDED)
			g_ptr_array_add(p->needed, g_strdup(text));
		else if (text)
			add_folders(p, text);
	}
}

static void take_interpreter(Elf *elf, const uint8_t *bytes, size_t len, WdrProgram *p)
{
	size_t count = 0;

	if (elf_getphdrnum(elf, &count) != 0)
		return;
	for (size_t i = 0; i < count && !p->interpreter; i++) {
		GElf_Phdr header;
		if (!gelf_getphdr(elf, (int)i, &header) || header.p_type != PT_INTERP)
			continue;
		if (header.p_offset < len && header.p_filesz <= len - header.p_offset &&
			header.p_filesz <= INTERPRETER_BYTES_MAX)
			p->interpreter = g_strndup(
				(const char *)bytes + header.p_offset, (size_t)header.p_filesz);
	}
}

static bool look_at_elf(const uint8_t *bytes, size_t len, WdrProgram *ret, GError **error)
{
	GElf_Ehdr header;
	Elf_Scn *section = NULL;

	elf_version(EV_CURRENT);
	Elf *elf = elf_memory((char *)bytes, len);
	bool is_fine = elf && gelf_getehdr(elf, &header) &&
		       (header.e_type == ET_EXEC || header.e_type == ET_DYN);
	if (is_fine) {
		ret->cpu = cpu_of_elf(header.e_machine);
		take_interpreter(elf, bytes, len, ret);
		while ((section = elf_nextscn(elf, section))) {
			GElf_Shdr shdr;
			if (gelf_getshdr(section, &shdr) && shdr.sh_type == SHT_DYNAMIC)
				take_dynamic(elf, section, ret);
		}
	}
	elf_end(elf);
	return is_fine || wdr_error_set(error, WDR_ERROR_FORMAT, "a damaged ELF file");
}

bool wdr_program_look(const void *data, size_t len, WdrProgram *ret, GError **error)
{
	const uint8_t *bytes = data;
	g_auto(WdrProgram) p = { 0 };

	p.needed = g_ptr_array_new_with_free_func(g_free);
	p.folders = g_ptr_array_new_with_free_func(g_free);
	if (len == 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "an empty file");
	if (!(has_at(bytes, len, 0, "#!", 2) ? look_at_script(bytes, len, &p, error)
		    : has_at(bytes, len, 0,
			      "\x7f"
			      "ELF",
			      4)
			    ? look_at_elf(bytes, len, &p, error)
			    : wdr_error_set(
				      error, WDR_ERROR_FORMAT, "neither a program nor a script")))
		return false;
	*ret = p;
	p = (WdrProgram){ 0 };
	return true;
}
