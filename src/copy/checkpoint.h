/* Checkpoints of a volume being filled, one file a partition in the state folder. Each takes the
 * place of the one before, so a power cut leaves the old or the new one.
 *
 * A line "wanderitas-checkpoint/2 HASH", then a GVariant (little-endian) with that hash: (bytes of
 * the packing list that count, entries, bytes of contents, walk, builder). */
#pragma once

#include "base/error.h"

#include <stdint.h>

typedef struct {
	uint64_t list_bytes, entries, bytes;
	GVariant *walk;    /* for WdrCopy.resume_from */
	GVariant *builder; /* for wdr_ext_builder_resume(), wdr_fat_builder_resume() */
} WdrCheckpoint;
void wdr_checkpoint_clear(WdrCheckpoint *c);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrCheckpoint, wdr_checkpoint_clear)

bool wdr_checkpoint_save(
	const char *path, const WdrCheckpoint *c, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* *ret is empty (walk NULL) when there is none. FORMAT: it is damaged. */
bool wdr_checkpoint_load(
	const char *path, WdrCheckpoint *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The same from memory; `name` is for messages. */
bool wdr_checkpoint_parse(const char *name, const void *data, size_t len, WdrCheckpoint *ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
