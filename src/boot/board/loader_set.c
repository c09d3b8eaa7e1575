/* Reads the files of a boot loader that belong together. */
#include "boot/board/loader_set_priv.h"

#include "boot/board/device_tree.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loader_whole.h"
#include "boot/board/loaderfile.h"
#include "volume/lookup.h"

#include <string.h>

static void part_free(void *data)
{
	WdrLoaderPart *p = data;

	g_free(p->file);
	g_bytes_unref(p->bytes);
	g_free(p);
}

void wdr_loader_set_free(WdrLoaderSet *s)
{
	if (!s)
		return;
	g_free(s->board);
	g_ptr_array_unref(s->parts);
	if (s->trees)
		g_ptr_array_unref(s->trees);
	g_free(s->version);
	g_free(s);
}

const char *wdr_loader_place_name(WdrLoaderPlace place)
{
	static const char *const names[] = { "a medium", "SPI flash", "partitions of a medium" };

	return names[place];
}

/* ---- a set ---- */

static bool is_image(const uint8_t *bytes, size_t len)
{
	return len >= 4 && (memcmp(bytes, "\xd0\x0d\xfe\xed", 4) == 0 ||
				   memcmp(bytes, "\x27\x05\x19\x56", 4) == 0);
}

/* What is made for SPI flash may have its first stage where the chip looks in that. */
static bool begins_as_family(const WdrLoaderRow *row, const uint8_t *bytes, size_t len)
{
	g_auto(WdrLoaderFile) file = { 0 };

	if (row->place != WDR_LOADER_FLASH)
		return wdr_loader_file_begins_as(bytes, len, row->family);
	wdr_loader_file_look(bytes, len, &file);
	return g_strcmp0(file.family, row->family) == 0;
}

/* One file that is all of a loader; the i.MX's first stage may be a whole U-Boot, without a second.
 */
static bool holds_all(const WdrLoaderRow *row, const WdrLoaderRowPart *part)
{
	bool is_alone = !row->parts[1].names[0];

	return (is_alone && part->beginning == WDR_BEGINS_AS_FAMILY &&
		       !g_str_has_prefix(row->family, "i.MX")) ||
	       part->beginning == WDR_BEGINS_AS_IMAGE;
}

static bool check_beginning(const WdrLoaderRow *row, const WdrLoaderRowPart *part,
	const WdrLoaderPart *p, GError **error)
{
	size_t len = 0;
	const uint8_t *bytes = g_bytes_get_data(p->bytes, &len);

	if (part->beginning == WDR_BEGINS_AS_FAMILY && !begins_as_family(row, bytes, len))
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s does not begin as a loader for %s does", p->file, row->family);
	if (part->beginning == WDR_BEGINS_AS_IMAGE && !is_image(bytes, len))
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s is no image of a loader's second stage", p->file);
	if (len == 0)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is empty", p->file);
	return wdr_loader_check_whole(p->file, bytes, len, holds_all(row, part), error);
}

static bool read_part(const WdrLoaderFolder *folder, const char *board, const WdrLoaderRow *row,
	const WdrLoaderRowPart *part, WdrLoaderSet *s, GError **error)
{
	g_autofree char *in = wdr_loader_path(folder->path, board, "");
	g_autoptr(GPtrArray) names = wdr_follow_names(folder->volume, in, NULL);
	const char *name = wdr_loader_name_there(part, names);
	size_t len = 0;
	g_autofree char *path = wdr_loader_path(folder->path, board, name ? name : part->names[0]);
	char *bytes = wdr_follow_read(folder->volume, path, WDR_LOADER_FILE_BYTES_MAX, &len);
	WdrLoaderPart *p = g_new0(WdrLoaderPart, 1);

	p->file = wdr_loader_path(folder->shown, board, name ? name : part->names[0]);
	p->at = part->at;
	p->partitions = part->partitions;
	p->bytes = g_bytes_new_take(bytes, len);
	g_ptr_array_add(s->parts, p);
	return bytes ? check_beginning(row, part, p, error)
		     : wdr_error_set(error, WDR_ERROR_IO, "reading %s", p->file);
}

static void look_at_parts(WdrLoaderSet *s)
{
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *p = s->parts->pdata[i];
		size_t len = 0;
		const uint8_t *bytes = g_bytes_get_data(p->bytes, &len);
		g_autoptr(GPtrArray) trees = wdr_device_trees_in(bytes, len);
		if (!s->trees)
			s->trees = g_ptr_array_ref(trees);
		else
			g_ptr_array_extend_and_steal(s->trees, g_ptr_array_ref(trees));
		if (!s->version)
			s->version = wdr_loader_version_in(bytes, len);
	}
}

static WdrLoaderSet *set_new(const char *family, WdrLoaderPlace place)
{
	WdrLoaderSet *s = g_new0(WdrLoaderSet, 1);

	s->family = family;
	s->place = place;
	s->fits_flash = place == WDR_LOADER_FLASH;
	s->parts = g_ptr_array_new_with_free_func(part_free);
	return s;
}

static void fill_in(WdrLoaderSet *s, const WdrLoaderRow *row, const char *board)
{
	s->has_boot_part = row->has_boot_part;
	s->boot_part_at = row->boot_part_at;
	s->needs = row->needs;
	s->needs_at = row->needs_at;
	if (row->place == WDR_LOADER_MEDIUM)
		s->other_at = wdr_loader_other_place(s->trees);
	uint64_t second_at = wdr_loader_second_place(board);
	if (second_at != 0 && s->parts->len > 1)
		((WdrLoaderPart *)s->parts->pdata[1])->at = second_at;
}

bool wdr_loader_set_read(const WdrLoaderFolder *folder, const WdrLoaderBoard *board, bool for_flash,
	WdrLoaderSet **ret, GError **error)
{
	const WdrLoaderRow *row = NULL;

	*ret = NULL;
	for (guint i = 0; !row && i < board->rows->len; i++) {
		const WdrLoaderRow *r = &wdr_loader_rows[g_array_index(board->rows, unsigned, i)];
		if ((r->place == WDR_LOADER_FLASH) == for_flash)
			row = r;
	}
	if (!row)
		return true;
	g_autoptr(WdrLoaderSet) s = set_new(row->family, row->place);
	s->board = g_strdup(board->name);
	for (size_t i = 0; i < WDR_LOADER_PARTS_MAX && row->parts[i].names[0]; i++) {
		if (!read_part(folder, board->name, row, &row->parts[i], s, error))
			return false;
	}
	s->also = board->also;
	look_at_parts(s);
	fill_in(s, row, board->name);
	*ret = g_steal_pointer(&s);
	return true;
}

/* ---- a file by itself ---- */

bool wdr_loader_is_half(const WdrLoaderBoard *b, const char *name)
{
	for (guint i = 0; i < b->rows->len; i++) {
		const WdrLoaderRow *row = &wdr_loader_rows[g_array_index(b->rows, unsigned, i)];
		for (size_t k = 0; row->parts[1].names[0] && k < WDR_LOADER_PARTS_MAX; k++) {
			if (g_strv_contains(row->parts[k].names, name))
				return true;
		}
	}
	return false;
}

/* Loaders of several families begin alike; the boards that they are for tell. */
static const char *family_by_trees(
	const char *family, const GPtrArray *trees, const uint8_t *bytes, size_t len)
{
	for (guint i = 0; i < trees->len; i++) {
		const char *other =
			wdr_loader_family_of(((const WdrDeviceTree *)trees->pdata[i])->names);
		if (other && wdr_loader_file_begins_as(bytes, len, other))
			return other;
	}
	return family;
}

/* The row for a file that is all of a loader; NULL: its chip is one of several that differ. */
static const WdrLoaderRow *row_of_file(const char *family, const GPtrArray *trees)
{
	const WdrLoaderRow *found = NULL;

	for (size_t i = 0; !found && i < wdr_loader_n_rows; i++) {
		const WdrLoaderRow *row = &wdr_loader_rows[i];
		bool is_for = trees->len > 0 ? wdr_loader_row_is_for(row, trees) : !row->chips[0];
		if (row->place != WDR_LOADER_FLASH && g_strcmp0(row->family, family) == 0 && is_for)
			found = row;
	}
	return found;
}

WdrLoaderSet *wdr_loader_set_of_file(const char *file, GBytes *bytes)
{
	g_auto(WdrLoaderFile) f = { 0 };
	size_t len = 0;
	const uint8_t *data = g_bytes_get_data(bytes, &len);
	WdrLoaderPart *p = g_new0(WdrLoaderPart, 1);

	wdr_loader_file_look(data, len, &f);
	WdrLoaderSet *s = set_new(f.family, f.is_whole ? WDR_LOADER_FLASH : WDR_LOADER_MEDIUM);
	s->fits_flash = wdr_loader_fits_flash(&f);
	p->file = g_strdup(file);
	p->bytes = g_bytes_ref(bytes);
	g_ptr_array_add(s->parts, p);
	look_at_parts(s);
	s->family = family_by_trees(f.family, s->trees, data, len);
	const WdrLoaderRow *row = f.is_whole ? NULL : row_of_file(s->family, s->trees);
	if (row) {
		s->place = row->place;
		p->at = row->parts[0].at;
		p->partitions = row->parts[0].partitions;
		fill_in(s, row, "");
	}
	return s;
}
