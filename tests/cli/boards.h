/* The three sample boards, and looking into their disks with programs that are not ours. */
#pragma once

#include "bench.h"

typedef struct {
	const char *name, *bench; /* its folder below the bench's */
	const char *card, *drive;
	unsigned root, boot; /* partitions; boot: where the boot files are */
	bool is_boot_fat, is_gpt;
	const char *boot_file; /* the file that decides what root is */
	const char *root_key;  /* before the identifier in it */
	const char *old_root;  /* UUID */
} Board;
extern const Board boards[];
enum { BOARDS = 3 };
/* dipper-brook-4, whose initramfs has no driver for its drive. */
extern const Board board_brook;

const char *board_path(const Board *b, const char *path);
const char *board_disk(const Board *b, bool is_drive);
/* wanderitas --bench BOARD arguments... */
SupRun board_run(const Board *b, const char *const *arguments);
/* The same on a failing medium, see bench_run_with_faults(). */
SupRun board_run_with_faults(const Board *b, const char *faults, const char *const *arguments);
#define BOARD_WITH_FAULTS(b, faults, ...)                                                          \
	board_run_with_faults(b, faults, (const char *const[]){ __VA_ARGS__, NULL })
#define BOARD_RUN(b, ...) board_run(b, (const char *const[]){ __VA_ARGS__, NULL })

/* Commands of bash in the board's bench, with $I its card, $V1 and $V2 the card's partitions as
 * debugfs takes them. `shorthands` come before them; "": none. */
void board_shell(const Board *b, const char *shorthands, const char *commands);

/* Runs the command that the output gives behind a text, word for word, and the one that a preview
 * ends in, too. Neither may fail; what it printed comes back. */
SupRun board_follow(const SupRun *run, const char *finding);

/* Shorthands that make up a board and its firmware: is COMPATIBLE…, built HEX HEX HEX HEX, says
 * QUESTION:ANSWER…, environment SETTING… (U-Boot's, one copy in flash), copies FLAG FLAG (two). */
extern const char board_firmware[];

/* As sfdisk tells it. */
uint64_t board_start(const char *image, unsigned number);
/* A file of a partition, through mtools or debugfs. */
char *board_file(const char *image, unsigned number, bool is_fat, const char *file);
/* What debugfs says to a request. */
char *board_debugfs(const char *image, unsigned number, bool writes, const char *request);
void board_put(const char *image, unsigned number, bool is_fat, const char *file, const char *text);
/* "UUID" or "LABEL", as blkid tells it; "PARTUUID" or "PARTLABEL", as sfdisk does. */
char *board_identifier(const char *image, unsigned number, const char *tag);
/* sfdisk, e2fsck and fsck.fat over all of it. */
void board_judge(const char *image);
/* What stands behind a word, up to the next blank. */
char *board_word(const char *text, const char *before);

/* A call of the command loader on a board that was changed by commands; the card stays as it is. */
typedef struct {
	const char *command;
	const char *options[5];
	int code;
	const char *text;
} LoaderCase;
void loader_case(const Board *b, const char *shorthands, const LoaderCase *c);
