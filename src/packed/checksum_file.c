/* Finds the checksum of a packed image in a file beside it.
 *
 * A file named after the image (heron.img.xz.sha256) is about that image, whatever name its one
 * line has: people rename downloads. A list (SHA256SUMS) counts where it has a line with the name.
 */
#include "packed/checksum_file.h"

#include "base/io.h"

#include <string.h>

/* A list of a mirror's whole folder is smaller. */
enum { LIST_BYTES_MAX = 4 * 1024 * 1024 };

/* The strongest first. */
static const struct {
	const char *name;
	GChecksumType type;
	size_t hex_len;
	const char *files[6]; /* with a dot: an ending behind the image's name; others: lists */
} kinds[] = {
	{ "SHA-512", G_CHECKSUM_SHA512, 128,
		{ ".sha512", "SHA512SUMS", ".sha512sum", "sha512sums.txt", ".sha512.txt",
			"sha512sum.txt" } },
	{ "SHA-256", G_CHECKSUM_SHA256, 64,
		{ ".sha256", "SHA256SUMS", ".sha256sum", "sha256sums.txt", ".sha256.txt",
			"sha256sum.txt" } },
	{ "SHA-1", G_CHECKSUM_SHA1, 40,
		{ ".sha1", "SHA1SUMS", ".sha1sum", "sha1sums.txt", ".sha1.txt", "sha1sum.txt" } },
	{ "MD5", G_CHECKSUM_MD5, 32,
		{ ".md5", "MD5SUMS", ".md5sum", "md5sums.txt", ".md5.txt", "md5sum.txt" } },
};

void wdr_checksum_file_clear(WdrChecksumFile *c)
{
	g_free(c->file);
	g_free(c->hex);
	memset(c, 0, sizeof(*c));
}

static bool is_hex(const char *text, size_t len)
{
	return strlen(text) >= len && strspn(text, "0123456789abcdefABCDEF") == len;
}

/* "HEX  NAME", "HEX *NAME", "HEX", or "SHA256 (NAME) = HEX". *ret_name is within the line; NULL: it
 * has none. NULL: no checksum of this length. */
static const char *hex_of_line(char *line, size_t hex_len, const char **ret_name)
{
	char *open = strstr(line, " (");
	char *close = open ? strstr(open, ") = ") : NULL;

	*ret_name = NULL;
	if (close && is_hex(close + 4, hex_len)) {
		*close = '\0';
		*ret_name = open + 2;
		return close + 4;
	}
	if (!is_hex(line, hex_len) || (line[hex_len] && !g_ascii_isspace(line[hex_len])))
		return NULL;
	const char *name = line + hex_len;
	name += strspn(name, " \t");
	name += *name == '*' ? 1 : 0;
	*ret_name = *name ? name : NULL;
	return line;
}

/* Lists may have "./" or a folder before the name. */
static bool is_named(const char *in_list, const char *name)
{
	const char *last = strrchr(in_list, '/');

	return strcmp(last ? last + 1 : in_list, name) == 0;
}

/* The checksum of `name` in a file; any name will do where the file is named after it and has one
 * line. NULL: it has none. The caller's. */
static char *hex_in(char *text, size_t hex_len, const char *name, bool is_named_after)
{
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
	g_autofree char *only = NULL;
	unsigned count = 0;

	for (size_t i = 0; lines[i]; i++) {
		const char *of = NULL;
		const char *hex = hex_of_line(g_strchomp(lines[i]), hex_len, &of);
		if (!hex)
			continue;
		if (of && is_named(of, name))
			return g_ascii_strdown(hex, (gssize)hex_len);
		g_free(only);
		only = g_ascii_strdown(hex, (gssize)hex_len);
		count++;
	}
	return is_named_after && count == 1 ? g_steal_pointer(&only) : NULL;
}

typedef struct {
	const char *folder, *name; /* folder "": this one */
	size_t kind;
} Wanted;

/* *ret NULL: it is not there, or says nothing of the name. */
static bool look_in(
	const Wanted *w, const char *file, bool is_named_after, char **ret, GError **error)
{
	g_autofree char *path = g_build_filename(w->folder, file, NULL);
	g_autofree char *text = NULL;
	size_t len = 0;

	*ret = NULL;
	if (!g_file_test(path, G_FILE_TEST_IS_REGULAR))
		return true;
	if (!wdr_read_file(path, LIST_BYTES_MAX, &text, &len, error))
		return false;
	*ret = hex_in(text, kinds[w->kind].hex_len, w->name, is_named_after);
	return true;
}

static bool find(const Wanted *w, WdrChecksumFile *ret, GError **error)
{
	for (size_t i = 0; i < G_N_ELEMENTS(kinds[w->kind].files); i++) {
		const char *known = kinds[w->kind].files[i];
		bool is_ending = *known == '.';
		g_autofree char *file = g_strconcat(is_ending ? w->name : "", known, NULL);
		char *hex = NULL;
		if (!look_in(w, file, is_ending, &hex, error))
			return false;
		if (!hex)
			continue;
		*ret = (WdrChecksumFile){ .file = g_build_filename(w->folder, file, NULL),
			.name = kinds[w->kind].name,
			.type = kinds[w->kind].type,
			.hex = hex };
		return true;
	}
	return true;
}

bool wdr_checksum_file_find(
	const char *path, const char *content, WdrChecksumFile *ret, GError **error)
{
	g_autofree char *folder = strchr(path, '/') ? g_path_get_dirname(path) : g_strdup("");
	g_autofree char *name = g_path_get_basename(path);
	const char *const names[] = { name, content };

	for (size_t n = 0; n < G_N_ELEMENTS(names); n++) {
		for (size_t k = 0; names[n] && !ret->file && k < G_N_ELEMENTS(kinds); k++) {
			Wanted w = { folder, names[n], k };
			if (!find(&w, ret, error))
				return false;
			ret->is_of_content = n == 1;
		}
	}
	return true;
}
