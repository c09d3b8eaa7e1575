#include "boot/mention.h"

static void mention_free(void *data)
{
	WdrMention *m = data;

	g_free(m->file);
	g_free(m->text);
	g_free(m->what);
	wdr_address_clear(&m->address);
	g_free(m);
}

WdrMentions *wdr_mentions_new(void)
{
	return g_ptr_array_new_with_free_func(mention_free);
}

WdrRemarks *wdr_remarks_new(void)
{
	return g_ptr_array_new_with_free_func(g_free);
}

const char *wdr_use_name(WdrUse use)
{
	static const char *const names[] = { "root", "boot", "swap", "resume", "other" };

	return names[use];
}

const WdrPlaceOfMentions wdr_places[] = {
	{ "boot", "cmdline.txt", wdr_kernel_args_read },
	{ "root", "etc/fstab", wdr_fstab_read },
};
const size_t wdr_n_places = G_N_ELEMENTS(wdr_places);
