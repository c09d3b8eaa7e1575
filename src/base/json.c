#include "base/json.h"

#include "base/text.h"

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

char *wdr_json_to_bytes(const json_t *value)
{
	const char *escaped = escaped_in(value);

	return escaped ? wdr_unescape(escaped) : g_strdup(json_string_value(value));
}

char *wdr_json_optional(const json_t *object, const char *key)
{
	return wdr_json_to_bytes(json_object_get(object, key));
}

void wdr_json_show(json_t *document)
{
	const char *key = NULL;
	json_t *value = NULL;
	size_t i = 0;

	json_object_foreach(document, key, value)
	{
		const char *escaped = escaped_in(value);
		if (escaped)
			json_object_set_new(document, key, json_string(escaped));
		else
			wdr_json_show(value);
	}
	json_array_foreach(document, i, value)
	{
		const char *escaped = escaped_in(value);
		if (escaped)
			json_array_set_new(document, i, json_string(escaped));
		else
			wdr_json_show(value);
	}
}
