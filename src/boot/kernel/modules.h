/* What a kernel has built in and what it has as modules, from the text indexes that depmod and the
 * kernel's build write into /lib/modules/RELEASE: they are read from volumes that are not mounted,
 * and some systems have the text alone. */
#pragma once

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>

/* Each may be NULL: unknown. */
typedef struct {
	const char *builtin, *dep, *softdep, *alias; /* modules.builtin and so on */
	const char *builtin_info; /* modules.builtin.modinfo: "name.key=value\0" */
	size_t builtin_info_len;
} WdrModuleTexts;

typedef struct WdrModules WdrModules;
WdrModules *wdr_modules_new(const WdrModuleTexts *texts);
void wdr_modules_free(WdrModules *m);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrModules, wdr_modules_free)

typedef enum { WDR_MODULE_ABSENT, WDR_MODULE_BUILT_IN, WDR_MODULE_LOADABLE } WdrModuleState;
WdrModuleState wdr_modules_state(const WdrModules *m, const char *name);
/* The names of all that a loadable module needs loaded before it (borrowed); NULL: nothing. */
const GPtrArray *wdr_modules_needs(const WdrModules *m, const char *name);

/* What a module asks for without naming a file: "crypto-crc32c", which any of several can give. */
typedef struct {
	char *name;
	GPtrArray *givers; /* char *: loadable modules of that name, or with that alias */
	bool is_built_in;  /* the kernel has it */
} WdrModuleWish;
/* WdrModuleWish; borrowed; NULL: nothing. */
const GPtrArray *wdr_modules_wishes(const WdrModules *m, const char *name);
/* Where it lies below the folder of that kernel's modules, as modules.dep has it. Borrowed; NULL:
 * it is not loadable. */
const char *wdr_modules_path(const WdrModules *m, const char *name);

/* The firmware files that a module says it loads, as paths below /lib/firmware, from its unpacked
 * bytes (char *): what modinfo(8) calls its firmware. The caller's. */
GPtrArray *wdr_module_firmware(const void *bytes, size_t len);

/* A module's name by its file ("kernel/drivers/usb/storage/usb-storage.ko.xz") or in any form that
 * it can have: "usb_storage", since the kernel takes '-' and '_' for the same. The caller's. */
char *wdr_module_name(const char *path);
/* Both are names of one module. */
bool wdr_module_is_named(const char *a, const char *b);
/* The path is that module's file, packed or not: "…/usb-storage.ko.xz" is "usb_storage". */
bool wdr_module_is(const char *path, const char *name);
