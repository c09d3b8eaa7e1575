/* The engine that copies one volume into another, and reads one back to compare it: a planner
 * lists folders ahead, readers read and hash file contents in the medium's order within a batch of
 * entries, and one writer feeds the builder. Memory is bounded, whatever the number and size of
 * files. */
#pragma once

#include "base/hash.h"
#include "copy/exclude.h"
#include "volume/content_hash.h"
#include "volume/volume.h"
#include "world/world.h"

/* One entry as it was copied or read back. Everything is borrowed for the length of the call. */
typedef struct {
	const char *path;
	const WdrEntry *entry;
	const char *link_to; /* path of the first name of a hard link; NULL: this is the first */
	WdrHash content;     /* of a file: of its bytes; otherwise of nothing */
	uint64_t id;         /* of the source's node: its inode number, where it has one */
	uint64_t places; /* where its content lies, which was not read: WdrCopy.is_known said so;
			    0: it was read, or there is none */
} WdrCopied;

/* Which disk the other one waited for, in seconds. */
typedef struct {
	double for_source; /* the writer had nothing to write */
	double for_target; /* the readers had no room to read into */
} WdrCopyWaits;

/* Paths (char *) of files that get other contents on the way (GBytes *). */
typedef GHashTable WdrReplacements;
WdrReplacements *wdr_replacements_new(void);

typedef struct {
	WdrVolume *source;
	WdrBuilder *builder;           /* NULL: only read */
	WdrReplacements *replacements; /* NULL: none */
	const WdrExclude *exclude;     /* what is passed over; NULL: nothing */
	/* Called for each entry, folder by folder in the order of names: the same order for the
	 * same tree, whatever it lies on. */
	bool (*record)(void *data, const WdrCopied *copied, GError **error);
	void *data;
	bool glances; /* for a plan alone: entries are glanced at where that will do, contents not
			 opened */
	bool renews_swap; /* swap files come as fresh ones: for what is copied, not for reading
			     back */
	/* Whether the copying goes on without what the medium fails to give of this path; called
	 * from several threads. NULL: it never does. */
	bool (*may_miss)(void *data, const char *path);
	/* It did: called before the entry is recorded. `damage` NULL: the entry itself, or the
	 * names in a folder. */
	bool (*missed)(void *data, const char *path, const WdrDamage *damage, GError **error);
	void *miss_data;
	/* Called after each file that was given to the builder and ended; of a large one also in
	 * between, with `content` NULL. NULL: nobody asks. */
	bool (*written)(void *data, const char *path, uint64_t size, const WdrHash *content,
		GError **error);
	/* Bytes that wait to be read back, behind the writer; NULL: that is not done. */
	uint64_t (*waiting)(void *data);
	void *behind_data; /* of both */
	/* Of a node whose content was read before and needs not be read again if it lies where it
	 * did then, which the record has to see to. From several threads. NULL: none is. */
	bool (*is_known)(void *data, uint64_t id);
	void *known_data;
	WdrCopyWaits *waits; /* what is added to; NULL: nobody asks */
	WdrProgress total;   /* what on_progress is to count up to */
	/* Called now and then between entries, and within long files, when everything before is
	 * recorded; `state` is what resume_from needs to go on from here. NULL: no checkpoints. */
	bool (*checkpoint)(void *data, GVariant *state, GError **error);
	void *checkpoint_data;
	uint64_t checkpoint_bytes; /* one is made after so many, or after some seconds */
	GVariant *resume_from;     /* NULL: from the start */
} WdrCopy;

typedef struct WdrCopyCount WdrCopyCount;
/* Counts bytes that reached the medium; hand wdr_copy_count_done and it to the builder. */
WdrCopyCount *wdr_copy_count_new(void);
void wdr_copy_count_free(WdrCopyCount *count);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrCopyCount, wdr_copy_count_free)
void wdr_copy_count_done(void *count, uint64_t bytes);
uint64_t wdr_copy_count_bytes(const WdrCopyCount *count);

/* `count` NULL: progress counts what was read. The builder is not finished by this. */
bool wdr_copy_volume(const WdrWorld *world, const WdrCopy *copy, WdrCopyCount *count,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
