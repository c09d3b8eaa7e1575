/* The next command, as it can be pasted into a shell: "sudo wanderitas drivers --for nvme0n1
 * --write". All advice with commands is built here, so that it begins as this call did, and names
 * are quoted where a shell needs it. */
#pragma once

#include <glib.h>
#include <stdbool.h>

/* How this call of the program began; borrowed for the rest of the program's life. To be set once,
 * before advice is given; without it advice begins with "wanderitas". bench: NULL for this machine.
 */
typedef struct {
	const char *program;
	const char *bench;
	bool lacks_root;          /* commands that work on this machine need sudo */
	const char *const *words; /* behind the program, as they were typed; NULL: unknown */
} WdrCall;
void wdr_command_begin_with(const WdrCall *call);
void wdr_command_use_bench(const char *bench);
const char *wdr_command_program(void); /* as it was called */

/* Words of a command line, the command's name first. Empty ones are left out. The caller's. */
#define wdr_command(...) wdr_command_of((const char *const[]){ __VA_ARGS__, NULL })
char *wdr_command_of(const char *const *words);
/* This call once more, with these words behind it. The caller's. */
#define wdr_command_again(...) wdr_command_again_with((const char *const[]){ __VA_ARGS__, NULL })
char *wdr_command_again_with(const char *const *more);
/* This call once more, without this word. The caller's. */
char *wdr_command_again_without(const char *word);
/* This call once more, with another word in the place of this one. The caller's. */
char *wdr_command_instead(const char *word, const char *other);
/* A program of the system that needs root, such as umount. The caller's. */
#define wdr_system_command(...) wdr_system_command_of((const char *const[]){ __VA_ARGS__, NULL })
char *wdr_system_command_of(const char *const *words);
/* This call once more, by root: for what failed for want of rights. The caller's. */
char *wdr_command_by_root(void);
/* Where such a command begins in a text that ends with it; NULL: the text has none. */
const char *wdr_command_in(const char *text);
/* A word as a shell takes it. The caller's. */
char *wdr_shell_word(const char *word);
