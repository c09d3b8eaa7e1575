/* The packing list file: appended while copying, read in order while comparing.
 *
 * Lines go through a buffer, and wdr_packing_flush() brings them to the medium before a checkpoint
 * counts them. After an interruption the file is cut back to what the checkpoint counts. Lines are
 * read one at a time, so a list of millions of files needs no memory. The format:
 * docs/formats/packing-list.md. */
#include "copy/packing_list.h"

#include "base/cleanup.h"
#include "base/record.h"
#include "base/stat.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { BUFFER_BYTES = 64 * 1024 };
static const char header[] = "wanderitas-packing-list/2\t";

struct WdrPacking {
	char *path;
	FILE *file;
	int64_t begun; /* seconds: when its walk began */
	uint64_t entries;
	WdrHasher *hasher;
	GString *line; /* the one being made */
	char *read;    /* the one read */
	size_t read_size;
	WdrListEntry next;           /* it as an entry */
	bool is_ahead;               /* it was read but not yet used */
	const WdrReadBehind *behind; /* NULL: contents are all read */
};

/* Must come before the first line. */
static WdrPacking *packing_new(const char *path, FILE *file)
{
	WdrPacking *p = g_new0(WdrPacking, 1);

	setvbuf(file, NULL, _IOFBF, BUFFER_BYTES);

	p->path = g_strdup(path);
	p->file = file;
	p->hasher = wdr_hasher_new();
	p->line = g_string_sized_new(512);
	return p;
}

void wdr_packing_free(WdrPacking *p)
{
	if (!p)
		return;
	if (p->file)
		fclose(p->file);
	wdr_hasher_free(p->hasher);
	wdr_list_entry_clear(&p->next);
	g_string_free(p->line, TRUE);
	free(p->read);
	g_free(p->path);
	g_free(p);
}

uint64_t wdr_packing_entries(const WdrPacking *p)
{
	return p->entries;
}

char *wdr_packing_file(const char *folder, unsigned number)
{
	g_autofree char *name = g_strdup_printf("packing-%u.list", number);

	return g_build_filename(folder, name, NULL);
}

bool wdr_packing_create(const char *path, int64_t begun, WdrPacking **ret, GError **error)
{
	FILE *file = NULL;

	g_auto(WdrFd) fd = wdr_record_open(path, WDR_RECORD_NEW, error);
	if (fd < 0)
		return false;
	if ((file = fdopen(fd, "w")))
		wdr_fd_steal(&fd);
	if (!file)
		return wdr_error_set_errno(error, errno, "creating the packing list %s", path);
	g_autoptr(WdrPacking) p = packing_new(path, file);
	p->begun = begun;
	if (fprintf(file, "%s%" G_GINT64_FORMAT "\n", header, begun) < 0)
		return wdr_error_set_errno(error, errno, "creating the packing list %s", path);
	*ret = g_steal_pointer(&p);
	return true;
}

static bool open_list(const char *path, bool is_writing, WdrPacking **ret, GError **error)
{
	g_auto(WdrFd) fd =
		wdr_record_open(path, is_writing ? WDR_RECORD_APPEND : WDR_RECORD_READ, error);
	FILE *file = fd < 0 ? NULL : fdopen(fd, is_writing ? "r+" : "r");

	if (fd >= 0 && !file)
		wdr_error_set_errno(error, errno, "opening %s", path);
	if (!file) {
		g_prefix_error(error, "the packing list: ");
		return false;
	}
	wdr_fd_steal(&fd);
	g_autoptr(WdrPacking) p = packing_new(path, file);
	if (getline(&p->read, &p->read_size, file) < 0 || !g_str_has_prefix(p->read, header) ||
		!g_ascii_string_to_signed(g_strchomp(p->read + strlen(header)), 10, G_MININT64,
			G_MAXINT64, &p->begun, NULL))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is not a packing list", path);
	*ret = g_steal_pointer(&p);
	return true;
}

bool wdr_packing_open(const char *path, WdrPacking **ret, GError **error)
{
	return open_list(path, false, ret, error);
}

bool wdr_packing_resume(
	const char *path, uint64_t bytes, uint64_t entries, WdrPacking **ret, GError **error)
{
	g_autoptr(WdrPacking) p = NULL;
	WdrStat st;

	if (!open_list(path, true, &p, error))
		return false;
	if (wdr_fstat(fileno(p->file), &st) != 0 || st.stx_size < bytes)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the packing list %s is shorter than it was at the checkpoint", path);
	if (ftruncate(fileno(p->file), (off_t)bytes) != 0 || fseeko(p->file, 0, SEEK_END) != 0)
		return wdr_error_set_errno(error, errno, "going on with the packing list %s", path);
	p->entries = entries;
	*ret = g_steal_pointer(&p);
	return true;
}

int64_t wdr_packing_begun(const WdrPacking *p)
{
	return p->begun;
}

static bool put_line(WdrPacking *p, const char *line, size_t len, GError **error)
{
	if (fwrite(line, 1, len, p->file) != len)
		return wdr_error_set_errno(error, errno, "writing the packing list %s", p->path);
	p->entries++;
	return true;
}

bool wdr_packing_put(WdrPacking *p, const WdrListEntry *packed, GError **error)
{
	wdr_list_entry_to_line(packed, p->line);
	return put_line(p, p->line->str, p->line->len, error);
}

bool wdr_packing_copy(WdrPacking *p, const WdrPacking *from, GError **error)
{
	return put_line(p, from->read, strlen(from->read), error);
}

bool wdr_packing_record(void *packing, const WdrCopied *copied, GError **error)
{
	WdrPacking *p = packing;
	g_auto(WdrListEntry) packed = { 0 };

	wdr_list_entry_describe(p->hasher, copied, &packed);
	return wdr_packing_put(p, &packed, error);
}

bool wdr_packing_flush(WdrPacking *p, uint64_t *ret_bytes, GError **error)
{
	if (fflush(p->file) != 0 || fsync(fileno(p->file)) != 0)
		return wdr_error_set_errno(error, errno, "writing the packing list %s", p->path);
	*ret_bytes = (uint64_t)ftello(p->file);
	return true;
}

bool wdr_packing_finish(WdrPacking *p, GError **error)
{
	uint64_t bytes = 0;

	return wdr_packing_flush(p, &bytes, error);
}

bool wdr_packing_next(WdrPacking *p, const WdrListEntry **ret, GError **error)
{
	*ret = NULL;
	if (!p->is_ahead) {
		errno = 0;
		if (getline(&p->read, &p->read_size, p->file) < 0)
			return !ferror(p->file) || wdr_error_set_errno(error, errno,
							   "reading the packing list %s", p->path);
		p->entries++;
		wdr_list_entry_clear(&p->next);
		if (!wdr_list_entry_from_line(p->read, &p->next, error)) {
			g_prefix_error(
				error, "%s, entry %" G_GUINT64_FORMAT ": ", p->path, p->entries);
			return false;
		}
	}
	p->is_ahead = false;
	*ret = &p->next;
	return true;
}

void wdr_packing_back(WdrPacking *p)
{
	p->is_ahead = true;
}

void wdr_packing_trust(WdrPacking *p, const WdrReadBehind *behind)
{
	p->behind = behind;
}

/* What was read behind the writer: its content is the list's if it lies where it was read. */
static void take_known(
	const WdrPacking *p, const WdrCopied *copied, const WdrListEntry *want, WdrListEntry *got)
{
	if (copied->places == 0 || !p->behind)
		return;
	if (wdr_read_behind_holds(p->behind, copied->id, copied->places, want->content))
		got->content = want->content;
}

bool wdr_packing_compare(void *packing, const WdrCopied *copied, GError **error)
{
	WdrPacking *p = packing;
	const WdrListEntry *want = NULL;
	g_auto(WdrListEntry) got = { 0 };

	if (!wdr_packing_next(p, &want, error))
		return false;
	/* A builder makes a lost+found where the source has none. */
	if (strcmp(copied->path, "lost+found") == 0 &&
		!(want && strcmp(want->path, "lost+found") == 0)) {
		p->is_ahead = want != NULL;
		return true;
	}
	if (!want)
		return wdr_error_set(error, WDR_ERROR_IO,
			"read back from the target: '%s' was never copied", copied->path);
	wdr_list_entry_describe(p->hasher, copied, &got);
	take_known(p, copied, want, &got);
	g_autofree char *what = wdr_list_entry_difference(want, &got);
	if (!what)
		return true;
	if (strcmp(want->path, got.path) != 0)
		return wdr_error_set(error, WDR_ERROR_IO,
			"read back from the target: found '%s' where '%s' should be", got.path,
			want->path);
	return wdr_error_set(error, WDR_ERROR_IO,
		"read back from the target: %s of '%s' is not as copied", what, want->path);
}

bool wdr_packing_compare_end(WdrPacking *p, GError **error)
{
	const WdrListEntry *next = NULL;

	if (!wdr_packing_next(p, &next, error))
		return false;
	return !next ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "read back from the target: entries are missing, first '%s'", next->path);
}
