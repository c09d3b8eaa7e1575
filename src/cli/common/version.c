/* The --version text: version, commit, libraries. */
#include "cli/common/version.h"

#include "commit.h"

#include <blkid.h>
#include <bzlib.h>
#include <ext2fs/ext2_fs.h>
#include <ext2fs/ext2fs.h>
#include <glib.h>
#include <jansson.h>
#include <libfdisk.h>
#include <libsmartcols.h>
#include <lz4.h>
#include <lzma.h>
#include <stdio.h>
#include <string.h>
#include <xxhash.h>
#include <zlib.h>
#include <zstd.h>

static void print_libraries(void)
{
	const char *fdisk = NULL;
	const char *blkid = NULL;
	const char *smartcols = NULL;
	const char *ext2fs = NULL;
	unsigned xxhash = XXH_versionNumber();

	fdisk_get_library_version(&fdisk);
	blkid_get_library_version(&blkid, NULL);
	scols_get_library_version(&smartcols);
	ext2fs_get_library_version(&ext2fs, NULL);
	printf("  GLib         %u.%u.%u\n", glib_major_version, glib_minor_version,
		glib_micro_version);
	printf("  libext2fs    %s\n", ext2fs);
	printf("  libfdisk     %s\n", fdisk);
	printf("  libblkid     %s\n", blkid);
	printf("  libsmartcols %s\n", smartcols);
	printf("  jansson      %s\n", jansson_version_str());
	printf("  xxHash       %u.%u.%u\n", xxhash / 10000, xxhash / 100 % 100, xxhash % 100);
	printf("  zlib         %s\n", zlibVersion());
	/* Its date follows. */
	printf("  bzip2        %.*s\n", (int)strcspn(BZ2_bzlibVersion(), ","), BZ2_bzlibVersion());
	printf("  liblzma      %s\n", lzma_version_string());
	printf("  lz4          %s\n", LZ4_versionString());
	printf("  zstd         %s\n", ZSTD_versionString());
}

void wdr_print_version(void)
{
	printf("wanderitas " WDR_VERSION " (commit " WDR_COMMIT ")\n");
	puts("libraries:");
	print_libraries();
}
