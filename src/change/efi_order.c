/* Runs efibootmgr, and reads back what the firmware then has. */
#include "change/efi_order.h"

#include "base/error.h"
#include "base/text.h"

#include <string.h>

#define COMMAND "efibootmgr"
static const char mark[] = "UEFI\n";

void wdr_efi_first_clear(WdrEfiFirst *f)
{
	g_free(f->name);
	g_free(f->partuuid);
	g_free(f->file);
	g_free(f->disk);
	*f = (WdrEfiFirst){ 0 };
}

char *wdr_efi_order_text(const WdrEfiSettings *e, const WdrEfiFirst *first)
{
	GString *out = g_string_new(NULL);

	if (first)
		g_string_append_printf(out, "%04X", first->number);
	for (guint i = 0; i < e->order->len; i++) {
		unsigned number = g_array_index(e->order, unsigned, i);
		if (!first || number != first->number)
			g_string_append_printf(out, "%s%04X", out->len ? "," : "", number);
	}
	return g_string_free(out, FALSE);
}

unsigned wdr_efi_free_number(const WdrEfiSettings *e)
{
	unsigned number = 0;

	while (number < UINT16_MAX && wdr_efi_option(e, number))
		number++;
	return number;
}

char *wdr_efi_way_back(const WdrEfiSettings *e, const WdrEfiFirst *first)
{
	g_autofree char *order = wdr_efi_order_text(e, NULL);
	g_autofree char *removal = first->is_new
					   ? g_strdup_printf("remove=%04X %s %s\n", first->number,
						     first->partuuid, first->file)
					   : g_strdup("");

	return g_strdup_printf("%sorder=%s\n%s", mark, order, removal);
}

bool wdr_efi_is_way_back(const char *text)
{
	return g_str_has_prefix(text, mark);
}

/* ---- the command ---- */

static bool run(const WdrWorld *world, const char *const *argv, GError **error)
{
	g_auto(WdrRun) done = { 0 };

	if (!wdr_world_run(world, argv, NULL, &done, error))
		return false;
	if (done.exit_code == 0)
		return true;
	g_autofree char *said = wdr_escape(g_strstrip(done.output));
	return wdr_error_set(error, WDR_ERROR_IO, COMMAND " ended with %d%s%s", done.exit_code,
		*said ? ": " : "", said);
}

static bool make(const WdrWorld *world, const WdrEfiFirst *first, GError **error)
{
	g_autofree char *number = g_strdup_printf("%04X", first->number);
	g_autofree char *partition = g_strdup_printf("%u", first->partition);
	g_autofree char *file = g_strconcat("\\", first->file, NULL);
	const char *argv[] = { COMMAND, "--quiet", "--create", "--bootnum", number, "--disk",
		first->disk, "--part", partition, "--label", first->name, "--loader",
		g_strdelimit(file, "/", '\\'), NULL };

	return run(world, argv, error);
}

static bool set_order(const WdrWorld *world, const char *order, GError **error)
{
	const char *argv[] = { COMMAND, "--quiet", "--bootorder", order, NULL };
	const char *none[] = { COMMAND, "--quiet", "--delete-bootorder", NULL };

	return run(world, *order ? argv : none, error);
}

static bool is_entry(const WdrEfiOption *o, const char *partuuid, const char *file)
{
	return o && o->partuuid && o->file && g_ascii_strcasecmp(o->partuuid, partuuid) == 0 &&
	       g_ascii_strcasecmp(o->file, file) == 0;
}

bool wdr_efi_put_first(
	const WdrWorld *world, const WdrEfiSettings *e, const WdrEfiFirst *first, GError **error)
{
	g_autofree char *order = wdr_efi_order_text(e, first);

	if ((first->is_new && !make(world, first, error)) || !set_order(world, order, error))
		return false;
	g_autoptr(WdrEfiSettings) now = wdr_efi_settings_read(world);
	g_autofree char *read = now ? wdr_efi_order_text(now, NULL) : g_strdup("");
	const WdrEfiOption *o = now ? wdr_efi_option(now, first->number) : NULL;
	if (strcmp(read, order) != 0 ||
		(first->is_new && !is_entry(o, first->partuuid, first->file)))
		return wdr_error_set(error, WDR_ERROR_IO,
			COMMAND " ended well, but the firmware's entries read back as others: the "
				"order is %s, and was to be %s",
			*read ? read : "empty", order);
	return true;
}

/* ---- the way back ---- */

typedef struct {
	char *order;
	unsigned number;       /* of the entry to be removed */
	char *partuuid, *file; /* NULL: there is none */
} WayBack;

static void way_back_clear(WayBack *w)
{
	g_free(w->order);
	g_free(w->partuuid);
	g_free(w->file);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WayBack, way_back_clear)

static bool read_way_back(const char *text, WayBack *ret, GError **error)
{
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (size_t i = 1; lines[i]; i++) {
		if (g_str_has_prefix(lines[i], "order=")) {
			g_free(ret->order);
			ret->order = g_strdup(lines[i] + strlen("order="));
		} else if (g_str_has_prefix(lines[i], "remove=") && !ret->file) {
			g_auto(GStrv) words = g_strsplit(lines[i] + strlen("remove="), " ", 3);
			if (g_strv_length(words) != 3)
				continue;
			ret->number = (unsigned)g_ascii_strtoull(words[0], NULL, 16);
			ret->partuuid = g_strdup(words[1]);
			ret->file = g_strdup(words[2]);
		}
	}
	return ret->order || wdr_error_set(error, WDR_ERROR_FORMAT,
				     "the record of the firmware's boot order is damaged");
}

/* Entries that are gone by now cannot be in an order. */
static char *still_there(const WdrEfiSettings *e, const char *order)
{
	g_auto(GStrv) numbers = g_strsplit(order, ",", -1);
	GString *out = g_string_new(NULL);

	for (size_t i = 0; numbers[i]; i++) {
		if (*numbers[i] &&
			wdr_efi_option(e, (unsigned)g_ascii_strtoull(numbers[i], NULL, 16)))
			g_string_append_printf(out, "%s%s", out->len ? "," : "", numbers[i]);
	}
	return g_string_free(out, FALSE);
}

/* The entry that was made is still there. */
static bool is_made(const WdrEfiSettings *e, const WayBack *back)
{
	return back->file && is_entry(wdr_efi_option(e, back->number), back->partuuid, back->file);
}

bool wdr_efi_is_back(const WdrEfiSettings *e, const char *text)
{
	g_auto(WayBack) back = { 0 };

	if (!read_way_back(text, &back, NULL))
		return false;
	g_autofree char *is = wdr_efi_order_text(e, NULL);
	g_autofree char *order = still_there(e, back.order);
	return strcmp(is, order) == 0 && !is_made(e, &back);
}

bool wdr_efi_go_back(const WdrWorld *world, const char *text, bool *ret_was_back, GError **error)
{
	g_auto(WayBack) back = { 0 };
	g_autoptr(WdrEfiSettings) e = wdr_efi_settings_read(world);

	if (!e || e->problem)
		return wdr_error_set(error, WDR_ERROR_IO, "%s",
			e ? e->problem : "this machine was not started by UEFI firmware");
	if (!read_way_back(text, &back, error))
		return false;
	*ret_was_back = wdr_efi_is_back(e, text);
	if (*ret_was_back)
		return true;
	g_autofree char *order = still_there(e, back.order);
	g_autofree char *number = g_strdup_printf("%04X", back.number);
	const char *argv[] = { COMMAND, "--quiet", "--bootnum", number, "--delete-bootnum", NULL };
	return set_order(world, order, error) && (!is_made(e, &back) || run(world, argv, error));
}
