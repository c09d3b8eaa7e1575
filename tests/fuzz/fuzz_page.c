/* Any JSON as a report: a page comes of it, with nothing in it that came from the JSON as markup.
 */
#include "pages/page.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* Every "<" of a page begins one of the tags that it is made of. */
static bool is_ours(const char *tag)
{
	static const char *const tags[] = { "!DOCTYPE", "html", "head", "meta", "title", "style",
		"body", "main", "header", "h1", "h2", "h3", "p", "ul", "li", "span", "section",
		"dl", "div", "dt", "dd", "table", "thead", "tbody", "tr", "th", "td", "code", "pre",
		"i", "b", "footer", "picture", "source", "img" };
	const char *name = *tag == '/' ? tag + 1 : tag;
	size_t len = strcspn(name, " >\n");

	for (size_t i = 0; i < G_N_ELEMENTS(tags); i++) {
		if (strlen(tags[i]) == len && strncmp(name, tags[i], len) == 0)
			return true;
	}
	return false;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(json_t) report =
		json_loadb((const char *)data, size, JSON_REJECT_DUPLICATES, NULL);

	if (!report)
		return 0;
	g_autofree char *page = wdr_page(report, NULL);
	g_assert(g_utf8_validate(page, -1, NULL));
	for (const char *at = page; (at = strchr(at, '<')); at++)
		g_assert(is_ours(at + 1));
	return 0;
}
