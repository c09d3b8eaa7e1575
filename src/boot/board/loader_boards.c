/* Finds the boards that the folders of packages have loaders for. */
#include "boot/board/loader_set_priv.h"

#include "boot/board/device_tree.h"
#include "volume/lookup.h"

#include <string.h>

/* Where trees are looked for first: what is small, and has one. */
static const char *const tree_files[] = { "u-boot.itb", "u-boot.img", "u-boot-sunxi-with-spl.bin",
	"u-boot-dtb.imx", "u-boot-with-spl.imx", "u-boot-tegra.bin", "u-boot.bin", "flash.bin",
	"u-boot-rockchip.bin", "u-boot-rockchip-spi.bin" };

void wdr_loader_board_free(WdrLoaderBoard *b)
{
	if (!b)
		return;
	g_free(b->name);
	g_ptr_array_unref(b->trees);
	g_array_unref(b->rows);
	g_free(b);
}

static void board_free(void *data)
{
	wdr_loader_board_free(data);
}

static bool has_name(const GPtrArray *names, const char *name)
{
	return g_ptr_array_find_with_equal_func((GPtrArray *)names, name, g_str_equal, NULL);
}

const char *wdr_loader_name_there(const WdrLoaderRowPart *part, const GPtrArray *names)
{
	for (size_t i = 0; part->names[i]; i++) {
		if (has_name(names, part->names[i]))
			return part->names[i];
	}
	return NULL;
}

char *wdr_loader_path(const char *folder, const char *board, const char *file)
{
	return g_strconcat(folder, *folder ? "/" : "", board, *board ? "/" : "", file, NULL);
}

static void find_rows(WdrLoaderBoard *b, const GPtrArray *names)
{
	b->not_alone = wdr_loader_not_alone(b->name, b->trees);
	for (unsigned i = 0; !b->not_alone && i < wdr_loader_n_rows; i++) {
		bool is_whole = wdr_loader_row_is_for(&wdr_loader_rows[i], b->trees);
		for (size_t k = 0; is_whole && k < WDR_LOADER_PARTS_MAX &&
				   wdr_loader_rows[i].parts[k].names[0];
			k++)
			is_whole =
				wdr_loader_name_there(&wdr_loader_rows[i].parts[k], names) != NULL;
		if (is_whole)
			g_array_append_val(b->rows, i);
	}
}

static GPtrArray *read_trees(const WdrLoaderFolder *folder, const char *board, GPtrArray *names)
{
	for (size_t i = 0; i < G_N_ELEMENTS(tree_files); i++) {
		g_autofree char *path = wdr_loader_path(folder->path, board, tree_files[i]);
		size_t len = 0;
		if (!has_name(names, tree_files[i]))
			continue;
		g_autofree char *bytes =
			wdr_follow_read(folder->volume, path, WDR_LOADER_FILE_BYTES_MAX, &len);
		g_autoptr(GPtrArray) trees =
			bytes ? wdr_device_trees_in((const uint8_t *)bytes, len) : NULL;
		if (trees && trees->len > 0)
			return g_steal_pointer(&trees);
	}
	return g_ptr_array_new();
}

static WdrLoaderBoard *look(const WdrLoaderFolder *folder, const char *name)
{
	g_autofree char *path = wdr_loader_path(folder->path, name, "");
	g_autoptr(GPtrArray) names = wdr_follow_names(folder->volume, path, NULL);
	WdrLoaderBoard *b = g_new0(WdrLoaderBoard, 1);

	b->name = g_strdup(name);
	b->rows = g_array_new(false, false, sizeof(unsigned));
	b->trees = read_trees(folder, name, names);
	find_rows(b, names);
	b->also = wdr_loader_other_names(name);
	return b;
}

/* ---- all of them ---- */

typedef struct {
	const WdrLoaderFolder *folder;
	GPtrArray *boards;
} Listing;

static bool take_folder(void *data, const WdrName *name, GError **error)
{
	Listing *l = data;

	(void)error;
	if (name->kind == WDR_KIND_FOLDER)
		g_ptr_array_add(l->boards, look(l->folder, name->name));
	return true;
}

static int by_name(const void *a, const void *b)
{
	return strcmp((*(WdrLoaderBoard *const *)a)->name, (*(WdrLoaderBoard *const *)b)->name);
}

GPtrArray *wdr_loader_boards(const WdrLoaderFolder *folder)
{
	Listing l = { folder, g_ptr_array_new_with_free_func(board_free) };
	g_auto(WdrEntry) entry = { 0 };
	g_autofree char *end = NULL;
	WdrNode node = { folder->volume->root_id, "" };
	bool is_there = !*folder->path ||
			(wdr_follow(folder->volume, folder->path, &end, &node.id, &entry) &&
				entry.kind == WDR_KIND_FOLDER);

	node.path = end ? end : "";
	/* What cannot be listed has no loader that could be read. */
	if (is_there && !wdr_volume_list(folder->volume, &node, take_folder, &l, NULL))
		g_ptr_array_set_size(l.boards, 0);
	g_ptr_array_sort(l.boards, by_name);
	return l.boards;
}

unsigned wdr_loader_fit(const GPtrArray *trees, const char *const *also, char *const *names)
{
	enum { SAME = 100 };
	unsigned best = also && names[0] && g_strv_contains(also, names[0]) ? SAME : 0;

	for (guint i = 0; i < trees->len; i++)
		best = MAX(best, wdr_device_tree_fit(trees->pdata[i], names));
	return best;
}

/* Without capitals and what is neither a letter nor a digit: "am335xboneblack". */
static char *bare_name(const char *name)
{
	g_autoptr(GString) bare = g_string_new(NULL);

	for (size_t i = 0; name[i]; i++) {
		if (g_ascii_isalnum(name[i]))
			g_string_append_c(bare, g_ascii_tolower(name[i]));
	}
	return g_strdup(bare->str);
}

/* The folder is called as the board is, behind its maker's name. */
static bool is_namesake(const WdrLoaderBoard *b, const char *name)
{
	const char *comma = strchr(name, ',');
	g_autofree char *folder = bare_name(b->name);
	g_autofree char *board = bare_name(comma ? comma + 1 : name);

	return strcmp(folder, board) == 0;
}

/* A loader for several boards suits each of them as well as their own does. */
static unsigned rank_of(const WdrLoaderBoard *b, char *const *names)
{
	unsigned fit = wdr_loader_fit(b->trees, b->also, names);

	return fit == 0 ? 0
			: fit * 4 + (b->rows->len > 0 ? 2 : 0) +
				  (names[0] && is_namesake(b, names[0]) ? 1 : 0);
}

GPtrArray *wdr_loader_boards_for(const GPtrArray *boards, char *const *names)
{
	GPtrArray *found = g_ptr_array_new();
	unsigned best = 1;

	for (guint i = 0; i < boards->len; i++) {
		unsigned rank = rank_of(boards->pdata[i], names);
		if (rank > best)
			g_ptr_array_set_size(found, 0);
		if (rank >= best)
			g_ptr_array_add(found, boards->pdata[i]);
		best = MAX(best, rank);
	}
	return found;
}

GPtrArray *wdr_loader_boards_of_model(const GPtrArray *boards, const char *model)
{
	GPtrArray *found = g_ptr_array_new();

	for (guint i = 0; i < boards->len; i++) {
		WdrLoaderBoard *b = boards->pdata[i];
		if (wdr_device_trees_have_model(b->trees, model))
			g_ptr_array_add(found, b);
	}
	return found;
}

WdrLoaderBoard *wdr_loader_board_in(const WdrLoaderFolder *folder)
{
	return look(folder, "");
}
