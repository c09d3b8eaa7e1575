/* Chooses the loader that is written, and checks that it is for the board. */
#include "change/loader/write_loader_priv.h"

#include "base/command.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"
#include "boot/board/device_tree.h"
#include "boot/board/loader_whole.h"
#include "boot/board/loaderarea.h"
#include "boot/board/loaderfile.h"
#include "volume/tree/tree.h"

#include <string.h>

#define INSTALLED "/usr/lib/u-boot"
enum { IMAGE_BYTES_MAX = 64 * 1024 * 1024 };

bool wdr_loader_refuse(GError **error, const char *word, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_error_set(error, WDR_ERROR_REFUSED, "%s", text);
	g_autofree char *despite = wdr_command_again("--despite", word ? word : "");
	wdr_error_hint(error, "nothing was changed%s%s", word ? "; if you know better: " : "",
		word ? despite : "");
	return false;
}

bool wdr_loader_is_of_image(const WdrLoaderPlan *p)
{
	return p->disk && p->disk->is_image;
}

char *const *wdr_loader_names(const WdrLoaderPlan *p)
{
	if (wdr_loader_is_of_image(p))
		return p->of_image.names;
	return p->board && p->board->names[0] ? p->board->names : NULL;
}

/* ---- the packages' folders ---- */

void wdr_loader_find_packages(WdrLoaderPlan *p)
{
	const WdrSystemPart *root = p->system ? p->system->root : NULL;
	g_autofree char *path = wdr_world_path(p->world, INSTALLED);

	if (p->boards)
		return;
	if (root && root->volume) {
		p->packages = (WdrLoaderFolder){ root->volume, &INSTALLED[1], INSTALLED };
		g_autoptr(GPtrArray) boards = wdr_loader_boards(&p->packages);
		if (boards->len > 0)
			p->boards = g_ptr_array_ref(boards);
	}
	if (p->boards || !wdr_tree_volume_open(path, &p->packages_volume, NULL))
		return;
	p->packages = (WdrLoaderFolder){ p->packages_volume, "", INSTALLED };
	p->boards = wdr_loader_boards(&p->packages);
}

GPtrArray *wdr_loader_mine(const WdrLoaderPlan *p)
{
	char *const *names = wdr_loader_names(p);

	if (!names)
		return wdr_loader_boards_of_model(
			p->boards, p->of_image.model ? p->of_image.model : "");
	return wdr_loader_boards_for(p->boards, names);
}

static char *list_of(const GPtrArray *boards)
{
	g_autoptr(GString) text = g_string_new(NULL);

	for (guint i = 0; i < boards->len; i++) {
		const WdrLoaderBoard *b = boards->pdata[i];
		g_string_append_printf(text, "%s%s", i > 0 ? ", " : "", b->name);
	}
	return g_strdup(text->str);
}

static const WdrLoaderBoard *board_named(const WdrLoaderPlan *p, const char *name, GError **error)
{
	const GPtrArray *boards = p->boards;

	for (guint i = 0; i < boards->len; i++) {
		const WdrLoaderBoard *b = boards->pdata[i];
		if (strcmp(b->name, name) == 0)
			return b;
	}
	g_autofree char *names = list_of(boards);
	wdr_error_set(error, WDR_ERROR_USAGE, "%s has no folder '%s'", p->packages.shown, name);
	if (boards->len > 0)
		wdr_error_hint(error, "it has %s", names);
	return NULL;
}

static const WdrLoaderBoard *board_found(const WdrLoaderPlan *p, GError **error)
{
	const GPtrArray *boards = p->boards;
	bool is_known = wdr_loader_names(p) || p->of_image.model;
	g_autoptr(GPtrArray) mine = is_known ? wdr_loader_mine(p) : g_ptr_array_new();

	if (mine->len == 1)
		return mine->pdata[0];
	g_autofree char *names = list_of(mine->len > 0 ? mine : boards);
	if (mine->len > 1)
		wdr_error_set(error, WDR_ERROR_REFUSED, "%s has %u loaders for this board: %s",
			p->packages.shown, mine->len, names);
	else if (is_known)
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "%s has no loader for this board (%s)",
			p->packages.shown,
			p->of_image.model ? p->of_image.model : wdr_loader_names(p)[0]);
	else
		wdr_error_set(error, WDR_ERROR_REFUSED, "which board %s is for is not known",
			p->disk ? p->disk->name : "the loader");
	/* Of loaders for other boards none is suggested: only the user knows which it is. */
	const GPtrArray *candidates = mine->len > 0 ? mine : boards;
	bool is_choice = mine->len > 0 || boards->len == 1;
	g_autofree char *with =
		is_choice ? wdr_command_again(
				    "--board", ((const WdrLoaderBoard *)candidates->pdata[0])->name)
			  : NULL;
	if (is_choice)
		wdr_error_hint(error, "name one of %s: %s", names, with);
	else if (boards->len > 0)
		wdr_error_hint(error,
			"nothing was changed; if one of these folders is for it, name it with --board: %s",
			names);
	else
		wdr_error_hint(error, "install the package that has this board's U-Boot, or name a "
				      "file; nothing was changed");
	return NULL;
}

static bool read_set(WdrLoaderPlan *p, const WdrLoaderFolder *folder, const WdrLoaderBoard *b,
	bool for_flash, GError **error)
{
	if (!wdr_loader_set_read(folder, b, for_flash, &p->set, error))
		return false;
	if (p->set)
		return true;
	if (b->not_alone)
		return wdr_loader_refuse(error, NULL, "%s%s%s cannot be written as it is: %s",
			folder->shown, *b->name ? "/" : "", b->name, b->not_alone);
	return wdr_loader_refuse(error, NULL, "%s%s%s has no loader for %s", folder->shown,
		*b->name ? "/" : "", b->name, for_flash ? "SPI flash" : "a medium");
}

static bool choose_installed(
	WdrLoaderPlan *p, const WdrLoaderOptions *o, bool for_flash, GError **error)
{
	wdr_loader_find_packages(p);
	if (!p->boards) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"no package with boot loaders is installed: there is no " INSTALLED);
		wdr_error_hint(error, "install the package that has this board's U-Boot, or name a "
				      "file; nothing was changed");
		return false;
	}
	const WdrLoaderBoard *b =
		o->board ? board_named(p, o->board, error) : board_found(p, error);
	return b && read_set(p, &p->packages, b, for_flash, error);
}

/* ---- a folder or a file that the user named ---- */

/* Those of the system's packages are named as the machine has them. */
static char *image_path(const WdrWorld *world, const char *image)
{
	return g_str_has_prefix(image, INSTALLED "/") ? wdr_world_path(world, image)
						      : g_strdup(image);
}

/* By the folder above it, since packages link files of one board from another's. */
static bool open_folder(const char *path, WdrVolume **ret_volume, char **ret_name, GError **error)
{
	g_autofree char *full = g_canonicalize_filename(path, NULL);
	g_autofree char *above = g_path_get_dirname(full);

	*ret_name = g_path_get_basename(full);
	return wdr_tree_volume_open(above, ret_volume, error);
}

static bool choose_folder(
	WdrLoaderPlan *p, const char *shown, const char *path, bool for_flash, GError **error)
{
	g_autoptr(WdrVolume) volume = NULL;
	g_autofree char *name = NULL;

	if (!open_folder(path, &volume, &name, error))
		return false;
	WdrLoaderFolder folder = { volume, name, shown };
	g_autoptr(WdrLoaderBoard) b = wdr_loader_board_in(&folder);
	return read_set(p, &folder, b, for_flash, error);
}

/* A file that is written together with another, whose folder has both. */
static bool is_half(const char *path)
{
	g_autofree char *folder_path = g_path_get_dirname(path);
	g_autofree char *name = g_path_get_basename(path);
	g_autofree char *folder_name = NULL;
	g_autoptr(WdrVolume) volume = NULL;

	if (!open_folder(folder_path, &volume, &folder_name, NULL))
		return false;
	WdrLoaderFolder folder = { volume, folder_name, folder_path };
	g_autoptr(WdrLoaderBoard) b = wdr_loader_board_in(&folder);
	return wdr_loader_is_half(b, name);
}

static bool choose_file(WdrLoaderPlan *p, const char *shown, const char *path, GError **error)
{
	char *bytes = NULL;
	size_t len = 0;

	if (!wdr_read_file(path, IMAGE_BYTES_MAX, &bytes, &len, error))
		return false;
	g_autoptr(GBytes) image = g_bytes_new_take(bytes, len);
	if (len == 0)
		return wdr_loader_refuse(error, NULL, "%s is empty", shown);
	if (is_half(path)) {
		g_autofree char *folder = g_path_get_dirname(shown);
		g_autofree char *command = wdr_command_instead(shown, folder);
		wdr_error_set(error, WDR_ERROR_REFUSED,
			"%s is one of two files that are written together", shown);
		wdr_error_hint(error, "nothing was changed; to write both: %s", command);
		return false;
	}
	/* One without a name that tells what it holds may be a first stage by itself. */
	if (!wdr_loader_check_whole(shown, (const uint8_t *)bytes, len, false, error))
		return false;
	p->set = wdr_loader_set_of_file(shown, image);
	return p->set->family ||
	       wdr_loader_refuse(error, NULL, "%s is no boot loader that is known", shown);
}

/* ---- whether it is for the board ---- */

static bool is_despite(const WdrLoaderOptions *o, const char *word)
{
	return o->despite && g_strv_contains((const char *const *)o->despite, word);
}

static const char *name_of(const WdrLoaderSet *s)
{
	const WdrLoaderPart *first = s->parts->pdata[0];

	return first->file;
}

/* A loader without a tree may have the board's name in it all the same. */
static bool fits(const WdrLoaderSet *s, char *const *names)
{
	if (wdr_loader_fit(s->trees, s->also, names) > 0)
		return true;
	for (guint i = 0; s->trees->len == 0 && i < s->parts->len; i++) {
		const WdrLoaderPart *part = s->parts->pdata[i];
		size_t len = 0;
		const uint8_t *bytes = g_bytes_get_data(part->bytes, &len);
		if (wdr_loader_file_names(bytes, len, names[0]))
			return true;
	}
	return false;
}

/* What lies on an image already is for its chip. */
static bool check_kind_of_image(const WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	g_auto(WdrLoaderArea) area = { 0 };
	bool is_known = wdr_loader_find_area(p->disk, &area, NULL) && area.size > 0 &&
			strcmp(area.what, "unknown") != 0;

	if (is_despite(o, "kind") || (is_known && g_str_has_prefix(area.what, p->set->family)))
		return true;
	if (is_known)
		return wdr_loader_refuse(error, "kind",
			"%s is a loader for %s, and on %s lies one for %s", name_of(p->set),
			p->set->family, p->disk->name, area.what);
	/* Who names the board knows what the image is for. */
	return p->of_image.said || o->board ||
	       wdr_loader_refuse(error, "kind",
		       "%s is a loader for %s, and which chip %s is for is not known",
		       name_of(p->set), p->set->family, p->disk->name);
}

static bool check_kind(const WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	const char *wanted = wdr_loader_family_of(wdr_loader_names(p));
	const char *what = wdr_loader_is_of_image(p) ? p->disk->name : "this board";

	if (is_despite(o, "kind") || g_strcmp0(wanted, p->set->family) == 0)
		return true;
	if (wanted)
		return wdr_loader_refuse(error, "kind",
			"%s is a loader for %s, and %s has a chip of %s", name_of(p->set),
			p->set->family, what, wanted);
	if (wdr_loader_is_of_image(p))
		return check_kind_of_image(p, o, error);
	return wdr_loader_refuse(error, "kind",
		"%s is a loader for %s, and which chip this board has is not known",
		name_of(p->set), p->set->family);
}

static bool check_board(const WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error)
{
	char *const *names = wdr_loader_names(p);
	bool is_image = wdr_loader_is_of_image(p);

	if (is_despite(o, "board") || (names && fits(p->set, names)) ||
		(!names && p->of_image.model &&
			wdr_device_trees_have_model(p->set->trees, p->of_image.model)) ||
		(is_image && !p->of_image.said && o->board))
		return true;
	if (is_image && !p->of_image.said)
		return wdr_loader_refuse(
			error, "board", "which board %s is for is not known", p->disk->name);
	return wdr_loader_refuse(error, "board", "%s names no board like %s (%s)", name_of(p->set),
		is_image ? p->disk->name : "this one",
		names               ? names[0]
		: p->of_image.model ? p->of_image.model
				    : "unknown");
}

bool wdr_loader_choose(WdrLoaderPlan *p, const WdrLoaderOptions *o, bool for_flash, GError **error)
{
	g_autofree char *path = o->image ? image_path(p->world, o->image) : NULL;
	bool is_chosen = !path                 ? choose_installed(p, o, for_flash, error)
			 : wdr_is_folder(path) ? choose_folder(p, o->image, path, for_flash, error)
					       : choose_file(p, o->image, path, error);

	if (!is_chosen)
		return false;
	const WdrLoaderSet *s = p->set;
	for (guint i = 0; i < s->parts->len; i++) {
		const WdrLoaderPart *part = s->parts->pdata[i];
		wdr_facts_add(p->facts, "image", !s->version, "%s: %s, %s, for %s", part->file,
			s->family, s->version ? s->version : "which does not say its version",
			wdr_loader_place_name(s->place));
	}
	return check_kind(p, o, error) && check_board(p, o, error);
}
