/* Names and times of FAT entries. */
#include "volume/fat/fat_priv.h"

#include <stdio.h>
#include <string.h>

enum { BASE_BYTES = 8, EXTENSION_BYTES = 3, NUMBER_MAX = 999999 };

/* Code page 437, upper half: what the kernel takes short names for unless told otherwise. */
static const uint16_t cp437[128] = { 0xc7, 0xfc, 0xe9, 0xe2, 0xe4, 0xe0, 0xe5, 0xe7, 0xea, 0xeb,
	0xe8, 0xef, 0xee, 0xec, 0xc4, 0xc5, 0xc9, 0xe6, 0xc6, 0xf4, 0xf6, 0xf2, 0xfb, 0xf9, 0xff,
	0xd6, 0xdc, 0xa2, 0xa3, 0xa5, 0x20a7, 0x192, 0xe1, 0xed, 0xf3, 0xfa, 0xf1, 0xd1, 0xaa, 0xba,
	0xbf, 0x2310, 0xac, 0xbd, 0xbc, 0xa1, 0xab, 0xbb, 0x2591, 0x2592, 0x2593, 0x2502, 0x2524,
	0x2561, 0x2562, 0x2556, 0x2555, 0x2563, 0x2551, 0x2557, 0x255d, 0x255c, 0x255b, 0x2510,
	0x2514, 0x2534, 0x252c, 0x251c, 0x2500, 0x253c, 0x255e, 0x255f, 0x255a, 0x2554, 0x2569,
	0x2566, 0x2560, 0x2550, 0x256c, 0x2567, 0x2568, 0x2564, 0x2565, 0x2559, 0x2558, 0x2552,
	0x2553, 0x256b, 0x256a, 0x2518, 0x250c, 0x2588, 0x2584, 0x258c, 0x2590, 0x2580, 0x3b1, 0xdf,
	0x393, 0x3c0, 0x3a3, 0x3c3, 0xb5, 0x3c4, 0x3a6, 0x398, 0x3a9, 0x3b4, 0x221e, 0x3c6, 0x3b5,
	0x2229, 0x2261, 0xb1, 0x2265, 0x2264, 0x2320, 0x2321, 0xf7, 0x2248, 0xb0, 0x2219, 0xb7,
	0x221a, 0x207f, 0xb2, 0x25a0, 0xa0 };

const uint8_t wdr_fat_long_at[FAT_LONG_UNITS] = { 1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30 };

static bool is_short_char(unsigned char c)
{
	return g_ascii_isupper(c) || g_ascii_isdigit(c) || (c && strchr("!#$%&'()-@^_`{}~", c));
}

uint8_t wdr_fat_name_sum(const uint8_t short_name[FAT_SHORT_BYTES])
{
	unsigned sum = 0;

	for (size_t i = 0; i < FAT_SHORT_BYTES; i++)
		sum = (((sum & 1) << 7) + (sum >> 1) + short_name[i]) & 0xff;
	return (uint8_t)sum;
}

static bool append_part(GString *out, const uint8_t *part, size_t len, bool is_lower)
{
	while (len > 0 && part[len - 1] == ' ')
		len--;
	for (size_t i = 0; i < len; i++) {
		uint8_t c = part[i];
		if (c < ' ' || c == 0x7f || c == '/' || c == '\\' || c == '.')
			return false;
		gunichar u = c < 0x80 ? c : cp437[c - 0x80];
		g_string_append_unichar(out, is_lower ? g_unichar_tolower(u) : u);
	}
	return true;
}

char *wdr_fat_short_to_text(const uint8_t fat_name[WDR_FAT_NAME_BYTES])
{
	g_autoptr(GString) out = g_string_new(NULL);
	uint8_t base[BASE_BYTES];
	uint8_t flags = fat_name[FAT_SHORT_BYTES];

	memcpy(base, fat_name, BASE_BYTES);
	/* 0xe5 marks a deleted entry; a name that really starts with it is written with 0x05. */
	if (base[0] == 0x05)
		base[0] = 0xe5;
	if (base[0] == ' ' || !append_part(out, base, BASE_BYTES, flags & FAT_CASE_BASE))
		return NULL;
	if (fat_name[BASE_BYTES] == ' ')
		return g_string_free(g_steal_pointer(&out), FALSE);
	g_string_append_c(out, '.');
	if (!append_part(out, fat_name + BASE_BYTES, EXTENSION_BYTES, flags & FAT_CASE_EXTENSION))
		return NULL;
	return g_string_free(g_steal_pointer(&out), FALSE);
}

bool wdr_fat_text_to_short(const char *name, uint8_t ret[WDR_FAT_NAME_BYTES])
{
	const char *point = strchr(name, '.');
	size_t base = point ? (size_t)(point - name) : strlen(name);
	size_t extension = point ? strlen(point + 1) : 0;

	if (base == 0 || base > BASE_BYTES || extension > EXTENSION_BYTES ||
		(point && extension == 0))
		return false;
	for (const char *c = name; *c; c++) {
		if (c != point && !is_short_char((unsigned char)*c))
			return false;
	}
	memset(ret, ' ', FAT_SHORT_BYTES);
	memcpy(ret, name, base);
	if (point)
		memcpy(ret + BASE_BYTES, point + 1, extension);
	ret[FAT_SHORT_BYTES] = 0;
	return true;
}

static guint name_hash(const void *key)
{
	const uint8_t *name = key;
	guint hash = 5381;

	for (size_t i = 0; i < FAT_SHORT_BYTES; i++)
		hash = hash * 33 + name[i];
	return hash;
}

static gboolean name_equal(const void *a, const void *b)
{
	return memcmp(a, b, FAT_SHORT_BYTES) == 0;
}

GHashTable *wdr_fat_taken_new(void)
{
	return g_hash_table_new_full(name_hash, name_equal, g_free, NULL);
}

bool wdr_fat_taken_add(GHashTable *taken, const uint8_t name[FAT_SHORT_BYTES])
{
	return g_hash_table_add(taken, g_memdup2(name, FAT_SHORT_BYTES));
}

/* Up to `room` characters of [from, to), made fit for a short name. */
static size_t squeeze(const char *from, const char *to, uint8_t *ret, size_t room)
{
	size_t len = 0;

	for (const char *p = from; p < to && len < room; p = g_utf8_next_char(p)) {
		unsigned char c = (unsigned char)g_ascii_toupper(*p);
		if (*p == ' ' || *p == '.')
			continue;
		ret[len++] = is_short_char(c) ? c : '_';
	}
	return len;
}

bool wdr_fat_make_short(GHashTable *taken, GHashTable *last_number, const char *name,
	uint8_t ret[WDR_FAT_NAME_BYTES], GError **error)
{
	g_autofree char *capitals = g_ascii_strup(name, -1);

	/* config.txt is CONFIG.TXT, not CONFIG~1.TXT: simple loaders look for that. */
	if (wdr_fat_text_to_short(capitals, ret) && wdr_fat_taken_add(taken, ret))
		return true;
	const char *start = name + strspn(name, ". ");
	const char *point = strrchr(start, '.');
	const char *end = start + strlen(start);
	uint8_t base[BASE_BYTES];
	size_t len = squeeze(start, point ? point : end, base, BASE_BYTES - 2);

	memset(ret, ' ', FAT_SHORT_BYTES);
	ret[FAT_SHORT_BYTES] = 0;
	if (point)
		squeeze(point + 1, end, ret + BASE_BYTES, EXTENSION_BYTES);
	if (len == 0)
		base[len++] = '_';
	memcpy(ret, base, len);
	/* Where the last search for this stem ended, or a folder of n such names takes n * n steps.
	 */
	g_autofree uint8_t *stem = g_memdup2(ret, FAT_SHORT_BYTES);
	unsigned number = GPOINTER_TO_UINT(g_hash_table_lookup(last_number, stem));
	while (++number <= NUMBER_MAX) {
		char tail[BASE_BYTES];
		size_t tail_len = (size_t)snprintf(tail, sizeof(tail), "~%u", number);
		size_t keep = MIN(len, BASE_BYTES - tail_len);
		memset(ret, ' ', BASE_BYTES);
		memcpy(ret, base, keep);
		memcpy(ret + keep, tail, tail_len);
		if (!wdr_fat_taken_add(taken, ret))
			continue;
		g_hash_table_insert(last_number, g_steal_pointer(&stem), GUINT_TO_POINTER(number));
		return true;
	}
	return wdr_error_set(
		error, WDR_ERROR_UNSUPPORTED, "no short name is left for '%s' in its folder", name);
}

bool wdr_fat_text_to_units(const char *name, uint16_t **ret, size_t *ret_len, GError **error)
{
	size_t len = strlen(name);
	glong units = 0;

	if (!g_utf8_validate(name, -1, NULL))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"FAT cannot hold the name '%s': not UTF-8", name);
	for (size_t i = 0; i < len; i++) {
		if ((unsigned char)name[i] < ' ' || strchr("\"*/:<>?\\|", name[i]))
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"FAT cannot hold the name '%s': a character is not allowed there",
				name);
	}
	if (name[len - 1] == '.' || name[len - 1] == ' ')
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"FAT cannot hold the name '%s': it ends in a point or blank", name);
	g_autofree uint16_t *out = g_utf8_to_utf16(name, -1, NULL, &units, NULL);
	if (!out || units > FAT_NAME_UNITS_MAX)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"FAT cannot hold a name this long: '%s'", name);
	*ret = g_steal_pointer(&out);
	*ret_len = (size_t)units;
	return true;
}

/* Dates are of 1980 to 2107, so they are computed by GLib: time_t ends in 2038 on some processors.
 */
int64_t wdr_fat_decode_time(uint16_t date, uint16_t time)
{
	if (date == 0)
		return 0;
	g_autoptr(GDateTime) first =
		g_date_time_new_utc(1980 + (date >> 9), CLAMP((date >> 5 & 15), 1, 12), 1,
			MIN(time >> 11, 23), MIN(time >> 5 & 63, 59), MIN((time & 31) * 2, 58));
	/* 30 February is a day that some write: it is 1 or 2 March. */
	return g_date_time_to_unix(first) + (int64_t)(MAX(date & 31, 1) - 1) * 24 * 3600;
}

void wdr_fat_encode_time(int64_t seconds, uint16_t *date, uint16_t *time)
{
	g_autoptr(GDateTime) t = g_date_time_new_from_unix_utc(seconds);

	*date = *time = 0;
	if (!t || g_date_time_get_year(t) < 1980)
		return;
	int year = MIN(g_date_time_get_year(t), 1980 + 127);
	*date = (uint16_t)((year - 1980) << 9 | g_date_time_get_month(t) << 5 |
			   g_date_time_get_day_of_month(t));
	*time = (uint16_t)(g_date_time_get_hour(t) << 11 | g_date_time_get_minute(t) << 5 |
			   g_date_time_get_second(t) / 2);
}
