/* Images of sample disks. */
#include "sample/sample.h"

#include "base/cleanup.h"
#include "copy/volume_copy.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"

#include <fcntl.h>
#include <string.h>

static WdrPartTable *new_table(const WdrSampleDisk *disk)
{
	WdrPartTable *t = wdr_parttable_new(disk->table);

	t->id = g_strdup(disk->id);
	for (size_t i = 0; i < disk->n; i++) {
		const WdrSamplePart *from = &disk->parts[i];
		WdrPartition *p = wdr_parttable_add(t);
		p->number = (unsigned)i + 1;
		p->start = from->start;
		p->size = from->size;
		p->type = g_strdup(from->type);
		p->is_active = from->is_active;
		p->name = g_strdup(from->name);
		p->partuuid = from->partuuid ? g_strdup(from->partuuid)
					     : wdr_partuuid_mbr(t->id, p->number);
	}
	return t;
}

static bool fill(const WdrWorld *world, WdrVolume *from, WdrBuilder *builder, GError **error)
{
	WdrCopy copy = { .source = from, .builder = builder };

	return wdr_copy_volume(world, &copy, NULL, error) && builder->ops->finish(builder, error);
}

static bool fill_fat(const WdrWorld *world, const WdrBuildTarget *target, const WdrSamplePart *p,
	WdrVolume *from, GError **error)
{
	g_autoptr(WdrBuilder) builder = NULL;
	WdrFatSpec spec;

	wdr_fat_spec_default(p->size, 32, &spec);
	spec.serial = wdr_fat_serial_of(p->uuid);
	spec.hidden_sectors = (uint32_t)(p->start / 512);
	spec.made_at = wdr_world_now(world);
	g_strlcpy(spec.label, p->label, sizeof(spec.label));
	return wdr_fat_builder_new(world, target, &spec, &builder, error) &&
	       fill(world, from, builder, error);
}

static bool fill_ext(const WdrWorld *world, const WdrBuildTarget *target, const WdrSamplePart *p,
	WdrVolume *from, GError **error)
{
	g_autoptr(WdrBuilder) builder = NULL;
	g_auto(WdrExtSpec) spec = { 0 };

	wdr_ext_spec_default(&spec);
	g_strlcpy(spec.uuid, p->uuid, sizeof(spec.uuid));
	g_strlcpy(spec.label, p->label, sizeof(spec.label));
	spec.inodes = p->inodes;
	return wdr_ext_builder_new(world, target, &spec, &builder, error) &&
	       fill(world, from, builder, error);
}

static bool make_image(const char *path, uint64_t size, GError **error)
{
	g_auto(WdrFd) fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);

	if (fd < 0 || ftruncate(fd, (off_t)size) != 0)
		return wdr_error_set_errno(error, errno, "making the image %s", path);
	return true;
}

bool wdr_sample_make_disk(const WdrWorld *world, const char *path, const WdrSampleDisk *disk,
	WdrVolume *const *volumes, const char *scratch, GError **error)
{
	g_autoptr(WdrPartTable) table = new_table(disk);
	g_autoptr(WdrBlockDev) dev = NULL;

	if (!make_image(path, disk->size, error))
		return false;
	if (disk->table == WDR_TABLE_NONE)
		return true;
	if (!wdr_blockdev_open(path, WDR_OPEN_WRITE, &dev, error) ||
		!wdr_parttable_write(dev, table, true, error))
		return false;
	for (size_t i = 0; i < disk->n; i++) {
		const WdrSamplePart *p = &disk->parts[i];
		WdrBuildTarget target = { dev, p->start, p->size, scratch, NULL, NULL };
		if (!(p->is_fat ? fill_fat : fill_ext)(world, &target, p, volumes[i], error))
			return false;
	}
	return true;
}
