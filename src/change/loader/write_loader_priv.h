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
/* The folders of boards that packages of this machine, or of the system on the image, have.
 * *ret_volume keeps the volume of this machine's; NULL: there is no such folder. */
bool wdr_loader_packages(WdrLoaderPlan *p, WdrVolume **ret_volume, WdrLoaderFolder *ret);
/* Fills p->writes (loader_place.c). */
bool wdr_loader_aim(WdrLoaderPlan *p, const WdrLoaderOptions *o, GError **error);
bool wdr_loader_is_for_flash(const WdrLoaderPlan *p, const WdrLoaderOptions *o);
/* It names SPI flash or an eMMC boot partition of this machine. */
bool wdr_loader_is_flash(const WdrWorld *world, const char *on);
/* Names of the board that is meant, NULL-ended; NULL: not known. Borrowed. */
char *const *wdr_loader_names(const WdrLoaderPlan *p);
/* Its folders among all of them; the caller's. */
GPtrArray *wdr_loader_mine(const WdrLoaderPlan *p, const GPtrArray *boards);
