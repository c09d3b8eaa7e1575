/* One line of a packing list: an entry as it was copied. The format is described in packing_list.h.
 */
#pragma once

#include "copy/volume_copy.h"

typedef struct {
	bool is_link; /* a further name; `kind` is not told then */
	WdrKind kind;
	uint32_t mode, uid, gid;
	uint64_t size;
	WdrTime mtime, ctime, atime;
	uint64_t id;       /* inode on the source */
	bool has_content;  /* a file that is not empty */
	WdrHash content;   /* of its bytes */
	WdrHash metadata;  /* of everything that has no field */
	char *path, *link; /* link: the first name; NULL: this is it */
} WdrListEntry;

void wdr_list_entry_clear(WdrListEntry *p);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrListEntry, wdr_list_entry_clear)

/* Without content: *ret has that of `copied` only when it is a file that is not empty. */
void wdr_list_entry_describe(WdrHasher *hasher, const WdrCopied *copied, WdrListEntry *ret);
/* As a line with its end, in place of what `ret` held. */
void wdr_list_entry_to_line(const WdrListEntry *p, GString *ret);
/* FORMAT: it is no such line. Its end may be there or not. */
bool wdr_list_entry_from_line(
	const char *line, WdrListEntry *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* The order of a walk: a folder's entries by name, then what is in its folders. */
int wdr_list_entry_order(const char *a, const char *b);
/* Which fields differ, in words ("mode, content"); NULL: none. The inode is not looked at, since a
 * target has numbers of its own. The caller's. */
char *wdr_list_entry_difference(const WdrListEntry *a, const WdrListEntry *b);
