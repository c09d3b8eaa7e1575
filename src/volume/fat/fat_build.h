/* What filling a new FAT volume and its checkpoints share. Private to the FAT back end. */
#pragma once

#include "disk/stream.h"
#include "volume/fat/fat_priv.h"

typedef struct {
	uint64_t serial, first_child;
	uint32_t cluster; /* 0: the root */
	GByteArray *image;
	GArray *slots;  /* uint32_t: where each child's short entry is in the image */
	size_t waiting; /* children that have no clusters yet */
	uint64_t at;    /* where the image goes, bytes of the volume */
} WdrFatFolder;

typedef struct {
	WdrBuilder builder;
	WdrBlockDev *dev;
	uint64_t offset;
	WdrFatLayout layout;
	WdrFatSpec spec;
	WdrStream *stream;
	GHashTable *folders; /* serial -> WdrFatFolder, while it waits */
	uint8_t *ends;       /* a bit for each cluster: its chain ends here */
	uint32_t next;       /* the first free cluster */
	struct {
		uint64_t at;       /* bytes of the volume where it starts */
		uint64_t pos, end; /* bytes of the file: written up to, and all its clusters */
	} file;
} WdrFatBuild;

void wdr_fat_folder_free(void *folder);
/* Of a volume that is laid already. */
WdrFatBuild *wdr_fat_build_new(
	const WdrBuildTarget *target, const WdrFatSpec *spec, const WdrFatLayout *layout);
/* As WdrBuilderOps.checkpoint (fat_resume.c). */
bool wdr_fat_build_checkpoint(WdrBuilder *builder, GVariant **ret, GError **error);
