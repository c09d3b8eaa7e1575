/* Firmware files of boards with a FAT boot volume, and the build that each says it is: text in
 * them, "VC_BUILD_ID_TIME: Aug 15 2022". */
#pragma once

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Seconds since 1970 of the day that the file was built; 0: it does not say. */
int64_t wdr_build_day(const void *bytes, size_t len);

/* Files that belong together: those of the boards up to the 3 series, and those of the 4 series. */
typedef enum { WDR_FIRMWARE_NONE, WDR_FIRMWARE_OLD, WDR_FIRMWARE_4 } WdrFirmwareSet;
/* By its name: "start4x.elf", "fixup4x.dat", "bootcode.bin". */
WdrFirmwareSet wdr_firmware_set(const char *name);
