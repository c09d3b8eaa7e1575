/* Device trees as boot loaders carry them, for the one question which boards they are for.
 * Format: Devicetree Specification 0.4, chapter 5; read by libfdt. */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct {
	char **names; /* "compatible" of its root, the most particular first; not empty */
	char *model;  /* NULL: it has none */
} WdrDeviceTree;

/* The trees of boards anywhere inside of these bytes, in their order: WdrDeviceTree. The caller's;
 * empty when there is none. */
GPtrArray *wdr_device_trees_in(const uint8_t *bytes, size_t len);
/* The strings of a "compatible" property, NULL-ended. The caller's. */
char **wdr_device_tree_names(const char *bytes, size_t len);

/* How well a loader with this tree suits a board with these names: 0 not at all; higher is better.
 * The last of several names is the chip's, which many boards share. */
unsigned wdr_device_tree_fit(const WdrDeviceTree *tree, char *const *names);
/* One of these trees (WdrDeviceTree) is of this model. */
bool wdr_device_trees_have_model(const GPtrArray *trees, const char *model);
