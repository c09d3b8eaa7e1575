/* What can be seen of why a disk failed: the kernel's words of it, a slow link, the driver of its
 * bridge, undervoltage. */
#pragma once

#include "disk/disks.h"

/* One line (char *) a sign, escaped for showing, the likeliest first; empty when nothing is seen.
 * Reads the kernel's log as /dev/kmsg has it, which may need root, and asks the board's firmware.
 */
GPtrArray *wdr_failure_clues(const WdrWorld *world, const WdrDisk *disk);

/* What the kernel's log says of trouble with this disk since it came, and not before `since_us`
 * (microseconds since the start of the machine, as the log counts them), the last lines (char *),
 * escaped; NULL: it cannot be read. */
GPtrArray *wdr_disk_kernel_lines(const WdrWorld *world, const char *disk_name, int64_t since_us);
/* What the board's firmware says of the voltage: `*ret_text` as below, *ret_is_now that it is too
 * low at this moment. False: there is nobody to ask. */
bool wdr_ask_voltage(const WdrWorld *world, const char **ret_text, bool *ret_is_now);

/* A record of /dev/kmsg ("PRIORITY,NUMBER,TIME,FLAGS;TEXT") about a problem with this disk,
 * as its text; NULL: it does not. The caller's. */
char *wdr_kernel_trouble(const char *record, const char *disk_name);
/* What the firmware's answer ("throttled=0x50005") says of the voltage; NULL: nothing wrong. */
const char *wdr_undervoltage(const char *answer);
