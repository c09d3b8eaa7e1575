/* What the files of this folder share. */
#pragma once

#include "boot/board/loaderarea.h"
#include "change/loader/write_loader.h"

/* REFUSED, with the word for --despite where the user may know better; NULL: there is none. */
bool wdr_loader_refuse(GError **error, const char *word, const char *format, ...)
	G_GNUC_PRINTF(3, 4);
/* It is an image, not a disk of this machine. */
bool wdr_loader_is_of_image(const WdrLoaderPlan *p);
/* What lies before the first partition, or in partitions that are a loader's. ret->size 0: nothing.
 */
bool wdr_loader_find_area(const WdrDisk *d, WdrLoaderArea *ret, GError **error);

/* Adds what is where to the facts (loader_facts.c). */
void wdr_loader_tell(WdrLoaderPlan *p);

/* Finds p->set and checks that it is for the board (loader_choice.c). for_flash: see
 * wdr_loader_set_read(). */
bool wdr_loader_choose(WdrLoaderPlan *p, const WdrLoaderOptions *o, bool for_flash, GError **error);
/* Finds the packages of this machine, or of the system on the image, and what boards they have
 * loaders for: p->boards. Once; it reads a file of each. */
void wdr_loader_find_packages(WdrLoaderPlan *p);
/* Fills p->writes (loader_place.c). */
bool wdr_loader_aim(WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error);
bool wdr_loader_is_for_flash(const WdrLoaderPlan *p, const WdrLoaderOptions *o);
/* It names SPI flash or an eMMC boot partition of this machine. */
bool wdr_loader_is_flash(const WdrWorld *world, const char *on);
/* Names of the board that is meant, NULL-ended; NULL: not known. Borrowed. */
char *const *wdr_loader_names(const WdrLoaderPlan *p);
/* Its folders among p->boards; the caller's. */
GPtrArray *wdr_loader_mine(const WdrLoaderPlan *p);
