/* xattrs as ext volumes hold them. Format: Documentation/filesystems/ext4/attributes.rst and, for
 * ACLs, fs/ext4/acl.h of the kernel.
 *
 *   in the inode:  magic(4) entries... 0(4)   ...free...   values     offsets count from the
 * entries in a block:    header(32) entries... 0(4) ...free...   values     offsets count from the
 * block entry:         name_len(1) name_index(1) value_offset(2) value_inode(4) value_size(4)
 * hash(4) name
 */
#include "volume/ext/ext_priv.h"

#include "base/cursor.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>

enum {
	ENTRY_BYTES = 16,
	BLOCK_HEADER_BYTES = 32,
	PAD = 4,
	ACL_V1 = 1,
	ACL_V2 = 2,
	ACL_USER = 0x02,
	ACL_GROUP = 0x08,
};

static const struct {
	const char *prefix;
	uint8_t index;
	bool is_whole; /* the index says the whole name */
} prefixes[] = {
	{ "user.", 1, false },
	{ "system.posix_acl_access", 2, true },
	{ "system.posix_acl_default", 3, true },
	{ "trusted.", 4, false },
	{ "security.", 6, false },
	{ "system.", 7, false },
};

static bool is_acl(const char *name)
{
	return strcmp(name, "system.posix_acl_access") == 0 ||
	       strcmp(name, "system.posix_acl_default") == 0;
}

static bool has_id(uint16_t tag)
{
	return tag == ACL_USER || tag == ACL_GROUP;
}

static bool bad_acl(GError **error)
{
	return wdr_error_set(error, WDR_ERROR_FORMAT, "an ACL is damaged");
}

/* Version 1 leaves the id out of entries that need none; version 2 always has it. */
static bool acl_v1_to_v2(const uint8_t *in, size_t len, GByteArray *out, GError **error)
{
	WdrCursor c = wdr_cursor(in, len);
	uint8_t entry[8];

	if (wdr_cursor_le32(&c) != ACL_V1)
		return bad_acl(error);
	wdr_put_le32(entry, ACL_V2);
	g_byte_array_append(out, entry, 4);
	while (wdr_cursor_left(&c) > 0) {
		uint16_t tag = wdr_cursor_le16(&c);
		wdr_put_le16(entry, tag);
		wdr_put_le16(entry + 2, wdr_cursor_le16(&c));
		wdr_put_le32(entry + 4, has_id(tag) ? wdr_cursor_le32(&c) : G_MAXUINT32);
		if (wdr_cursor_overrun(&c))
			return bad_acl(error);
		g_byte_array_append(out, entry, 8);
	}
	return true;
}

static bool acl_v2_to_v1(const uint8_t *in, size_t len, GByteArray *out, GError **error)
{
	WdrCursor c = wdr_cursor(in, len);
	uint8_t entry[8];

	if (wdr_cursor_le32(&c) != ACL_V2)
		return bad_acl(error);
	wdr_put_le32(entry, ACL_V1);
	g_byte_array_append(out, entry, 4);
	while (wdr_cursor_left(&c) > 0) {
		uint16_t tag = wdr_cursor_le16(&c);
		wdr_put_le16(entry, tag);
		wdr_put_le16(entry + 2, wdr_cursor_le16(&c));
		wdr_put_le32(entry + 4, wdr_cursor_le32(&c));
		if (wdr_cursor_overrun(&c))
			return bad_acl(error);
		g_byte_array_append(out, entry, has_id(tag) ? 8 : 4);
	}
	return true;
}

bool wdr_ext_xattr_decode(
	const char *name, const void *value, size_t len, WdrEntry *ret, GError **error)
{
	g_autoptr(GByteArray) acl = g_byte_array_new();

	if (!is_acl(name)) {
		wdr_entry_add_xattr(ret, name, value, len);
		return true;
	}
	if (!acl_v1_to_v2(value, len, acl, error))
		return false;
	wdr_entry_add_xattr(ret, name, acl->data, acl->len);
	return true;
}

/* One xattr made ready for the medium. */
typedef struct {
	const char *name; /* without the prefix that the index means */
	uint8_t name_len, index;
	GByteArray *value;
	size_t room; /* entry and value, padded */
} Ready;

static void ready_clear(void *data)
{
	g_byte_array_unref(((Ready *)data)->value);
}

static bool make_ready(const WdrXattr *x, Ready *ret, GError **error)
{
	for (size_t i = 0; i < G_N_ELEMENTS(prefixes); i++) {
		size_t len = strlen(prefixes[i].prefix);
		if (prefixes[i].is_whole ? strcmp(x->name, prefixes[i].prefix) != 0
					 : strncmp(x->name, prefixes[i].prefix, len) != 0)
			continue;
		if (strlen(x->name) - len > 255)
			break;
		ret->name = x->name + len;
		ret->name_len = (uint8_t)strlen(ret->name);
		ret->index = prefixes[i].index;
		ret->value = g_byte_array_new();
		if (!is_acl(x->name))
			g_byte_array_append(ret->value, x->value, (guint)x->len);
		else if (!acl_v2_to_v1(x->value, x->len, ret->value, error)) {
			g_byte_array_unref(ret->value);
			return false;
		}
		ret->room = (size_t)wdr_round_up(ENTRY_BYTES + (uint64_t)ret->name_len, PAD) +
			    (size_t)wdr_round_up(ret->value->len, PAD);
		return true;
	}
	return wdr_error_set(
		error, WDR_ERROR_UNSUPPORTED, "ext cannot hold an xattr named %s", x->name);
}

/* The kernel looks names up in a block by halving: index, then length, then bytes. */
static int in_block_order(const void *a, const void *b)
{
	const Ready *x = a;
	const Ready *y = b;

	if (x->index != y->index)
		return x->index - y->index;
	if (x->name_len != y->name_len)
		return x->name_len - y->name_len;
	return memcmp(x->name, y->name, x->name_len);
}

typedef struct {
	uint8_t *base;    /* what value offsets count from */
	size_t next;      /* where the next entry goes, from base */
	size_t value_end; /* where the value before the last one starts, from base */
	bool is_hashed;
} Room;

static void place(Room *r, const Ready *x)
{
	uint8_t *at = r->base + r->next;
	size_t padded = (size_t)wdr_round_up(x->value->len, PAD);

	r->value_end -= padded;
	memset(r->base + r->value_end, 0, padded);
	if (x->value->len)
		memcpy(r->base + r->value_end, x->value->data, x->value->len);
	memset(at, 0, ENTRY_BYTES);
	at[0] = x->name_len;
	at[1] = x->index;
	wdr_put_le16(at + 2, (uint16_t)(x->value->len ? r->value_end : 0));
	wdr_put_le32(at + 8, x->value->len);
	memcpy(at + ENTRY_BYTES, x->name, x->name_len);
	if (r->is_hashed)
		wdr_put_le32(at + 12,
			ext2fs_ext_attr_hash_entry(
				(struct ext2_ext_attr_entry *)(void *)at, r->base + r->value_end));
	r->next += (size_t)wdr_round_up(ENTRY_BYTES + (uint64_t)x->name_len, PAD);
}

static bool fits(const Room *r, const Ready *x)
{
	return r->next + x->room + 4 <= r->value_end;
}

static bool fill_block(GArray *rest, uint8_t *block, size_t block_size, GError **error)
{
	Room room = { block, BLOCK_HEADER_BYTES, block_size, true };

	memset(block, 0, block_size);
	qsort(rest->data, rest->len, sizeof(Ready), in_block_order);
	for (guint i = 0; i < rest->len; i++) {
		const Ready *x = &g_array_index(rest, Ready, i);
		if (!fits(&room, x))
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"its xattrs are larger than a block (%zu bytes)", block_size);
		place(&room, x);
	}
	struct ext2_ext_attr_header *header = (void *)block;
	header->h_magic = EXT2_EXT_ATTR_MAGIC;
	header->h_refcount = 1;
	header->h_blocks = 1;
	ext2fs_ext_attr_block_rehash(
		header, (struct ext2_ext_attr_entry *)(void *)(block + room.next));
	return true;
}

bool wdr_ext_xattrs_encode(const WdrEntry *entry, WdrExtXattrRoom *r, GError **error)
{
	size_t room = r->inode_len < 2 * PAD + ENTRY_BYTES ? 0 : r->inode_len;
	g_autoptr(GArray) rest = g_array_new(FALSE, FALSE, sizeof(Ready));
	g_autoptr(GArray) all = g_array_new(FALSE, FALSE, sizeof(Ready));

	g_array_set_clear_func(all, ready_clear);
	Room inside = { room ? r->inode + PAD : NULL, 0, room ? (room - PAD) & ~(size_t)3 : 0,
		false };
	for (size_t i = 0; i < entry->n_xattrs; i++) {
		Ready x;
		if (!make_ready(&entry->xattrs[i], &x, error))
			return false;
		g_array_append_val(all, x);
		if (room && fits(&inside, &x))
			place(&inside, &x);
		else
			g_array_append_val(rest, x);
	}
	if (inside.next > 0)
		wdr_put_le32(r->inode, EXT2_EXT_ATTR_MAGIC);
	r->uses_block = rest->len > 0;
	return rest->len == 0 || fill_block(rest, r->block, r->block_len, error);
}
