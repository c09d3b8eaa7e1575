/* Names what cannot be moved, and says what has to be done first.
 *
 * Volumes that are built here are ext4 and FAT. All else would be copied block by block, with the
 * same UUID: what is found by its UUID would then be there twice. */
#include "plan/unmovable.h"

#include <stddef.h>
#include <string.h>

#define COPY_FILES                                                                                 \
	"copy its files to an ext4 partition, name that in /etc/fstab and in root=, and move that"

static const WdrUnmovable all[] = {
	{ "btrfs", "a btrfs volume", COPY_FILES, true },
	{ "xfs", "an xfs volume", COPY_FILES, true },
	{ "bcachefs", "a bcachefs volume", COPY_FILES, true },
	{ "zfs_member", "a part of a ZFS pool", COPY_FILES, true },
	{ "f2fs", "an f2fs volume", COPY_FILES, false },
	{ "jfs", "a jfs volume", COPY_FILES, false },
	{ "reiserfs", "a reiserfs volume", COPY_FILES, false },
	{ "nilfs2", "a nilfs2 volume", COPY_FILES, false },
	{ "minix", "a minix volume", COPY_FILES, false },
	{ "crypto_LUKS", "an encrypted volume (LUKS)", COPY_FILES, true },
	{ "LVM2_member", "a part of an LVM volume group", COPY_FILES, true },
	{ "linux_raid_member", "a member of a RAID", COPY_FILES, true },
	{ "bcache", "a part of a bcache", COPY_FILES, true },
	{ "squashfs", "a read-only system image (squashfs)",
		"write the whole image to the new disk, as its makers say", false },
	{ "erofs", "a read-only system image (erofs)",
		"write the whole image to the new disk, as its makers say", false },
	{ "iso9660", "an installer's image (ISO 9660)",
		"install the system, and move the installed one", false },
	{ "swsuspend", "a hibernated system", "boot it, and shut it down", true },
};

const WdrUnmovable *wdr_unmovable(const char *type)
{
	for (size_t i = 0; type && i < sizeof(all) / sizeof(*all); i++) {
		if (strcmp(all[i].type, type) == 0)
			return &all[i];
	}
	return NULL;
}
