/* What a mistyped word was probably meant to be: few letters differ from it. */
#include "base/closest.h"

#include <glib.h>
#include <stdbool.h>
#include <string.h>

enum { WORD_MAX = 63 };

/* Letters to insert, remove or replace, or neighbours to swap, to get from one to the other
 * (optimal string alignment). Words that are too long are not compared. */
static size_t distance(const char *a, const char *b)
{
	size_t rows[WORD_MAX + 1][WORD_MAX + 1];
	size_t n = strlen(a);
	size_t m = strlen(b);

	if (n > WORD_MAX || m > WORD_MAX)
		return WORD_MAX;
	for (size_t i = 0; i <= n; i++) {
		for (size_t j = 0; j <= m; j++) {
			if (i == 0 || j == 0) {
				rows[i][j] = i + j;
				continue;
			}
			size_t replaced = rows[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1);
			rows[i][j] = MIN(replaced, MIN(rows[i - 1][j], rows[i][j - 1]) + 1);
			bool is_swap =
				i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
			if (is_swap)
				rows[i][j] = MIN(rows[i][j], rows[i - 2][j - 2] + 1);
		}
	}
	return rows[n][m];
}

const char *wdr_closest(const char *word, const char *const *names)
{
	const char *found = NULL;
	size_t best = strlen(word) < 4 ? 2 : strlen(word) / 3 + 1;

	for (size_t i = 0; names[i]; i++) {
		size_t is = distance(word, names[i]);
		if (is < best) {
			best = is;
			found = names[i];
		}
	}
	return found;
}
