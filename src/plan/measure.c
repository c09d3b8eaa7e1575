/* Counts entries and bytes of a volume. */
#include "plan/measure.h"

#include "base/stop.h"
#include "base/text.h"

enum { DEPTH_MAX = 4096 };

typedef struct {
	char *path;
	uint64_t id;
	unsigned depth;
	int rule; /* the pattern that leaves it behind, or WDR_EXCLUDE_COPIED */
} Folder;

typedef struct {
	WdrVolume *volume;
	const WdrExclude *exclude;
	GPtrArray *left;
	uint32_t block_size;
	WdrMeasure *sum;
	GPtrArray *stack;  /* Folder */
	GHashTable *links; /* ids of files with several names, once counted */
	const Folder *at;  /* the one being listed */
} Walk;

static void folder_free(void *data)
{
	g_free(((Folder *)data)->path);
	g_free(data);
}

static void push(Walk *w, const char *path, uint64_t id, unsigned depth, int rule)
{
	Folder *f = g_new0(Folder, 1);

	*f = (Folder){ g_strdup(path), id, depth, rule };
	g_ptr_array_add(w->stack, f);
}

static bool is_counted(Walk *w, const WdrName *name)
{
	if (name->kind == WDR_KIND_FOLDER || name->links < 2)
		return false;
	uint64_t *id = g_memdup2(&name->id, sizeof(name->id));
	return !g_hash_table_add(w->links, id);
}

static void count(Walk *w, const WdrEntry *e, int rule)
{
	/* What lies within an inode, or of a file system that does not say, needs blocks of its
	 * own; a hole needs none. */
	uint64_t within = e->kind == WDR_KIND_FILE ? MIN(e->size, w->block_size) : 0;
	uint64_t taken = !e->has_allocated ? e->size : MAX(e->allocated, within);
	uint64_t bytes = e->kind == WDR_KIND_FILE ? MIN(e->size, taken) : 0;

	if (rule >= 0) {
		WdrLeft *l = w->left ? w->left->pdata[rule] : NULL;
		if (l)
			l->entries++, l->bytes += bytes;
	} else if (rule == WDR_EXCLUDE_COPIED) {
		w->sum->entries++;
		w->sum->bytes += bytes;
		w->sum->room += wdr_round_up(taken, w->block_size);
	}
}

/* What is gone meanwhile, and what cannot be read: the copying will name it. */
static bool is_passed(Walk *w, const GError *failure)
{
	bool is_unread = wdr_error_is_medium(failure);

	w->sum->unread += is_unread ? 1 : 0;
	return is_unread || wdr_volume_is_gone(w->volume, failure);
}

static bool visit(void *data, const WdrName *name, GError **error)
{
	Walk *w = data;
	g_autofree char *path = wdr_volume_path(w->at->path, name->name);
	WdrNode node = { name->id, path };
	g_auto(WdrEntry) entry = { 0 };
	g_autoptr(GError) local = NULL;
	int rule = w->at->rule != WDR_EXCLUDE_COPIED
			   ? w->at->rule
			   : wdr_exclude_rule(w->exclude, path, name->kind);

	if (!wdr_stop_check(error))
		return false;
	if (is_counted(w, name))
		return true;
	if (!wdr_volume_stat(w->volume, &node, &entry, &local)) {
		if (is_passed(w, local))
			return true;
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	count(w, &entry, rule);
	if (name->kind == WDR_KIND_FOLDER && rule != WDR_EXCLUDE_OURS)
		push(w, path, name->id, w->at->depth + 1, rule);
	return true;
}

static bool list_next(Walk *w, GError **error)
{
	Folder *at = g_ptr_array_steal_index(w->stack, w->stack->len - 1);
	WdrNode node = { at->id, at->path };
	g_autoptr(GError) local = NULL;

	w->at = at;
	bool is_fine = at->depth <= DEPTH_MAX ? wdr_volume_list(w->volume, &node, visit, w, &local)
					      : wdr_error_set(&local, WDR_ERROR_FORMAT,
							"%s: folders are nested more than %d deep",
							wdr_volume_name(w->volume), DEPTH_MAX);
	folder_free(at);
	if (is_fine || is_passed(w, local))
		return true;
	g_propagate_error(error, g_steal_pointer(&local));
	return false;
}

bool wdr_measure(WdrVolume *v, const WdrExclude *exclude, GPtrArray *left, uint32_t block_size,
	WdrMeasure *ret, GError **error)
{
	g_autoptr(GPtrArray) stack = g_ptr_array_new_with_free_func(folder_free);
	g_autoptr(GHashTable) links =
		g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
	Walk w = { v, exclude, left, block_size, ret, stack, links, NULL };

	/* The root itself is an entry of one block. */
	*ret = (WdrMeasure){ .entries = 1, .room = block_size };
	push(&w, "", v->root_id, 0, WDR_EXCLUDE_COPIED);
	while (stack->len > 0) {
		if (!list_next(&w, error))
			return false;
	}
	return true;
}
