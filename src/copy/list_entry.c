/* One line of a packing list: writing, reading, comparing.
 *
 * `metadata` is one hash over all that has no field of its own (xattrs, ACLs, flags, link target,
 * device numbers). It tells that something differs, not what: a catchup copies all metadata of such
 * an entry anew. */
#include "copy/list_entry.h"

#include "base/cursor.h"

#include <string.h>

enum { PATH_BYTES_MAX = 1024 * 1024 };

void wdr_list_entry_clear(WdrListEntry *p)
{
	g_clear_pointer(&p->path, g_free);
	g_clear_pointer(&p->link, g_free);
}

/* ---- from an entry ---- */

/* What is to be hashed, gathered: most entries have a few numbers and no more. */
typedef struct {
	WdrHasher *hasher;
	bool is_begun; /* the hasher has some of it */
	size_t len;
	uint8_t bytes[256];
} Gathered;

static void pour(Gathered *g)
{
	if (!g->is_begun)
		wdr_hasher_reset(g->hasher);
	g->is_begun = true;
	wdr_hasher_add(g->hasher, g->bytes, g->len);
	g->len = 0;
}

static void hash_number(Gathered *g, uint64_t value)
{
	if (sizeof(g->bytes) - g->len < sizeof(value))
		pour(g);
	wdr_put_le64(g->bytes + g->len, value);
	g->len += sizeof(value);
}

static void hash_bytes(Gathered *g, const void *data, size_t len)
{
	hash_number(g, len);
	if (len == 0)
		return;
	pour(g);
	wdr_hasher_add(g->hasher, data, len);
}

static void hash_time(Gathered *g, WdrTime t)
{
	hash_number(g, (uint64_t)t.sec);
	hash_number(g, t.nsec);
}

static WdrHash metadata_hash(WdrHasher *hasher, const WdrEntry *e)
{
	Gathered g = { .hasher = hasher };

	hash_number(&g, e->flags);
	hash_number(&g, e->project);
	hash_number(&g, e->rdev_major);
	hash_number(&g, e->rdev_minor);
	hash_time(&g, e->crtime);
	hash_bytes(&g, e->target, e->target ? strlen(e->target) : 0);
	for (size_t i = 0; i < e->n_xattrs; i++) {
		hash_bytes(&g, e->xattrs[i].name, strlen(e->xattrs[i].name));
		hash_bytes(&g, e->xattrs[i].value, e->xattrs[i].len);
	}
	if (e->fat.is_set) {
		hash_number(&g, e->fat.attributes);
		hash_bytes(&g, e->fat.name, sizeof(e->fat.name));
	}
	if (!g.is_begun)
		return wdr_hash(g.bytes, g.len);
	pour(&g);
	return wdr_hasher_result(hasher);
}

void wdr_list_entry_describe(WdrHasher *hasher, const WdrCopied *c, WdrListEntry *ret)
{
	const WdrEntry *e = c->entry;
	bool has_content = e->kind == WDR_KIND_FILE && e->size > 0 && !c->link_to;

	*ret = (WdrListEntry){ .is_link = c->link_to != NULL,
		.kind = e->kind,
		.mode = e->mode,
		.uid = e->uid,
		.gid = e->gid,
		.size = e->size,
		.mtime = e->mtime,
		.ctime = e->ctime,
		.atime = e->atime,
		.id = c->id,
		.has_content = has_content,
		.metadata = metadata_hash(hasher, e),
		.path = g_strdup(c->path),
		.link = g_strdup(c->link_to) };
	if (has_content)
		ret->content = c->content;
}

/* ---- as a line ---- */

/* A list has a million lines of fifteen fields: digits are put down without calls to printf(). */
static char *put_number(char *to, uint64_t value, unsigned base)
{
	char digits[24];
	size_t n = 0;

	do {
		digits[n++] = (char)('0' + value % base);
		value /= base;
	} while (value > 0);
	while (n > 0)
		*to++ = digits[--n];
	return to;
}

static char *put_field(char *to, uint64_t value, unsigned base)
{
	*to++ = '\t';
	return put_number(to, value, base);
}

static char *put_time(char *to, WdrTime t)
{
	*to++ = '\t';
	if (t.sec < 0)
		*to++ = '-';
	to = put_number(to, t.sec < 0 ? -(uint64_t)t.sec : (uint64_t)t.sec, 10);
	/* Nine digits: a 1 in front keeps the zeros, and the point is written over it. */
	char *point = to;
	to = put_number(point, 1000000000 + (uint64_t)t.nsec, 10);
	*point = '.';
	return to;
}

static char *put_hash(char *to, WdrHash hash)
{
	*to++ = '\t';
	wdr_hash_to_text(hash, to);
	return to + WDR_HASH_TEXT_LEN;
}

static bool is_plain(char c)
{
	return (unsigned char)c >= ' ' && c != '\\' && c != 0x7f;
}

static void append_path(GString *line, const char *path)
{
	g_string_append_c(line, '\t');
	while (*path) {
		size_t n = 0;
		while (is_plain(path[n]))
			n++;
		g_string_append_len(line, path, (gssize)n);
		path += n;
		if (*path)
			g_string_append_printf(line, "\\x%02x", (unsigned)(unsigned char)*path++);
	}
}

void wdr_list_entry_to_line(const WdrListEntry *p, GString *ret)
{
	char fields[512]; /* all numbers at their longest take half of it */
	char *to = fields;

	to = put_field(to, p->mode, 8);
	to = put_field(to, p->uid, 10);
	to = put_field(to, p->gid, 10);
	to = put_field(to, p->size, 10);
	to = put_time(to, p->mtime);
	to = put_time(to, p->ctime);
	to = put_time(to, p->atime);
	to = put_field(to, p->id, 10);
	if (p->has_content) {
		to = put_hash(to, p->content);
	} else {
		*to++ = '\t';
		*to++ = '-';
	}
	to = put_hash(to, p->metadata);
	g_string_assign(ret, p->is_link ? "link" : wdr_kind_name(p->kind));
	g_string_append_len(ret, fields, to - fields);
	append_path(ret, p->path);
	if (p->link)
		append_path(ret, p->link);
	g_string_append_c(ret, '\n');
}

/* ---- from a line ---- */

/* A list is read as a whole at each look for what changed, so its lines are taken apart where they
 * lie. Each of these returns what comes behind its field and the tab, or NULL, which the next one
 * hands on. */
static const char *after(const char *at, char end)
{
	return at && *at == end ? at + 1 : NULL;
}

static const char *scan_number(const char *at, unsigned base, uint64_t max, char end, uint64_t *ret)
{
	uint64_t value = 0;
	const char *digit = at;

	for (; digit && *digit >= '0' && *digit < (char)('0' + base); digit++) {
		unsigned add = (unsigned)(*digit - '0');
		if (value > (max - add) / base)
			return NULL;
		value = value * base + add;
	}
	if (digit == at)
		return NULL;
	*ret = value;
	return after(digit, end);
}

static const char *scan_time(const char *at, WdrTime *ret)
{
	bool is_before = at && *at == '-';
	uint64_t sec = 0;
	uint64_t nsec = 0;
	const char *point = scan_number(is_before ? at + 1 : at, 10, G_MAXINT64, '.', &sec);
	const char *end = scan_number(point, 10, 999999999, '\t', &nsec);

	if (!end || end - point != strlen("123456789\t"))
		return NULL;
	*ret = (WdrTime){ is_before ? -(int64_t)sec : (int64_t)sec, (uint32_t)nsec };
	return end;
}

static const char *scan_kind(const char *at, WdrListEntry *ret)
{
	if (g_str_has_prefix(at, "link\t")) {
		ret->is_link = true;
		return at + strlen("link\t");
	}
	for (WdrKind k = WDR_KIND_FILE; k <= WDR_KIND_SOCKET; k++) {
		size_t len = strlen(wdr_kind_name(k));
		if (strncmp(at, wdr_kind_name(k), len) == 0 && at[len] == '\t') {
			ret->kind = k;
			return at + len + 1;
		}
	}
	return NULL;
}

static const char *scan_content(const char *at, WdrListEntry *ret)
{
	ret->has_content = at && *at != '-';
	if (!at)
		return NULL;
	return after(ret->has_content ? wdr_hash_scan(at, &ret->content) : at + 1, '\t');
}

/* The bytes that append_path() wrote; NULL: it cannot have. */
static char *unescape(const char *text, size_t len)
{
	g_autoptr(GString) path = g_string_sized_new(len);

	for (size_t i = 0; i < len; i++) {
		if (text[i] != '\\') {
			g_string_append_c(path, text[i]);
			continue;
		}
		bool is_whole = len - i >= strlen("\\xHH") && text[i + 1] == 'x';
		int high = is_whole ? g_ascii_xdigit_value(text[i + 2]) : -1;
		int low = is_whole ? g_ascii_xdigit_value(text[i + 3]) : -1;
		if (high < 0 || low < 0 || high * 16 + low == 0)
			return NULL;
		g_string_append_c(path, (char)(high * 16 + low));
		i += 3;
	}
	return g_string_free(g_steal_pointer(&path), FALSE);
}

/* To the end of the field, which is a tab's or the line's. */
static const char *scan_path(const char *at, char **ret)
{
	size_t len = at ? strcspn(at, "\t\n") : 0;

	if (!at || len > PATH_BYTES_MAX)
		return NULL;
	*ret = memchr(at, '\\', len) ? unescape(at, len) : g_strndup(at, len);
	return *ret ? at + len : NULL;
}

bool wdr_list_entry_from_line(const char *line, WdrListEntry *ret, GError **error)
{
	g_auto(WdrListEntry) p = { 0 };
	uint64_t mode = 0, uid = 0, gid = 0;
	const char *at = scan_kind(line, &p);

	at = scan_number(at, 8, 07777, '\t', &mode);
	at = scan_number(at, 10, G_MAXUINT32, '\t', &uid);
	at = scan_number(at, 10, G_MAXUINT32, '\t', &gid);
	at = scan_number(at, 10, G_MAXINT64, '\t', &p.size);
	at = scan_time(at, &p.mtime);
	at = scan_time(at, &p.ctime);
	at = scan_time(at, &p.atime);
	at = scan_number(at, 10, G_MAXUINT64, '\t', &p.id);
	at = scan_content(at, &p);
	at = at ? after(wdr_hash_scan(at, &p.metadata), '\t') : NULL;
	at = scan_path(at, &p.path);
	if (at && p.is_link)
		at = scan_path(after(at, '\t'), &p.link);
	if (!at || (*at != '\n' && *at != '\0'))
		return wdr_error_set(error, WDR_ERROR_FORMAT, "this is no line of a packing list");
	p.mode = (uint32_t)mode;
	p.uid = (uint32_t)uid;
	p.gid = (uint32_t)gid;
	*ret = p;
	p = (WdrListEntry){ 0 };
	return true;
}

/* ---- comparing ---- */

int wdr_list_entry_order(const char *a, const char *b)
{
	size_t same = 0;

	/* Up to the folder that both are in. */
	for (size_t i = 0; a[i] && a[i] == b[i]; i++)
		same = a[i] == '/' ? i + 1 : same;
	const char *x = a + same;
	const char *y = b + same;
	size_t x_len = strcspn(x, "/");
	size_t y_len = strcspn(y, "/");
	/* One is the folder that the other is in, or the root. */
	if (x_len == y_len && strncmp(x, y, x_len) == 0)
		return (x[x_len] != '\0') - (y[y_len] != '\0');
	if (*x == '\0' || *y == '\0')
		return *x ? 1 : -1;
	/* What is in the folder itself comes before what is in its folders. */
	bool x_is_below = x[x_len] != '\0';
	bool y_is_below = y[y_len] != '\0';
	if (x_is_below != y_is_below)
		return x_is_below ? 1 : -1;
	int order = memcmp(x, y, MIN(x_len, y_len));
	return order ? order : x_len < y_len ? -1 : 1;
}

char *wdr_list_entry_difference(const WdrListEntry *a, const WdrListEntry *b)
{
	const struct {
		const char *name;
		bool differs;
	} fields[] = {
		{ "path", strcmp(a->path, b->path) != 0 },
		{ "kind", a->is_link != b->is_link || (!a->is_link && a->kind != b->kind) },
		{ "mode", a->mode != b->mode },
		{ "owner", a->uid != b->uid },
		{ "group", a->gid != b->gid },
		{ "size", a->size != b->size },
		{ "modification time", !wdr_time_equal(a->mtime, b->mtime) },
		{ "change time", !wdr_time_equal(a->ctime, b->ctime) },
		{ "access time", !wdr_time_equal(a->atime, b->atime) },
		{ "content", a->has_content != b->has_content ||
				     (a->has_content && !wdr_hash_equal(a->content, b->content)) },
		{ "metadata", !wdr_hash_equal(a->metadata, b->metadata) },
		{ "link", g_strcmp0(a->link, b->link) != 0 },
	};
	GString *words = NULL;

	for (size_t i = 0; i < G_N_ELEMENTS(fields); i++) {
		if (!fields[i].differs)
			continue;
		words = words ? words : g_string_new(NULL);
		g_string_append_printf(words, "%s%s", words->len ? ", " : "", fields[i].name);
	}
	return words ? g_string_free(words, FALSE) : NULL;
}
