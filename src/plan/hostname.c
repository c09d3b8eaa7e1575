/* Replaces a host name in the files that hold it. */
#include "plan/hostname.h"

#include "base/text.h"
#include "boot/formats/lines.h"
#include "volume/eachfile.h"

#include <string.h>

enum { SEARCHED_BYTES_MAX = 256 * 1024, NOTES_MAX = 12 };

static bool is_name_char(char c)
{
	return g_ascii_isalnum(c) || c == '-' || c == '_';
}

const char *wdr_host_name_in(const char *text, const char *from, const char *name)
{
	size_t len = strlen(name);

	for (const char *at = from; len > 0 && (at = strstr(at, name)) != NULL; at++) {
		bool is_start = at == text || (!is_name_char(at[-1]) && at[-1] != '.');
		if (is_start && !is_name_char(at[len]))
			return at;
	}
	return NULL;
}

typedef struct {
	WdrVolume *root;
	const char *name;
	GPtrArray *notes;
	unsigned count;
} Search;

/* Those are edited, or go. Public keys have the name of who made them as a comment. */
static bool is_known(const char *path)
{
	static const char *const known[] = { "etc/hostname", "etc/hosts", NULL };

	return g_strv_contains(known, path) || g_str_has_prefix(path, "etc/ssh/ssh_host_");
}

static void look(void *data, const WdrNode *node, WdrEntry *entry)
{
	Search *s = data;
	g_autofree char *text = NULL;

	if (is_known(node->path) || entry->size == 0 || entry->size > SEARCHED_BYTES_MAX ||
		!wdr_volume_read_node(s->root, node, entry, SEARCHED_BYTES_MAX, &text, NULL) ||
		memchr(text, '\0', (size_t)entry->size))
		return;
	const char *at = wdr_host_name_in(text, text, s->name);
	if (!at || ++s->count > NOTES_MAX)
		return;
	g_autofree char *note = g_strdup_printf(
		"second machine: %s:%u still contains the host name %s", node->path,
		wdr_line_at(text, (size_t)entry->size, (size_t)(at - text)).number, s->name);
	g_ptr_array_add(s->notes, wdr_escape(note));
}

void wdr_host_name_left(WdrVolume *root, const char *name, GPtrArray *notes)
{
	Search s = { root, name, notes, 0 };

	wdr_each_file(root, "etc", look, &s, NULL);
	if (s.count > NOTES_MAX)
		g_ptr_array_add(
			notes, g_strdup_printf("second machine: %u more files below /etc have "
					       "the name %s",
				       s.count - NOTES_MAX, name));
}
