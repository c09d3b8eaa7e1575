/* What all suites share: a folder of its own for each test, running programs, oracles, and volumes
 * to build. */
#pragma once

#include "disk/blockdev.h"
#include "volume/ext/ext.h"
#include "volume/fat/fat.h"
#include "volume/memory.h"
#include "world/world.h"

#include <check.h>

/* Checked fixture: makes and removes the folder. */
void sup_setup(void);
void sup_teardown(void);
/* A path in the test's folder; lives as long as the test. */
const char *sup_path(const char *name);
const char *sup_folder(void);
WdrWorld *sup_world(void); /* of this machine, silent */

typedef struct {
	int code;
	char *out, *err;
} SupRun;
/* Runs argv (NULL-ended) with the text as standard input. */
SupRun sup_run(const char *input, const char *const *argv);
#define SUP_RUN(...) sup_run("", (const char *const[]){ __VA_ARGS__, NULL })
/* The program under test. */
const char *sup_program(void);

/* Fails the test unless the program ends with 0; returns what it printed. */
char *sup_tool(const char *const *argv);
#define SUP_TOOL(...) sup_tool((const char *const[]){ __VA_ARGS__, NULL })
bool sup_is_root(void);
/* Says on stdout that a test needs root; to be followed by return. */
void sup_say_skipped(const char *test);

void sup_write(const char *path, const char *text);
char *sup_read(const char *path, size_t *ret_len);
void sup_make_image(const char *path, uint64_t size);
/* Overwrites bytes of a file. */
void sup_poke(const char *path, uint64_t offset, const void *data, size_t len);
void sup_peek(const char *path, uint64_t offset, void *data, size_t len);
/* Of a file's size and contents, to see that nothing changed them; holes are zeros like others. */
char *sup_hash(const char *path);

/* Fails the test, with the error's text, unless the call gave true. */
#define sup_ok(call)                                                                               \
	do {                                                                                       \
		GError *error = NULL;                                                              \
		bool is_ok = (call);                                                               \
		ck_assert_msg(is_ok, "%s: %s", #call, error ? error->message : "no error");        \
	} while (0)
/* Fails the test unless the call fails with this code and a message that holds the text. */
#define sup_fails(code_, text, call)                                                               \
	do {                                                                                       \
		g_autoptr(GError) error = NULL;                                                    \
		bool is_ok = (call);                                                               \
		ck_assert_msg(!is_ok, "%s succeeded", #call);                                      \
		ck_assert_msg(error != NULL, "%s failed without an error", #call);                 \
		ck_assert_msg(                                                                     \
			g_error_matches(error, WDR_ERROR, (int)(code_)), "%s", error->message);    \
		ck_assert_msg(strstr(error->message, text), "%s", error->message);                 \
	} while (0)

/* For a call on damaged data, which may succeed or refuse: a refusal says why, in words of ours and
 * as a fault of the data, and is counted. */
#define sup_either(refused, call)                                                                  \
	do {                                                                                       \
		g_autoptr(GError) error = NULL;                                                    \
		bool is_ok = (call);                                                               \
		ck_assert_msg(is_ok == (error == NULL), "%s", #call);                              \
		if (!is_ok) {                                                                      \
			ck_assert_msg(sup_blames_data(error), "%s: %s", #call, error->message);    \
			(refused)++;                                                               \
		}                                                                                  \
	} while (0)
bool sup_blames_data(const GError *error);

/* ---- volumes ---- */

/* A made-up tree: the same for the same seed. */
typedef struct {
	uint64_t seed;
	unsigned entries;
	bool is_fat;          /* only what FAT can hold */
	bool has_projects;    /* project ids, which not all volumes hold */
	bool has_small_files; /* no large ones, so that there can be many */
	bool has_old_inodes;  /* only what inodes of 128 bytes can hold */
} SupTree;
WdrVolume *sup_tree(const SupTree *t);
WdrEntry sup_entry(WdrKind kind, uint32_t mode);

/* Fills a fresh image with the volume and lets e2fsck or fsck.fat judge it; reads it back through
 * our own reader against the packing list besides. */
void sup_build_ext(
	WdrVolume *from, const char *image, uint64_t offset, uint64_t size, const WdrExtSpec *spec);
void sup_build_fat(
	WdrVolume *from, const char *image, uint64_t offset, uint64_t size, const WdrFatSpec *spec);
/* The volume is, entry by entry, what a packing list says. */
void sup_compare(WdrVolume *built, const char *list);
void sup_judge_ext(const char *image, uint64_t offset);
void sup_judge_fat(const char *image);
WdrExtSpec sup_ext_spec(const char *features, uint32_t block_size, uint32_t inode_size);
