/* The disks of a move: what they are, how they are laid out, and what their parts are called. */
#include "base/text.h"

#include "pages/page_parts.h"

#include <string.h>

/* A stretch of a disk as it is drawn. */
typedef struct {
	uint64_t start, size;
	const char *class; /* in the style */
	char *label;
} Stretch;

static void stretch_clear(void *data)
{
	g_free(((Stretch *)data)->label);
}

/* ---- what they are ---- */

static void add_disk(WdrPage *p, const char *const *headers, const char *which, const char *key)
{
	const json_t *disk = wdr_page_at(wdr_page_at(p->report, "itinerary"), key);
	g_autofree char *size = wdr_page_size(disk, "size");
	const WdrPageCell cells[] = { { .text = which }, { .text = wdr_page_text(disk, "name") },
		{ .text = wdr_page_text(disk, "medium") }, { .text = wdr_page_text(disk, "model") },
		{ .text = wdr_page_text(disk, "serial"), .is_code = true }, { .text = size },
		{ .text = wdr_page_text(disk, "link") }, { .text = wdr_page_text(disk, "table") } };

	wdr_page_row(p, headers, cells);
}

void wdr_page_disks(WdrPage *p)
{
	static const char *const headers[] = { "", "Disk", "Medium", "Model", "Serial number",
		"Size", "Link", "Table before", NULL };

	wdr_page_section(p, "disks", "Disks");
	wdr_page_table(p, "disks", headers);
	add_disk(p, headers, "from", "source");
	add_disk(p, headers, "to", "target");
	wdr_page_table_end(p);
	wdr_page_section_end(p);
}

/* ---- the layout ---- */

static const char *class_of(const char *role, const char *fs)
{
	static const char *const roles[] = { "boot", "root", "swap", "data" };

	for (size_t i = 0; i < G_N_ELEMENTS(roles); i++) {
		if (strcmp(role, roles[i]) == 0)
			return roles[i];
	}
	return strcmp(fs, "swap") == 0 ? "swap" : "other";
}

static void add_stretch(GArray *list, const json_t *place, const char *class, const char *format,
	...) G_GNUC_PRINTF(4, 5);

static void add_stretch(
	GArray *list, const json_t *place, const char *class, const char *format, ...)
{
	va_list args;
	json_int_t start = wdr_page_number(place, "start");
	json_int_t size = wdr_page_number(place, "size");

	if (start < 0 || size <= 0)
		return;
	va_start(args, format);
	Stretch s = { (uint64_t)start, (uint64_t)size, class, g_strdup_vprintf(format, args) };
	va_end(args);
	g_array_append_val(list, s);
}

/* The parts of the move where they were, or where they are now. */
static void add_parts(GArray *list, const json_t *itinerary, const char *where)
{
	const json_t *parts = wdr_page_at(itinerary, "partitions");

	for (size_t i = 0; i < json_array_size(parts); i++) {
		const json_t *part = json_array_get(parts, i);
		const char *role = wdr_page_text(part, "role");
		const char *fs = wdr_page_text(part, "fs");
		const json_t *place = wdr_page_at(part, where);
		g_autofree char *size = wdr_page_size(place, "size");
		add_stretch(list, place, class_of(role, fs), "%" JSON_INTEGER_FORMAT " %s%s%s, %s",
			wdr_page_number(part, "number"), role, *role ? ", " : "", fs, size);
	}
}

/* What was on the target; `but`: the partition that was moved into, which is another thing now. */
static void add_occupants(GArray *list, const json_t *itinerary, json_int_t but)
{
	const json_t *target_contents = wdr_page_at(itinerary, "on_target_now");

	for (size_t i = 0; i < json_array_size(target_contents); i++) {
		const json_t *o = json_array_get(target_contents, i);
		const char *fs = wdr_page_text(o, "fs");
		const char *label = wdr_page_text(o, "label");
		json_int_t number = wdr_page_number(o, "number");
		g_autofree char *size = wdr_page_size(o, "size");
		if (number != but && number != 0)
			add_stretch(list, o, class_of("", fs),
				"%" JSON_INTEGER_FORMAT " %s%s%s, %s", number,
				*fs ? fs : "nothing known", *label ? " " : "", label, size);
	}
}

static int by_start(const void *a, const void *b)
{
	const Stretch *x = a;
	const Stretch *y = b;

	return (x->start > y->start) - (x->start < y->start);
}

static void add_piece(
	WdrPage *p, const char *class, uint64_t size, uint64_t whole, const char *label)
{
	char width[G_ASCII_DTOSTR_BUF_SIZE];

	g_ascii_formatd(width, sizeof(width), "%.3f", (double)size * 100 / (double)whole);
	wdr_page_add(
		p, "<i class=\"%s\" style=\"width:%s%%\" title=\"%s\"></i>", class, width, label);
}

static void add_bar(WdrPage *p, const GArray *list, uint64_t whole)
{
	uint64_t at = 0;

	wdr_page_add(p, "<div class=\"parts\">");
	for (guint i = 0; i < list->len; i++) {
		const Stretch *s = &g_array_index(list, Stretch, i);
		if (s->start > at)
			add_piece(p, "free", s->start - at, whole, "not in a partition");
		add_piece(p, s->class, s->size, whole, s->label);
		at = MAX(at, s->start + s->size);
	}
	if (at < whole)
		add_piece(p, "free", whole - at, whole, "not in a partition");
	wdr_page_add(p, "</div>\n");
}

static void add_legend(WdrPage *p, const GArray *list, uint64_t whole)
{
	uint64_t used = 0;

	wdr_page_add(p, "<ul class=\"legend\">");
	for (guint i = 0; i < list->len; i++) {
		const Stretch *s = &g_array_index(list, Stretch, i);
		used += s->size;
		wdr_page_add(p, "<li><i class=\"%s\"></i>%s</li>", s->class, s->label);
	}
	g_autofree char *rest = wdr_format_size(whole > used ? whole - used : 0);
	wdr_page_add(p, "<li><i class=\"free\"></i>in no partition, %s</li></ul>\n", rest);
}

/* Each disk fills the width; a line under it tells how large it is against the largest. Takes the
 * list. */
static void draw(WdrPage *p, const char *title, const char *key, GArray *list)
{
	const json_t *it = wdr_page_at(p->report, "itinerary");
	const json_t *disk = wdr_page_at(it, key);
	uint64_t whole = (uint64_t)MAX(wdr_page_number(disk, "size"), 1);
	uint64_t largest = (uint64_t)MAX(
		wdr_page_number(it, "source.size"), MAX(wdr_page_number(it, "target.size"), 1));
	g_autofree char *size = wdr_format_size(whole);
	char width[G_ASCII_DTOSTR_BUF_SIZE];

	g_array_sort(list, by_start);
	g_ascii_formatd(width, sizeof(width), "%.2f", (double)whole * 100 / (double)largest);
	wdr_page_add(p, "<div class=\"disk\">\n<h3>%s: %s, %s</h3>\n", title,
		wdr_page_text(disk, "name"), size);
	add_bar(p, list, whole);
	wdr_page_add(p, "<div class=\"size\" style=\"width:%s%%\"></div>\n", width);
	add_legend(p, list, whole);
	wdr_page_add(p, "</div>\n");
	g_array_unref(list);
}

static GArray *stretches(void)
{
	GArray *list = g_array_new(FALSE, FALSE, sizeof(Stretch));

	g_array_set_clear_func(list, stretch_clear);
	return list;
}

void wdr_page_layout(WdrPage *p)
{
	const json_t *it = wdr_page_at(p->report, "itinerary");
	json_int_t into = wdr_page_number(it, "into");
	GArray *source = stretches();
	GArray *before = stretches();
	GArray *after = stretches();

	add_parts(source, it, "from");
	add_occupants(before, it, -1);
	add_parts(after, it, "to");
	if (into > 0)
		add_occupants(after, it, into);
	wdr_page_section(p, "layout", "Layout before and after");
	wdr_page_add(p,
		"<p class=\"soft\">Each bar is one disk, its partitions to scale; the line under "
		"it is as long as the disk is large against the larger of the two.</p>\n");
	draw(p, "What was moved", "source", source);
	draw(p, "The new disk before", "target", before);
	draw(p, "The new disk now", "target", after);
	wdr_page_section_end(p);
}

/* ---- identifiers ---- */

static void add_identifier(WdrPage *p, const char *const *headers, const char *what,
	const json_t *part, const char *key)
{
	const char *old = wdr_page_text(wdr_page_at(part, "from"), key);
	const char *new = wdr_page_text(wdr_page_at(part, "to"), key);
	bool is_same = strcmp(old, new) == 0;
	const WdrPageCell cells[] = { { .text = what }, { .text = old, .is_code = true },
		{ .text = is_same ? "the same" : new, .is_code = !is_same } };

	if (*old || *new)
		wdr_page_row(p, headers, cells);
}

void wdr_page_identifiers(WdrPage *p)
{
	static const char *const headers[] = { "Partition", "Before", "Now", NULL };
	static const char *const keys[][2] = { { "uuid", "UUID" }, { "partuuid", "PARTUUID" },
		{ "label", "label" }, { "partlabel", "partition label" } };
	const json_t *parts = wdr_page_at(p->report, "itinerary.partitions");

	wdr_page_section(p, "identifiers", "Identifiers");
	wdr_page_table(p, "identifiers", headers);
	for (size_t i = 0; i < json_array_size(parts); i++) {
		const json_t *part = json_array_get(parts, i);
		const char *role = wdr_page_text(part, "role");
		for (size_t k = 0; k < G_N_ELEMENTS(keys); k++) {
			g_autofree char *what =
				g_strdup_printf("%" JSON_INTEGER_FORMAT "%s%s%s, %s",
					wdr_page_number(part, "number"), *role ? " (" : "", role,
					*role ? ")" : "", keys[k][1]);
			add_identifier(p, headers, what, part, keys[k][0]);
		}
	}
	wdr_page_table_end(p);
	wdr_page_section_end(p);
}
