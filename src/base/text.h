/* Sizes and foreign text as people read them. Returned strings belong to the caller. */
#pragma once

#include "base/error.h"

#include <stdint.h>

#define WDR_KIB UINT64_C(1024)
#define WDR_MIB (1024 * WDR_KIB)
#define WDR_GIB (1024 * WDR_MIB)

/* With a line end in place of a blank wherever a line would be longer than `width` characters;
 * words that are longer are broken. The caller's. */
char *wdr_wrap_words(const char *text, size_t width);

/* "29.7 GiB", "512 B": at most four digits, binary units. */
char *wdr_format_size(uint64_t bytes);
/* "4,217". */
char *wdr_format_count(uint64_t count);
/* "1 h 5 min", "12 min 7 s", "8 s". */
char *wdr_format_duration(uint64_t seconds);
/* Seconds since a moment of g_get_monotonic_time(). */
double wdr_seconds_since(int64_t moment);
/* For sorting pointers to texts, by bytes. */
int wdr_by_text(const void *a, const void *b);

/* "2026-11-23 08:15:00Z". */
char *wdr_format_time(int64_t seconds);
/* "2026-11-23". */
char *wdr_format_day(int64_t seconds);

/* "512", "512M", "4GiB", "1.5G" (units are binary), or "10%" of `whole`. WDR_ERROR_USAGE on
 * failure. */
bool wdr_parse_size(
	const char *text, uint64_t whole, uint64_t *ret, GError **error) G_GNUC_WARN_UNUSED_RESULT;

/* Text from a disk made fit for a terminal and a table: control characters, invalid UTF-8 and
 * backslashes become \xHH. */
char *wdr_escape(const char *text);
/* And back: NULL when it is nothing that wdr_escape() makes. */
char *wdr_unescape(const char *text);
/* The same, tabs kept: a line of a file. `len` in bytes. */
char *wdr_escape_line(const char *text, size_t len);

/* Rounds up or down to a multiple of `unit` (> 0); up saturates at the last multiple. */
uint64_t wdr_round_up(uint64_t value, uint64_t unit);
uint64_t wdr_round_down(uint64_t value, uint64_t unit);
