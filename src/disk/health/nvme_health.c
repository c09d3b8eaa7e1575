/* Asks an NVMe drive for its health log and for its power states, and decodes both.
 *
 * The kernel hands such commands on for root only. */
#include "disk/health/nvme_health.h"

#include "base/cleanup.h"
#include "base/cursor.h"
#include "base/io.h"

#include <fcntl.h>
#include <linux/nvme_ioctl.h>
#include <string.h>
#include <sys/ioctl.h>

enum {
	GET_LOG_PAGE = 0x02,
	IDENTIFY = 0x06,
	LOG_HEALTH = 0x02,
	CONTROLLER = 0x01, /* what is identified */
	ALL_NAMESPACES = -1,
	TIMEOUT_MS = 5000,
	/* In the log. */
	LOG_POWER_LOSSES = 144,
	LOG_MEDIA_ERRORS = 160,
	WARNS_OF_SPARES = 1 << 0,
	WARNS_OF_RELIABILITY = 1 << 2,
	WARNS_OF_READ_ONLY = 1 << 3,
	KELVIN = 273,
	/* In what identifies the controller. */
	LAST_POWER_STATE = 263,
	POWER_STATES = 2048,
	POWER_STATE_BYTES = 32,
	POWER_STATES_MAX = 32,
	IS_FINE_SCALE = 1 << 0, /* 0.1 mW, not 10 mW */
};

/* 16 bytes; more than fit are told as UINT64_MAX. */
static uint64_t count_at(const uint8_t *log, size_t at)
{
	WdrCursor c = wdr_cursor(log, WDR_NVME_LOG_BYTES);

	wdr_cursor_seek(&c, at);
	uint64_t low = wdr_cursor_le64(&c);
	return wdr_cursor_le64(&c) ? UINT64_MAX : low;
}

/* Of all power states the largest: the first one, as a rule. */
static unsigned max_milliwatts(const uint8_t *identify)
{
	unsigned last = MIN(identify[LAST_POWER_STATE], POWER_STATES_MAX - 1);
	unsigned most = 0;

	for (unsigned i = 0; i <= last; i++) {
		const uint8_t *state = identify + POWER_STATES + i * POWER_STATE_BYTES;
		unsigned power = wdr_get_le16(state);
		most = MAX(most, state[3] & IS_FINE_SCALE ? power / 10 : power * 10);
	}
	return most;
}

void wdr_nvme_health_decode(const uint8_t *log, const uint8_t *identify, WdrNvmeHealth *ret)
{
	unsigned kelvin = wdr_get_le16(log + 1);

	*ret = (WdrNvmeHealth){
		.is_low_on_spares = log[0] & WARNS_OF_SPARES,
		.is_unreliable = log[0] & WARNS_OF_RELIABILITY,
		.is_read_only = log[0] & WARNS_OF_READ_ONLY,
		.degrees = kelvin > KELVIN ? (int)kelvin - KELVIN : 0,
		.spare = log[3],
		.spare_threshold = log[4],
		.used = log[5],
		.power_losses = count_at(log, LOG_POWER_LOSSES),
		.media_errors = count_at(log, LOG_MEDIA_ERRORS),
		.max_milliwatts = max_milliwatts(identify),
	};
}

static bool ask(int fd, uint8_t opcode, uint32_t what, uint8_t *answer, uint32_t len)
{
	struct nvme_admin_cmd command = {
		.opcode = opcode,
		.nsid = opcode == GET_LOG_PAGE ? (uint32_t)ALL_NAMESPACES : 0,
		.addr = (uint64_t)(uintptr_t)answer,
		.data_len = len,
		.cdw10 = what,
		.timeout_ms = TIMEOUT_MS,
	};

	return ioctl(fd, NVME_IOCTL_ADMIN_CMD, &command) == 0;
}

static bool ask_drive(const WdrDisk *disk, uint8_t *log, uint8_t *identify)
{
	g_auto(WdrFd) fd = open(disk->path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	/* The drive takes the length in words of four bytes, less one. */
	uint32_t words = WDR_NVME_LOG_BYTES / 4 - 1;

	return fd >= 0 &&
	       ask(fd, GET_LOG_PAGE, LOG_HEALTH | words << 16, log, WDR_NVME_LOG_BYTES) &&
	       ask(fd, IDENTIFY, CONTROLLER, identify, WDR_NVME_IDENTIFY_BYTES);
}

/* "nvme0n1" is a namespace of the controller "nvme0". */
static bool read_stand_in(
	const WdrWorld *world, const WdrDisk *disk, uint8_t *log, uint8_t *identify)
{
	const char *end = strchr(disk->name + strlen("nvme"), 'n');
	g_autofree char *name = end ? g_strndup(disk->name, (size_t)(end - disk->name)) : NULL;
	g_autofree char *in_dev = name ? g_build_filename("/dev", name, NULL) : NULL;
	g_autofree char *path = in_dev ? wdr_world_path(world, in_dev) : NULL;
	g_auto(WdrFd) fd = path ? open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK) : -1;

	return fd >= 0 && wdr_pread_all(fd, log, WDR_NVME_LOG_BYTES, 0, NULL) &&
	       wdr_pread_all(fd, identify, WDR_NVME_IDENTIFY_BYTES, WDR_NVME_LOG_BYTES, NULL);
}

bool wdr_nvme_health_ask(const WdrWorld *world, const WdrDisk *disk, WdrNvmeHealth *ret)
{
	g_autofree uint8_t *log = g_malloc0(WDR_NVME_LOG_BYTES);
	g_autofree uint8_t *identify = g_malloc0(WDR_NVME_IDENTIFY_BYTES);

	if (disk->is_image || !g_str_has_prefix(disk->name, "nvme"))
		return false;
	if (!(wdr_world_bench(world) ? read_stand_in(world, disk, log, identify)
				     : ask_drive(disk, log, identify)))
		return false;
	wdr_nvme_health_decode(log, identify, ret);
	return true;
}
