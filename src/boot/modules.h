/* What a kernel has built in and what it has as modules, from the text indexes that depmod writes
 * into /lib/modules/RELEASE (modules.builtin, modules.dep): they are read from volumes that are not
 * mounted, and some systems have the text alone. */
#pragma once

#include <glib.h>
#include <stdbool.h>

typedef struct WdrModules WdrModules;
/* Texts may be NULL: unknown. */
WdrModules *wdr_modules_new(const char *builtin, const char *dependencies);
void wdr_modules_free(WdrModules *m);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrModules, wdr_modules_free)

typedef enum { WDR_MODULE_ABSENT, WDR_MODULE_BUILT_IN, WDR_MODULE_LOADABLE } WdrModuleState;
WdrModuleState wdr_modules_state(const WdrModules *m, const char *name);
/* The names of all that a loadable module needs loaded before it (borrowed); NULL: nothing. */
const GPtrArray *wdr_modules_needs(const WdrModules *m, const char *name);

/* The path is that module's file, packed or not: "…/usb-storage.ko.xz" is "usb_storage". */
bool wdr_module_is(const char *path, const char *name);
