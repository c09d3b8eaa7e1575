/* Builds the binary indexes that modprobe reads.
 *
 * A trie, written from its leaves up, with offsets from the start of the file, numbers in network
 * byte order. Format: libkmod/libkmod-index.c. No library has a writer for it; modprobe itself
 * judges ours in the tests. */
#include "boot/kernel/moduleindex.h"

#include "base/cursor.h"
#include "boot/kernel/modules.h"

#include <string.h>

enum { MAGIC = (int)0xb007f457, VERSION = 0x00020001, CHARACTERS = 128 };
static const uint32_t has_prefix = 0x80000000;
static const uint32_t has_values = 0x40000000;
static const uint32_t has_children = 0x20000000;

typedef struct {
	char *text;
	unsigned priority;
} Value;

/* The prefix is what all keys below have in common behind the character that led here. */
typedef struct Node {
	char *prefix;
	GArray *values; /* Value; NULL: none */
	struct Node *children[CHARACTERS];
	int first, last; /* of the children; last below first: there are none */
} Node;

struct WdrModuleIndex {
	Node *root;
};

static Node *node_new(const char *prefix)
{
	Node *n = g_new0(Node, 1);

	n->prefix = g_strdup(prefix);
	n->first = CHARACTERS;
	n->last = -1;
	return n;
}

static void node_free(Node *n)
{
	for (int c = n->first; c <= n->last; c++) {
		if (n->children[c])
			node_free(n->children[c]);
	}
	for (guint i = 0; n->values && i < n->values->len; i++)
		g_free(g_array_index(n->values, Value, i).text);
	if (n->values)
		g_array_unref(n->values);
	g_free(n->prefix);
	g_free(n);
}

WdrModuleIndex *wdr_module_index_new(void)
{
	WdrModuleIndex *i = g_new0(WdrModuleIndex, 1);

	i->root = node_new("");
	return i;
}

void wdr_module_index_free(WdrModuleIndex *i)
{
	if (!i)
		return;
	node_free(i->root);
	g_free(i);
}

static void set_child(Node *n, int c, Node *child)
{
	n->children[c] = child;
	n->first = MIN(n->first, c);
	n->last = MAX(n->last, c);
}

/* Behind `common` characters of the prefix the ways part: what was there moves one level down. */
static void split(Node *n, size_t common)
{
	Node *below = node_new(n->prefix + common + 1);
	int c = n->prefix[common];

	below->values = g_steal_pointer(&n->values);
	memcpy(below->children, n->children, sizeof(n->children));
	below->first = n->first;
	below->last = n->last;
	memset(n->children, 0, sizeof(n->children));
	n->first = CHARACTERS;
	n->last = -1;
	set_child(n, c, below);
	n->prefix[common] = '\0';
}

static void add_value(Node *n, const char *text, unsigned priority)
{
	Value v = { g_strdup(text), priority };
	guint at = 0;

	if (!n->values)
		n->values = g_array_new(FALSE, FALSE, sizeof(Value));
	while (at < n->values->len && g_array_index(n->values, Value, at).priority <= priority)
		at++;
	g_array_insert_val(n->values, at, v);
}

static bool can_hold(const char *text)
{
	for (; *text; text++) {
		if ((unsigned char)*text >= CHARACTERS)
			return false;
	}
	return true;
}

void wdr_module_index_add(WdrModuleIndex *i, const char *key, const char *value, unsigned priority)
{
	Node *n = i->root;

	if (!can_hold(key))
		return;
	for (;;) {
		size_t common = 0;
		while (n->prefix[common] && n->prefix[common] == key[common])
			common++;
		if (n->prefix[common])
			split(n, common);
		key += common;
		if (!*key)
			break;
		if (!n->children[(int)*key])
			set_child(n, *key, node_new(key + 1));
		n = n->children[(int)*key];
		key++;
	}
	add_value(n, value, priority);
}

/* ---- writing ---- */

static void put_be32(GByteArray *to, uint32_t value)
{
	uint8_t bytes[4];

	wdr_put_be32(bytes, value);
	g_byte_array_append(to, bytes, sizeof(bytes));
}

static void put_text(GByteArray *to, const char *text)
{
	g_byte_array_append(to, (const uint8_t *)text, (guint)strlen(text) + 1);
}

/* Children first, so that their offsets are known. Keys are short, and so is the way down. */
static uint32_t put_node(GByteArray *to, const Node *n)
{
	uint32_t offsets[CHARACTERS] = { 0 };

	for (int c = n->first; c <= n->last; c++) {
		if (n->children[c])
			offsets[c] = put_node(to, n->children[c]);
	}
	uint32_t at = to->len;
	if (*n->prefix) {
		put_text(to, n->prefix);
		at |= has_prefix;
	}
	if (n->last >= n->first) {
		uint8_t ends[2] = { (uint8_t)n->first, (uint8_t)n->last };
		g_byte_array_append(to, ends, sizeof(ends));
		for (int c = n->first; c <= n->last; c++)
			put_be32(to, offsets[c]);
		at |= has_children;
	}
	if (n->values) {
		put_be32(to, n->values->len);
		for (guint i = 0; i < n->values->len; i++) {
			const Value *v = &g_array_index(n->values, Value, i);
			put_be32(to, v->priority);
			put_text(to, v->text);
		}
		at |= has_values;
	}
	return at;
}

GBytes *wdr_module_index_bytes(const WdrModuleIndex *i)
{
	GByteArray *bytes = g_byte_array_new();

	put_be32(bytes, (uint32_t)MAGIC);
	put_be32(bytes, VERSION);
	put_be32(bytes, 0);
	uint32_t root = put_node(bytes, i->root);
	wdr_put_be32(bytes->data + 8, root);
	return g_byte_array_free_to_bytes(bytes);
}

/* ---- of the text indexes ---- */

GBytes *wdr_module_index_of_dep(const char *text)
{
	g_autoptr(WdrModuleIndex) index = wdr_module_index_new();
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (unsigned i = 0; lines[i]; i++) {
		const char *colon = strchr(lines[i], ':');
		if (!colon)
			continue;
		g_autofree char *file = g_strndup(lines[i], (size_t)(colon - lines[i]));
		g_autofree char *name = wdr_module_name(file);
		wdr_module_index_add(index, name, lines[i], i);
	}
	return wdr_module_index_bytes(index);
}

/* '-' and '_' are one but within brackets, where '-' is a range. */
static void normalise(char *pattern)
{
	bool is_range = false;

	for (char *c = pattern; *c; c++) {
		if (*c == '[' || *c == ']')
			is_range = *c == '[';
		else if (*c == '-' && !is_range)
			*c = '_';
	}
}

GBytes *wdr_module_index_of_alias(const char *text)
{
	g_autoptr(WdrModuleIndex) index = wdr_module_index_new();
	g_auto(GStrv) lines = g_strsplit(text, "\n", -1);

	for (unsigned i = 0; lines[i]; i++) {
		g_auto(GStrv) words = g_strsplit(lines[i], " ", 3);
		if (g_strv_length(words) < 3 || strcmp(words[0], "alias") != 0)
			continue;
		normalise(words[1]);
		wdr_module_index_add(index, words[1], g_strstrip(words[2]), i);
	}
	return wdr_module_index_bytes(index);
}
