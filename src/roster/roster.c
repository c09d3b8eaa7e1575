/* Reading a roster file. A hand wrote it: what is not known is an error, with its line. */
#include "roster/roster.h"

#include "base/io.h"
#include "base/json.h"
#include "base/text.h"

#include <string.h>

static void slot_free(void *data)
{
	WdrRosterSlot *s = data;

	g_free(s->name);
	g_free(s->image);
	g_free(s->port);
	g_free(s->serial);
	g_free(s->model);
	g_free(s->medium);
	g_free(s->host_name);
	g_free(s->label);
	wdr_disk_free(s->disk);
	g_free(s);
}

void wdr_roster_free(WdrRoster *r)
{
	if (!r)
		return;
	g_free(r->path);
	g_free(r->from);
	g_free(r->table);
	g_free(r->leave_free);
	g_free(r->boot_size);
	g_free(r->name_by);
	g_strfreev(r->leave_behind);
	g_ptr_array_unref(r->slots);
	g_free(r);
}

/* What is read now. */
typedef struct {
	WdrRoster *roster;
	const char *text;
	char *host_names;  /* with a # for the number; NULL: none */
	json_t *names;     /* or a list of them; borrowed */
	json_int_t number; /* of the next one */
} Reading;

/* The line in which the slot of this index begins: the library does not keep lines. A text that was
 * parsed has its brackets in pairs outside of its strings. */
static unsigned line_of_slot(const char *text, size_t index)
{
	const char *at = strstr(text, "\"slots\"");
	unsigned line = 1;
	unsigned depth = 0;
	bool in_string = false;

	for (const char *c = text; at && c < at; c++)
		line += *c == '\n';
	for (at = at ? at + strlen("\"slots\"") : ""; *at; at++) {
		line += *at == '\n';
		if (in_string && *at == '\\' && at[1])
			at++;
		else if (*at == '"')
			in_string = !in_string;
		else if (!in_string && (*at == '{' || *at == '[')) {
			if (*at == '{' && depth == 1 && index-- == 0)
				return line;
			depth++;
		} else if (!in_string && (*at == '}' || *at == ']') && --depth == 0)
			break;
	}
	return line;
}

/* In front of a message: the file, and the line where there is one. */
static bool wrong(const Reading *in, unsigned line, GError **error, const char *format, ...)
	G_GNUC_PRINTF(4, 5);
static bool wrong(const Reading *in, unsigned line, GError **error, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	if (line > 0)
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s:%u: %s", in->roster->path, line, what);
	return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: %s", in->roster->path, what);
}

static bool check_keys(
	const Reading *in, unsigned line, json_t *object, const char *const *known, GError **error)
{
	const char *key = NULL;
	json_t *value = NULL;

	json_object_foreach(object, key, value)
	{
		if (!g_strv_contains(known, key))
			return wrong(in, line, error, "there is no key '%s' here", key);
	}
	return true;
}

/* A text, or nothing; *ret is the caller's. */
static bool take_text(const Reading *in, unsigned line, json_t *object, const char *key, char **ret,
	GError **error)
{
	json_t *value = json_object_get(object, key);
	const char *text = json_string_value(value);

	if (value && (!text || !*text))
		return wrong(in, line, error, "%s is not a text", key);
	*ret = g_strdup(text);
	return true;
}

static bool take_size(const Reading *in, const WdrRosterSlot *slot, json_t *object, const char *key,
	uint64_t *ret, GError **error)
{
	g_autofree char *text = NULL;

	if (!take_text(in, slot->line, object, key, &text, error))
		return false;
	return !text || (!strchr(text, '%') && wdr_parse_size(text, 0, ret, NULL)) ||
	       wrong(in, slot->line, error, "%s is not a size: '%s'", key, text);
}

/* Its own name, the next of a list, or the next number in a pattern. */
static bool take_host_name(
	Reading *in, WdrRosterSlot *slot, json_t *object, size_t index, GError **error)
{
	if (!take_text(in, slot->line, object, "host_name", &slot->host_name, error))
		return false;
	if (slot->host_name)
		return true;
	if (in->names) {
		json_t *name = json_array_get(in->names, index);
		if (!json_is_string(name))
			return wrong(in, slot->line, error,
				"host_names has no name for this slot, the %zuth", index + 1);
		slot->host_name = g_strdup(json_string_value(name));
	}
	if (in->host_names) {
		g_auto(GStrv) parts = g_strsplit(in->host_names, "#", 2);
		slot->host_name = g_strdup_printf(
			"%s%" JSON_INTEGER_FORMAT "%s", parts[0], in->number++, parts[1]);
	}
	return true;
}

/* It becomes the name of a folder. */
static bool check_name(const Reading *in, const WdrRosterSlot *slot, GError **error)
{
	static const char allowed[] =
		"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_";

	if (!slot->name)
		return wrong(in, slot->line, error, "this slot has no name");
	if (strspn(slot->name, allowed) != strlen(slot->name) || strlen(slot->name) > 60)
		return wrong(in, slot->line, error,
			"the name '%s' of a slot: letters, digits, - and _ only, at most 60",
			slot->name);
	if (wdr_roster_slot(in->roster, slot->name))
		return wrong(in, slot->line, error, "two slots have the name '%s'", slot->name);
	return true;
}

static bool check_slot(const Reading *in, const WdrRosterSlot *slot, GError **error)
{
	bool has_rule = slot->port || slot->serial || slot->model || slot->medium ||
			slot->at_least || slot->at_most;

	if (!check_name(in, slot, error))
		return false;
	if (slot->image && has_rule)
		return wrong(in, slot->line, error,
			"slot '%s': an image is named by its file alone", slot->name);
	if (!slot->image && !has_rule)
		return wrong(in, slot->line, error,
			"slot '%s' has no rule: port, serial, model, medium, at_least, at_most or image",
			slot->name);
	for (guint i = 0; slot->host_name && i < in->roster->slots->len; i++) {
		const WdrRosterSlot *other = in->roster->slots->pdata[i];
		if (g_strcmp0(other->host_name, slot->host_name) == 0)
			return wrong(in, slot->line, error,
				"slots '%s' and '%s' have the same host name, %s", other->name,
				slot->name, slot->host_name);
	}
	return true;
}

static bool take_slot(Reading *in, json_t *object, size_t index, GError **error)
{
	static const char *const known[] = { "name", "image", "port", "serial", "model", "medium",
		"at_least", "at_most", "host_name", "label", NULL };
	WdrRosterSlot *slot = g_new0(WdrRosterSlot, 1);
	unsigned line = slot->line = line_of_slot(in->text, index);
	bool is_fine = json_is_object(object) && check_keys(in, line, object, known, error) &&
		       take_text(in, line, object, "name", &slot->name, error) &&
		       take_text(in, line, object, "image", &slot->image, error) &&
		       take_text(in, line, object, "port", &slot->port, error) &&
		       take_text(in, line, object, "serial", &slot->serial, error) &&
		       take_text(in, line, object, "model", &slot->model, error) &&
		       take_text(in, line, object, "medium", &slot->medium, error) &&
		       take_text(in, line, object, "label", &slot->label, error) &&
		       take_size(in, slot, object, "at_least", &slot->at_least, error) &&
		       take_size(in, slot, object, "at_most", &slot->at_most, error) &&
		       take_host_name(in, slot, object, index, error) &&
		       check_slot(in, slot, error);

	if (is_fine) {
		g_ptr_array_add(in->roster->slots, slot);
		return true;
	}
	slot_free(slot);
	if (!json_is_object(object))
		(void)wrong(in, line, error, "a slot is an object");
	return false;
}

static bool take_host_names(Reading *in, json_t *object, GError **error)
{
	json_t *names = json_object_get(object, "host_names");
	json_t *number = json_object_get(object, "first_number");

	in->names = json_is_array(names) ? names : NULL;
	in->number = number ? json_integer_value(number) : 1;
	if (number && (!json_is_integer(number) || in->number < 0))
		return wrong(in, 0, error, "first_number is not a number from 0 on");
	if (in->names || !names)
		return true;
	if (!take_text(in, 0, object, "host_names", &in->host_names, error))
		return false;
	return strchr(in->host_names, '#') ||
	       wrong(in, 0, error, "host_names is a list, or a text with a # for the number: '%s'",
		       in->host_names);
}

static bool take_patterns(Reading *in, json_t *object, GError **error)
{
	json_t *list = json_object_get(object, "leave_behind");
	g_autoptr(GStrvBuilder) patterns = g_strv_builder_new();

	if (!list)
		return true;
	for (size_t i = 0; i < json_array_size(list); i++) {
		const char *pattern = json_string_value(json_array_get(list, i));
		if (!pattern)
			return wrong(in, 0, error, "leave_behind is not a list of texts");
		g_strv_builder_add(patterns, pattern);
	}
	in->roster->leave_behind = g_strv_builder_end(patterns);
	return json_is_array(list) || wrong(in, 0, error, "leave_behind is not a list");
}

static bool take_slots(Reading *in, json_t *object, GError **error)
{
	json_t *slots = json_object_get(object, "slots");
	size_t n = json_array_size(slots);

	if (n == 0)
		return wrong(in, 0, error, "slots is missing, or is no list with slots in it");
	if (n > WDR_ROSTER_SLOTS_MAX)
		return wrong(in, line_of_slot(in->text, WDR_ROSTER_SLOTS_MAX), error,
			"a roster has at most %d slots, not %zu", WDR_ROSTER_SLOTS_MAX, n);
	for (size_t i = 0; i < n; i++) {
		if (!take_slot(in, json_array_get(slots, i), i, error))
			return false;
	}
	return true;
}

static bool take_roster(Reading *in, json_t *object, GError **error)
{
	static const char *const known[] = { "format", "from", "host_names", "first_number",
		"slots", "table", "leave_free", "boot_size", "name_by", "leave_behind", NULL };
	WdrRoster *r = in->roster;
	const char *format = json_string_value(json_object_get(object, "format"));

	if (g_strcmp0(format, "wanderitas-roster/1") != 0)
		return wrong(
			in, 0, error, "this is no roster: its format is not wanderitas-roster/1");
	return check_keys(in, 0, object, known, error) &&
	       take_text(in, 0, object, "from", &r->from, error) &&
	       take_text(in, 0, object, "table", &r->table, error) &&
	       take_text(in, 0, object, "leave_free", &r->leave_free, error) &&
	       take_text(in, 0, object, "boot_size", &r->boot_size, error) &&
	       take_text(in, 0, object, "name_by", &r->name_by, error) &&
	       take_patterns(in, object, error) && take_host_names(in, object, error) &&
	       take_slots(in, object, error);
}

bool wdr_roster_load(const char *path, WdrRoster **ret, GError **error)
{
	g_autoptr(WdrRoster) r = g_new0(WdrRoster, 1);
	g_autofree char *text = NULL;
	json_error_t problem;
	size_t len = 0;

	r->path = g_strdup(path);
	r->slots = g_ptr_array_new_with_free_func(slot_free);
	if (!wdr_read_file(path, WDR_ROSTER_BYTES_MAX, &text, &len, error))
		return false;
	g_autoptr(json_t) object = json_loadb(text, len, JSON_REJECT_DUPLICATES, &problem);
	Reading in = { .roster = r, .text = text };
	if (!object) {
		g_autofree char *why = wdr_json_load_problem(&problem);
		return wrong(&in, 0, error, "%s", why);
	}
	bool is_fine = take_roster(&in, object, error);
	g_free(in.host_names);
	if (is_fine)
		*ret = g_steal_pointer(&r);
	return is_fine;
}

WdrRosterSlot *wdr_roster_slot(const WdrRoster *r, const char *name)
{
	for (guint i = 0; i < r->slots->len; i++) {
		WdrRosterSlot *slot = r->slots->pdata[i];
		if (g_strcmp0(slot->name, name) == 0)
			return slot;
	}
	return NULL;
}

char *wdr_roster_state(const WdrRoster *r)
{
	return g_strconcat(r->path, ".wanderitas", NULL);
}

char *wdr_roster_slot_state(const WdrRoster *r, const WdrRosterSlot *slot)
{
	g_autofree char *state = wdr_roster_state(r);

	return g_build_filename(state, slot->name, NULL);
}
