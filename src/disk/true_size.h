/* Whether a disk is as large as it says: cheap ones are sold with a false size, and lose what is
 * written past their true one, or write it over what lies further in front. */
#pragma once

#include "disk/blockdev.h"

/* What to do about a disk that loses what is written to it, as the hint of this error. False. */
bool wdr_truesize_advise(GError **error);
/* Writes marks all over the disk (at doubling distances, where such disks begin anew, and at its
 * end), reads them back from the medium, and makes them zeros. `medium` is the same disk, opened
 * with WDR_OPEN_MEDIUM. IO: it is not. */
bool wdr_truesize_prove(
	WdrBlockDev *dev, WdrBlockDev *medium, GError **error) G_GNUC_WARN_UNUSED_RESULT;
