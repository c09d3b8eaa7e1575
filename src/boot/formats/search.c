/* Searches any text for a disk's identifiers.
 *
 * For files that no row of the places table names. What is found is reported, and never edited:
 * nobody knows what the file is for. */
#include "boot/formats/search.h"

#include <string.h>

typedef struct {
	char *text;
	size_t len;
	size_t anchor; /* of a folded one: a character without case in it; len: it has none */
	WdrIdentifierKind kind;
	bool is_folded; /* compared without regard to case */
	bool is_value;  /* a value that may be without a tag */
} Needle;

struct WdrSearch {
	GPtrArray *needles;
};

static void needle_free(void *data)
{
	g_free(((Needle *)data)->text);
	g_free(data);
}

static void add(WdrSearch *s, WdrIdentifierKind kind, bool is_value, char *text)
{
	bool is_folded = kind == WDR_BY_UUID || kind == WDR_BY_PARTUUID;
	Needle *n = g_new0(Needle, 1);

	n->text = text;
	n->len = strlen(text);
	/* Few places of a text have a '-'; digits are the next best. */
	n->anchor = strcspn(text, "-");
	if (n->anchor == n->len)
		n->anchor = strcspn(text, "0123456789");
	n->kind = kind;
	n->is_folded = is_folded;
	n->is_value = is_value;
	g_ptr_array_add(s->needles, n);
}

/* Labels are words of any text: only tagged ones are identifiers. */
static void add_named(WdrSearch *s, WdrIdentifierKind kind, const char *value)
{
	WdrIdentifier a = { .kind = kind, .value = (char *)value };

	if (!value || !*value)
		return;
	add(s, kind, false, wdr_identifier_format(&a));
	a.is_link = true;
	add(s, kind, false, wdr_identifier_format(&a));
}

WdrSearch *wdr_search_new(const WdrIdentity *ids, size_t n)
{
	WdrSearch *s = g_new0(WdrSearch, 1);

	s->needles = g_ptr_array_new_with_free_func(needle_free);
	for (size_t i = 0; i < n; i++) {
		if (ids[i].uuid && *ids[i].uuid)
			add(s, WDR_BY_UUID, true, g_strdup(ids[i].uuid));
		if (ids[i].partuuid && *ids[i].partuuid)
			add(s, WDR_BY_PARTUUID, true, g_strdup(ids[i].partuuid));
		add_named(s, WDR_BY_LABEL, ids[i].label);
		add_named(s, WDR_BY_PARTLABEL, ids[i].partlabel);
		if (ids[i].disk_name) {
			g_autofree char *path =
				wdr_identifier_path(ids[i].disk_name, ids[i].number);
			add(s, WDR_BY_PATH, false, g_steal_pointer(&path));
		}
	}
	return s;
}

void wdr_search_free(WdrSearch *s)
{
	if (!s)
		return;
	g_ptr_array_unref(s->needles);
	g_free(s);
}

static bool is_part_of_word(char c)
{
	return g_ascii_isalnum(c) || c == '-' || c == '_';
}

static bool stands_alone(const WdrReading *r, WdrSpan span)
{
	return (span.at == 0 || !is_part_of_word(r->text[span.at - 1])) &&
	       (span.end == r->len || !is_part_of_word(r->text[span.end]));
}

/* A tag or a folder before a bare value belongs to the identifier. */
static bool take_in_front(const WdrReading *r, WdrSpan *span, WdrIdentifierKind kind)
{
	const char *const fronts[] = { kind == WDR_BY_UUID ? "UUID=" : "PARTUUID=",
		kind == WDR_BY_UUID ? "/dev/disk/by-uuid/" : "/dev/disk/by-partuuid/" };

	for (size_t i = 0; i < G_N_ELEMENTS(fronts); i++) {
		size_t len = strlen(fronts[i]);
		if (span->at >= len && memcmp(r->text + span->at - len, fronts[i], len) == 0 &&
			(span->at == len || !is_part_of_word(r->text[span->at - len - 1]))) {
			span->at -= len;
			return true;
		}
	}
	return false;
}

static bool is_known(const WdrReading *r, guint first, WdrSpan span)
{
	for (guint i = first; i < r->mentions->len; i++) {
		const WdrMention *m = r->mentions->pdata[i];
		if (r->base + span.at < m->offset + m->len && m->offset < r->base + span.end)
			return true;
	}
	return false;
}

static void take(const WdrReading *r, const Needle *n, WdrSpan span, const char *frozen)
{
	WdrLine line = wdr_line_at(r->text, r->len, span.at);
	bool is_bare = n->is_value && !take_in_front(r, &span, n->kind);
	g_autofree char *value = g_strndup(r->text + span.at, span.end - span.at);
	WdrIdentifier a = { .kind = n->kind, .is_bare = true, .value = value };
	g_autofree char *tagged = is_bare ? wdr_identifier_tagged(&a) : NULL;
	WdrMention *m = wdr_reading_take(r, &line, span, tagged, WDR_USE_OTHER, "");

	if (!m)
		return;
	m->identifier.is_bare = is_bare;
	m->needs_path = m->identifier.kind == WDR_BY_PATH || m->identifier.is_link;
	m->frozen = frozen;
}

static int by_offset(const void *a, const void *b)
{
	size_t x = (*(WdrMention *const *)a)->offset;
	size_t y = (*(WdrMention *const *)b)->offset;

	return x < y ? -1 : x > y;
}

/* Without regard to case. Only where the needle's anchor is found the rest is compared. */
static const char *find_folded(const char *text, size_t len, const Needle *n)
{
	for (size_t at = 0; at + n->len <= len; at++) {
		if (n->anchor < n->len) {
			const char *hit = memchr(
				text + at + n->anchor, n->text[n->anchor], len - n->len - at + 1);
			if (!hit)
				return NULL;
			at = (size_t)(hit - text) - n->anchor;
		}
		if (g_ascii_strncasecmp(text + at, n->text, n->len) == 0)
			return text + at;
	}
	return NULL;
}

void wdr_search_text(const WdrSearch *s, const WdrReading *r, guint first, const char *frozen)
{
	guint had = r->mentions->len;

	for (guint i = 0; i < s->needles->len; i++) {
		const Needle *n = s->needles->pdata[i];
		for (size_t at = 0; at < r->len;) {
			const char *hit =
				n->is_folded ? find_folded(r->text + at, r->len - at, n)
					     : memmem(r->text + at, r->len - at, n->text, n->len);
			if (!hit)
				break;
			WdrSpan span = { (size_t)(hit - r->text),
				(size_t)(hit - r->text) + n->len };
			at = span.end;
			/* The word before a bare value may be its tag. */
			WdrSpan whole = span;
			(void)(n->is_value && take_in_front(r, &whole, n->kind));
			if (stands_alone(r, whole) && !is_known(r, first, whole))
				take(r, n, span, frozen);
		}
	}
	if (r->mentions->len > had + 1)
		qsort(r->mentions->pdata + had, r->mentions->len - had, sizeof(void *), by_offset);
}

/* ---- files that a places row calls "text" ---- */

static size_t token_end(const char *text, size_t at, size_t end)
{
	while (at < end && !wdr_is_blank(text[at]) && !strchr("\"'`,;:()<>|&", text[at]))
		at++;
	return at;
}

static void take_token(const WdrReading *r, const WdrLine *line, WdrSpan span)
{
	g_autofree char *text = g_strndup(r->text + span.at, span.end - span.at);
	WdrIdentifier a;

	if (!wdr_identifier_parse(text, &a))
		return;
	if (!wdr_identifier_is_disk(&a) || *a.value == '\0') {
		wdr_identifier_clear(&a);
		return;
	}
	WdrMention *m = wdr_reading_add(r, line, span, &a, WDR_USE_OTHER, "");
	m->needs_path = a.kind == WDR_BY_PATH || a.is_link;
}

bool wdr_text_read(const WdrReading *r, GError **error)
{
	static const char *const starts[] = {
		"UUID=", "LABEL=", "PARTUUID=", "PARTLABEL=", "/dev/"
	};

	(void)error;
	for (WdrLine line = wdr_lines(r->text, r->len); wdr_line_next(&line);) {
		for (size_t at = line.at; at < line.end; at++) {
			if (at > line.at && is_part_of_word(r->text[at - 1]))
				continue;
			for (size_t i = 0; i < G_N_ELEMENTS(starts); i++) {
				size_t len = strlen(starts[i]);
				if (line.end - at <= len ||
					memcmp(r->text + at, starts[i], len) != 0)
					continue;
				size_t end = token_end(r->text, at + len, line.end);
				take_token(r, &line, (WdrSpan){ at, end });
				at = end - 1;
				break;
			}
		}
	}
	return true;
}
