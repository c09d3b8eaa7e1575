/* The tables of what boards can boot from, by firmware date and fuses. */
#include "boot/board/boot_support.h"

#include "base/text.h"

#include <string.h>

/* From when on the firmware of the 4 series boots from USB, does so by default, and the modules of
 * that series from NVMe, by its release notes. */
#define USB_SINCE INT64_C(1592179200)            /* 2020-06-15 */
#define USB_BY_DEFAULT_SINCE INT64_C(1599091200) /* 2020-09-03 */
#define NVME_SINCE INT64_C(1625097600)           /* 2021-07-01 */

static const char update[] = "bring the boot firmware up to date first";

static const struct {
	const char *word, *medium;
} words[] = { { "nvme", "NVMe" }, { "usb", "USB disk" }, { "sd", "SD card" }, { "emmc", "eMMC" } };

const char *wdr_medium_word(const char *medium)
{
	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (g_strcmp0(words[i].medium, medium) == 0)
			return words[i].word;
	}
	return NULL;
}

const char *wdr_medium_of_word(const char *word)
{
	for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
		if (g_strcmp0(words[i].word, word) == 0)
			return words[i].medium;
	}
	return NULL;
}

static bool is_older(const WdrBoard *b, int64_t than)
{
	return b->firmware_date != 0 && b->firmware_date < than;
}

static WdrBootSupport check_fuse(const WdrBoard *b, char **ret_why, const char **ret_hint)
{
	if (!wdr_board_needs_fuse(b) || wdr_board_has_fuse(b))
		return WDR_ABILITY_FULL;
	if (b->fuse) {
		*ret_hint =
			"set the fuse, which nothing can take back: see --set-fuse in the manual page";
		*ret_why = g_strdup_printf("this board boots from USB only after a fuse was set, "
					   "which is not (OTP row 17 is %s)",
			b->fuse);
		return WDR_ABILITY_NONE;
	}
	*ret_hint = "vcgencmd otp_dump shows it";
	*ret_why = g_strdup("this board boots from USB only after a fuse was set; whether it is, "
			    "is not known");
	return WDR_ABILITY_DOUBT;
}

/* Boards whose firmware is in an EEPROM learned it in time. */
static WdrBootSupport check_date(
	const WdrBoard *b, bool is_usb, char **ret_why, const char **ret_hint)
{
	g_autofree char *date = wdr_format_day(b->firmware_date);

	*ret_hint = update;
	if (is_older(b, is_usb ? USB_SINCE : NVME_SINCE)) {
		*ret_why = g_strdup_printf("firmware of %s does not boot from %s (%s does)", date,
			is_usb ? "USB" : "NVMe", is_usb ? "2020-06-15" : "mid 2021");
		return WDR_ABILITY_NONE;
	}
	if (is_usb && is_older(b, USB_BY_DEFAULT_SINCE)) {
		*ret_why =
			g_strdup_printf("firmware of %s: booting from USB was a test then", date);
		return WDR_ABILITY_DOUBT;
	}
	*ret_hint = NULL;
	return WDR_ABILITY_FULL;
}

WdrBootSupport wdr_board_can(
	const WdrBoard *b, const char *medium, char **ret_why, const char **ret_hint)
{
	bool is_usb = g_strcmp0(medium, "USB disk") == 0;
	bool is_nvme = g_strcmp0(medium, "NVMe") == 0;

	*ret_why = NULL;
	*ret_hint = NULL;
	if (!is_usb && !is_nvme)
		return WDR_ABILITY_FULL;
	if ((is_nvme && !b->has_pcie) || (is_usb && b->series < 3)) {
		*ret_hint = "keep boot on the card, and move root alone: --what root";
		*ret_why = g_strdup_printf("boards of the %u series%s do not boot from %s",
			b->series, is_nvme && b->series == 4 ? " but its compute modules" : "",
			is_nvme ? "NVMe" : "USB");
		return WDR_ABILITY_NONE;
	}
	if (is_usb && b->series == 3)
		return check_fuse(b, ret_why, ret_hint);
	return b->series == 4 ? check_date(b, is_usb, ret_why, ret_hint) : WDR_ABILITY_FULL;
}
