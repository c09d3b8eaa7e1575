/* The part that comes last: its start is held back until everything else is whole, and a note is in
 * its place, so that neither a boot loader nor an operating system takes the target for a system.
 *
 * The first 64 KiB of a FAT or ext volume have what everybody recognises it by: the boot sector, or
 * the superblock. While a move runs these bytes exist in two places: in memory, as a layer over the
 * device (wdr_blockdev_new_held), and in `held.bin` in the state folder. Whoever reads or writes
 * the part uses `dev` (through the layer) or `seen` (what the medium has, with the layer over it),
 * never the target.
 *
 * Order of writes, each on the medium before the next begins:
 *   1. held.bin, then the mark "held" in the logbook, then the table without boot marks and the
 * note (wdr_last_part_take, for a target that was whole; a new target begins with the note)
 *   2. the part itself
 *   3. held.bin again, then the mark "copied" of the part
 *   4. the 64 KiB over the note; they are read back, and an ext volume is checked
 *   5. the table with its boot marks, then the mark "released"
 * A power cut before 4 leaves the note. One within 4 or 5 leaves a whole volume without boot marks,
 * or with them: both are sound, and `move --resume` does 4 and 5 again from held.bin. */
#include "move/move_run.h"

#include "base/record.h"
#include "base/stop.h"
#include "copy/apply_changes.h"

#include <string.h>
#include <unistd.h>

void wdr_last_part_clear(WdrLastPart *h)
{
	g_clear_pointer(&h->dev, wdr_blockdev_free);
	g_clear_pointer(&h->seen, wdr_blockdev_free);
}

void wdr_last_part_begin(WdrMoveRun *m, WdrLastPart *ret)
{
	const WdrItineraryPart *p = wdr_move_run_last(m->it);

	ret->part = p;
	ret->dev = wdr_blockdev_new_held(m->disks.target, p->to.start, p->to.size, WDR_HELD_BYTES);
	ret->seen = wdr_blockdev_new_held(m->disks.medium, p->to.start, p->to.size, WDR_HELD_BYTES);
	m->last_part = ret;
}

static char *hold_file(const WdrMoveRun *m)
{
	return g_build_filename(m->records.state, "held.bin", NULL);
}

/* Must come before any logbook line that relies on what is held: after a power cut held.bin is all
 * that is left of it. */
bool wdr_last_part_save(WdrMoveRun *m, GError **error)
{
	g_autofree uint8_t *head = g_malloc(WDR_HELD_BYTES);
	g_autofree char *path = hold_file(m);

	return wdr_blockdev_read(m->last_part->dev, head, WDR_HELD_BYTES, 0, error) &&
	       wdr_record_write(path, head, WDR_HELD_BYTES, error);
}

void wdr_last_part_forget(const WdrMoveRun *m)
{
	g_autofree char *path = hold_file(m);

	wdr_record_remove(path);
}

bool wdr_last_part_put_note(WdrMoveRun *m, GError **error)
{
	uint8_t note[512] = WDR_UNFINISHED_NOTE;
	const WdrItineraryPart *p = wdr_move_run_last(m->it);

	return wdr_blockdev_zero(m->disks.target, p->to.start, WDR_HELD_BYTES, error) &&
	       wdr_blockdev_write(m->disks.target, note, sizeof(note), p->to.start, error) &&
	       wdr_blockdev_flush(m->disks.target, error);
}

bool wdr_move_run_write_table(WdrMoveRun *m, bool with_marks, GError **error)
{
	return m->it->into ||
	       wdr_parttable_write(m->disks.target, m->disks.table, with_marks, error);
}

/* The target cannot be taken for a system. */
static bool hide(WdrMoveRun *m, GError **error)
{
	return wdr_move_run_write_table(m, false, error) && wdr_last_part_put_note(m, error);
}

bool wdr_last_part_take(WdrMoveRun *m, WdrLastPart *ret, GError **error)
{
	g_autofree uint8_t *head = g_malloc(WDR_HELD_BYTES);
	const WdrItineraryPart *p = wdr_move_run_last(m->it);

	wdr_last_part_begin(m, ret);
	*m->has_begun = true;
	return wdr_blockdev_read(m->disks.medium, head, WDR_HELD_BYTES, p->to.start, error) &&
	       wdr_blockdev_write(ret->dev, head, WDR_HELD_BYTES, 0, error) &&
	       wdr_last_part_save(m, error) &&
	       wdr_logbook_mark(m->records.logbook, WDR_MARK_HELD, error) && hide(m, error);
}

bool wdr_last_part_resume(WdrMoveRun *m, WdrLastPart *ret, bool has_head, GError **error)
{
	g_autofree char *path = hold_file(m);
	g_autofree char *head = NULL;
	size_t len = 0;

	wdr_last_part_begin(m, ret);
	if (!hide(m, error))
		return false;
	if (!has_head)
		return true;
	if (!wdr_record_read(path, WDR_HELD_BYTES, &head, &len, error))
		return false;
	if (len != WDR_HELD_BYTES)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is incomplete", path);
	return wdr_blockdev_write(ret->dev, head, len, 0, error);
}

bool wdr_last_part_look(WdrLastPart *h, GError **error)
{
	g_autofree uint8_t *head = g_malloc(WDR_HELD_BYTES);

	return wdr_blockdev_read(h->dev, head, WDR_HELD_BYTES, 0, error) &&
	       wdr_blockdev_write(h->seen, head, WDR_HELD_BYTES, 0, error);
}

WdrBlockDev *wdr_last_part_device(const WdrMoveRun *m, const WdrLastPart *h,
	const WdrItineraryPart *p, bool is_medium, uint64_t *ret_offset)
{
	bool is_held = h->part == p;

	*ret_offset = is_held ? 0 : p->to.start;
	if (is_medium)
		return is_held ? h->seen : m->disks.medium;
	return is_held ? h->dev : m->disks.target;
}

bool wdr_last_part_verify(
	WdrMoveRun *m, WdrLastPart *h, const WdrItineraryPart *p, GPtrArray *diffs, GError **error)
{
	g_autoptr(WdrVolume) volume = NULL;
	uint64_t offset = 0;
	WdrBlockDev *medium = wdr_last_part_device(m, h, p, true, &offset);

	return (h->part != p || wdr_last_part_look(h, error)) &&
	       wdr_move_run_open_volume(p, medium, offset, &volume, error) &&
	       wdr_apply_verify(volume, diffs, error);
}

/* The moment in which the target becomes a system: the held bytes replace the note. */
static bool write_held(WdrMoveRun *m, WdrLastPart *h, GError **error)
{
	g_autofree uint8_t *head = g_malloc(WDR_HELD_BYTES);
	g_autofree uint8_t *read_back = g_malloc(WDR_HELD_BYTES);
	const WdrItineraryPart *p = h->part;

	if (!wdr_stop_check(error) ||
		!wdr_move_run_step(m, error,
			p->role == WDR_ROLE_BOOT ? "making partition %u bootable"
						 : "completing partition %u",
			p->number) ||
		!wdr_blockdev_read(h->dev, head, WDR_HELD_BYTES, 0, error) ||
		!wdr_blockdev_release(h->dev, error) ||
		!wdr_blockdev_read(m->disks.medium, read_back, WDR_HELD_BYTES, p->to.start, error))
		return false;
	return memcmp(head, read_back, WDR_HELD_BYTES) == 0 ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "%s: the start of partition %u read back is not what was written",
		       m->it->target.name, p->number);
}

/* e2fsck wants the real disk, so it comes after the release; a volume that it does not like is
 * taken back. */
static bool check_released(WdrMoveRun *m, const WdrItineraryPart *p, GError **error)
{
	if (wdr_move_run_is_fat(p) || wdr_move_run_check_ext(m, p, error))
		return true;
	(void)!wdr_last_part_put_note(m, NULL);
	return false;
}

/* Part of a loader on some boards; writing a table takes it away. */
static bool put_boot_code(WdrMoveRun *m, GError **error)
{
	uint8_t code[WDR_BOOT_CODE_BYTES];
	uint8_t back[WDR_BOOT_CODE_BYTES];

	if (!m->it->loader.has_boot_code)
		return true;
	if (!wdr_blockdev_read(m->disks.source->system->dev, code, sizeof(code), 0, error) ||
		!wdr_blockdev_write(m->disks.target, code, sizeof(code), 0, error) ||
		!wdr_blockdev_flush(m->disks.target, error) ||
		!wdr_blockdev_read(m->disks.medium, back, sizeof(back), 0, error))
		return false;
	return memcmp(code, back, sizeof(code)) == 0 ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       "%s: its first bytes read back are not what was written",
		       m->it->target.name);
}

/* Steps 4 and 5 above. A stop by signal is taken before the first write, not between these. */
bool wdr_last_part_release(WdrMoveRun *m, WdrLastPart *h, GError **error)
{
	return write_held(m, h, error) && check_released(m, h->part, error) &&
	       (m->it->into || wdr_move_run_step(m, error, "writing the final partition table")) &&
	       wdr_move_run_write_table(m, true, error) && put_boot_code(m, error) &&
	       wdr_blockdev_flush(m->disks.target, error) &&
	       wdr_logbook_mark(m->records.logbook, WDR_MARK_RELEASED, error) &&
	       /* Where it cannot, it will at the next start. */
	       (wdr_blockdev_reread_table(m->disks.target), true);
}
