/* Reads, shows and makes BOOT_ORDER numbers.
 *
 * Each hexadecimal digit is a medium, and they are tried from the right to the left. f begins anew,
 * so digits to the left of the first f are never used. People read the number from the left; so it
 * is always shown in words, too. */
#include "boot/board/bootorder.h"

#include <string.h>

enum { DIGIT_STOP = 0xe, DIGIT_AGAIN = 0xf };

static const struct {
	unsigned digit;
	const char *words;
	const char *media[2]; /* as in WdrDisk */
} meanings[] = {
	{ 0x0, "a wait for an SD card", { NULL } },
	{ 0x1, "SD or eMMC", { "SD card", "eMMC" } },
	{ 0x2, "the network", { NULL } },
	{ 0x3, "another machine by USB", { NULL } },
	{ 0x4, "USB", { "USB disk" } },
	{ 0x5, "USB on the USB-C controller", { "USB disk" } },
	{ 0x6, "NVMe", { "NVMe" } },
	{ 0x7, "HTTP", { NULL } },
	{ DIGIT_STOP, "stop", { NULL } },
	{ DIGIT_AGAIN, "repeat", { NULL } },
};

static size_t meaning_of(unsigned digit)
{
	size_t i = 0;

	while (i < G_N_ELEMENTS(meanings) && meanings[i].digit != digit)
		i++;
	return i;
}

bool wdr_boot_order_parse(const char *text, WdrBootOrder *ret, GError **error)
{
	const char *digits = g_ascii_strncasecmp(text, "0x", 2) == 0 ? text + 2 : text;
	size_t n = strlen(digits);

	*ret = (WdrBootOrder){ 0 };
	if (n == 0 || n > WDR_ORDER_DIGITS_MAX)
		return wdr_error_set(error, WDR_ERROR_FORMAT,
			"the boot order %s is no number of one to %d hexadecimal digits", text,
			WDR_ORDER_DIGITS_MAX);
	for (size_t i = 0; i < n; i++) {
		int value = g_ascii_xdigit_value(digits[n - 1 - i]);
		if (value < 0 || meaning_of((unsigned)value) == G_N_ELEMENTS(meanings))
			return wdr_error_set(error, WDR_ERROR_FORMAT,
				"the boot order %s has an unknown digit: '%c'", text,
				digits[n - 1 - i]);
		ret->digits[ret->n++] = (unsigned)value;
	}
	while (ret->reached < ret->n && ret->digits[ret->reached] < DIGIT_STOP)
		ret->reached++;
	ret->starts_over = ret->reached < ret->n && ret->digits[ret->reached] == DIGIT_AGAIN;
	return true;
}

char *wdr_boot_order_number(const WdrBootOrder *o)
{
	GString *text = g_string_new("0x");

	for (unsigned i = o->n; i-- > 0;)
		g_string_append_printf(text, "%x", o->digits[i]);
	return g_string_free(text, FALSE);
}

const char *wdr_boot_order_word(const WdrBootOrder *o, unsigned place)
{
	return meanings[meaning_of(o->digits[place])].words;
}

char *wdr_boot_order_words(const WdrBootOrder *o)
{
	GString *words = g_string_new(NULL);

	for (unsigned i = 0; i < o->reached; i++)
		g_string_append_printf(
			words, "%s%s", i ? ", then " : "", wdr_boot_order_word(o, i));
	g_string_append_printf(words, "%s%s", o->reached ? ", then " : "",
		meanings[meaning_of(o->starts_over ? DIGIT_AGAIN : DIGIT_STOP)].words);
	return g_string_free(words, FALSE);
}

static bool is_for(unsigned digit, const char *medium)
{
	size_t at = meaning_of(digit);

	for (size_t i = 0; i < G_N_ELEMENTS(meanings[at].media); i++) {
		if (g_strcmp0(meanings[at].media[i], medium) == 0)
			return true;
	}
	return false;
}

const char *wdr_boot_order_medium(const WdrBootOrder *o, unsigned place)
{
	const char *const *media = meanings[meaning_of(o->digits[place])].media;

	return media[1] ? NULL : media[0];
}

bool wdr_boot_order_tries(const WdrBootOrder *o, const char *medium, unsigned *ret_place)
{
	for (unsigned i = 0; medium && i < o->reached; i++) {
		*ret_place = i;
		if (is_for(o->digits[i], medium))
			return true;
	}
	return false;
}

char *wdr_boot_order_with_first(const WdrBootOrder *o, const char *medium)
{
	GString *digits = g_string_new(NULL);
	unsigned first = 0;

	while (first < DIGIT_STOP &&
		(meaning_of(first) == G_N_ELEMENTS(meanings) || !medium || !is_for(first, medium)))
		first++;
	if (first == DIGIT_STOP) {
		g_string_free(digits, TRUE);
		return NULL;
	}
	g_string_append_printf(digits, "%x", first);
	/* One place stays for the end. */
	for (unsigned i = 0; i < o->reached && digits->len < WDR_ORDER_DIGITS_MAX - 1; i++) {
		if (o->digits[i] != first)
			g_string_append_printf(digits, "%x", o->digits[i]);
	}
	/* A card is the way back when nothing else starts. */
	if (!strchr(digits->str, '1') && digits->len < WDR_ORDER_DIGITS_MAX - 1)
		g_string_append_c(digits, '1');
	g_string_append_c(digits, o->starts_over || o->reached == o->n ? 'f' : 'e');
	g_autofree char *text = g_strreverse(g_string_free(digits, FALSE));
	return g_strconcat("0x", text, NULL);
}
