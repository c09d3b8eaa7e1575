/* What a kernel has built in and what it has as modules, from the text indexes that depmod writes
 * into /lib/modules/RELEASE (modules.builtin, modules.dep, modules.softdep): they are read from
 * volumes that are not mounted, and some systems have the text alone. */
#pragma once

#include <glib.h>
#include <stdbool.h>

typedef struct WdrModules WdrModules;
/* Texts may be NULL: unknown. */
WdrModules *wdr_modules_new(const char *builtin, const char *dependencies, const char *wanted);
void wdr_modules_free(WdrModules *m);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrModules, wdr_modules_free)

typedef enum { WDR_MODULE_ABSENT, WDR_MODULE_BUILT_IN, WDR_MODULE_LOADABLE } WdrModuleState;
WdrModuleState wdr_modules_state(const WdrModules *m, const char *name);
/* The names of all that a loadable module needs loaded before it (borrowed); NULL: nothing. */
const GPtrArray *wdr_modules_needs(const WdrModules *m, const char *name);

/* The same of what it would like to have, if there is such a module at all. */
const GPtrArray *wdr_modules_wants(const WdrModules *m, const char *name);
/* Where it lies below the folder of that kernel's modules, as modules.dep has it. Borrowed; NULL:
 * it is not loadable. */
const char *wdr_modules_path(const WdrModules *m, const char *name);

/* A module's name by its file ("kernel/drivers/usb/storage/usb-storage.ko.xz") or in any form that
 * it can have: "usb_storage", since the kernel takes '-' and '_' for the same. The caller's. */
char *wdr_module_name(const char *path);
/* Both are names of one module. */
bool wdr_module_is_named(const char *a, const char *b);
/* The path is that module's file, packed or not: "…/usb-storage.ko.xz" is "usb_storage". */
bool wdr_module_is(const char *path, const char *name);
