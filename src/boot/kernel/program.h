/* Kernels and programs: what kind of file it is, for which processor, and what it needs to start.
 * Formats: Linux's Documentation/arm64/booting.rst, riscv/boot-image-header.rst and x86/boot.rst;
 * the magic number of arch/arm/boot/compressed/head.S; ELF by libelf. */
#pragma once

#include "base/error.h"

#include <stddef.h>
#include <stdint.h>

typedef enum {
	WDR_CPU_UNKNOWN,
	WDR_CPU_ARM,
	WDR_CPU_ARM64,
	WDR_CPU_X86,
	WDR_CPU_X86_64,
	WDR_CPU_RISCV,
} WdrCpu;
const char *wdr_cpu_name(WdrCpu cpu); /* "arm64", …; "unknown" */
/* A kernel for `kernel` can run programs for `program`. */
bool wdr_cpu_runs(WdrCpu kernel, WdrCpu program);

typedef struct {
	const char *kind; /* "Image", "zImage", "bzImage", "gzip", "loader image", "FIT", "ELF";
			     NULL: no kernel that is known */
	WdrCpu cpu;
	char *release; /* "6.1.0-56-arm64"; NULL: it does not show from outside */
} WdrKernel;
void wdr_kernel_clear(WdrKernel *k);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrKernel, wdr_kernel_clear)
/* Of all bytes of a file. What is packed by gzip is unpacked to look. */
void wdr_kernel_look(const void *bytes, size_t len, WdrKernel *ret);

typedef struct {
	WdrCpu cpu;
	char *interpreter;  /* of a program: "/lib/ld-linux-aarch64.so.1", of a script: "/bin/sh";
			       NULL:  none */
	GPtrArray *needed;  /* char *: libraries, by name */
	GPtrArray *folders; /* char *: where it looks for them first, $ORIGIN not replaced */
	bool is_script;
} WdrProgram;
void wdr_program_clear(WdrProgram *p);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(WdrProgram, wdr_program_clear)
/* FORMAT: it is nothing that a kernel can start. */
bool wdr_program_look(
	const void *bytes, size_t len, WdrProgram *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;
