/* The state of a copying, for checkpoints: that of the walk and, within a long file, of that file:
 * what it was when it was begun, how far it is copied, and what could not be read of it.
 *
 * As a GVariant: (walk, files), with one file or none. A file is (path, serial, parent, id, entry,
 * (copied bytes, hash high, low), missing ranges); an entry (mode, uid, gid, flags, project,
 * links, size, atime, mtime, ctime, crtime, xattrs (name, value)). */
#include "copy/tree_walk_priv.h"

#include "volume/swap.h"

#include <string.h>

#define ENTRY_TYPE "(uuuuutt(xu)(xu)(xu)(xu)a(ayay))"
#define FILE_TYPE "(ayttt" ENTRY_TYPE "(ttt)a(tt))"
#define STATE_TYPE "(va" FILE_TYPE ")"

/* ---- taking it ---- */

static GVariant *entry_to_variant(const WdrEntry *e)
{
	GVariantBuilder xattrs;

	g_variant_builder_init(&xattrs, G_VARIANT_TYPE("a(ayay)"));
	for (size_t i = 0; i < e->n_xattrs; i++)
		g_variant_builder_add(&xattrs, "(^ay@ay)", e->xattrs[i].name,
			g_variant_new_fixed_array(
				G_VARIANT_TYPE_BYTE, e->xattrs[i].value, e->xattrs[i].len, 1));
	return g_variant_new(ENTRY_TYPE, e->mode, e->uid, e->gid, e->flags, e->project, e->links,
		e->size, e->atime.sec, e->atime.nsec, e->mtime.sec, e->mtime.nsec, e->ctime.sec,
		e->ctime.nsec, e->crtime.sec, e->crtime.nsec, &xattrs);
}

/* The long file that a checkpoint lies in. Its entry is kept as it was at the beginning: the inode
 * on the target was made from that, also if the source's file changes meanwhile. */
static GVariant *file_to_variant(const WdrJob *job, const WdrReached *reached)
{
	GVariantBuilder ranges;

	g_variant_builder_init(&ranges, G_VARIANT_TYPE("a(tt)"));
	for (guint i = 0; i < reached->missing->len; i++) {
		const WdrRange *r = &g_array_index(reached->missing, WdrRange, i);
		g_variant_builder_add(&ranges, "(tt)", r->offset, r->len);
	}
	return g_variant_new("(^ayttt@" ENTRY_TYPE "(ttt)a(tt))", job->path, job->serial,
		job->parent, job->id, entry_to_variant(&job->entry), reached->mark.at,
		reached->mark.hash.high, reached->mark.hash.low, &ranges);
}

GVariant *wdr_copy_state(GVariant *walk, const WdrJob *job, const WdrReached *reached)
{
	GVariantBuilder files;

	g_variant_builder_init(&files, G_VARIANT_TYPE("a" FILE_TYPE));
	if (job)
		g_variant_builder_add_value(&files, file_to_variant(job, reached));
	return g_variant_ref_sink(g_variant_new("(va" FILE_TYPE ")", walk, &files));
}

/* ---- going on from it ---- */

static void restore_entry(GVariant *v, WdrEntry *ret)
{
	g_autoptr(GVariant) xattrs = NULL;

	*ret = (WdrEntry){ .kind = WDR_KIND_FILE };
	g_variant_get(v, "(uuuuutt(xu)(xu)(xu)(xu)@a(ayay))", &ret->mode, &ret->uid, &ret->gid,
		&ret->flags, &ret->project, &ret->links, &ret->size, &ret->atime.sec,
		&ret->atime.nsec, &ret->mtime.sec, &ret->mtime.nsec, &ret->ctime.sec,
		&ret->ctime.nsec, &ret->crtime.sec, &ret->crtime.nsec, &xattrs);
	for (gsize i = 0; i < g_variant_n_children(xattrs); i++) {
		const char *name = NULL;
		g_autoptr(GVariant) value = NULL;
		gsize len = 0;
		g_variant_get_child(xattrs, i, "(^&ay@ay)", &name, &value);
		const void *bytes = g_variant_get_fixed_array(value, &len, 1);
		wdr_entry_add_xattr(ret, name, bytes ? bytes : "", len);
	}
}

static WdrReached *restore_reached(GVariant *v)
{
	WdrReached *reached = g_new0(WdrReached, 1);
	g_autoptr(GVariantIter) ranges = NULL;
	WdrRange r;

	g_variant_get(v, "((ttt)a(tt))", &reached->mark.at, &reached->mark.hash.high,
		&reached->mark.hash.low, &ranges);
	reached->missing = g_array_new(FALSE, FALSE, sizeof(WdrRange));
	while (g_variant_iter_next(ranges, "(tt)", &r.offset, &r.len))
		g_array_append_val(reached->missing, r);
	return reached;
}

static WdrJob *restore_job(GVariant *v)
{
	WdrJob *job = wdr_job_new();
	g_autoptr(GVariant) entry = NULL;
	g_autoptr(GVariant) mark = NULL;
	g_autoptr(GVariant) ranges = NULL;

	g_variant_get(v, "(^ayttt@" ENTRY_TYPE "@(ttt)@a(tt))", &job->path, &job->serial,
		&job->parent, &job->id, &entry, &mark, &ranges);
	g_autoptr(GVariant) both =
		g_variant_ref_sink(g_variant_new("(@(ttt)@a(tt))", mark, ranges));
	restore_entry(entry, &job->entry);
	job->reached = restore_reached(both);
	return job;
}

/* What is left of a file that is gone meanwhile is a hole; passes find that. The entry stays what
 * it was when the file was begun: its inode was made from that. */
static bool open_again(const WdrCopy *copy, WdrJob *job, GError **error)
{
	WdrNode node = { job->id, job->path };
	g_auto(WdrEntry) now = { 0 };
	g_autoptr(GError) local = NULL;

	bool is_there = wdr_volume_stat(copy->source, &node, &now, &local);
	if (!is_there && !wdr_volume_is_gone(copy->source, local)) {
		g_propagate_error(error, g_steal_pointer(&local));
		return false;
	}
	if (!is_there || now.kind != WDR_KIND_FILE || now.size != job->entry.size) {
		job->content = wdr_content_hole(job->entry.size);
		return true;
	}
	return (copy->renews_swap ? wdr_swap_open_content : wdr_volume_open)(
		copy->source, &node, &now, &job->content, error);
}

bool wdr_copy_restore(WdrTreeWalk *walk, GVariant *state, WdrBatch **ret_open, GError **error)
{
	g_autoptr(GVariant) place = NULL;
	g_autoptr(GVariant) files = NULL;

	*ret_open = NULL;
	if (!g_variant_is_of_type(state, G_VARIANT_TYPE(STATE_TYPE)))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "this is no state of a copying");
	g_variant_get(state, "(v@a" FILE_TYPE ")", &place, &files);
	if (!wdr_tree_walk_restore(walk, place, error))
		return false;
	if (g_variant_n_children(files) == 0)
		return true;
	g_autoptr(GVariant) file = g_variant_get_child_value(files, 0);
	g_autoptr(WdrBatch) w = wdr_batch_new();
	WdrJob *job = restore_job(file);
	g_ptr_array_add(w->jobs, job);
	if (job->reached->mark.at == 0 || job->reached->mark.at >= job->entry.size)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "this is no state of a copying");
	if (!open_again(walk->copy, job, error))
		return false;
	g_ptr_array_add(w->by_place, job);
	wdr_tree_walk_finish_batch(walk, w);
	w->after = wdr_tree_walk_state(walk);
	*ret_open = g_steal_pointer(&w);
	return true;
}
