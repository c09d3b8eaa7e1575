/* Mentions: the places in a file that hold an identifier, with exact columns, so that correcting
 * one is a splice and every other byte stays as it is. One reader a format. */
#pragma once

#include "boot/formats/identifier.h"
#include "boot/formats/lines.h"

typedef enum {
	WDR_USE_ROOT,
	WDR_USE_BOOT,
	WDR_USE_SWAP,
	WDR_USE_RESUME,
	WDR_USE_OTHER,
} WdrUse;

/* How an identifier can be written at a place. */
typedef enum {
	WDR_WRITE_WORD,    /* a blank would end it */
	WDR_WRITE_QUOTED,  /* between quotes: blanks are allowed, quotes are not */
	WDR_WRITE_ESCAPED, /* blanks as \040 */
	WDR_WRITE_LINE,    /* up to the end of the line */
} WdrWriting;

typedef struct WdrFormat WdrFormat;

typedef struct {
	unsigned number;       /* of the partition whose volume holds the file */
	char *file;            /* path on that volume */
	unsigned line, column; /* from 1; the column counts bytes */
	size_t offset, len;    /* of the identifier's text in the file */
	char *text;            /* as it is written there */
	WdrIdentifier identifier;
	WdrUse use;
	char *what; /* "root=", a mount point, a setting's name */
	WdrWriting writing;
	bool needs_path;    /* what reads it knows device paths only, not UUID= and the like */
	char *entry;        /* of a menu: the label it belongs to; NULL: none */
	bool is_kernel;     /* handed to the kernel: what it can resolve by itself matters */
	bool has_initramfs; /* is_kernel: an initramfs is loaded along with it */
	bool is_default;    /* is_kernel: it is what starts unless somebody chooses otherwise */
	const WdrFormat *format; /* of the file; NULL: none that we know */
	const char *frozen; /* why it is reported only and never changed (static); NULL: it is */
} WdrMention;

/* As `frozen`: the line was taken out by somebody, and nothing reads it. */
#define WDR_FROZEN_COMMENT "commented out"

/* GPtrArray of WdrMention. */
typedef GPtrArray WdrMentions;
WdrMentions *wdr_mentions_new(void);
const char *wdr_use_name(WdrUse use);

/* What a reader saw that is worth telling (GPtrArray of char *), each with file, line and column:
 * broken lines, doubled words, and what comes of them at boot. */
typedef GPtrArray WdrWarnings;
WdrWarnings *wdr_warnings_new(void);

/* One file being read. */
typedef struct {
	const char *file;
	const char *text; /* with a 0 behind it */
	size_t len;
	size_t base; /* added to offsets: where `text` starts in the file */
	WdrMentions *mentions;
	WdrWarnings *warnings;
} WdrReading;

typedef bool (*WdrReadFunc)(const WdrReading *r, GError **error);

/* The readers. FORMAT when the file as a whole is not of its format. A single broken line gives a
 * warning and is skipped, as the program that the file is for does. */
bool wdr_kernel_args_read(const WdrReading *r, GError **error);
bool wdr_extlinux_read(const WdrReading *r, GError **error);
bool wdr_fstab_read(const WdrReading *r, GError **error);
bool wdr_crypttab_read(const WdrReading *r, GError **error);
bool wdr_config_read(const WdrReading *r, GError **error);
bool wdr_autoboot_read(const WdrReading *r, GError **error);
bool wdr_settings_read(const WdrReading *r, GError **error);
bool wdr_shell_read(const WdrReading *r, GError **error);
bool wdr_unit_read(const WdrReading *r, GError **error);
bool wdr_loader_entry_read(const WdrReading *r, GError **error);
bool wdr_script_read(const WdrReading *r, GError **error);
bool wdr_image_read(const WdrReading *r, GError **error);
bool wdr_grub_read(const WdrReading *r, GError **error);
bool wdr_grub_env_read(const WdrReading *r, GError **error);
bool wdr_efi_program_read(const WdrReading *r, GError **error);
bool wdr_text_read(const WdrReading *r, GError **error);

struct WdrFormat {
	const char *name; /* as in a places file */
	const char *title;
	WdrReadFunc read;
	bool is_image;    /* a text inside a loader image or a UEFI program: an edit also
			     changes lengths and checksums around it */
	size_t bytes_max; /* larger files are left alone */
};
/* No file that is changed is larger: the largest of any format's bytes_max. */
enum { WDR_EDITED_BYTES_MAX = 192 * 1024 * 1024 };
extern const WdrFormat wdr_formats[];
extern const size_t wdr_n_formats;
const WdrFormat *wdr_format_find(const char *name); /* NULL: none */

/* ---- what the readers share ---- */

typedef struct {
	size_t at, end;
} WdrSpan;

/* Adds a mention. `identifier` is copied, but for its value, which is taken over. */
WdrMention *wdr_reading_add(const WdrReading *r, const WdrLine *line, WdrSpan span,
	const WdrIdentifier *identifier, WdrUse use, const char *what);
/* Adds the mention at the span; NULL: there is no identifier. `value` is its text without
 * escapes; NULL: as it is written. Borrowed. */
WdrMention *wdr_reading_take(const WdrReading *r, const WdrLine *line, WdrSpan span,
	const char *value, WdrUse use, const char *what);
void wdr_reading_warn(const WdrReading *r, const WdrLine *line, size_t at, const char *format, ...)
	G_GNUC_PRINTF(4, 5);
/* The words of a kernel command line that name devices, in a part of a line. `writing` is WORD or,
 * when the part itself is between quotes, QUOTED. */
void wdr_kernel_args_scan(
	const WdrReading *r, const WdrLine *line, WdrSpan span, WdrWriting writing);
/* The value of a setting: an identifier, a bare UUID where the key says so, or kernel arguments. */
void wdr_setting_take(const WdrReading *r, const WdrLine *line, const char *key, WdrSpan value,
	WdrWriting writing);
/* UUIDs inside the names of GRUB's menu entries, as grub-mkconfig puts them there. */
void wdr_grub_take_names(const WdrReading *r, const WdrLine *line, WdrSpan span);
/* What every environment block of GRUB begins with. */
extern const char wdr_grub_env_begin[];
/* Identifiers among mount options: "a,b=IDENTIFIER,…". */
void wdr_options_take(const WdrReading *r, const WdrLine *line, WdrSpan span, WdrWriting writing);
/* What a mount point is for. */
WdrUse wdr_use_of_mount(const char *point, const char *type);
