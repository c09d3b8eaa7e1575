/* Any bytes as an initramfs, as a kernel and as a program: no crash, no hang. What reads as an
 * initramfs reads with a segment more behind it, too. */
#include "boot/kernel/initramfs.h"

#include "boot/kernel/program.h"
#include "boot/kernel/segment.h"

#include <stdlib.h>
#include <string.h>

/* An entry: 070701, 13 fields of 8 digits (the second is the mode, the twelfth the name's length),
 * the name, all to a multiple of four. */
static GBytes *one_segment(void)
{
	static const char zeros[] = "00000000";
	static const struct {
		const char *mode, *length, *name;
	} entries[] = { { "000081a4", "0000000a", "zz-sparrow" },
		{ "00000000", "0000000b", "TRAILER!!!" } };
	GByteArray *bytes = g_byte_array_new();

	for (size_t i = 0; i < G_N_ELEMENTS(entries); i++) {
		g_autoptr(GString) e = g_string_new("070701");
		for (unsigned k = 0; k < 13; k++)
			g_string_append(e, k == 1    ? entries[i].mode
					   : k == 11 ? entries[i].length
						     : zeros);
		g_string_append_len(e, entries[i].name, i == 0 ? 10 : 11);
		while (e->len % 4)
			g_string_append_c(e, '\0');
		g_byte_array_append(bytes, (const uint8_t *)e->str, (guint)e->len);
	}
	return g_byte_array_free_to_bytes(bytes);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(WdrInitramfs) i = NULL;
	g_auto(WdrKernel) k = { 0 };
	g_auto(WdrProgram) p = { 0 };

	if (wdr_initramfs_read(data, size, &i, NULL)) {
		g_autoptr(GBytes) segment = one_segment();
		g_autoptr(GBytes) joined = NULL;
		(void)wdr_initramfs_module(i, "nvme");
		if (!wdr_segment_append(data, size, segment, &joined, NULL))
			abort();
	}
	wdr_kernel_look(data, size, &k);
	if (!wdr_program_look(data, size, &p, NULL))
		return 0;
	return 0;
}
