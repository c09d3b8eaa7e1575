/* Follows the chain of UEFI programs on a disk. */
#include "boot/system/efi_boot_priv.h"

#include "volume/eachfile.h"
#include "volume/lookup.h"

#include <string.h>

enum { PROGRAM_BYTES_MAX = 256 * 1024 * 1024, CHAIN_MAX = 4 };

/* ---- lists ---- */

void wdr_efi_entry_free(void *data)
{
	WdrEfiEntry *e = data;

	g_free(e->name);
	g_free(e->config);
	g_free(e->kernel.path);
	g_free(e->initramfs.path);
	g_clear_pointer(&e->early, g_ptr_array_unref);
	g_free(e->device_tree);
	g_free(e->arguments);
	g_free(e->doubt);
	g_free(e);
}

void wdr_efi_boot_free(WdrEfiBoot *b)
{
	if (!b)
		return;
	g_ptr_array_unref(b->steps);
	g_ptr_array_unref(b->list);
	g_ptr_array_unref(b->faults);
	g_ptr_array_unref(b->warnings);
	g_free(b);
}

WdrEfiEntry *wdr_efi_boot_add(WdrEfiBoot *b)
{
	WdrEfiEntry *e = g_new0(WdrEfiEntry, 1);

	e->early = g_ptr_array_new_with_free_func(g_free);
	e->tries_left = -1;
	g_ptr_array_add(b->list, e);
	return e;
}

/* ---- the chain ---- */

static bool has(const WdrSystemPart *p, const char *path)
{
	g_auto(WdrEntry) entry = { 0 };

	return p->volume && wdr_follow(p->volume, path, NULL, NULL, &entry);
}

typedef struct {
	const WdrSystem *s;
	const GPtrArray *others;
	WdrSystemPart *esp;
	WdrEfiBoot *ret;
	char *path; /* of the program that is looked at */
	char *bytes;
	size_t len;
	WdrEfiProgram program;
} Chain;

static void say(GPtrArray *list, const char *format, ...) G_GNUC_PRINTF(2, 3);
static void say(GPtrArray *list, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_ptr_array_add(list, g_strdup_vprintf(format, args));
	va_end(args);
}

static bool load(Chain *c, const char *path)
{
	g_autoptr(GError) error = NULL;

	g_free(c->path);
	g_clear_pointer(&c->bytes, g_free);
	c->path = g_strdup(path);
	c->bytes = wdr_follow_read(c->esp->volume, path, PROGRAM_BYTES_MAX, &c->len);
	if (!c->bytes)
		say(c->ret->faults, "/%s is not there, or cannot be read", path);
	else if (!wdr_efi_program_parse(c->bytes, c->len, &c->program, &error))
		say(c->ret->faults, "/%s: %s", path, error->message);
	return c->bytes && !error;
}

/* What the chip is called in names of files. */
static const char *word_of(const Chain *c)
{
	const char *word = wdr_efi_machine_word(c->program.machine);

	return word ? word : "";
}

static bool is_in_boot(const Chain *c)
{
	return g_ascii_strncasecmp(c->path, "efi/boot/", 9) == 0;
}

/* From the folder for removable media shim starts its fallback, where that lies beside it;
 * otherwise GRUB. The caller's; NULL: there is nothing for it to start. */
static char *after_shim(Chain *c)
{
	g_autofree char *folder = g_path_get_dirname(c->path);
	g_autofree char *fallback = g_strdup_printf("%s/fb%s.efi", folder, word_of(c));
	g_autofree char *grub = g_strdup_printf("%s/grub%s.efi", folder, word_of(c));

	if (is_in_boot(c) && has(c->esp, fallback))
		return g_steal_pointer(&fallback);
	if (has(c->esp, grub))
		return g_steal_pointer(&grub);
	say(c->ret->faults, "/%s is shim, and there is no /%s for it to start", c->path, grub);
	return NULL;
}

typedef struct {
	const char *name; /* "/bootx64.csv" */
	char *found;
} Csv;

static void find_csv(void *data, const WdrNode *node, WdrEntry *entry)
{
	Csv *csv = data;
	g_autofree char *low = g_ascii_strdown(node->path, -1);

	(void)entry;
	if (!csv->found && g_str_has_prefix(low, "efi/") && g_str_has_suffix(low, csv->name))
		csv->found = g_strdup(node->path);
}

/* The fallback stores an entry in the firmware for what a CSV file names, and starts that. The file
 * is UTF-16: "shimx64.efi,debian,,This is the boot entry for debian". */
static char *after_fallback(Chain *c)
{
	g_autofree char *name = g_strdup_printf("/boot%s.csv", word_of(c));
	Csv csv = { name, NULL };
	size_t len = 0;

	wdr_each_file(c->esp->volume, "", find_csv, &csv, NULL);
	g_autofree char *found = csv.found;
	g_autofree char *bytes =
		found ? wdr_follow_read(c->esp->volume, found, WDR_BOOT_FILE_BYTES_MAX, &len)
		      : NULL;
	GString *program = g_string_new(NULL);
	for (size_t i = 0; bytes && i + 1 < len; i += 2) {
		bool is_mark = i == 0 && (unsigned char)bytes[i] == 0xff;
		if (bytes[i] == ',')
			break;
		if (!is_mark && bytes[i + 1] == 0 && g_ascii_isprint(bytes[i]))
			g_string_append_c(program, bytes[i]);
	}
	g_autofree char *folder = found ? g_path_get_dirname(found) : NULL;
	char *next = program->len > 0 ? g_build_filename(folder, program->str, NULL) : NULL;
	g_string_free(program, TRUE);
	if (!next)
		say(c->ret->faults, "/%s finds no BOOT%s.CSV that names a program", c->path,
			word_of(c));
	return next;
}

static void start_grub(Chain *c)
{
	const WdrEfiProgram *p = &c->program;
	g_autofree char *folder = g_path_get_dirname(c->path);
	g_autofree char *prefix = g_strndup(c->bytes + p->prefix.at, p->prefix.bytes);
	g_autofree char *config = g_strndup(c->bytes + p->config.at, p->config.bytes);
	WdrGrubStart start = { .others = c->others,
		.part = c->esp,
		.folder = folder,
		.prefix = *prefix ? prefix : NULL,
		.config = *config ? config : NULL,
		.memdisk = p->memdisk.bytes > 0 ? c->bytes + p->memdisk.at : NULL,
		.memdisk_bytes = p->memdisk.bytes,
		.processor = p->machine == 0x8664   ? "x86_64"
			     : p->machine == 0xaa64 ? "arm64"
						    : word_of(c) };

	wdr_grub_follow(c->s, &start, c->ret);
}

bool wdr_efi_unified_take(WdrSystemPart *part, const char *path, WdrEfiEntry *e)
{
	size_t len = 0;
	g_autofree char *bytes = wdr_follow_read(part->volume, path, PROGRAM_BYTES_MAX, &len);
	WdrEfiProgram p;

	if (!bytes || !wdr_efi_program_parse(bytes, len, &p, NULL) || p.kind != WDR_EFI_UNIFIED)
		return false;
	e->name = g_path_get_basename(path);
	e->part = part;
	e->number = part->partition->number;
	e->config = g_strdup(path);
	e->kernel = (WdrEfiFile){ g_strdup(path), p.kernel.at, p.kernel.bytes };
	if (p.initramfs.bytes > 0)
		e->initramfs = (WdrEfiFile){ g_strdup(path), p.initramfs.at, p.initramfs.bytes };
	if (p.n_arguments > 0) {
		e->arguments = g_strndup(bytes + p.arguments[0].at, p.arguments[0].bytes);
		g_strstrip(e->arguments);
		e->arguments_line = 1;
	}
	return true;
}

/* A kernel gets its arguments from the firmware's entry, which another machine does not have. */
static void take_kernel(Chain *c)
{
	WdrEfiEntry *e = wdr_efi_boot_add(c->ret);

	e->name = g_strdup(c->path);
	e->part = c->esp;
	e->number = c->esp->partition->number;
	e->config = g_strdup(c->path);
	e->kernel.path = g_strdup(c->path);
	e->doubt = g_strdup_printf(
		"/%s is a kernel, which gets its arguments from the firmware", c->path);
}

/* What comes next; NULL: this program is the last. */
static char *step(Chain *c)
{
	g_autofree char *version =
		g_strndup(c->bytes + c->program.version.at, c->program.version.bytes);
	const char *name = wdr_efi_kind_name(c->program.kind);

	c->ret->loader = c->program.kind;
	say(c->ret->steps, "/%s is %s", c->path,
		c->program.kind == WDR_EFI_SYSTEMD_BOOT ? version : name);
	switch (c->program.kind) {
	case WDR_EFI_SHIM:
		return after_shim(c);
	case WDR_EFI_FALLBACK:
		return after_fallback(c);
	case WDR_EFI_GRUB:
		start_grub(c);
		break;
	case WDR_EFI_SYSTEMD_BOOT:
		wdr_loader_entries_follow(c->s, c->esp, c->ret);
		break;
	case WDR_EFI_UNIFIED:
		(void)wdr_efi_unified_take(c->esp, c->path, wdr_efi_boot_add(c->ret));
		break;
	case WDR_EFI_KERNEL:
	case WDR_EFI_UNKNOWN:
		take_kernel(c);
		if (c->program.kind == WDR_EFI_UNKNOWN) {
			WdrEfiEntry *e = c->ret->list->pdata[c->ret->list->len - 1];
			g_free(e->doubt);
			e->doubt = g_strdup_printf("/%s is no loader that is known", c->path);
		}
		break;
	}
	return NULL;
}

WdrEfiBoot *wdr_efi_boot_follow(const WdrSystem *s, const GPtrArray *others, const char *program)
{
	WdrEfiBoot *b = g_new0(WdrEfiBoot, 1);
	Chain c = { .s = s, .others = others, .esp = s->boot, .ret = b };
	g_autofree char *next = g_strdup(program);

	b->steps = g_ptr_array_new_with_free_func(g_free);
	b->list = g_ptr_array_new_with_free_func(wdr_efi_entry_free);
	b->faults = g_ptr_array_new_with_free_func(g_free);
	b->warnings = g_ptr_array_new_with_free_func(g_free);
	for (unsigned i = 0; next && c.esp && c.esp->volume; i++) {
		if (i == CHAIN_MAX) {
			say(b->faults, "more than %d programs start one another", CHAIN_MAX);
			break;
		}
		g_autofree char *path = g_steal_pointer(&next);
		next = load(&c, path) ? step(&c) : NULL;
	}
	g_free(c.path);
	g_free(c.bytes);
	return b;
}
