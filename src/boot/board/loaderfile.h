/* A file with a boot loader, as it is to be written to a medium or to SPI flash. Where each
 * family's lies: see loaderarea.h. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef struct {
	const char *family; /* "Rockchip"; NULL: nothing that is known */
	char *version;      /* "U-Boot 2023.01"; NULL: it does not say */
	bool is_whole; /* begins at the first byte of the flash or medium; otherwise it begins where
			  the chip looks for it on a medium */
	size_t used;   /* bytes up to the last that is no padding */
} WdrLoaderFile;
void wdr_loader_file_clear(WdrLoaderFile *f);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrLoaderFile, wdr_loader_file_clear)

void wdr_loader_file_look(const uint8_t *bytes, size_t len, WdrLoaderFile *ret);
/* It begins as one for this family does; others may begin so, too. */
bool wdr_loader_file_begins_as(const uint8_t *bytes, size_t len, const char *family);
/* The file has the name in it that a board's device tree begins with: loaders bring that tree
 * along. */
bool wdr_loader_file_names(const uint8_t *bytes, size_t len, const char *compatible);
/* Of the chip that a device tree names, as above; NULL: not known. */
const char *wdr_loader_family_of_chip(const char *compatible);
/* The same of a board with these names, NULL-ended; NULL: there are none. */
const char *wdr_loader_family_of(char *const *names);
/* The family of chips of a board with these names (NULL-ended; NULL: unknown), when a loader of
 * which this is told is for another one; NULL: nothing speaks against it. Static. */
const char *wdr_loader_wanted_instead(const char *what, char *const *names);
/* Where a file that is not whole begins on a medium; several are tried, in this order, up to 0
 * (none).
 */
const uint64_t *wdr_loader_locations(const char *family);
/* It begins in SPI flash at its first byte, too. */
bool wdr_loader_fits_flash(const WdrLoaderFile *f);
