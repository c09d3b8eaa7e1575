/* Plans for the contents of files, with their diffs. */
#include "plan/file_plan.h"

#include "boot/formats/edit.h"

#include <string.h>

static void plan_free(void *data)
{
	WdrFilePlan *p = data;

	g_free(p->file);
	if (p->content)
		g_bytes_unref(p->content);
	g_free(p->diff);
	g_free(p->note);
	g_free(p);
}

GPtrArray *wdr_file_plans_new(void)
{
	return g_ptr_array_new_with_free_func(plan_free);
}

static bool is_text(const char *bytes, size_t len)
{
	return !memchr(bytes, '\0', len);
}

WdrFilePlan *wdr_file_plans_add(GPtrArray *plans, unsigned number, const char *file,
	const char *before, size_t before_len, GBytes *content)
{
	WdrFilePlan *p = g_new0(WdrFilePlan, 1);
	size_t len = 0;
	const char *bytes = content ? g_bytes_get_data(content, &len) : NULL;

	p->number = number;
	p->file = g_strdup(file);
	p->is_new = !before;
	if (before)
		p->before = wdr_hash(before, before_len);
	p->content = content ? g_bytes_ref(content) : NULL;
	p->mode = 0644;
	if (is_text(before ? before : "", before ? before_len : 0) &&
		is_text(bytes ? bytes : "", len))
		p->diff = wdr_diff(file, before ? before : "", before_len, bytes ? bytes : "", len);
	g_ptr_array_add(plans, p);
	return p;
}
