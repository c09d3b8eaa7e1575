/* Reads from a logbook how far its move has come.
 *
 * Lines are taken in their order, and a later one overrules an earlier one. What this program does
 * not know (another version's mark) is an error, not passed over. */
#include "journal/move_progress.h"

#include "base/io.h"

#include <string.h>

void wdr_move_progress_init(WdrMoveProgress *ret)
{
	*ret = (WdrMoveProgress){ .copied = g_hash_table_new_full(NULL, NULL, NULL, g_free),
		.ranges = g_array_new(FALSE, FALSE, sizeof(WdrMoveProgressRange)),
		.missing = wdr_unreadable_list_new() };
}

void wdr_move_progress_clear(WdrMoveProgress *l)
{
	g_clear_pointer(&l->copied, g_hash_table_unref);
	g_clear_pointer(&l->ranges, g_array_unref);
	g_clear_pointer(&l->missing, g_ptr_array_unref);
}

const WdrMoveProgressRange *wdr_move_progress_range(
	const WdrMoveProgress *l, unsigned number, uint64_t start)
{
	const WdrMoveProgressRange *found = NULL;

	/* The last word on it counts. */
	for (guint i = 0; i < l->ranges->len; i++) {
		const WdrMoveProgressRange *r = &g_array_index(l->ranges, WdrMoveProgressRange, i);
		if (r->number == number && r->start == start)
			found = r;
	}
	return found;
}

static void forget_part(WdrMoveProgress *l, unsigned number)
{
	for (guint i = l->ranges->len; i > 0; i--) {
		if (g_array_index(l->ranges, WdrMoveProgressRange, i - 1).number == number)
			g_array_remove_index(l->ranges, i - 1);
	}
	wdr_unreadable_forget_partition(l->missing, number);
}

bool wdr_move_progress_is_copied(const WdrMoveProgress *l, unsigned number)
{
	return g_hash_table_contains(l->copied, GUINT_TO_POINTER(number));
}

const WdrPartSeal *wdr_move_progress_seal(const WdrMoveProgress *l, unsigned number)
{
	return g_hash_table_lookup(l->copied, GUINT_TO_POINTER(number));
}

static bool take_seal(json_t *line, WdrMoveProgress *l, guint number)
{
	json_int_t bytes = json_integer_value(json_object_get(line, "list_bytes"));
	const char *head = json_string_value(json_object_get(line, "head_xxh128"));
	WdrPartSeal seal = { .list_bytes = (uint64_t)MAX(bytes, 0), .has_head = head != NULL };

	if (head && !wdr_hash_from_text(head, &seal.head))
		return false;
	g_hash_table_insert(l->copied, GUINT_TO_POINTER(number), g_memdup2(&seal, sizeof(seal)));
	return true;
}

static bool take_mark(const char *what, WdrMoveProgress *l)
{
	if (strcmp(what, WDR_MARK_CLEARED) == 0) {
		l->is_cleared = true;
	} else if (strcmp(what, WDR_MARK_HELD) == 0) {
		l->is_released = false;
	} else if (strcmp(what, WDR_MARK_RELEASED) == 0) {
		l->is_released = true;
		/* Nothing is released before the user has accepted what is missing. */
		wdr_unreadable_accept_all(l->missing);
	} else if (strcmp(what, WDR_MARK_ARRIVED) == 0) {
		l->has_arrived = true;
	} else {
		return false;
	}
	return true;
}

static bool take_part(json_t *line, const char *what, WdrMoveProgress *l)
{
	json_int_t number = json_integer_value(json_object_get(line, "number"));

	if (number < 1 || number > G_MAXUINT16)
		return false;
	if (strcmp(what, WDR_PART_COPIED) == 0)
		return take_seal(line, l, (guint)number);
	if (strcmp(what, WDR_PART_BEGUN) == 0)
		forget_part(l, (unsigned)number);
	else if (strcmp(what, WDR_PART_CHANGING) == 0)
		g_hash_table_remove(l->copied, GUINT_TO_POINTER((guint)number));
	else
		return false;
	return true;
}

static bool take_range(json_t *line, WdrMoveProgress *l)
{
	json_int_t number = 0, start = 0, size = 0;
	const char *hex = NULL;
	WdrMoveProgressRange r;

	if (json_unpack(line, "{s:I, s:I, s:I, s:s}", "number", &number, "start", &start, "size",
		    &size, "xxh128", &hex) != 0 ||
		number < 1 || number > G_MAXUINT16 || start < 0 || size <= 0 ||
		!wdr_hash_from_text(hex, &r.hash))
		return false;
	r.number = (unsigned)number;
	r.start = (uint64_t)start;
	r.size = (uint64_t)size;
	g_array_append_val(l->ranges, r);
	return true;
}

static bool take_boot_time(json_t *line, WdrMoveProgress *l)
{
	for (unsigned i = 0; i < WDR_BOOT_PARTS; i++) {
		const json_t *us = json_object_get(line, wdr_boot_part_key(i));
		l->boot_time.us[i] = json_integer_value(us);
		if (!json_is_integer(us) || l->boot_time.us[i] < 0 ||
			l->boot_time.us[i] > WDR_BOOT_TIME_MAX_US)
			return false;
	}
	l->has_boot_time = true;
	return true;
}

static bool take_line(json_t *line, void *data)
{
	WdrMoveProgress *l = data;
	const char *event = json_string_value(json_object_get(line, "event"));
	const char *what = json_string_value(json_object_get(line, "what"));

	/* Whatever follows on a move that was done, a catching up begun, say, undoes that. */
	l->is_done = strcmp(event, "done") == 0;
	l->was_done |= l->is_done;
	if (strcmp(event, "unreadable") == 0)
		return wdr_unreadable_take_json(l->missing, line);
	if (strcmp(event, "range") == 0)
		return take_range(line, l);
	if (strcmp(event, "boot-time") == 0)
		return take_boot_time(line, l);
	if (strcmp(event, "mark") == 0)
		return what && take_mark(what, l);
	return strcmp(event, "part") != 0 || (what && take_part(line, what, l));
}

bool wdr_move_progress_parse(
	const char *name, const char *text, WdrMoveProgress *ret, GError **error)
{
	g_auto(WdrMoveProgress) l = { 0 };

	wdr_move_progress_init(&l);
	if (!wdr_logbook_each(name, text, take_line, &l, error))
		return false;
	*ret = l;
	l = (WdrMoveProgress){ 0 };
	return true;
}

bool wdr_move_progress_read(const char *path, WdrMoveProgress *ret, GError **error)
{
	g_autofree char *text = NULL;
	size_t len = 0;

	return wdr_read_file(path, WDR_LOGBOOK_BYTES_MAX, &text, &len, error) &&
	       wdr_move_progress_parse(path, text, ret, error);
}
