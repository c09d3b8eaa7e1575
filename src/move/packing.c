#include "move/packing.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char header[] = "wanderitas-packing-list/1\n";

struct WdrPacking {
	char *path;
	FILE *file;
	uint64_t entries;
	WdrHasher *hasher;
	GString *line; /* the one being made */
	char *read;    /* the one read */
	size_t read_size;
	bool is_ahead; /* it was read but not yet compared */
};

static WdrPacking *packing_new(const char *path, FILE *file)
{
	WdrPacking *p = g_new0(WdrPacking, 1);

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
	g_string_free(p->line, TRUE);
	free(p->read);
	g_free(p->path);
	g_free(p);
}

uint64_t wdr_packing_entries(const WdrPacking *p)
{
	return p->entries;
}

bool wdr_packing_create(const char *path, WdrPacking **ret, GError **error)
{
	FILE *file = fopen(path, "we");

	if (!file || fputs(header, file) == EOF) {
		wdr_error_set_errno(error, errno, "creating the packing list %s", path);
		if (file)
			fclose(file);
		return false;
	}
	*ret = packing_new(path, file);
	return true;
}

bool wdr_packing_open(const char *path, WdrPacking **ret, GError **error)
{
	FILE *file = fopen(path, "re");

	if (!file)
		return wdr_error_set_errno(error, errno, "opening the packing list %s", path);
	g_autoptr(WdrPacking) p = packing_new(path, file);
	if (getline(&p->read, &p->read_size, file) < 0 || strcmp(p->read, header) != 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is not a packing list", path);
	*ret = g_steal_pointer(&p);
	return true;
}

static void hash_number(WdrHasher *h, uint64_t value)
{
	uint8_t bytes[8];

	for (size_t i = 0; i < sizeof(bytes); i++)
		bytes[i] = (uint8_t)(value >> (8 * i));
	wdr_hasher_add(h, bytes, sizeof(bytes));
}

static void hash_bytes(WdrHasher *h, const void *data, size_t len)
{
	hash_number(h, len);
	if (len > 0)
		wdr_hasher_add(h, data, len);
}

static void hash_time(WdrHasher *h, WdrTime t)
{
	hash_number(h, (uint64_t)t.sec);
	hash_number(h, t.nsec);
}

static WdrHash metadata_hash(WdrHasher *h, const WdrEntry *e)
{
	wdr_hasher_reset(h);
	hash_number(h, e->flags);
	hash_number(h, e->project);
	hash_number(h, e->rdev_major);
	hash_number(h, e->rdev_minor);
	hash_time(h, e->atime);
	hash_time(h, e->ctime);
	hash_time(h, e->crtime);
	hash_bytes(h, e->target, e->target ? strlen(e->target) : 0);
	for (size_t i = 0; i < e->n_xattrs; i++) {
		hash_bytes(h, e->xattrs[i].name, strlen(e->xattrs[i].name));
		hash_bytes(h, e->xattrs[i].value, e->xattrs[i].len);
	}
	if (e->fat.is_set) {
		hash_number(h, e->fat.attributes);
		hash_bytes(h, e->fat.name, sizeof(e->fat.name));
	}
	return wdr_hasher_result(h);
}

static void append_path(GString *line, const char *path)
{
	g_string_append_c(line, '\t');
	for (const char *c = path; *c; c++) {
		if ((unsigned char)*c < ' ' || *c == '\\' || *c == 0x7f)
			g_string_append_printf(line, "\\x%02x", (unsigned)(unsigned char)*c);
		else
			g_string_append_c(line, *c);
	}
}

static void make_line(WdrPacking *p, const WdrCarried *c)
{
	const WdrEntry *e = c->entry;
	char content[WDR_HASH_TEXT_LEN + 1] = "-";
	char metadata[WDR_HASH_TEXT_LEN + 1];

	g_string_truncate(p->line, 0);
	if (e->kind == WDR_KIND_FILE && e->size > 0 && !c->link_to)
		wdr_hash_to_text(c->content, content);
	wdr_hash_to_text(metadata_hash(p->hasher, e), metadata);
	g_string_append_printf(p->line,
		"%s\t%o\t%u\t%u\t%" G_GUINT64_FORMAT "\t%" G_GINT64_FORMAT ".%09u\t%s\t%s",
		c->link_to ? "link" : wdr_kind_name(e->kind), e->mode, e->uid, e->gid, e->size,
		e->mtime.sec, e->mtime.nsec, content, metadata);
	append_path(p->line, c->path);
	if (c->link_to)
		append_path(p->line, c->link_to);
	g_string_append_c(p->line, '\n');
}

bool wdr_packing_record(void *packing, const WdrCarried *carried, GError **error)
{
	WdrPacking *p = packing;

	make_line(p, carried);
	if (fwrite(p->line->str, 1, p->line->len, p->file) != p->line->len)
		return wdr_error_set_errno(error, errno, "writing the packing list %s", p->path);
	p->entries++;
	return true;
}

bool wdr_packing_finish(WdrPacking *p, GError **error)
{
	if (fflush(p->file) != 0 || fsync(fileno(p->file)) != 0)
		return wdr_error_set_errno(error, errno, "writing the packing list %s", p->path);
	return true;
}

/* Which of the fields two lines differ in, in words. */
static char *differing_fields(const char *want, const char *got)
{
	static const char *const names[] = { "kind", "mode", "owner", "group", "size",
		"modification time", "content", "metadata", "path", "link" };
	g_auto(GStrv) a = g_strsplit(want, "\t", -1);
	g_auto(GStrv) b = g_strsplit(got, "\t", -1);
	g_autoptr(GString) words = g_string_new(NULL);

	for (size_t i = 0; i < G_N_ELEMENTS(names) && a[i] && b[i]; i++) {
		if (strcmp(a[i], b[i]) != 0)
			g_string_append_printf(words, "%s%s", words->len ? ", " : "", names[i]);
	}
	return g_strdup(words->len ? words->str : "number of fields");
}

static const char *field(char **fields, guint index)
{
	return g_strv_length(fields) > index ? fields[index] : "?";
}

static bool differs(const char *want, const char *got, GError **error)
{
	enum { PATH_FIELD = 8 };
	g_autofree char *want_line = g_strchomp(g_strdup(want));
	g_autofree char *got_line = g_strchomp(g_strdup(got));
	g_auto(GStrv) a = g_strsplit(want_line, "\t", -1);
	g_auto(GStrv) b = g_strsplit(got_line, "\t", -1);
	g_autofree char *what = differing_fields(want_line, got_line);

	if (strcmp(field(a, PATH_FIELD), field(b, PATH_FIELD)) != 0)
		return wdr_error_set(error, WDR_ERROR_IO,
			"read back from the target: found '%s' where '%s' should be",
			field(b, PATH_FIELD), field(a, PATH_FIELD));
	return wdr_error_set(error, WDR_ERROR_IO,
		"read back from the target: %s of '%s' is not as carried", what,
		field(a, PATH_FIELD));
}

static bool next_line(WdrPacking *p)
{
	if (!p->is_ahead && getline(&p->read, &p->read_size, p->file) < 0)
		return false;
	p->is_ahead = false;
	return true;
}

bool wdr_packing_compare(void *packing, const WdrCarried *carried, GError **error)
{
	WdrPacking *p = packing;
	bool has_line = next_line(p);

	/* A builder makes a lost+found where the source has none. */
	if (strcmp(carried->path, "lost+found") == 0 &&
		!(has_line && strstr(p->read, "\tlost+found\n"))) {
		p->is_ahead = has_line;
		return true;
	}
	if (!has_line)
		return wdr_error_set(error, WDR_ERROR_IO,
			"read back from the target: '%s' was never carried", carried->path);
	make_line(p, carried);
	p->entries++;
	return strcmp(p->read, p->line->str) == 0 || differs(p->read, p->line->str, error);
}

bool wdr_packing_compare_end(WdrPacking *p, GError **error)
{
	if (!next_line(p))
		return true;
	return wdr_error_set(error, WDR_ERROR_IO,
		"read back from the target: entries are missing, first %s", g_strchomp(p->read));
}
