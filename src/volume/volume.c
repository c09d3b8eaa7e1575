/* Looking up paths, listing and reading whole files, for all back ends. */
#include "volume/volume.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

void wdr_entry_clear(WdrEntry *entry)
{
	for (size_t i = 0; i < entry->n_xattrs; i++) {
		g_free(entry->xattrs[i].name);
		g_free(entry->xattrs[i].value);
	}
	g_clear_pointer(&entry->xattrs, g_free);
	g_clear_pointer(&entry->target, g_free);
	entry->n_xattrs = 0;
}

void wdr_entry_add_xattr(WdrEntry *entry, const char *name, const void *value, size_t len)
{
	entry->xattrs = g_renew(WdrXattr, entry->xattrs, entry->n_xattrs + 1);
	WdrXattr *x = &entry->xattrs[entry->n_xattrs++];
	x->name = g_strdup(name);
	x->value = g_malloc(len + 1); /* never NULL, also when empty */
	memcpy(x->value, value, len);
	x->len = len;
}

static int by_name(const void *a, const void *b)
{
	return strcmp(((const WdrXattr *)a)->name, ((const WdrXattr *)b)->name);
}

void wdr_entry_sort_xattrs(WdrEntry *entry)
{
	if (entry->n_xattrs > 1)
		qsort(entry->xattrs, entry->n_xattrs, sizeof(*entry->xattrs), by_name);
}

void wdr_entry_stand_in(WdrEntry *entry, WdrKind kind, int64_t now)
{
	WdrTime t = { now, 0 };

	wdr_entry_clear(entry);
	*entry = (WdrEntry){
		.kind = kind, .links = 1, .atime = t, .mtime = t, .ctime = t, .crtime = t
	};
	if (kind == WDR_KIND_SYMLINK) {
		entry->target = g_strdup("gone");
		entry->size = strlen(entry->target);
	}
}

bool wdr_time_equal(WdrTime a, WdrTime b)
{
	return a.sec == b.sec && a.nsec == b.nsec;
}

bool wdr_kind_of_mode(unsigned mode, WdrKind *ret)
{
	static const struct {
		unsigned mode;
		WdrKind kind;
	} kinds[] = { { S_IFREG, WDR_KIND_FILE }, { S_IFDIR, WDR_KIND_FOLDER },
		{ S_IFLNK, WDR_KIND_SYMLINK }, { S_IFCHR, WDR_KIND_CHAR },
		{ S_IFBLK, WDR_KIND_BLOCK }, { S_IFIFO, WDR_KIND_FIFO },
		{ S_IFSOCK, WDR_KIND_SOCKET } };

	for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
		if (kinds[i].mode == (mode & S_IFMT)) {
			*ret = kinds[i].kind;
			return true;
		}
	}
	return false;
}

const char *wdr_kind_name(WdrKind kind)
{
	static const char *const names[] = { "file", "folder", "symlink", "char-device",
		"block-device", "fifo", "socket" };

	return names[kind];
}

bool wdr_volume_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	return v->ops->list(v, folder, each, data, error);
}

bool wdr_volume_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	return v->ops->stat(v, node, ret, error);
}

bool wdr_volume_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	return v->ops->open(v, node, entry, ret, error);
}

void wdr_volume_free(WdrVolume *v)
{
	if (!v)
		return;
	g_free(v->name);
	v->ops->free(v);
}

const char *wdr_volume_name(const WdrVolume *v)
{
	return v->name;
}

bool wdr_volume_is_gone(const WdrVolume *v, const GError *error)
{
	return v->is_changing && error && wdr_errno_is_gone(wdr_error_get_errno(error));
}

char *wdr_volume_path(const char *folder, const char *name)
{
	return *folder ? g_strconcat(folder, "/", name, NULL) : g_strdup(name);
}

void wdr_builder_free(WdrBuilder *b)
{
	if (b)
		b->ops->free(b);
}

typedef struct {
	const char *name;
	bool ignore_case;
	WdrNamed *ret;
} Search;

static bool match_name(void *data, const WdrName *name, GError **error)
{
	const Search *s = data;

	(void)error;
	if (s->ignore_case ? g_ascii_strcasecmp(name->name, s->name) == 0
			   : strcmp(name->name, s->name) == 0)
		*s->ret = (WdrNamed){ true, name->id, name->kind };
	return true;
}

bool wdr_volume_find(
	WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret, GError **error)
{
	Search s = { name, strcmp(v->ops->type, "vfat") == 0, ret };

	*ret = (WdrNamed){ 0 };
	return v->ops->find ? v->ops->find(v, folder, name, ret, error)
			    : wdr_volume_list(v, folder, match_name, &s, error);
}

bool wdr_volume_lookup(WdrVolume *v, const char *path, bool *found, uint64_t *ret_id, WdrEntry *ret,
	GError **error)
{
	g_auto(GStrv) names = g_strsplit(path, "/", -1);
	g_autoptr(GString) walked = g_string_new(NULL);
	WdrNamed at = { true, v->root_id, WDR_KIND_FOLDER };

	*found = false;
	for (size_t i = 0; names[i]; i++) {
		if (*names[i] == '\0')
			continue;
		if (at.kind != WDR_KIND_FOLDER)
			return true;
		WdrNode folder = { at.id, walked->str };
		if (!wdr_volume_find(v, &folder, names[i], &at, error))
			return false;
		if (!at.is_there)
			return true;
		g_string_append_printf(walked, "%s%s", walked->len ? "/" : "", names[i]);
	}
	WdrNode node = { at.id, walked->str };
	if (!wdr_volume_stat(v, &node, ret, error))
		return false;
	*found = true;
	if (ret_id)
		*ret_id = at.id;
	return true;
}

static bool read_content(WdrContent *content, char *buf, size_t size, GError **error)
{
	g_autofree char *piece_buf = g_malloc(65536);

	for (;;) {
		WdrPiece piece;
		if (!wdr_content_next(content, piece_buf, 65536, &piece, error))
			return false;
		if (piece.len == 0)
			return true;
		if (piece.is_unwritten)
			continue;
		if (piece.offset > size || piece.len > size - piece.offset)
			return wdr_error_set(
				error, WDR_ERROR_FORMAT, "content past the file's end");
		memcpy(buf + piece.offset, piece_buf, (size_t)piece.len);
	}
}

bool wdr_volume_read_node(WdrVolume *v, const WdrNode *node, WdrEntry *entry, size_t limit,
	char **ret, GError **error)
{
	g_autoptr(WdrContent) content = NULL;

	if (entry->size > limit)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s on %s is larger than %zu bytes",
			node->path, v->name, limit);
	g_autofree char *buf = g_malloc0((size_t)entry->size + 1);
	if (!wdr_volume_open(v, node, entry, &content, error) ||
		!read_content(content, buf, (size_t)entry->size, error)) {
		g_prefix_error(error, "%s on %s: ", node->path, v->name);
		return false;
	}
	*ret = g_steal_pointer(&buf);
	return true;
}

bool wdr_volume_read_file(
	WdrVolume *v, const char *path, size_t limit, char **ret, size_t *ret_len, GError **error)
{
	g_auto(WdrEntry) entry = { 0 };
	uint64_t id = 0;
	bool found = false;

	*ret = NULL;
	*ret_len = 0;
	if (!wdr_volume_lookup(v, path, &found, &id, &entry, error))
		return false;
	if (!found || entry.kind != WDR_KIND_FILE)
		return true;
	WdrNode node = { id, path };
	if (!wdr_volume_read_node(v, &node, &entry, limit, ret, error))
		return false;
	*ret_len = (size_t)entry.size;
	return true;
}
