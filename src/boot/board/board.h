/* The board that the tool runs on, as far as it decides what can be booted: its family, the date
 * and the boot order of its firmware, the loader in its SPI flash. Only reads. */
#pragma once

#include "boot/board/bootorder.h"
#include "boot/board/efi_settings.h"
#include "world/world.h"

/* A SPI flash and what it holds. */
typedef struct {
	char *name;
	const char *kind; /* "SPI flash" */
	uint64_t size;    /* bytes */
	char *what;       /* "Rockchip, U-Boot 2023.01"; NULL: it is empty */
	char *problem;    /* why it cannot be read; NULL: it can */
} WdrBoardFlash;

typedef struct {
	char **names;    /* of its device tree, the most particular first, NULL-ended; never NULL */
	unsigned series; /* of boards with firmware that reads FAT: 1 to 5; 0: another kind of board
			  */
	const char *const *filters; /* sections of config.txt that hold on it, without brackets,
				       NULL-ended; NULL: nobody knows */
	bool has_pcie;              /* for an NVMe drive: it can have one */
	int64_t firmware_date; /* seconds since 1970; 0: unknown, or no firmware in an EEPROM */
	char *order_text; /* as its settings for the next start have it, "0xf41"; NULL: unknown */
	bool has_order;   /* order_text is one */
	WdrBootOrder order;
	bool probes_pcie;   /* PCIE_PROBE=1: also behind plain adapters */
	unsigned boot_mode; /* what the firmware booted from, a digit of the order; 0: unknown */
	char *fuse;         /* OTP row 17, "3020000a"; NULL: unknown */
	char *targets; /* U-Boot's boot_targets, where its environment has them; NULL: unknown */
	char *targets_said;  /* where that is: "/dev/mtd0 at 4063232" */
	char *targets_doubt; /* why it is not known what U-Boot does; NULL: nothing speaks for that
			      */
	GPtrArray *flash;    /* WdrBoardFlash */
	WdrEfiSettings *efi; /* NULL: it was not started by UEFI firmware */
} WdrBoard;

/* WdrBoardFlash: what this machine has, of whatever kind it is. The caller's. */
GPtrArray *wdr_board_look_at_flash(const WdrWorld *world);
/* Its names in the device tree as in WdrBoard, without a look at anything else; NULL: there is no
 * device tree. The caller's. */
char **wdr_board_names(const WdrWorld *world);
/* Never fails: what cannot be known stays so. NULL: the machine has neither a device tree nor UEFI
 * firmware. */
WdrBoard *wdr_board_look(const WdrWorld *world);
void wdr_board_free(WdrBoard *b);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrBoard, wdr_board_free)

/* The medium that the firmware says it booted from, as in WdrDisk; NULL: unknown. */
const char *wdr_board_booted_from(const WdrBoard *b);
/* It boots from USB only after a fuse was set once. */
bool wdr_board_needs_fuse(const WdrBoard *b);
bool wdr_board_has_fuse(const WdrBoard *b);
/* The flash that has the loader: one that is known, failing that one that holds something, failing
 * that one that is empty; NULL: the kernel knows none. */
const WdrBoardFlash *wdr_board_loader(const WdrBoard *b);
bool wdr_board_flash_is_spi(const WdrBoardFlash *f);
