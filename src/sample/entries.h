/* Shorthands for made-up trees. All times are those of a dawn count, all owners root unless said.
 */
#pragma once

#include "volume/memory.h"

enum { WDR_SAMPLE_WARDEN = 1000 };

WdrEntry wdr_sample_entry(WdrKind kind, uint32_t mode, uint32_t owner);
uint64_t wdr_sample_file(WdrMemoryVolume *m, const char *path, uint32_t mode, uint32_t owner);
void wdr_sample_text(WdrMemoryVolume *m, const char *path, const char *text);
/* `len` bytes that the path gives. */
void wdr_sample_bytes(WdrMemoryVolume *m, const char *path, uint32_t mode, uint64_t len);
void wdr_sample_folders(WdrMemoryVolume *m, const char *const *paths, size_t n);
void wdr_sample_link(WdrMemoryVolume *m, const char *path, const char *target);
/* A loader image around the text or bytes. */
void wdr_sample_image(
	WdrMemoryVolume *m, const char *path, uint8_t type, const void *data, size_t len);

/* Text files, one after the other. */
typedef struct {
	const char *path, *text;
} WdrSampleText;
void wdr_sample_texts(WdrMemoryVolume *m, const WdrSampleText *texts, size_t n);
