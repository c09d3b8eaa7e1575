/* Boot loaders as packages bring them: for each board a folder, and in it the files that together
 * are its loader. Each goes to a place that the chip's ROM, or the stage before it, prescribes. */
#pragma once

#include "base/error.h"
#include "volume/volume.h"

typedef enum {
	WDR_LOADER_MEDIUM,     /* outside of the partitions of a card or eMMC */
	WDR_LOADER_FLASH,      /* SPI flash */
	WDR_LOADER_PARTITIONS, /* in partitions of their own */
} WdrLoaderPlace;

/* One file of a set. */
typedef struct {
	char *file;                    /* its path, as people name it */
	uint64_t at;                   /* byte of the medium or flash */
	const char *const *partitions; /* names or types of those that take a copy each, NULL-ended;
					  NULL: it goes to `at` */
	GBytes *bytes;
} WdrLoaderPart;

typedef struct {
	char *board; /* the folder's name; NULL: the files were named one by one */
	const char *family;
	WdrLoaderPlace place;
	GPtrArray *parts;        /* WdrLoaderPart; the one that the chip reads first comes first */
	GPtrArray *trees;        /* WdrDeviceTree, of all files */
	const char *const *also; /* names of boards that it is for, too, NULL-ended; NULL: none */
	bool fits_flash;    /* what is for a medium begins in SPI flash at its first byte, too */
	char *version;      /* NULL: it does not say */
	uint64_t other_at;  /* where the first part may begin instead, the others as far behind it;
			       0: nowhere */
	bool has_boot_part; /* an eMMC boot partition takes its first part too, at this byte: */
	uint64_t boot_part_at;
	const char *needs; /* what has to be on the medium already; NULL: nothing */
	uint64_t needs_at; /* and begins at this byte */
} WdrLoaderSet;
void wdr_loader_set_free(WdrLoaderSet *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrLoaderSet, wdr_loader_set_free)

/* A folder with a folder for each board. */
typedef struct {
	WdrVolume *volume;
	const char *path;  /* in the volume */
	const char *shown; /* "/usr/lib/u-boot" */
} WdrLoaderFolder;

/* What one of its folders has. */
typedef struct {
	char *name;
	GPtrArray *trees;        /* WdrDeviceTree; empty: it does not say for which boards it is */
	const char *const *also; /* names of boards that it is for, too, NULL-ended; NULL: none */
	GArray *rows;            /* unsigned: for wdr_loader_set_read(); empty: nothing in it can be
				    written as it is */
	const char *not_alone;   /* then, if it is known: why */
} WdrLoaderBoard;
/* WdrLoaderBoard, by name; empty when there is no such folder. The caller's. */
GPtrArray *wdr_loader_boards(const WdrLoaderFolder *folder);
/* Those that suit a board with these names best, borrowed from `boards`. */
GPtrArray *wdr_loader_boards_for(const GPtrArray *boards, char *const *names);
/* How well loaders with these trees, and further names of boards (NULL: none), suit a board; as
 * wdr_device_tree_fit(). */
unsigned wdr_loader_fit(const GPtrArray *trees, const char *const *also, char *const *names);
/* Those that have this model in one of their trees; borrowed. */
GPtrArray *wdr_loader_boards_of_model(const GPtrArray *boards, const char *model);
/* The set of a board's folder for a medium or for partitions, or else for SPI flash. NULL, and no
 * error: it has none. */
bool wdr_loader_set_read(const WdrLoaderFolder *folder, const WdrLoaderBoard *board, bool for_flash,
	WdrLoaderSet **ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* What a folder that was named has, as if it were one of those above; its name is empty. The
 * caller's. */
WdrLoaderBoard *wdr_loader_board_in(const WdrLoaderFolder *folder);
void wdr_loader_board_free(WdrLoaderBoard *b);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrLoaderBoard, wdr_loader_board_free)
/* A file with this name is one of two that make a set of this board's. */
bool wdr_loader_is_half(const WdrLoaderBoard *b, const char *name);
/* A file by itself, whose place its first bytes tell. `bytes` is shared. */
WdrLoaderSet *wdr_loader_set_of_file(const char *file, GBytes *bytes);
/* "a medium", "SPI flash", … */
const char *wdr_loader_place_name(WdrLoaderPlace place);
