/* Boot files that are what they say as far as anybody looks: kernels with their headers and
 * banners, device trees, programs, initramfs archives with modules. The same bytes every time. */
#pragma once

#include "volume/memory.h"

/* An arm64 Image. */
void wdr_sample_kernel(WdrMemoryVolume *m, const char *path, const char *release, uint64_t len);
void wdr_sample_device_tree(WdrMemoryVolume *m, const char *path, uint64_t len);
/* What every small system has besides its own: links as usr is merged, an init, and tools. */
void wdr_sample_system(WdrMemoryVolume *m, unsigned tools);
/* An arm64 ELF file that needs nothing. */
void wdr_sample_program(WdrMemoryVolume *m, const char *path, uint64_t len);
/* About `len` bytes: a plain archive of firmware, and one packed by gzip with an init and the
 * modules (paths below lib/modules/RELEASE, NULL-ended), with those lines of a modules.dep that are
 * theirs; index NULL: without one. */
GBytes *wdr_sample_initramfs(
	const char *release, const char *const *modules, const char *index, uint64_t len);
GBytes *wdr_sample_module(const char *path, const char *release);
void wdr_sample_put(WdrMemoryVolume *m, const char *path, uint32_t mode, GBytes *bytes);
