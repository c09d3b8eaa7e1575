/* Any bytes for a reader of mentions: it must not crash, every mention must lie within the text,
 * and an edit without splices must give the same bytes. */
#pragma once

#include "boot/edit.h"
#include "boot/mention.h"

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

typedef bool (*FuzzReader)(const char *file, const char *text, size_t len, WdrMentions *mentions,
	WdrRemarks *remarks, GError **error);

static inline int fuzz_mentions(FuzzReader read, const uint8_t *data, size_t size)
{
	g_autofree char *text = g_strndup((const char *)data, size);
	g_autoptr(GPtrArray) mentions = wdr_mentions_new();
	g_autoptr(GPtrArray) remarks = wdr_remarks_new();
	size_t len = strlen(text);

	bool is_fine = read("file", text, len, mentions, remarks, NULL);
	for (guint i = 0; is_fine && i < mentions->len; i++) {
		const WdrMention *m = mentions->pdata[i];
		g_assert(m->offset <= len && m->len <= len - m->offset);
		g_assert(strncmp(text + m->offset, m->text, m->len) == 0);
	}
	g_autoptr(WdrEdit) edit = wdr_edit_new(1, "file", wdr_hash(text, len));
	g_autoptr(GBytes) same = NULL;
	bool is_applied = wdr_edit_apply(edit, text, len, &same, NULL);
	g_assert(is_applied && g_bytes_get_size(same) == len);
	return 0;
}
