/* The boot order: what is stored now, and which of the two ways (firmware, U-Boot) can change it.
 */
#include "change/order_priv.h"

static void write_free(void *data)
{
	WdrEnvWrite *w = data;

	if (w->bytes)
		g_bytes_unref(w->bytes);
	g_free(w);
}

static void told_free(void *data)
{
	WdrOrderTold *t = data;

	g_free(t->value);
	g_ptr_array_unref(t->tries);
	g_free(t);
}

WdrOrderTold *wdr_order_told(WdrOrderPlan *p, const char *name, const char *value)
{
	WdrOrderTold *t = g_new0(WdrOrderTold, 1);

	t->name = name;
	t->value = g_strdup(value);
	t->tries = g_ptr_array_new_with_free_func(g_free);
	g_ptr_array_add(p->orders, t);
	return t;
}

void wdr_order_plan_free(WdrOrderPlan *p)
{
	if (!p)
		return;
	wdr_board_free(p->board);
	g_ptr_array_unref(p->facts);
	g_ptr_array_unref(p->orders);
	wdr_eeprom_settings_clear(&p->settings);
	g_free(p->new_settings);
	g_free(p->without_way_back);
	g_ptr_array_unref(p->writes);
	wdr_efi_first_clear(&p->efi_first);
	wdr_uboot_env_free(p->env);
	wdr_disk_session_free(p->site);
	g_ptr_array_unref(p->files);
	g_free(p->diff);
	g_ptr_array_unref(p->left);
	g_free(p);
}

void wdr_order_leave(WdrOrderPlan *p, const char *text)
{
	g_ptr_array_add(p->left, g_strdup(text));
}

bool wdr_order_has_work(const WdrOrderPlan *p)
{
	return p->new_settings || p->has_efi_work || p->writes->len > 0 || p->files->len > 0;
}

/* U-Boot starts UEFI programs as well, and has entries only where somebody made them. */
static bool (*order_of(const WdrBoard *b))(WdrOrderPlan *, const WdrOrderOptions *, GError **)
{
	bool is_efi = b->efi && (b->efi->options->len > 0 || !b->names[0]);

	return b->series > 0 ? wdr_order_of_firmware
	       : is_efi      ? wdr_order_of_efi
			     : wdr_order_of_uboot;
}

bool wdr_order_comes_after(const WdrWorld *world)
{
	g_autoptr(WdrBoard) b = wdr_board_look(world);

	return b && order_of(b) == wdr_order_of_efi;
}

bool wdr_order_plan(
	const WdrWorld *world, const WdrOrderOptions *options, WdrOrderPlan **ret, GError **error)
{
	g_autoptr(WdrOrderPlan) p = g_new0(WdrOrderPlan, 1);

	p->world = world;
	p->facts = wdr_facts_new();
	p->orders = g_ptr_array_new_with_free_func(told_free);
	p->writes = g_ptr_array_new_with_free_func(write_free);
	p->files = wdr_file_plans_new();
	p->left = g_ptr_array_new_with_free_func(g_free);
	p->board = wdr_board_look(world);
	if (!p->board)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"this machine has neither a device tree nor UEFI firmware: its boot order "
			"is not known");
	bool needs_site = options->on && wdr_board_needs_fuse(p->board);
	if (needs_site && !wdr_disk_session_find(world, options->on, &p->site, error))
		return false;
	if (!order_of(p->board)(p, options, error))
		return false;
	*ret = g_steal_pointer(&p);
	return true;
}

static bool write_outside(WdrOrderPlan *p, WdrRawChange *o, GError **error)
{
	for (guint i = 0; i < p->writes->len; i++) {
		const WdrEnvWrite *w = p->writes->pdata[i];
		if (!wdr_raw_change_write(o, w->copy->device, w->at, w->bytes, error))
			return false;
	}
	if (p->has_efi_work && !wdr_raw_change_efi_order(o, p->board->efi, &p->efi_first, error))
		return false;
	return !p->new_settings ||
	       wdr_raw_change_settings(o,
		       p->settings.waiting ? p->settings.waiting : p->settings.now, p->new_settings,
		       error);
}

bool wdr_order_write(WdrOrderPlan *p, const char *state, bool *ret_has_begun, GError **error)
{
	g_auto(WdrRawChange) o = { 0 };
	GError *failure = NULL;

	*ret_has_begun = false;
	if (p->files->len > 0 &&
		!wdr_disk_session_write(p->site, state, p->files, ret_has_begun, error))
		return false;
	if (!p->new_settings && !p->has_efi_work && p->writes->len == 0)
		return true;
	if (!wdr_raw_change_begin(p->world, state, &o, error))
		return false;
	if (!write_outside(p, &o, &failure))
		*ret_has_begun |= o.has_begun;
	p->has_unread = o.has_unread;
	return wdr_raw_change_end(&o, failure, error);
}
