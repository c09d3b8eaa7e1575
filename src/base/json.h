/* What readers and writers of JSON share. */
#pragma once

#include "base/cleanup.h"

#include <stdio.h>

/* Text from disks is not always UTF-8, JSON is: escaped where it must be, for people. NULL gives
 * null. */
json_t *wdr_json_text(const char *text);
/* A list of char *. */
json_t *wdr_json_texts(const GPtrArray *texts);
/* The same as wdr_json_text() for what is read back to the byte: what is no UTF-8 becomes
 * {"escaped": "v\\xf6gel"}, as wdr_escape() writes it. */
json_t *wdr_json_bytes(const char *text);
/* And back, from an object's key. NULL: there is null, something else, or no such key. The
 * caller's. */
char *wdr_json_optional(const json_t *object, const char *key);
/* What the library found wrong, in our words: "line 3, column 7: this is not JSON" of json_loadb(),
 * "made_by is missing" of json_unpack_ex(). The caller's. */
char *wdr_json_load_problem(const json_error_t *e);
char *wdr_json_unpack_problem(const json_error_t *e);
/* Puts the escaped form in the place of every such object, deep down: for people. */
void wdr_json_show(json_t *document);
/* As a document of its own, indented, with a line end. */
void wdr_json_print(const json_t *document, FILE *file);
