#include "base/json.h"

#include "base/text.h"

json_t *wdr_json_text(const char *text)
{
	if (!text)
		return json_null();
	if (g_utf8_validate(text, -1, NULL))
		return json_string(text);
	g_autofree char *escaped = wdr_escape(text);
	return json_string(escaped);
}

char *wdr_json_optional(const json_t *object, const char *key)
{
	return g_strdup(json_string_value(json_object_get(object, key)));
}
