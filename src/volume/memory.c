/* A volume that is made up in memory. */
#include "volume/memory.h"

#include <string.h>

typedef struct {
	uint64_t offset, len;
	uint8_t *bytes; /* NULL: generated or preallocated */
	uint64_t seed;
	bool is_unwritten;
} Range;

typedef struct {
	WdrEntry entry;
	GPtrArray *names; /* of a folder: Name */
	GArray *ranges;   /* Range */
} Item;

typedef struct {
	char *name;
	uint64_t id;
} Name;

struct WdrMemoryVolume {
	WdrVolume volume;
	GPtrArray *items;    /* Item, by number */
	GHashTable *by_path; /* char * -> number + 1 */
};

typedef struct {
	WdrContent content;
	const Item *item;
	guint range;
	uint64_t pos; /* within the range */
} MemoryContent;

static void range_clear(void *data)
{
	g_free(((Range *)data)->bytes);
}

static void name_free(void *data)
{
	g_free(((Name *)data)->name);
	g_free(data);
}

static void item_free(void *data)
{
	Item *item = data;

	wdr_entry_clear(&item->entry);
	g_ptr_array_unref(item->names);
	g_array_unref(item->ranges);
	g_free(item);
}

static Item *item_at(WdrMemoryVolume *m, uint64_t id)
{
	return m->items->pdata[id];
}

static bool memory_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	WdrMemoryVolume *m = WDR_DERIVED(v, WdrMemoryVolume, volume);
	const Item *item = item_at(m, folder->id);

	for (guint i = 0; i < item->names->len; i++) {
		const Name *n = item->names->pdata[i];
		const WdrEntry *e = &item_at(m, n->id)->entry;
		WdrName name = { n->name, n->id, e->kind, e->links, NULL, NULL };
		if (!each(data, &name, error))
			return false;
	}
	return true;
}

static void copy_entry(WdrEntry *to, const WdrEntry *from)
{
	*to = *from;
	to->target = g_strdup(from->target);
	to->xattrs = NULL;
	to->n_xattrs = 0;
	for (size_t i = 0; i < from->n_xattrs; i++)
		wdr_entry_add_xattr(
			to, from->xattrs[i].name, from->xattrs[i].value, from->xattrs[i].len);
	wdr_entry_sort_xattrs(to);
}

static bool memory_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	(void)error;
	copy_entry(ret, &item_at(WDR_DERIVED(v, WdrMemoryVolume, volume), node->id)->entry);
	return true;
}

/* splitmix64 over the position in 8-byte words: any piece can be made without those before it. */
static void generate(uint8_t *buf, size_t len, uint64_t seed, uint64_t pos)
{
	for (size_t i = 0; i < len; i++, pos++) {
		uint64_t z = seed + (pos / 8 + 1) * UINT64_C(0x9e3779b97f4a7c15);
		z = (z ^ (z >> 30)) * UINT64_C(0xbf58476d1ce4e5b9);
		z = (z ^ (z >> 27)) * UINT64_C(0x94d049bb133111eb);
		z ^= z >> 31;
		for (; i < len; i++, pos++) {
			buf[i] = (uint8_t)(z >> (pos % 8 * 8));
			if (pos % 8 == 7)
				break;
		}
	}
}

static bool memory_next(WdrContent *content, void *buf, size_t cap, WdrPiece *ret, GError **error)
{
	MemoryContent *c = WDR_DERIVED(content, MemoryContent, content);

	(void)error;
	if (c->range >= c->item->ranges->len) {
		*ret = (WdrPiece){ .offset = c->item->entry.size };
		return true;
	}
	const Range *r = &g_array_index(c->item->ranges, Range, c->range);
	uint64_t len = r->is_unwritten ? r->len - c->pos : MIN(r->len - c->pos, cap);
	if (r->bytes)
		memcpy(buf, r->bytes + c->pos, (size_t)len);
	else if (!r->is_unwritten)
		generate(buf, (size_t)len, r->seed, c->pos);
	*ret = (WdrPiece){ r->offset + c->pos, len, r->is_unwritten };
	c->pos += len;
	if (c->pos == r->len) {
		c->range++;
		c->pos = 0;
	}
	return true;
}

static void memory_content_free(WdrContent *content)
{
	g_free(content);
}

static bool memory_open(
	WdrVolume *v, const WdrNode *node, WdrEntry *entry, WdrContent **ret, GError **error)
{
	static const WdrContentOps ops = { memory_next, memory_content_free, NULL, NULL };
	MemoryContent *c = g_new0(MemoryContent, 1);

	(void)entry;
	(void)error;
	c->content.ops = &ops;
	c->item = item_at(WDR_DERIVED(v, WdrMemoryVolume, volume), node->id);
	*ret = &c->content;
	return true;
}

static void memory_free(WdrVolume *v)
{
	WdrMemoryVolume *m = WDR_DERIVED(v, WdrMemoryVolume, volume);

	g_hash_table_unref(m->by_path);
	g_ptr_array_unref(m->items);
	g_free(m);
}

static uint64_t new_item(WdrMemoryVolume *m, const WdrEntry *entry)
{
	Item *item = g_new0(Item, 1);

	copy_entry(&item->entry, entry);
	item->names = g_ptr_array_new_with_free_func(name_free);
	item->ranges = g_array_new(FALSE, FALSE, sizeof(Range));
	g_array_set_clear_func(item->ranges, range_clear);
	item->entry.links = entry->kind == WDR_KIND_FOLDER ? 2 : 0;
	item->entry.size = entry->target ? strlen(entry->target) : 0;
	g_ptr_array_add(m->items, item);
	return m->items->len - 1;
}

WdrMemoryVolume *wdr_memory_volume_new(const char *name)
{
	static const WdrVolumeOps ops = { "memory", memory_list, memory_stat, memory_open,
		memory_free, NULL };
	WdrMemoryVolume *m = g_new0(WdrMemoryVolume, 1);
	WdrEntry root = { .kind = WDR_KIND_FOLDER, .mode = 0755 };

	m->volume.ops = &ops;
	m->volume.name = g_strdup(name);
	m->items = g_ptr_array_new_with_free_func(item_free);
	m->by_path = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	g_hash_table_insert(m->by_path, g_strdup(""), GSIZE_TO_POINTER(new_item(m, &root) + 1));
	return m;
}

WdrVolume *wdr_memory_volume_as_volume(WdrMemoryVolume *m)
{
	return &m->volume;
}

void wdr_memory_volume_link(WdrMemoryVolume *m, const char *path, uint64_t id)
{
	const char *slash = strrchr(path, '/');
	g_autofree char *folder = slash ? g_strndup(path, (gsize)(slash - path)) : g_strdup("");
	size_t parent = GPOINTER_TO_SIZE(g_hash_table_lookup(m->by_path, folder));
	Name *name = g_new0(Name, 1);

	g_assert(parent != 0 && !g_hash_table_contains(m->by_path, path));
	name->name = g_strdup(slash ? slash + 1 : path);
	name->id = id;
	g_ptr_array_add(item_at(m, parent - 1)->names, name);
	g_hash_table_insert(m->by_path, g_strdup(path), GSIZE_TO_POINTER(id + 1));
	if (item_at(m, id)->entry.kind == WDR_KIND_FOLDER)
		item_at(m, parent - 1)->entry.links++;
	else
		item_at(m, id)->entry.links++;
}

uint64_t wdr_memory_volume_add(WdrMemoryVolume *m, const char *path, const WdrEntry *entry)
{
	if (*path == '\0') {
		uint64_t links = item_at(m, 0)->entry.links;
		wdr_entry_clear(&item_at(m, 0)->entry);
		copy_entry(&item_at(m, 0)->entry, entry);
		item_at(m, 0)->entry.links = links;
		return 0;
	}
	uint64_t id = new_item(m, entry);
	wdr_memory_volume_link(m, path, id);
	return id;
}

static void add_range(WdrMemoryVolume *m, uint64_t id, const Range *r)
{
	Item *item = item_at(m, id);

	g_array_append_vals(item->ranges, r, 1);
	item->entry.size = MAX(item->entry.size, r->offset + r->len);
}

void wdr_memory_volume_put(
	WdrMemoryVolume *m, uint64_t id, uint64_t offset, const void *data, size_t len)
{
	Range r = { .offset = offset, .len = len, .bytes = g_memdup2(data, len) };

	if (len > 0)
		add_range(m, id, &r);
}

void wdr_memory_volume_generate(
	WdrMemoryVolume *m, uint64_t id, uint64_t offset, uint64_t len, uint64_t seed)
{
	Range r = { .offset = offset, .len = len, .seed = seed };

	if (len > 0)
		add_range(m, id, &r);
}

void wdr_memory_volume_preallocate(WdrMemoryVolume *m, uint64_t id, uint64_t offset, uint64_t len)
{
	Range r = { .offset = offset, .len = len, .is_unwritten = true };

	add_range(m, id, &r);
}

void wdr_memory_volume_set_size(WdrMemoryVolume *m, uint64_t id, uint64_t size)
{
	item_at(m, id)->entry.size = MAX(item_at(m, id)->entry.size, size);
}
