/* A volume made up in memory: a tree of entries whose file contents are given or generated. The
 * source of the sample boards and of generated trees in tests. */
#pragma once

#include "volume/volume.h"

typedef struct WdrMemoryVolume WdrMemoryVolume;

WdrMemoryVolume *wdr_memory_volume_new(const char *name);
/* The same object as a volume; freeing the volume frees it. */
WdrVolume *wdr_memory_volume_as_volume(WdrMemoryVolume *m);

/* Adds an entry, whose parent folder must have been added before ("" is there from the start;
 * adding it sets its metadata). The entry's strings and xattrs are copied; links and size are
 * worked out. Returns the entry's number. */
uint64_t wdr_memory_volume_add(WdrMemoryVolume *m, const char *path, const WdrEntry *entry);
/* A further name for the entry with that number. */
void wdr_memory_volume_link(WdrMemoryVolume *m, const char *path, uint64_t id);

/* Content, in rising order without overlaps; ranges not given are holes. */
void wdr_memory_volume_put(
	WdrMemoryVolume *m, uint64_t id, uint64_t offset, const void *data, size_t len);
/* Bytes that a seed gives, the same on every machine, computed at each reading. */
void wdr_memory_volume_generate(
	WdrMemoryVolume *m, uint64_t id, uint64_t offset, uint64_t len, uint64_t seed);
void wdr_memory_volume_preallocate(WdrMemoryVolume *m, uint64_t id, uint64_t offset, uint64_t len);
/* At least the end of the last range; the rest is a hole. */
void wdr_memory_volume_set_size(WdrMemoryVolume *m, uint64_t id, uint64_t size);
