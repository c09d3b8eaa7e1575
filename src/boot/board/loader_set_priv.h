/* The table of loaders, and what the files around it share. Private to them. */
#pragma once

#include "boot/board/loader_set.h"

enum { WDR_LOADER_PARTS_MAX = 2, WDR_LOADER_NAMES_MAX = 3 };
/* No file of a loader is larger. */
enum { WDR_LOADER_FILE_BYTES_MAX = 64 * 1024 * 1024 };

/* How a file begins that is what its name says. */
typedef enum {
	WDR_BEGINS_AS_FAMILY, /* see loaderfile.c */
	WDR_BEGINS_AS_IMAGE,  /* a FIT, or U-Boot's older image */
	WDR_BEGINS_ANYHOW, /* plain code: the name and the device tree in the folder are all there
			    * is
			    */
} WdrLoaderBeginning;

typedef struct {
	const char *names[WDR_LOADER_NAMES_MAX + 1]; /* the first that is there */
	WdrLoaderBeginning beginning;
	uint64_t at;
	const char *const *partitions;
} WdrLoaderRowPart;

typedef struct {
	const char *family;
	WdrLoaderPlace place;
	const char *chips[4]; /* only these, by the start of their names; none: all of the family */
	WdrLoaderRowPart parts[WDR_LOADER_PARTS_MAX];
	bool has_boot_part;
	uint64_t boot_part_at;
	const char *needs;
	uint64_t needs_at;
} WdrLoaderRow;

/* Of several that a folder has all files for, the first counts. */
extern const WdrLoaderRow wdr_loader_rows[];
extern const size_t wdr_loader_n_rows;

/* Where else the first stage may begin for boards with one of these trees; 0: nowhere. */
uint64_t wdr_loader_other_place(const GPtrArray *trees);
/* Of boards whose second stage lies elsewhere than the row says; 0: there. */
uint64_t wdr_loader_second_place(const char *board);
/* What else boards are called that a folder is for; NULL: nothing. */
const char *const *wdr_loader_other_names(const char *board);
/* Why the files of a folder are no boot loader as they are; NULL: they may be one. */
const char *wdr_loader_not_alone(const char *board, const GPtrArray *trees);
bool wdr_loader_is_of(const char *family, const GPtrArray *trees);
bool wdr_loader_row_is_for(const WdrLoaderRow *row, const GPtrArray *trees);

/* FOLDER/BOARD/FILE, of which the first two may be empty. The caller's. */
char *wdr_loader_path(const char *folder, const char *board, const char *file);
/* The name of the file, as it is there; NULL: it is not. */
const char *wdr_loader_name_there(const WdrLoaderRowPart *part, const GPtrArray *names);
