/* Saves and loads checkpoints of a volume being filled. */
#include "copy/checkpoint.h"

#include "base/hash.h"
#include "base/record.h"

#include <string.h>
#include <unistd.h>

static const char header[] = "wanderitas-checkpoint/2 ";
enum {
	HEADER_BYTES = sizeof(header) - 1,
	LINE_BYTES = HEADER_BYTES + WDR_HASH_TEXT_LEN + 1,
	FILE_BYTES_MAX = 1024 * 1024 * 1024,
};

#define CHECKPOINT_TYPE "(tttvv)"

void wdr_checkpoint_clear(WdrCheckpoint *c)
{
	g_clear_pointer(&c->walk, g_variant_unref);
	g_clear_pointer(&c->builder, g_variant_unref);
}

/* Takes v over. */
static GVariant *little_endian(GVariant *v)
{
	if (G_BYTE_ORDER == G_LITTLE_ENDIAN)
		return v;
	GVariant *swapped = g_variant_byteswap(v);
	g_variant_unref(v);
	return swapped;
}

bool wdr_checkpoint_save(const char *path, const WdrCheckpoint *c, GError **error)
{
	g_autoptr(GVariant) v = little_endian(g_variant_ref_sink(g_variant_new(
		CHECKPOINT_TYPE, c->list_bytes, c->entries, c->bytes, c->walk, c->builder)));
	size_t len = g_variant_get_size(v);
	g_autofree char *file = g_malloc(LINE_BYTES + len);

	memcpy(file, header, HEADER_BYTES);
	wdr_hash_to_text(wdr_hash(g_variant_get_data(v), len), file + HEADER_BYTES);
	file[LINE_BYTES - 1] = '\n';
	memcpy(file + LINE_BYTES, g_variant_get_data(v), len);
	return wdr_record_write(path, file, LINE_BYTES + len, error);
}

bool wdr_checkpoint_parse(
	const char *name, const void *data, size_t len, WdrCheckpoint *ret, GError **error)
{
	const char *text = data;
	char want[WDR_HASH_TEXT_LEN + 1] = "";

	*ret = (WdrCheckpoint){ 0 };
	if (len > LINE_BYTES)
		wdr_hash_to_text(wdr_hash(text + LINE_BYTES, len - LINE_BYTES), want);
	if (len <= LINE_BYTES || memcmp(text, header, HEADER_BYTES) != 0 ||
		memcmp(text + HEADER_BYTES, want, WDR_HASH_TEXT_LEN) != 0 ||
		text[LINE_BYTES - 1] != '\n')
		return wdr_error_set(
			error, WDR_ERROR_FORMAT, "%s is no checkpoint, or a damaged one", name);
	g_autoptr(GBytes) bytes = g_bytes_new(text + LINE_BYTES, len - LINE_BYTES);
	g_autoptr(GVariant) v = little_endian(g_variant_ref_sink(
		g_variant_new_from_bytes(G_VARIANT_TYPE(CHECKPOINT_TYPE), bytes, FALSE)));
	g_variant_get(v, CHECKPOINT_TYPE, &ret->list_bytes, &ret->entries, &ret->bytes, &ret->walk,
		&ret->builder);
	return true;
}

bool wdr_checkpoint_load(const char *path, WdrCheckpoint *ret, GError **error)
{
	g_autofree char *data = NULL;
	size_t len = 0;

	*ret = (WdrCheckpoint){ 0 };
	if (access(path, F_OK) != 0)
		return true;
	return wdr_record_read(path, FILE_BYTES_MAX, &data, &len, error) &&
	       wdr_checkpoint_parse(path, data, len, ret, error);
}
