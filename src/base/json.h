/* What readers and writers of JSON share. */
#pragma once

#include "base/cleanup.h"

/* Text from disks is not always UTF-8, JSON is: escaped where it must be. NULL gives null. */
json_t *wdr_json_text(const char *text);
/* A string, or NULL where there is null, something else, or no such key. The caller's. */
char *wdr_json_optional(const json_t *object, const char *key);
