/* In which order the board tries its media: what its firmware or its U-Boot has stored, and
 * changing that. */
#pragma once

#include "boot/board/board.h"
#include "boot/board/eeprom.h"
#include "boot/board/ubootenv.h"
#include "change/disk_session.h"
#include "change/efi_order.h"
#include "change/fact.h"
#include "change/raw_change.h"

typedef struct {
	/* "nvme", "usb", "sd", "emmc", a name of U-Boot's, or with UEFI a disk; NULL: no change */
	const char *first;
	const char *number;  /* the firmware's whole order, "0xf416"; NULL */
	const char *targets; /* U-Boot's whole list; NULL */
	const char *initial; /* a file with U-Boot's initial environment, for when none is stored */
	bool sets_fuse;
	const char *on; /* the disk that the system runs from: its config.txt; NULL: unknown */
} WdrOrderOptions;

/* An order that is, or is going to be. */
typedef struct {
	const char *name; /* of its fact: "order", "next boot", "then"; static */
	char *value;      /* as it is stored: "0xf416", "nvme0 mmc1" */
	GPtrArray *tries; /* char *, in turn: "NVMe" */
	bool starts_over; /* after the last */
} WdrOrderTold;

typedef struct {
	const WdrEnvCopy *copy; /* of the plan's environment */
	uint64_t at;            /* bytes from the start of its device */
	GBytes *bytes;
} WdrEnvWrite;

typedef struct {
	const WdrWorld *world;
	WdrBoard *board;
	GPtrArray *facts;           /* WdrFact */
	GPtrArray *orders;          /* WdrOrderTold: what some of the facts say, for programs */
	WdrEepromSettings settings; /* of firmware in an EEPROM */
	char *new_settings;         /* NULL: no change */
	WdrEfiFirst efi_first;      /* UEFI: what is to be tried first */
	bool has_efi_work;          /* and that is a change */
	WdrUbootEnv *env;           /* NULL: no U-Boot, or nobody tells where it is */
	GPtrArray *writes;          /* WdrEnvWrite: in this order */
	WdrDiskSession *site;       /* of the disk with config.txt; NULL: it is of no use here */
	GPtrArray *files;           /* WdrFilePlan */
	char *diff;                 /* of settings, for people; NULL: none change */
	GPtrArray *left;            /* char * */
	/* The new order never tries a card, and the present one does: as it is stored; NULL:
	 * no. */
	char *without_way_back;
	bool has_unread; /* when it was written: some of it cannot be read back yet */
} WdrOrderPlan;

/* UNSUPPORTED: the machine is no such board; USAGE: a wrong order; REFUSED: it cannot be changed
 * so.
 */
bool wdr_order_plan(const WdrWorld *world, const WdrOrderOptions *options, WdrOrderPlan **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_order_plan_free(WdrOrderPlan *p);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrOrderPlan, wdr_order_plan_free)
/* What is tried first can be set only once the disk is made: UEFI firmware's entries lead to a
 * partition that is there. */
bool wdr_order_comes_after(const WdrWorld *world);
bool wdr_order_has_work(const WdrOrderPlan *p);
bool wdr_order_write(WdrOrderPlan *p, const char *state, bool *ret_has_begun,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
