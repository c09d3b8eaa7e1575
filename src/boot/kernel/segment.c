/* Makes the archive that adds modules to an initramfs.
 *
 * The kernel unpacks all archives of an initramfs file in turn, and a later file replaces an
 * earlier one of the same path. So nothing in the existing archives is touched: a small archive is
 * put behind them, with
 *   - the modules, packed as the others in there are (its loader may know no other form),
 *   - the firmware files that these modules ask for and root has,
 *   - modules.dep and modules.alias as they were plus the new lines, each also in the binary form
 *     that kmod reads,
 *   - the list of modules to load, plus the new names.
 * Taking it away again is cutting the file where it was. */
#include "boot/kernel/segment.h"

#include "boot/formats/image.h"
#include "boot/kernel/moduleindex.h"
#include "boot/kernel/newc.h"
#include "boot/kernel/unpack.h"
#include "volume/lookup.h"

#include <string.h>

enum { MODULE_BYTES_MAX = 64 * 1024 * 1024, INDEX_BYTES_MAX = 16 * 1024 * 1024, ALIGN = 4 };

typedef struct {
	const WdrSegmentFrom *from;
	WdrNewc archive;
	GByteArray *bytes;
	char *folder;         /* of the modules of that kernel in the initramfs, links followed */
	GHashTable *folders;  /* char *: that this segment adds */
	GHashTable *firmware; /* char *: files of it that this segment has */
	GString *dep;         /* lines that modules.dep gets */
	GString *alias;
} Segment;

/* ---- the archive ---- */

static void begin(Segment *s)
{
	s->bytes = g_byte_array_new();
	s->folders = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	s->firmware = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	s->dep = g_string_new(NULL);
	s->alias = g_string_new(NULL);
	wdr_newc_begin(&s->archive, s->bytes, s->from->now);
}

static void segment_clear(Segment *s)
{
	if (s->bytes)
		g_byte_array_unref(s->bytes);
	g_free(s->folder);
	if (s->folders)
		g_hash_table_unref(s->folders);
	if (s->firmware)
		g_hash_table_unref(s->firmware);
	if (s->dep)
		g_string_free(s->dep, TRUE);
	if (s->alias)
		g_string_free(s->alias, TRUE);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Segment, segment_clear)

/* The kernel makes no folders by itself, and an entry never changes what a path is. */
static bool add_folders(Segment *s, const char *path, GError **error)
{
	const WdrInitramfs *i = s->from->initramfs;

	for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
		g_autofree char *folder = g_strndup(path, (size_t)(slash - path));
		if (g_hash_table_contains(i->folders, folder) ||
			g_hash_table_contains(s->folders, folder))
			continue;
		if (g_hash_table_contains(i->files, folder))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"/%s of the initramfs is no folder", folder);
		if (!wdr_newc_add(&s->archive, folder, 0040755, NULL, 0, error))
			return false;
		g_hash_table_add(s->folders, g_steal_pointer(&folder));
	}
	return true;
}

static bool add_file(Segment *s, const char *path, const void *data, size_t len, GError **error)
{
	return add_folders(s, path, error) &&
	       wdr_newc_add(&s->archive, path, 0100644, data, len, error);
}

static bool add_bytes(Segment *s, const char *name, GBytes *bytes, GError **error)
{
	g_autofree char *path = g_build_filename(s->folder, name, NULL);
	size_t len = 0;
	const void *data = g_bytes_get_data(bytes, &len);

	return add_file(s, path, data, len, error);
}

/* ---- modules ---- */

/* lib may be a link to usr/lib in the initramfs. An archive that made a folder in the link's place
 * would hide everything behind it, so links are followed first. */
static bool find_folder(Segment *s, GError **error)
{
	static const char *const places[] = { "lib/modules", "usr/lib/modules" };
	const WdrInitramfs *i = s->from->initramfs;

	for (size_t k = 0; !s->folder && k < G_N_ELEMENTS(places); k++) {
		g_autofree char *inner = g_strconcat(places[k], "/", s->from->release, "/x", NULL);
		g_autofree char *real = wdr_initramfs_real(i, inner);
		g_autofree char *folder = g_path_get_dirname(real);
		if (g_hash_table_contains(i->folders, folder))
			s->folder = g_steal_pointer(&folder);
	}
	return s->folder ||
	       wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
		       "the initramfs has no folder for modules of Linux %s", s->from->release);
}

static const char *packing_of(const char *path)
{
	const char *end = strstr(path, ".ko");

	return end ? end + strlen(".ko") : "";
}

/* What is in it already tells whether its loader can unpack modules. */
static bool has_packed_like(const WdrInitramfs *i, const char *packing)
{
	g_autofree char *end = g_strconcat(".ko", packing, NULL);
	GHashTableIter iter;
	void *path = NULL;

	g_hash_table_iter_init(&iter, i->files);
	while (g_hash_table_iter_next(&iter, &path, NULL)) {
		if (g_str_has_suffix(path, end))
			return true;
	}
	return false;
}

static bool take(void *bytes, const uint8_t *data, size_t len, GError **error)
{
	GByteArray *into = bytes;

	if (into->len + len > MODULE_BYTES_MAX)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "it is larger than any module when unpacked");
	g_byte_array_append(into, data, (guint)len);
	return true;
}

/* That it is a module, and one for this kernel: its vermagic begins with the release. */
static bool check_module(const Segment *s, const GByteArray *plain, GError **error)
{
	static const char word[] = "vermagic=";
	const char *release = s->from->release;

	if (plain->len < 4 || memcmp(plain->data,
				      "\x7f"
				      "ELF",
				      4) != 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "it is no module");
	const uint8_t *at = memmem(plain->data, plain->len, word, strlen(word));
	if (!at)
		return true;
	const char *is = (const char *)at + strlen(word);
	size_t room = plain->len - (size_t)(at - plain->data) - strlen(word);
	size_t len = strnlen(is, MIN(room, 256));
	size_t said = 0;
	while (said < len && is[said] != ' ')
		said++;
	return (said == strlen(release) && memcmp(is, release, said) == 0) ||
	       wdr_error_set(error, WDR_ERROR_FORMAT, "it is for Linux %.*s, and the kernel is %s",
		       (int)said, is, release);
}

/* The path of a file that a line of modules.dep names, as the initramfs has it or gets it. */
static char *path_in(const Segment *s, const char *path)
{
	const WdrInitramfs *i = s->from->initramfs;
	g_autofree char *name = wdr_module_name(path);
	const char *there = wdr_initramfs_module(i, name);
	const char *packing = packing_of(path);
	size_t folder = strlen(s->folder);

	if (there && strncmp(there, s->folder, folder) == 0 && there[folder] == '/')
		return g_strdup(there + folder + 1);
	return *packing && !has_packed_like(i, packing)
		       ? g_strndup(path, strlen(path) - strlen(packing))
		       : g_strdup(path);
}

/* As root has it, packed or not: a kernel that takes packed ones there takes them here. What root
 * has not got was of no use before either: many names are those of other hardware. */
static bool add_firmware(Segment *s, const char *name, GError **error)
{
	static const char *const packings[] = { "", ".xz", ".zst" };

	for (size_t k = 0; k < G_N_ELEMENTS(packings); k++) {
		g_autofree char *path = g_strconcat("lib/firmware/", name, packings[k], NULL);
		size_t len = 0;
		g_autofree char *bytes =
			wdr_follow_read(s->from->root, path, MODULE_BYTES_MAX, &len);
		g_autofree char *to = wdr_initramfs_real(s->from->initramfs, path);
		if (!bytes)
			continue;
		return g_hash_table_contains(s->from->initramfs->files, to) ||
		       !g_hash_table_add(s->firmware, g_strdup(to)) ||
		       add_file(s, to, bytes, len, error);
	}
	return true;
}

static bool add_all_firmware(Segment *s, const GByteArray *module, GError **error)
{
	g_autoptr(GPtrArray) names = wdr_module_firmware(module->data, module->len);
	bool is_fine = true;

	for (guint i = 0; is_fine && i < names->len; i++)
		is_fine = add_firmware(s, names->pdata[i], error);
	return is_fine;
}

/* A module from root, checked to be one for this kernel. It is always unpacked for the check, and
 * stored unpacked only where the initramfs has no packed modules. */
static bool add_module_file(Segment *s, const char *path, GError **error)
{
	g_autofree char *on_root = g_strconcat("lib/modules/", s->from->release, "/", path, NULL);
	g_autofree char *inner = path_in(s, path);
	g_autofree char *to = g_build_filename(s->folder, inner, NULL);
	g_autoptr(GByteArray) plain = g_byte_array_new();
	size_t len = 0;
	size_t used = 0;
	g_autofree char *bytes = wdr_follow_read(s->from->root, on_root, MODULE_BYTES_MAX, &len);

	if (!bytes)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"modules.dep names it, and it cannot be read on root");
	if (!*packing_of(path))
		g_byte_array_append(plain, (const uint8_t *)bytes, (guint)len);
	else if (!wdr_unpack((const uint8_t *)bytes, len, take, plain, &used, error))
		return false;
	if (!check_module(s, plain, error))
		return false;
	bool is_added = *packing_of(inner) ? add_file(s, to, bytes, len, error)
					   : add_file(s, to, plain->data, plain->len, error);
	return is_added && add_all_firmware(s, plain, error);
}

static void add_dep_line(Segment *s, const char *name)
{
	const GPtrArray *needs = wdr_modules_needs(s->from->modules, name);
	g_autofree char *own = path_in(s, wdr_modules_path(s->from->modules, name));

	g_string_append_printf(s->dep, "%s:", own);
	for (guint i = 0; needs && i < needs->len; i++) {
		const char *path = wdr_modules_path(s->from->modules, needs->pdata[i]);
		g_autofree char *need = path ? path_in(s, path) : NULL;
		if (need)
			g_string_append_printf(s->dep, " %s", need);
	}
	g_string_append_c(s->dep, '\n');
}

static bool add_modules(Segment *s, const GPtrArray *names, GError **error)
{
	for (guint i = 0; i < names->len; i++) {
		const char *path = wdr_modules_path(s->from->modules, names->pdata[i]);
		if (!path)
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"this kernel has no module %s", (const char *)names->pdata[i]);
		if (!add_module_file(s, path, error)) {
			g_prefix_error(error, "/lib/modules/%s/%s: ", s->from->release, path);
			return false;
		}
		add_dep_line(s, names->pdata[i]);
	}
	return true;
}

/* ---- indexes ---- */

static char *kept_text(const Segment *s, const char *name)
{
	g_autofree char *path = g_build_filename(s->folder, name, NULL);

	return wdr_initramfs_text(s->from->initramfs, path);
}

static void end_line(GString *text)
{
	if (text->len > 0 && text->str[text->len - 1] != '\n')
		g_string_append_c(text, '\n');
}

/* Text and binary index must agree: kmod prefers the binary one, and other tools read the text. */
static bool put_index(Segment *s, const char *name, const GString *added,
	GBytes *(*binary)(const char *text), GError **error)
{
	g_autofree char *before = kept_text(s, name);
	g_autoptr(GString) text = g_string_new(before);
	g_autofree char *binary_name = g_strconcat(name, ".bin", NULL);

	end_line(text);
	g_string_append(text, added->str);
	g_autoptr(GBytes) plain = g_bytes_new(text->str, text->len);
	g_autoptr(GBytes) index = binary(text->str);
	return add_bytes(s, name, plain, error) && add_bytes(s, binary_name, index, error);
}

static bool has_file(const Segment *s, const char *name)
{
	g_autofree char *path = g_build_filename(s->folder, name, NULL);

	return g_hash_table_contains(s->from->initramfs->files, path);
}

/* An initramfs with the binary index alone: what it had of modules is in root's text index too. */
static void restore_dep(Segment *s)
{
	GHashTableIter iter;
	void *path = NULL;

	if (has_file(s, "modules.dep"))
		return;
	g_hash_table_iter_init(&iter, s->from->initramfs->files);
	while (g_hash_table_iter_next(&iter, &path, NULL)) {
		g_autofree char *name = wdr_module_name(path);
		if (strstr(path, ".ko") && wdr_modules_path(s->from->modules, name))
			add_dep_line(s, name);
	}
}

static bool is_named(const GPtrArray *names, const char *name)
{
	for (guint i = 0; i < names->len; i++) {
		if (wdr_module_is_named(names->pdata[i], name))
			return true;
	}
	return false;
}

/* What root's index says of the modules that are added, so that they are found by the hardware's
 * name too; without a text index of its own, of all that the initramfs has. */
static void find_aliases(Segment *s, const GPtrArray *names)
{
	g_autofree char *path =
		g_strconcat("lib/modules/", s->from->release, "/modules.alias", NULL);
	size_t len = 0;
	g_autofree char *text = wdr_follow_read(s->from->root, path, INDEX_BYTES_MAX, &len);
	g_auto(GStrv) lines = g_strsplit(text ? text : "", "\n", -1);
	bool is_new = !has_file(s, "modules.alias");

	for (size_t i = 0; lines[i]; i++) {
		const char *name = strrchr(lines[i], ' ');
		if (!name || !g_str_has_prefix(lines[i], "alias "))
			continue;
		if (is_named(names, name + 1) ||
			(is_new && wdr_initramfs_module(s->from->initramfs, name + 1)))
			g_string_append_printf(s->alias, "%s\n", lines[i]);
	}
}

static bool put_indexes(Segment *s, const GPtrArray *names, GError **error)
{
	restore_dep(s);
	if (!put_index(s, "modules.dep", s->dep, wdr_module_index_of_dep, error))
		return false;
	if (!has_file(s, "modules.alias") && !has_file(s, "modules.alias.bin"))
		return true;
	find_aliases(s, names);
	return put_index(s, "modules.alias", s->alias, wdr_module_index_of_alias, error);
}

/* ---- what is loaded ---- */

static bool put_list(Segment *s, const char *path, const GPtrArray *load, GError **error)
{
	g_autofree char *before = wdr_initramfs_text(s->from->initramfs, path);
	g_autoptr(GString) text = g_string_new(before);

	g_auto(GStrv) lines = g_strsplit(text->str, "\n", -1);

	end_line(text);
	for (guint i = 0; i < load->len; i++) {
		if (!g_strv_contains((const char *const *)lines, load->pdata[i]))
			g_string_append_printf(text, "%s\n", (const char *)load->pdata[i]);
	}
	return add_file(s, path, text->str, text->len, error);
}

static bool has_udev(const WdrInitramfs *i)
{
	GHashTableIter iter;
	void *path = NULL;

	g_hash_table_iter_init(&iter, i->files);
	while (g_hash_table_iter_next(&iter, &path, NULL)) {
		if (g_str_has_suffix(path, "/udevd") || g_str_has_suffix(path, "/systemd-udevd") ||
			g_str_has_suffix(path, "/udevadm"))
			return true;
	}
	return false;
}

/* Debian's list is conf/modules; systemd's folders hold one for each package. With udev, the
 * hardware's names alone load them. */
static bool put_load_list(Segment *s, const GPtrArray *load, GError **error)
{
	static const char *const homes[] = { "etc", "usr/lib", "lib" };
	const WdrInitramfs *i = s->from->initramfs;

	if (load->len == 0)
		return true;
	if (g_hash_table_contains(i->folders, "conf"))
		return put_list(s, "conf/modules", load, error);
	for (size_t k = 0; k < G_N_ELEMENTS(homes); k++) {
		g_autofree char *path = g_strconcat(homes[k], "/" WDR_LOAD_LIST_NAME, NULL);
		g_autofree char *real = wdr_initramfs_real(i, path);
		g_autofree char *folder = g_path_get_dirname(real);
		if (g_hash_table_contains(i->folders, folder))
			return put_list(s, real, load, error);
	}
	return has_udev(i) ||
	       wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
		       "it is unknown which modules the initramfs loads: it has neither "
		       "conf/modules nor modules-load.d nor udev");
}

void wdr_segment_clear(WdrSegment *s)
{
	if (s->bytes)
		g_bytes_unref(s->bytes);
}

bool wdr_segment_make(const WdrSegmentFrom *from, const GPtrArray *names, const GPtrArray *load,
	WdrSegment *ret, GError **error)
{
	g_auto(Segment) s = { .from = from };

	begin(&s);
	if (!find_folder(&s, error) || !add_modules(&s, names, error) ||
		!put_indexes(&s, names, error) || !put_load_list(&s, load, error))
		return false;
	wdr_newc_end(&s.archive);
	ret->bytes = g_byte_array_free_to_bytes(g_steal_pointer(&s.bytes));
	ret->firmware = g_hash_table_size(s.firmware);
	return true;
}

/* ---- behind the others ---- */

static bool has_all(const WdrInitramfs *now, GHashTable *of, const char *what, GError **error)
{
	GHashTableIter iter;
	void *path = NULL;

	g_hash_table_iter_init(&iter, of);
	while (g_hash_table_iter_next(&iter, &path, NULL)) {
		if (!g_hash_table_contains(now->files, path) &&
			!g_hash_table_contains(now->folders, path))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"read back, the initramfs misses /%s of %s", (const char *)path,
				what);
	}
	return true;
}

static bool read_back(const uint8_t *before, size_t before_len, GBytes *segment,
	const GByteArray *joined, GError **error)
{
	g_autoptr(WdrInitramfs) was = NULL;
	g_autoptr(WdrInitramfs) added = NULL;
	g_autoptr(WdrInitramfs) now = NULL;
	size_t len = 0;
	const void *data = g_bytes_get_data(segment, &len);

	return wdr_initramfs_read(before, before_len, &was, error) &&
	       wdr_initramfs_read(data, len, &added, error) &&
	       wdr_initramfs_read(joined->data, joined->len, &now, error) &&
	       has_all(now, was->files, "what it had", error) &&
	       has_all(now, was->folders, "what it had", error) &&
	       has_all(now, added->files, "what was added", error);
}

bool wdr_segment_append(
	const void *bytes, size_t len, GBytes *segment, GBytes **ret, GError **error)
{
	/* After an lz4 frame the kernel wants four zeros at least; elsewhere they do no harm. */
	static const uint8_t zeros[2 * ALIGN] = { 0 };
	g_autoptr(GByteArray) joined = g_byte_array_new();
	const uint8_t *body = bytes;
	size_t body_len = len;
	WdrLoaderImage image = { 0 };
	bool is_wrapped = wdr_loader_image_parse(bytes, len, &image, NULL);

	if (is_wrapped) {
		body += WDR_IMAGE_HEADER_BYTES;
		body_len = image.data_bytes;
	}
	if (body_len > G_MAXUINT32 / 2)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "it is larger than any initramfs");
	g_byte_array_append(joined, body, (guint)body_len);
	g_byte_array_append(joined, zeros, (guint)(ALIGN + (ALIGN - body_len % ALIGN) % ALIGN));
	g_byte_array_append(
		joined, g_bytes_get_data(segment, NULL), (guint)g_bytes_get_size(segment));
	if (!read_back(body, body_len, segment, joined, error))
		return false;
	*ret = is_wrapped ? wdr_loader_image_rewrap(bytes, joined->data, joined->len)
			  : g_byte_array_free_to_bytes(g_steal_pointer(&joined));
	return true;
}
