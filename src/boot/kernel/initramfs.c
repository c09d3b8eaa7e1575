/* Reads an initramfs archive by archive, as the kernel unpacks it.
 *
 * A file may hold several archives, plain or packed, one behind the other, with zeros between them.
 * A later entry replaces an earlier one. The reader is our own: libarchive stops at the end of the
 * first archive. */
#include "boot/kernel/initramfs.h"

#include "boot/formats/image.h"
#include "boot/kernel/modules.h"
#include "boot/kernel/unpack.h"

#include <string.h>

enum {
	HEADER_BYTES = 110, /* "070701" and 13 fields of 8 hex digits */
	ALIGN = 4,
	NAME_BYTES_MAX = 4096,
	TARGET_BYTES_MAX = 4096,
	KEPT_BYTES_MAX = 16 * 1024 * 1024,
	ENTRIES_MAX = 1000000,
	LINKS_MAX = 40, /* that are followed one after the other */
};
/* Fields, counted from 0. */
enum { FIELD_MODE = 1, FIELD_FILE_SIZE = 6, FIELD_NAME_SIZE = 11 };

static const char trailer[] = "TRAILER!!!";
static const char *const kept_names[] = { "modules.dep", "modules.alias", "modules.softdep" };

typedef enum { IN_HEADER, IN_NAME, IN_BODY, IN_PADDING, BETWEEN } State;

/* The bytes come in pieces of any size. */
typedef struct {
	WdrInitramfs *into;
	State state;
	GByteArray *got; /* of the header or name that is being read */
	size_t want;     /* of it, or of what is passed over */
	size_t position; /* in the unpacked archive; alignment counts from its start */
	size_t body_left;
	char *name;
	uint32_t mode;
	char *path;    /* of the entry whose body is read, links followed */
	GString *kept; /* a body that is kept; NULL: it is not */
} Cpio;

static bool is_broken(GError **error, const char *why, const Cpio *c)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT, "%s at byte %zu of the unpacked archive", why,
		c->position);
}

static bool parse_field(const uint8_t *header, unsigned field, uint32_t *ret)
{
	uint32_t value = 0;

	for (unsigned i = 0; i < 8; i++) {
		int digit = g_ascii_xdigit_value((char)header[6 + field * 8 + i]);
		if (digit < 0)
			return false;
		value = value << 4 | (uint32_t)digit;
	}
	*ret = value;
	return true;
}

static void expect(Cpio *c, State state, size_t want)
{
	c->state = state;
	c->want = want;
	g_byte_array_set_size(c->got, 0);
}

static size_t padding(size_t position)
{
	return (ALIGN - position % ALIGN) % ALIGN;
}

static bool take_header(Cpio *c, GError **error)
{
	const uint8_t *h = c->got->data;
	uint32_t name_size = 0;
	uint32_t body = 0;

	if (memcmp(h, "07070", 5) != 0 || (h[5] != '1' && h[5] != '2'))
		return is_broken(error, "no entry of a cpio archive (newc)", c);
	if (!parse_field(h, FIELD_MODE, &c->mode) || !parse_field(h, FIELD_FILE_SIZE, &body) ||
		!parse_field(h, FIELD_NAME_SIZE, &name_size) || name_size == 0 ||
		name_size > NAME_BYTES_MAX)
		return is_broken(error, "an entry whose numbers make no sense", c);
	c->body_left = body;
	expect(c, IN_NAME, name_size);
	return true;
}

static const char *without_dots(const char *name)
{
	while (*name == '/' || (name[0] == '.' && name[1] == '/'))
		name++;
	return strcmp(name, ".") == 0 ? "" : name;
}

/* ---- paths ---- */

/* A path below which the target of a link at `link` lies. */
static char *behind_link(const char *link, const char *target)
{
	g_autofree char *folder = g_path_get_dirname(link);
	g_autofree char *joined =
		*target == '/' ? g_strdup(target) : g_strconcat("/", folder, "/", target, NULL);
	g_autofree char *full = g_canonicalize_filename(joined, "/");

	return g_strdup(full + 1);
}

char *wdr_initramfs_real(const WdrInitramfs *i, const char *path)
{
	char *real = g_strdup(path);
	unsigned followed = 0;

	for (size_t at = 0; at < strlen(real);) {
		const char *slash = strchr(real + at, '/');
		if (!slash)
			break;
		g_autofree char *folder = g_strndup(real, (size_t)(slash - real));
		const char *target = g_hash_table_lookup(i->links, folder);
		at = (size_t)(slash - real) + 1;
		if (!target || ++followed > LINKS_MAX)
			continue;
		g_autofree char *to = behind_link(folder, target);
		char *joined = g_strconcat(to, *to ? "/" : "", slash + 1, NULL);
		if (strlen(joined) > NAME_BYTES_MAX) {
			g_free(joined);
			break;
		}
		g_free(real);
		real = joined;
		at = 0;
	}
	return real;
}

static void note_release(WdrInitramfs *into, const char *path)
{
	static const char *const folders[] = { "lib/modules/", "usr/lib/modules/" };

	for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
		size_t len = strlen(folders[i]);
		const char *slash =
			strncmp(path, folders[i], len) == 0 ? strchr(path + len, '/') : NULL;
		if (slash && !into->release)
			into->release = g_strndup(path + len, (size_t)(slash - path) - len);
	}
}

static bool is_kept(const char *path)
{
	const char *slash = strrchr(path, '/');

	for (size_t i = 0; slash && i < G_N_ELEMENTS(kept_names); i++) {
		if (strcmp(slash + 1, kept_names[i]) == 0)
			return true;
	}
	return strcmp(path, "conf/modules") == 0 || g_str_has_suffix(path, "/" WDR_LOAD_LIST_NAME);
}

/* What comes later takes the place of what was there, of whatever kind that was. */
static void note_entry(Cpio *c)
{
	WdrInitramfs *into = c->into;
	unsigned kind = c->mode & 0170000;

	g_hash_table_remove(into->kept, c->path);
	g_hash_table_remove(into->links, c->path);
	if (kind == 0040000) {
		g_hash_table_remove(into->files, c->path);
		g_hash_table_add(into->folders, g_strdup(c->path));
		return;
	}
	g_hash_table_remove(into->folders, c->path);
	g_hash_table_add(into->files, g_strdup(c->path));
	note_release(into, c->path);
	into->has_init |= strcmp(c->path, "init") == 0;
	bool is_link = kind == 0120000 && c->body_left > 0 && c->body_left <= TARGET_BYTES_MAX;
	if (is_link || (kind == 0100000 && is_kept(c->path) && c->body_left <= KEPT_BYTES_MAX))
		c->kept = g_string_new(NULL);
}

static bool take_name(Cpio *c, GError **error)
{
	g_free(c->name);
	c->name = g_strndup((const char *)c->got->data, c->got->len);
	if (strcmp(c->name, trailer) == 0) {
		expect(c, BETWEEN, 0);
		return true;
	}
	if (g_hash_table_size(c->into->files) + g_hash_table_size(c->into->folders) >= ENTRIES_MAX)
		return is_broken(error, "more entries than any system has", c);
	g_free(c->path);
	c->path = wdr_initramfs_real(c->into, without_dots(c->name));
	if (*c->path)
		note_entry(c);
	expect(c, IN_PADDING, padding(c->position));
	return true;
}

static void end_body(Cpio *c)
{
	if (!c->kept)
		return;
	if ((c->mode & 0170000) == 0120000)
		g_hash_table_replace(
			c->into->links, g_strdup(c->path), g_strndup(c->kept->str, c->kept->len));
	else
		g_hash_table_replace(
			c->into->kept, g_strdup(c->path), g_bytes_new(c->kept->str, c->kept->len));
	g_string_free(c->kept, TRUE);
	c->kept = NULL;
}

/* After padding comes a body, if there is one left, and after that padding and the next header. */
static void after_padding(Cpio *c)
{
	if (c->body_left > 0) {
		expect(c, IN_BODY, c->body_left);
		c->body_left = 0;
	} else {
		end_body(c);
		expect(c, IN_HEADER, HEADER_BYTES);
	}
}

static bool finished(Cpio *c, GError **error)
{
	switch (c->state) {
	case IN_HEADER:
		return take_header(c, error);
	case IN_NAME:
		return take_name(c, error);
	case IN_BODY:
		end_body(c);
		expect(c, IN_PADDING, padding(c->position));
		return true;
	case IN_PADDING:
		after_padding(c);
		return true;
	case BETWEEN:
		break;
	}
	return true;
}

/* Zeros, or the next archive. */
static void pass_zeros(Cpio *c, const uint8_t **bytes, size_t *len)
{
	while (*len > 0 && **bytes == 0) {
		(*bytes)++;
		(*len)--;
		c->position++;
	}
	if (*len > 0) {
		c->position = 0;
		expect(c, IN_HEADER, HEADER_BYTES);
	}
}

static bool take_bytes(void *data, const uint8_t *bytes, size_t len, GError **error)
{
	Cpio *c = data;

	while (len > 0 || (c->want == 0 && c->state != BETWEEN)) {
		if (c->state == BETWEEN) {
			pass_zeros(c, &bytes, &len);
			continue;
		}
		size_t part = MIN(len, c->want);
		if (c->state == IN_HEADER || c->state == IN_NAME)
			g_byte_array_append(c->got, bytes, (guint)part);
		else if (c->state == IN_BODY && c->kept)
			g_string_append_len(c->kept, (const char *)bytes, (gssize)part);
		bytes += part;
		len -= part;
		c->want -= part;
		c->position += part;
		if (c->want > 0)
			return true;
		if (!finished(c, error))
			return false;
	}
	return true;
}

/* ---- segments ---- */

/* A plain archive: to its trailer. *ret_used is where that ends. */
static bool read_plain(Cpio *c, const uint8_t *bytes, size_t len, size_t *ret_used, GError **error)
{
	size_t at = 0;

	c->position = 0;
	expect(c, IN_HEADER, HEADER_BYTES);
	while (c->state != BETWEEN && at < len) {
		size_t part = MIN(MAX(c->want, 1), len - at);
		if (!take_bytes(c, bytes + at, part, error))
			return false;
		at += part;
	}
	*ret_used = at;
	return c->state == BETWEEN || is_broken(error, "the archive is cut short", c);
}

static bool read_packed(Cpio *c, const uint8_t *bytes, size_t len, size_t *ret_used, GError **error)
{
	c->position = 0;
	expect(c, IN_HEADER, HEADER_BYTES);
	return wdr_unpack(bytes, len, take_bytes, c, ret_used, error) &&
	       (c->state == BETWEEN || is_broken(error, "the archive is cut short", c));
}

static bool read_segments(Cpio *c, const uint8_t *bytes, size_t len, GError **error)
{
	for (size_t at = 0;;) {
		size_t used = 0;
		while (at < len && bytes[at] == 0)
			at++;
		if (at == len)
			return true;
		/* A plain archive begins at a multiple of four, as the kernel wants it. */
		bool is_plain = bytes[at] == '0' && at % ALIGN == 0;
		const char *kind = is_plain ? "plain" : wdr_unpack_kind(bytes + at, len - at);
		g_ptr_array_add(c->into->packed, (void *)(kind ? kind : "unknown"));
		if (!(is_plain ? read_plain : read_packed)(c, bytes + at, len - at, &used, error)) {
			g_prefix_error(
				error, "segment %u, from byte %zu: ", c->into->packed->len, at);
			return false;
		}
		at += used;
	}
}

bool wdr_initramfs_read(const void *bytes, size_t len, WdrInitramfs **ret, GError **error)
{
	g_autoptr(WdrInitramfs) i = g_new0(WdrInitramfs, 1);
	Cpio c = { .into = i, .state = BETWEEN, .got = g_byte_array_new() };

	i->files = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	i->folders = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	i->links = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
	i->kept = g_hash_table_new_full(
		g_str_hash, g_str_equal, g_free, (GDestroyNotify)g_bytes_unref);
	i->packed = g_ptr_array_new();
	bool is_fine = read_segments(&c, bytes, len, error);
	if (is_fine && i->packed->len == 0)
		is_fine = wdr_error_set(error, WDR_ERROR_FORMAT, "it is empty");
	g_byte_array_unref(c.got);
	g_free(c.name);
	g_free(c.path);
	if (c.kept)
		g_string_free(c.kept, TRUE);
	if (is_fine)
		*ret = g_steal_pointer(&i);
	return is_fine;
}

bool wdr_initramfs_read_file(const void *bytes, size_t len, WdrInitramfs **ret, GError **error)
{
	WdrLoaderImage image;

	return wdr_loader_image_parse(bytes, len, &image, NULL)
		       ? wdr_initramfs_read((const uint8_t *)bytes + WDR_IMAGE_HEADER_BYTES,
				 image.data_bytes, ret, error)
		       : wdr_initramfs_read(bytes, len, ret, error);
}

void wdr_initramfs_free(WdrInitramfs *i)
{
	if (!i)
		return;
	g_hash_table_unref(i->files);
	g_hash_table_unref(i->folders);
	g_hash_table_unref(i->links);
	g_hash_table_unref(i->kept);
	g_ptr_array_unref(i->packed);
	g_free(i->release);
	g_free(i);
}

const char *wdr_initramfs_module(const WdrInitramfs *i, const char *name)
{
	GHashTableIter iter;
	void *path = NULL;

	g_hash_table_iter_init(&iter, i->files);
	while (g_hash_table_iter_next(&iter, &path, NULL)) {
		if (wdr_module_is(path, name))
			return path;
	}
	return NULL;
}

char *wdr_initramfs_text(const WdrInitramfs *i, const char *path)
{
	GBytes *bytes = g_hash_table_lookup(i->kept, path);

	return bytes ? g_strndup(g_bytes_get_data(bytes, NULL), g_bytes_get_size(bytes)) : NULL;
}

const char *wdr_initramfs_generator(const WdrInitramfs *i)
{
	static const struct {
		const char *file, *generator;
	} signs[] = { { "conf/modules", "initramfs-tools" },
		{ "scripts/functions", "initramfs-tools" }, { "usr/lib/dracut-lib.sh", "dracut" },
		{ "lib/dracut-lib.sh", "dracut" }, { "etc/initrd-release", "dracut" },
		{ "usr/lib/initrd-release", "dracut" }, { "init_functions", "mkinitcpio" } };

	for (size_t k = 0; k < G_N_ELEMENTS(signs); k++) {
		g_autofree char *real = wdr_initramfs_real(i, signs[k].file);
		if (real && g_hash_table_contains(i->files, real))
			return signs[k].generator;
	}
	return NULL;
}
