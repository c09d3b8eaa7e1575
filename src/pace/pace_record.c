/* Writes and reads records of measurements. */
#include "pace/pace_record.h"

#include "base/io.h"
#include "base/json.h"
#include "base/text.h"
#include "boot/board/board.h"

#include <math.h>
#include <string.h>

#define FORMAT_PREFIX "wanderitas-pace/"
#define FORMAT_NAME FORMAT_PREFIX "3"
#define US_PER_NS 1e-3
#define RATE_MAX 1e15 /* bytes a second: no medium's */

enum { FILE_BYTES_MAX = 4 * 1024 * 1024, TEXT_BYTES_MAX = 4096, MEASURED_MAX = 256 };

static WdrPaceRecord *record_new(void)
{
	WdrPaceRecord *r = g_new0(WdrPaceRecord, 1);

	r->measured = g_ptr_array_new_with_free_func((GDestroyNotify)wdr_paced_free);
	return r;
}

void wdr_pace_record_free(WdrPaceRecord *r)
{
	if (!r)
		return;
	g_free(r->host);
	g_free(r->board);
	g_free(r->kernel);
	g_ptr_array_unref(r->measured);
	g_free(r);
}

WdrPaceRecord *wdr_pace_record_new(const WdrWorld *world, double seconds)
{
	WdrPaceRecord *r = record_new();

	r->at = wdr_world_now(world);
	r->seconds = seconds;
	r->host = wdr_world_line(world, "/etc/hostname");
	r->board = wdr_world_line(world, "/proc/device-tree/model");
	r->kernel = wdr_world_line(world, "/proc/sys/kernel/osrelease");
	return r;
}

char *wdr_pace_record_label(const char *path)
{
	char *base = g_path_get_basename(path);

	if (g_str_has_suffix(base, ".json"))
		base[strlen(base) - strlen(".json")] = '\0';
	return base;
}

/* Before and after of one thing are put together. */
static guint place_for(const WdrPaceRecord *r, const WdrPaced *p)
{
	for (guint i = r->measured->len; i > 0; i--) {
		if (strcmp(((const WdrPaced *)r->measured->pdata[i - 1])->name, p->name) == 0)
			return i;
	}
	return r->measured->len;
}

void wdr_pace_record_add(WdrPaceRecord *r, WdrPaced *p)
{
	g_ptr_array_insert(r->measured, (int)place_for(r, p), p);
}

static void take_over(char **to, char **from)
{
	g_free(*to);
	*to = g_steal_pointer(from);
}

void wdr_pace_record_take(WdrPaceRecord *r, WdrPaceRecord *other, const char *label, bool is_all)
{
	if (is_all && r->measured->len == 0) {
		take_over(&r->host, &other->host);
		take_over(&r->board, &other->board);
		take_over(&r->kernel, &other->kernel);
		r->at = other->at;
		r->seconds = other->seconds;
	}
	while (other->measured->len > 0) {
		WdrPaced *p = g_ptr_array_steal_index(other->measured, 0);
		if (!p->label)
			p->label = g_strdup(label);
		wdr_pace_record_add(r, p);
	}
	wdr_pace_record_free(other);
}

/* ---- writing ---- */

static json_t *figure_to_json(const WdrPaceFigure *f, const WdrPaceKindInfo *kind)
{
	json_t *rounds = json_array();

	for (size_t i = 0; i < WDR_PACE_ROUNDS; i++)
		json_array_append_new(rounds, json_integer((json_int_t)llround(f->bytes_per_s[i])));
	return json_pack(
		"{s:s, s:I, s:I, s:I, s:f, s:i, s:i, s:o, s:I, s:{s:f, s:f, s:f}, s:f, s:b}",
		"what", kind->name, "bytes_per_s", (json_int_t)llround(f->median), "min",
		(json_int_t)llround(f->min), "max", (json_int_t)llround(f->max), "requests_per_s",
		round(f->median / kind->request_bytes * 10) / 10, "request_bytes",
		(int)kind->request_bytes, "at_once", (int)kind->at_once, "rounds", rounds,
		"requests", (json_int_t)f->requests, "latency_us", "median",
		(double)f->latency_median * US_PER_NS, "p99", (double)f->latency_p99 * US_PER_NS,
		"max", (double)f->latency_max * US_PER_NS, "cpu", round(f->cpu * 1e4) / 1e4,
		"unsteady", (int)wdr_pace_is_unsteady(f));
}

static json_t *paced_to_json(const WdrPaced *p)
{
	json_t *figures = json_array();

	for (size_t i = 0; i < WDR_PACE_KINDS; i++) {
		if (p->figures[i].is_there)
			json_array_append_new(figures,
				figure_to_json(&p->figures[i], wdr_pace_kind((WdrPaceKind)i)));
	}
	return json_pack(
		"{s:o, s:s, s:o, s:o, s:o, s:o, s:o, s:I, s:I, s:I, s:b, s:b, s:o, s:o, s:o, "
		"s:o}",
		"name", wdr_json_text(p->name), "kind", p->kind, "disk", wdr_json_text(p->disk),
		"medium", wdr_json_text(p->medium), "model", wdr_json_text(p->model), "serial",
		wdr_json_text(p->serial), "link", wdr_json_text(p->link.text), "link_bytes_per_s",
		(json_int_t)p->link.rate, "size", (json_int_t)p->size, "span", (json_int_t)p->span,
		"past_cache", (int)p->is_past_cache, "stand_in", (int)p->is_stand_in, "label",
		wdr_json_text(p->label), "failure", wdr_json_text(p->failure), "warnings",
		wdr_json_texts(p->warnings), "figures", figures);
}

json_t *wdr_pace_record_to_json(const WdrPaceRecord *r)
{
	json_t *measured = json_array();

	for (guint i = 0; i < r->measured->len; i++)
		json_array_append_new(measured, paced_to_json(r->measured->pdata[i]));
	return json_pack("{s:s, s:I, s:o, s:o, s:o, s:f, s:o}", "format", FORMAT_NAME, "at",
		(json_int_t)r->at, "host", wdr_json_text(r->host), "board", wdr_json_text(r->board),
		"kernel", wdr_json_text(r->kernel), "seconds", r->seconds, "measured", measured);
}

bool wdr_pace_record_save(const WdrPaceRecord *r, const char *path, GError **error)
{
	g_autoptr(json_t) root = wdr_pace_record_to_json(r);
	char *text = json_dumps(root, WDR_PACE_JSON_FLAGS);
	g_autofree char *lines = g_strconcat(text, "\n", NULL);

	g_free(text);
	return wdr_write_output(path, lines, strlen(lines), error);
}

/* ---- reading ---- */

static bool bad(GError **error, const char *what)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT, "what it says of %s makes no sense", what);
}

static bool is_rate(double value)
{
	return value >= 0 && value <= RATE_MAX;
}

static bool rounds_from_json(const json_t *list, WdrPaceFigure *f)
{
	if (json_array_size(list) != WDR_PACE_ROUNDS)
		return false;
	for (size_t i = 0; i < WDR_PACE_ROUNDS; i++) {
		f->bytes_per_s[i] = json_number_value(json_array_get(list, i));
		if (!is_rate(f->bytes_per_s[i]))
			return false;
	}
	return true;
}

static uint64_t latency_of(const json_t *json, const char *key)
{
	double us = json_number_value(json_object_get(json, key));

	return us > 0 && us < RATE_MAX ? (uint64_t)(us / US_PER_NS) : 0;
}

/* Figures of a kind that this program does not know are passed over. */
static bool figure_from_json(json_t *json, WdrPaced *p, GError **error)
{
	const char *what = json_string_value(json_object_get(json, "what"));
	const json_t *latency = json_object_get(json, "latency_us");
	WdrPaceFigure f = { .is_there = true };

	if (!what)
		return bad(error, "a figure");
	for (size_t i = 0; i < WDR_PACE_KINDS; i++) {
		if (strcmp(what, wdr_pace_kind((WdrPaceKind)i)->name) != 0)
			continue;
		f.median = json_number_value(json_object_get(json, "bytes_per_s"));
		f.min = json_number_value(json_object_get(json, "min"));
		f.max = json_number_value(json_object_get(json, "max"));
		json_int_t requests = json_integer_value(json_object_get(json, "requests"));
		if (!is_rate(f.median) || !is_rate(f.min) || !is_rate(f.max) || f.min > f.median ||
			f.median > f.max || requests < 0 ||
			!rounds_from_json(json_object_get(json, "rounds"), &f))
			return bad(error, what);
		f.requests = (uint64_t)requests;
		f.latency_median = latency_of(latency, "median");
		f.latency_p99 = latency_of(latency, "p99");
		f.latency_max = latency_of(latency, "max");
		f.cpu = CLAMP(json_number_value(json_object_get(json, "cpu")), 0, RATE_MAX);
		p->figures[i] = f;
	}
	return true;
}

static bool check_texts(const WdrPaced *p)
{
	const char *const texts[] = { p->name, p->disk, p->medium, p->model, p->serial,
		p->link.text, p->failure, p->label };

	for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
		if (texts[i] && strlen(texts[i]) > TEXT_BYTES_MAX)
			return false;
	}
	return true;
}

static uint64_t bytes_of(const json_t *json, const char *key)
{
	json_int_t value = json_integer_value(json_object_get(json, key));

	return value > 0 ? (uint64_t)value : 0;
}

static bool paced_from_json(WdrPaceRecord *r, json_t *json, GError **error)
{
	const char *name = json_string_value(json_object_get(json, "name"));
	const char *kind = json_string_value(json_object_get(json, "kind"));
	json_t *each = NULL;
	size_t i = 0;

	if (!name || !*name || !kind || r->measured->len == MEASURED_MAX)
		return bad(error, "what was measured");
	WdrPaced *p = wdr_paced_new(name, kind);
	g_ptr_array_add(r->measured, p);
	p->disk = wdr_json_optional(json, "disk");
	p->medium = wdr_json_optional(json, "medium");
	p->model = wdr_json_optional(json, "model");
	p->serial = wdr_json_optional(json, "serial");
	g_autofree char *failure = wdr_json_optional(json, "failure");
	p->failure = failure ? wdr_escape(failure) : NULL;
	p->label = wdr_json_optional(json, "label");
	p->link = (WdrLink){ wdr_json_optional(json, "link"), bytes_of(json, "link_bytes_per_s") };
	p->size = bytes_of(json, "size");
	p->span = bytes_of(json, "span");
	p->is_past_cache = json_is_true(json_object_get(json, "past_cache"));
	p->is_stand_in = json_is_true(json_object_get(json, "stand_in"));
	if (!check_texts(p))
		return bad(error, "what was measured");
	json_array_foreach(json_object_get(json, "warnings"), i, each)
	{
		if (json_is_string(each))
			g_ptr_array_add(p->warnings, wdr_escape(json_string_value(each)));
	}
	json_array_foreach(json_object_get(json, "figures"), i, each)
	{
		if (!figure_from_json(each, p, error))
			return false;
	}
	return true;
}

static bool check_format(const json_t *root, GError **error)
{
	const char *format = json_string_value(json_object_get(root, "format"));

	if (g_strcmp0(format, FORMAT_NAME) == 0)
		return true;
	if (format && g_str_has_prefix(format, FORMAT_PREFIX)) {
		g_autofree char *shown = wdr_escape(format);
		wdr_error_set(error, WDR_ERROR_FORMAT,
			"it is of another version: '%.64s'; this program knows " FORMAT_NAME,
			shown);
		wdr_error_hint(error, "read it with the version that made it, or measure again");
		return false;
	}
	wdr_error_set(error, WDR_ERROR_FORMAT, "it is no record of pace");
	wdr_error_hint(error, "pace makes one with -o FILE.json");
	return false;
}

bool wdr_pace_record_parse(
	const char *name, const char *text, size_t len, WdrPaceRecord **ret, GError **error)
{
	json_error_t e;
	json_t *each = NULL;
	size_t i = 0;
	g_autoptr(WdrPaceRecord) r = record_new();
	g_autoptr(json_t) root = json_loadb(text, len, JSON_REJECT_DUPLICATES, &e);

	if (!root) {
		g_autofree char *problem = wdr_json_load_problem(&e);
		wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s is no record of pace: %s", name, problem);
		return false;
	}
	if (!check_format(root, error)) {
		g_prefix_error(error, "%s: ", name);
		return false;
	}
	r->at = json_integer_value(json_object_get(root, "at"));
	r->seconds = json_number_value(json_object_get(root, "seconds"));
	r->host = wdr_json_optional(root, "host");
	r->board = wdr_json_optional(root, "board");
	r->kernel = wdr_json_optional(root, "kernel");
	json_array_foreach(json_object_get(root, "measured"), i, each)
	{
		if (!paced_from_json(r, each, error)) {
			g_prefix_error(error, "%s: ", name);
			return false;
		}
	}
	*ret = g_steal_pointer(&r);
	return true;
}

bool wdr_pace_record_load(const char *path, WdrPaceRecord **ret, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	return wdr_read_file(path, FILE_BYTES_MAX, &text, &len, error) &&
	       wdr_pace_record_parse(path, text, len, ret, error);
}
