/* A walk under way: what tree_walk.c and the checkpoints of it (walk_state.c) share. */
#pragma once

#include "copy/volume_copy_priv.h"

typedef struct {
	char *path;
	uint64_t id, serial, parent;
	unsigned depth;
} WdrPending;

typedef struct {
	uint64_t id; /* also the key */
	uint64_t serial;
	uint32_t links, seen;
	char *path;
} WdrLink;

typedef struct {
	const char *name;
	uint64_t id, links;
	WdrKind kind;
	const uint8_t *fat_name;
	WdrEntry *glance; /* NULL: to be looked at */
} WdrFound;

/* Sorts its files by place, and gives them their turns. */
void wdr_tree_walk_finish_batch(WdrTreeWalk *p, WdrBatch *w);

struct WdrTreeWalk {
	const WdrCopy *copy; /* borrowed */
	unsigned failures;   /* entries and folders that could not be read, in a row */
	int64_t now;
	GPtrArray *stack; /* WdrPending, the next last */
	GArray *above; /* uint64_t by depth: ids of the folders that lead to the one being walked */
	GHashTable *links; /* id -> WdrLink, until all names were seen */
	uint64_t next_serial, next_turn;
	bool has_root;
	struct { /* the folder being walked; names NULL: none */
		WdrPending *at;
		WdrNames *names;
		GArray *found;   /* WdrFound */
		GArray *serials; /* uint64_t, in the same order */
		guint next;
	} folder;
};
