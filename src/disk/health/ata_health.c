/* Asks a SATA disk for its health by SCSI commands that carry ATA commands. */
#include "disk/health/ata_health.h"

#include "base/cleanup.h"
#include "base/cursor.h"
#include "base/io.h"

#include <fcntl.h>
#include <scsi/sg.h>
#include <string.h>
#include <sys/ioctl.h>

enum {
	/* Words of IDENTIFY DEVICE: what is supported, what is switched on; bit 0 is SMART. */
	WORD_SUPPORTED = 82,
	WORD_ENABLED = 85,
	/* The table of attributes: 30 entries of 12 bytes. */
	ATTRIBUTES_AT = 2,
	ATTRIBUTES = 30,
	ATTRIBUTE_BYTES = 12,
	ATTRIBUTE_RAW = 5,
	REALLOCATED = 5,
	PENDING = 197,
	UNCORRECTABLE = 198,
	/* The page of solid state disks: its number, and what of the life is used. */
	PAGE_NUMBER_AT = 2,
	PAGE_SOLID_STATE = 7,
	USED_AT = 8,
	IS_SUPPORTED_AND_VALID = 0xc0,
	/* Sense data with a descriptor, and the registers in that. */
	SENSE_WITH_DESCRIPTORS = 0x72,
	DESCRIPTOR_AT = 8,
	DESCRIPTOR_ATA = 0x09,
	LBA_MID_AT = DESCRIPTOR_AT + 9,
	LBA_HIGH_AT = DESCRIPTOR_AT + 11,
	/* SMART RETURN STATUS gives the first pair back, or the second when a limit is passed. */
	FINE_MID = 0x4f,
	FINE_HIGH = 0xc2,
	FAILING_MID = 0xf4,
	FAILING_HIGH = 0x2c,
	/* ATA PASS-THROUGH (16). */
	PASS_THROUGH = 0x85,
	NO_DATA = 3 << 1,
	DATA_IN = 4 << 1,
	EXTENDED = 1,
	FROM_DISK_BY_SECTORS = 0x0e,
	WITH_REGISTERS = 0x20,
	ATA_IDENTIFY = 0xec,
	ATA_SMART = 0xb0,
	ATA_READ_LOG = 0x2f,
	SMART_DATA = 0xd0,
	SMART_STATUS = 0xda,
	LOG_STATISTICS = 0x04,
	TIMEOUT_MS = 5000,
	CDB_BYTES = 16,
};

/* ---- what the answers mean ---- */

static bool has_smart(const uint8_t *identify, size_t word)
{
	return wdr_get_le16(identify + 2 * word) & 1;
}

/* The bytes of a whole page add up to nothing. */
static bool is_summed(const uint8_t *page)
{
	uint8_t sum = 0;

	for (size_t i = 0; i < WDR_ATA_PAGE_BYTES; i++)
		sum = (uint8_t)(sum + page[i]);
	return sum == 0 && wdr_get_le16(page) != 0;
}

/* Makers use the upper bytes of a count for other things. */
static void take_attribute(const uint8_t *at, WdrAtaHealth *ret)
{
	uint64_t count = wdr_get_le32(at + ATTRIBUTE_RAW);

	if (at[0] == REALLOCATED)
		ret->reallocated = count;
	else if (at[0] == PENDING)
		ret->pending = count;
	else if (at[0] == UNCORRECTABLE)
		ret->uncorrectable = count;
	else
		return;
	ret->has_attributes = true;
}

static void take_status(const uint8_t *sense, WdrAtaHealth *ret)
{
	if ((sense[0] & 0x7f) != SENSE_WITH_DESCRIPTORS || sense[DESCRIPTOR_AT] != DESCRIPTOR_ATA)
		return;
	bool is_fine = sense[LBA_MID_AT] == FINE_MID && sense[LBA_HIGH_AT] == FINE_HIGH;
	ret->is_failing = sense[LBA_MID_AT] == FAILING_MID && sense[LBA_HIGH_AT] == FAILING_HIGH;
	ret->has_status = is_fine || ret->is_failing;
}

void wdr_ata_health_decode(const WdrAtaAnswers *a, WdrAtaHealth *ret)
{
	const uint8_t *s = a->statistics;

	*ret = (WdrAtaHealth){ .is_told = has_smart(a->identify, WORD_SUPPORTED) &&
					  has_smart(a->identify, WORD_ENABLED) };
	if (!ret->is_told)
		return;
	take_status(a->status, ret);
	for (size_t i = 0; is_summed(a->attributes) && i < ATTRIBUTES; i++)
		take_attribute(a->attributes + ATTRIBUTES_AT + i * ATTRIBUTE_BYTES, ret);
	ret->has_used = s[PAGE_NUMBER_AT] == PAGE_SOLID_STATE &&
			(s[USED_AT + 7] & IS_SUPPORTED_AND_VALID) == IS_SUPPORTED_AND_VALID;
	ret->used = ret->has_used ? s[USED_AT] : 0;
}

/* ---- asking ---- */

typedef struct {
	uint8_t protocol, flags, feature, sectors, lba_low, lba_mid, lba_high, command;
} AtaCommand;

/* `page` NULL: the command has no data. `sense` gets the registers. */
static bool send(int fd, const AtaCommand *c, uint8_t *page, uint8_t *sense)
{
	uint8_t cdb[CDB_BYTES] = { PASS_THROUGH, c->protocol, c->flags, 0, c->feature, 0,
		c->sectors, 0, c->lba_low, 0, c->lba_mid, 0, c->lba_high, 0, c->command, 0 };
	sg_io_hdr_t io = {
		.interface_id = 'S',
		.dxfer_direction = page ? SG_DXFER_FROM_DEV : SG_DXFER_NONE,
		.cmd_len = sizeof(cdb),
		.cmdp = cdb,
		.dxferp = page,
		.dxfer_len = page ? WDR_ATA_PAGE_BYTES : 0,
		.sbp = sense,
		.mx_sb_len = WDR_ATA_SENSE_BYTES,
		.timeout = TIMEOUT_MS,
	};

	return ioctl(fd, SG_IO, &io) == 0 && io.host_status == 0 &&
	       (page ? io.status == 0 && io.resid == 0 : true);
}

/* A disk that has no statistics, or gives no registers back, is asked for the rest all the same. */
static bool ask_disk(const char *path, WdrAtaAnswers *ret)
{
	const AtaCommand identify = { DATA_IN, FROM_DISK_BY_SECTORS, 0, 1, 0, 0, 0, ATA_IDENTIFY };
	const AtaCommand attributes = { DATA_IN, FROM_DISK_BY_SECTORS, SMART_DATA, 1, 0, FINE_MID,
		FINE_HIGH, ATA_SMART };
	const AtaCommand status = { NO_DATA, WITH_REGISTERS, SMART_STATUS, 0, 0, FINE_MID,
		FINE_HIGH, ATA_SMART };
	const AtaCommand statistics = { DATA_IN | EXTENDED, FROM_DISK_BY_SECTORS, 0, 1,
		LOG_STATISTICS, PAGE_SOLID_STATE, 0, ATA_READ_LOG };
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	uint8_t sense[WDR_ATA_SENSE_BYTES] = { 0 };

	if (fd < 0 || !send(fd, &identify, ret->identify, sense))
		return false;
	if (!has_smart(ret->identify, WORD_ENABLED))
		return true;
	if (!send(fd, &attributes, ret->attributes, sense))
		memset(ret->attributes, 0, WDR_ATA_PAGE_BYTES);
	if (!send(fd, &status, NULL, ret->status))
		memset(ret->status, 0, WDR_ATA_SENSE_BYTES);
	if (!send(fd, &statistics, ret->statistics, sense))
		memset(ret->statistics, 0, WDR_ATA_PAGE_BYTES);
	return true;
}

static bool read_stand_in(const WdrWorld *world, const WdrDisk *disk, WdrAtaAnswers *ret)
{
	g_autofree char *in_dev = g_strdup_printf("/dev/%s.ata", disk->name);
	g_autofree char *path = wdr_world_path(world, in_dev);
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);

	return fd >= 0 && wdr_pread_all(fd, ret, sizeof(*ret), 0, NULL);
}

/* The kernel asks SCSI disks for the page on what ATA disk they are (vpd_pg89), except behind USB
 * bridges with the older protocol, which it asks for no such pages at all. */
static bool is_ata(const WdrWorld *world, const WdrDisk *disk)
{
	g_autofree char *in_sys = g_strdup_printf("/sys/block/%s/device/vpd_pg89", disk->name);
	g_autofree char *path = wdr_world_path(world, in_sys);

	return g_file_test(path, G_FILE_TEST_EXISTS);
}

WdrAtaResult wdr_ata_health_ask(const WdrWorld *world, const WdrDisk *disk, WdrAtaHealth *ret)
{
	WdrAtaAnswers answers = { 0 };

	*ret = (WdrAtaHealth){ 0 };
	if (disk->is_image || !g_str_has_prefix(disk->name, "sd"))
		return WDR_ATA_NONE;
	if (!is_ata(world, disk))
		return g_strcmp0(disk->medium, "USB disk") == 0 ? WDR_ATA_BRIDGE : WDR_ATA_NONE;
	if (!(wdr_world_bench(world) ? read_stand_in(world, disk, &answers)
				     : ask_disk(disk->path, &answers)))
		return WDR_ATA_UNANSWERED;
	wdr_ata_health_decode(&answers, ret);
	return WDR_ATA_ANSWERED;
}
