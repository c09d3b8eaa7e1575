/* The binary indexes that module loaders look names up in (modules.dep.bin, modules.alias.bin): a
 * tree of characters. Format: kmod's libkmod/libkmod-index.h.
 *
 *   magic b007f457, version 00020001, offset of the root node           32 bits, big-endian
 *   node: prefix and a 0                                     where its offset has 80000000
 *         first character, last character, an offset for each         where it has 20000000
 *         count, for each value: priority (32 bits), text and a 0     where it has 40000000
 * The upper four bits of an offset tell what its node has; 0: there is no such child. */
#pragma once

#include "base/error.h"

typedef struct WdrModuleIndex WdrModuleIndex;
WdrModuleIndex *wdr_module_index_new(void);
void wdr_module_index_free(WdrModuleIndex *i);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrModuleIndex, wdr_module_index_free)
/* A key may have several values; those of a lower priority come first. Copied. A key with
 * characters that the format cannot hold is left out. */
void wdr_module_index_add(WdrModuleIndex *i, const char *key, const char *value, unsigned priority);
/* The caller's. */
GBytes *wdr_module_index_bytes(const WdrModuleIndex *i);

/* The lines of the text indexes as keys and values: "FILE: FILE FILE" by the module's name,
 * "alias PATTERN NAME" by the pattern. */
GBytes *wdr_module_index_of_dep(const char *text);
GBytes *wdr_module_index_of_alias(const char *text);
