/* The packing list: every entry that was copied, in the order of the walk, on disk while it grows.
 *
 * Text, one line an entry, fields separated by tabs; the first line is the header,
 * with the second at which the walk began:
 *   wanderitas-packing-list/2 SECONDS
 *   KIND MODE UID GID SIZE MTIME CTIME ATIME INODE CONTENT METADATA PATH [LINK]
 * KIND is a word (file, folder, symlink, …, or "link": a further name of PATH's content, with LINK
 * the first name); MODE octal; times are seconds.nanoseconds; INODE is the source's; CONTENT the
 * XXH3-128 of a file's bytes (see base/hash.h), "-" for the rest; METADATA a hash over everything
 * else that is known of the entry (birth time, xattrs, link target, flags, …). In paths, bytes that
 * could end a field or a line, and backslashes, are \xHH. */
#pragma once

#include "copy/list_entry.h"
#include "copy/read_behind.h"

typedef struct WdrPacking WdrPacking;

/* Where the list of a partition lies in a folder of records. The caller's. */
char *wdr_packing_file(const char *folder, unsigned number);
/* Starts a list; replaces an old one. */
bool wdr_packing_create(const char *path, int64_t begun, WdrPacking **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* Goes on with a list of which `bytes` with `entries` count; what it has beyond is dropped. */
bool wdr_packing_resume(const char *path, uint64_t bytes, uint64_t entries, WdrPacking **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What was put so far is on the medium; *ret_bytes is how much of the file that is. */
bool wdr_packing_flush(
	WdrPacking *p, uint64_t *ret_bytes, GError **error) G_GNUC_WARN_UNUSED_RESULT;
int64_t wdr_packing_begun(const WdrPacking *p);
bool wdr_packing_put(
	WdrPacking *p, const WdrListEntry *packed, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The line that was read last of another list, as it is. */
bool wdr_packing_copy(
	WdrPacking *p, const WdrPacking *from, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* As WdrCopy.record, with the list as data: writes the entry's line. */
bool wdr_packing_record(void *packing, const WdrCopied *copied, GError **error);
/* On the medium, complete. */
bool wdr_packing_finish(WdrPacking *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

bool wdr_packing_open(const char *path, WdrPacking **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The next entry of a list that was opened; borrowed until the next call; NULL after the last. */
bool wdr_packing_next(
	WdrPacking *p, const WdrListEntry **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* It shall be the next one once more. */
void wdr_packing_back(WdrPacking *p);
/* Contents that were not read again are compared with what this vouches for. Borrowed. */
void wdr_packing_trust(WdrPacking *p, const WdrReadBehind *behind);
/* As WdrCopy.record: the entry must be the list's next one, in every respect. A /lost+found that
 * the list does not have is passed over. */
bool wdr_packing_compare(void *packing, const WdrCopied *copied, GError **error);
/* Fails when the list goes on: entries are missing. */
bool wdr_packing_compare_end(WdrPacking *p, GError **error) G_GNUC_WARN_UNUSED_RESULT;

uint64_t wdr_packing_entries(const WdrPacking *p);
void wdr_packing_free(WdrPacking *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPacking, wdr_packing_free)
