/* Firmware files of a boot volume beside those of a folder. */
#pragma once

#include "change/update_firmware.h"
#include "present/out.h"

void wdr_present_firmware(const WdrOut *out, const WdrFirmwarePlan *p);
/* "wanderitas-firmware/2"; state as for wdr_present_drivers_json(). */
void wdr_present_firmware_json(FILE *file, const WdrFirmwarePlan *p, const char *state);
