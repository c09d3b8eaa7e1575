/* libext2fs's view of a part of one of our disks: an io_manager with a small cache of large chunks,
 * which makes its block-by-block reading of inode tables and folders fast and, when the disk is
 * read past the page cache, aligned. Writes go through at once. */
#include "volume/ext/ext_priv.h"

#include "base/share.h"

#include <et/com_err.h>
#include <string.h>

enum { CHUNK_BYTES = 64 * 1024, CHUNKS = 64 };

typedef struct {
	uint64_t at;   /* offset in the volume; UINT64_MAX: nothing here */
	uint64_t used; /* clock of the last use */
	size_t len;
	uint8_t *bytes;
} Chunk;

typedef struct {
	WdrBlockDev *dev;
	uint64_t offset, size;
	uint64_t clock;
	size_t count; /* of chunks, as many as this process may have */
	Chunk chunks[CHUNKS];
} Region;

/* ext2fs_open2() gives its io_manager a name only; this is the region behind that name. */
static _Thread_local Region opening;

/* Why the last request of this thread failed: libext2fs hands on a bare code only. */
static _Thread_local GError *last_failure;

static Region *region_of(io_channel channel)
{
	return channel->private_data;
}

static errcode_t region_open(const char *name, int flags, io_channel *channel)
{
	io_channel io = g_new0(struct struct_io_channel, 1);
	Region *r = g_memdup2(&opening, sizeof(opening));

	(void)flags;
	r->count = wdr_share_of(CHUNKS);
	for (size_t i = 0; i < CHUNKS; i++)
		r->chunks[i] = (Chunk){ .at = UINT64_MAX };
	io->magic = EXT2_ET_MAGIC_IO_CHANNEL;
	io->name = g_strdup(name);
	io->block_size = 1024;
	io->refcount = 1;
	io->private_data = r;
	extern struct struct_io_manager wdr_ext_region_manager;
	io->manager = &wdr_ext_region_manager;
	*channel = io;
	return 0;
}

static errcode_t region_close(io_channel channel)
{
	Region *r = region_of(channel);

	if (--channel->refcount > 0)
		return 0;
	for (size_t i = 0; i < CHUNKS; i++)
		g_free(r->chunks[i].bytes);
	g_free(r);
	g_free(channel->name);
	g_free(channel);
	return 0;
}

static errcode_t region_set_blksize(io_channel channel, int blksize)
{
	channel->block_size = blksize;
	return 0;
}

/* libext2fs counts in blocks, or in bytes when the count is negative. */
static uint64_t request_bytes(io_channel channel, int count)
{
	return count < 0 ? (uint64_t) - (int64_t)count
			 : (uint64_t)count * (unsigned)channel->block_size;
}

static bool in_region(const Region *r, uint64_t at, uint64_t len)
{
	return len <= r->size && at <= r->size - len;
}

static errcode_t failed(GError *error, errcode_t code)
{
	g_clear_error(&last_failure);
	last_failure = error;
	return code;
}

static Chunk *chunk_at(Region *r, uint64_t at, GError **error)
{
	Chunk *oldest = &r->chunks[0];

	for (size_t i = 0; i < r->count; i++) {
		if (r->chunks[i].at == at) {
			r->chunks[i].used = ++r->clock;
			return &r->chunks[i];
		}
		if (r->chunks[i].used < oldest->used)
			oldest = &r->chunks[i];
	}
	if (!oldest->bytes)
		oldest->bytes = g_malloc(CHUNK_BYTES);
	oldest->at = UINT64_MAX;
	oldest->len = (size_t)MIN(CHUNK_BYTES, r->size - at);
	if (!wdr_blockdev_read(r->dev, oldest->bytes, oldest->len, r->offset + at, error))
		return NULL;
	oldest->at = at;
	oldest->used = ++r->clock;
	return oldest;
}

/* By itself: the chunk around it has a place that cannot be read. */
static errcode_t read_alone(Region *r, uint64_t at, uint64_t len, void *to)
{
	GError *error = NULL;

	return wdr_blockdev_read(r->dev, to, (size_t)len, r->offset + at, &error)
		       ? 0
		       : failed(error, EXT2_ET_SHORT_READ);
}

static errcode_t region_read(io_channel channel, unsigned long long block, int count, void *data)
{
	Region *r = region_of(channel);
	uint64_t len = request_bytes(channel, count);
	uint64_t at = block * (unsigned)channel->block_size;
	uint8_t *to = data;

	if (block > UINT64_MAX / (unsigned)channel->block_size || !in_region(r, at, len))
		return EXT2_ET_SHORT_READ;
	while (len > 0) {
		Chunk *c = chunk_at(r, at - at % CHUNK_BYTES, NULL);
		if (!c)
			return read_alone(r, at, len, to);
		size_t lead = (size_t)(at - c->at);
		size_t part = (size_t)MIN(len, c->len - lead);
		memcpy(to, c->bytes + lead, part);
		to += part;
		at += part;
		len -= part;
	}
	return 0;
}

static void update_chunks(Region *r, const uint8_t *data, uint64_t at, uint64_t len)
{
	for (size_t i = 0; i < CHUNKS; i++) {
		Chunk *c = &r->chunks[i];
		if (c->at == UINT64_MAX || at >= c->at + c->len || c->at >= at + len)
			continue;
		uint64_t from = MAX(at, c->at);
		uint64_t to = MIN(at + len, c->at + c->len);
		memcpy(c->bytes + (from - c->at), data + (from - at), (size_t)(to - from));
	}
}

static errcode_t write_at(Region *r, uint64_t at, uint64_t len, const void *data)
{
	if (!in_region(r, at, len))
		return EXT2_ET_SHORT_WRITE;
	GError *error = NULL;
	update_chunks(r, data, at, len);
	if (!wdr_blockdev_write(r->dev, data, (size_t)len, r->offset + at, &error))
		return failed(error, EXT2_ET_SHORT_WRITE);
	return 0;
}

static errcode_t region_write(
	io_channel channel, unsigned long long block, int count, const void *data)
{
	if (block > UINT64_MAX / (unsigned)channel->block_size)
		return EXT2_ET_SHORT_WRITE;
	return write_at(region_of(channel), block * (unsigned)channel->block_size,
		request_bytes(channel, count), data);
}

static errcode_t region_read32(io_channel channel, unsigned long block, int count, void *data)
{
	return region_read(channel, block, count, data);
}

static errcode_t region_write32(
	io_channel channel, unsigned long block, int count, const void *data)
{
	return region_write(channel, block, count, data);
}

static errcode_t region_flush(io_channel channel)
{
	(void)channel; /* the builder flushes the disk itself, and reports what fails */
	return 0;
}

struct struct_io_manager wdr_ext_region_manager;
struct struct_io_manager wdr_ext_region_manager = {
	.magic = EXT2_ET_MAGIC_IO_MANAGER,
	.name = "Wanderitas disk region",
	.open = region_open,
	.close = region_close,
	.set_blksize = region_set_blksize,
	.read_blk = region_read32,
	.write_blk = region_write32,
	.flush = region_flush,
	/* No write_byte: with one, the superblock would be written word by word, and a power cut
	 * between two of them would leave a checksum that fits neither. */
	.read_blk64 = region_read,
	.write_blk64 = region_write,
};

bool wdr_ext_error(GError **error, errcode_t code, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	/* errcode_t below 256 is errno; the rest are codes of the library's own table. */
	if (code > 0 && code < 256)
		return wdr_error_set_errno(error, (int)code, "%s", what);
	initialize_ext2_error_table();
	/* The library has codes of its own for what was being read or written. */
	if (last_failure) {
		g_propagate_error(error, g_steal_pointer(&last_failure));
		g_prefix_error(error, "%s: %s: ", what, error_message(code));
		return false;
	}
	return wdr_error_set(error, WDR_ERROR_FORMAT, "%s: %s", what, error_message(code));
}

bool wdr_ext_open_fs(WdrBlockDev *dev, uint64_t offset, uint64_t size, int flags, ext2_filsys *ret,
	GError **error)
{
	if (offset > wdr_blockdev_size(dev) || size > wdr_blockdev_size(dev) - offset)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: the volume at %" G_GUINT64_FORMAT " reaches past the end of the disk",
			wdr_blockdev_name(dev), offset);
	opening = (Region){ .dev = dev, .offset = offset, .size = size };
	/* The name is only for the library's messages, and it takes a '?' in it for options. */
	errcode_t code = ext2fs_open2(
		"disk", NULL, flags | EXT2_FLAG_64BITS, 0, 0, &wdr_ext_region_manager, ret);
	if (code)
		return wdr_ext_error(error, code,
			"opening the ext volume at byte %" G_GUINT64_FORMAT " of %s", offset,
			wdr_blockdev_name(dev));
	uint64_t claimed = ext2fs_blocks_count((*ret)->super) * (uint64_t)(*ret)->blocksize;
	if (claimed > size) {
		ext2fs_free(*ret);
		*ret = NULL;
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"%s: the ext volume at byte %" G_GUINT64_FORMAT " claims %" G_GUINT64_FORMAT
			" bytes, its partition has %" G_GUINT64_FORMAT,
			wdr_blockdev_name(dev), offset, claimed, size);
	}
	return true;
}
