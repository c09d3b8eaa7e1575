/* Building JSON objects, and numbers that JSON and C agree on. */
#include "base/json.h"

#include "base/text.h"

#include <string.h>

#define ESCAPED "escaped"

json_t *wdr_json_text(const char *text)
{
	if (!text)
		return json_null();
	if (g_utf8_validate(text, -1, NULL))
		return json_string(text);
	g_autofree char *escaped = wdr_escape(text);
	return json_string(escaped);
}

json_t *wdr_json_texts(const GPtrArray *texts)
{
	json_t *list = json_array();

	for (guint i = 0; i < texts->len; i++)
		json_array_append_new(list, wdr_json_text(texts->pdata[i]));
	return list;
}

json_t *wdr_json_bytes(const char *text)
{
	if (!text || g_utf8_validate(text, -1, NULL))
		return wdr_json_text(text);
	g_autofree char *escaped = wdr_escape(text);
	return json_pack("{s:s}", ESCAPED, escaped);
}

static const char *escaped_in(const json_t *value)
{
	return json_object_size(value) == 1 ? json_string_value(json_object_get(value, ESCAPED))
					    : NULL;
}

char *wdr_json_optional(const json_t *object, const char *key)
{
	const json_t *value = json_object_get(object, key);
	const char *escaped = escaped_in(value);

	return escaped ? wdr_unescape(escaped) : g_strdup(json_string_value(value));
}

/* How people see it: the value itself, but for that one form. */
static json_t *shown(json_t *value)
{
	const char *escaped = escaped_in(value);

	if (escaped)
		return json_string(escaped);
	wdr_json_show(value);
	return json_incref(value);
}

void wdr_json_show(json_t *document)
{
	const char *key = NULL;
	json_t *value = NULL;
	size_t i = 0;

	json_object_foreach(document, key, value) json_object_set_new(document, key, shown(value));
	json_array_foreach(document, i, value) json_array_set_new(document, i, shown(value));
}

void wdr_json_print(const json_t *document, FILE *file)
{
	json_dumpf(document, file, JSON_INDENT(2) | JSON_REAL_PRECISION(6));
	fputc('\n', file);
}

char *wdr_json_load_problem(const json_error_t *e)
{
	const char *what = strstr(e->text, "duplicate object key") ? "a key is given twice"
			   : strstr(e->text, "too big")            ? "a number is too large"
								   : "this is not JSON";

	return g_strdup_printf("line %d, column %d: %s", e->line, e->column, what);
}

char *wdr_json_unpack_problem(const json_error_t *e)
{
	static const char missing[] = "Object item not found: ";
	static const char other[] = "Expected ";

	if (g_str_has_prefix(e->text, missing))
		return g_strdup_printf("%s is missing", e->text + strlen(missing));
	return g_str_has_prefix(e->text, other)
		       ? g_strdup_printf("expected %s", e->text + strlen(other))
		       : g_strdup("a value is of another kind than expected");
}
