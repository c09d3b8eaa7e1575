/* Any bytes as an initramfs, as a kernel and as a program: no crash, no hang. */
#include "boot/initramfs.h"
#include "boot/program.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	g_autoptr(WdrInitramfs) i = NULL;
	g_auto(WdrKernel) k = { 0 };
	g_auto(WdrProgram) p = { 0 };

	if (wdr_initramfs_read(data, size, &i, NULL))
		(void)wdr_initramfs_module(i, "nvme");
	wdr_kernel_look(data, size, &k);
	if (!wdr_program_look(data, size, &p, NULL))
		return 0;
	return 0;
}
