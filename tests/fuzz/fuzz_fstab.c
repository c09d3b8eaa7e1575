#include "mentions.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	return fuzz_mentions(wdr_fstab_read, data, size);
}
