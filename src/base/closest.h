/* What a mistyped word was probably meant to be. */
#pragma once

/* The name that the word is closest to; NULL: none is close. Borrowed from names (NULL-ended). */
const char *wdr_closest(const char *word, const char *const *names);
