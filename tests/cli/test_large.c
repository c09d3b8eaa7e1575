/* Numbers that do not fit into 32 bits: disks above 2 TiB, partitions that begin there, files above
 * 4 GiB. On 32-bit processors each is a test of its own kind. */
#include "boards.h"

#include <string.h>

Suite *suite_large(void);

/* The sample board with an extlinux menu, its second partition moved to 2.5 TiB, where a file
 * of 4.5 GiB has data at its end and at 4 GiB. Then a move to a disk of another size, whose last
 * partition lies beyond 2 TiB, too. */
static const char script[] =
	"W='%s'; cd '%s'; S='%s'; at=5368709120;"
	"truncate -s 3T source.img; sfdisk -d \"$S\" >table;"
	"field() { sed -n \"s/^.*[^0-9]$1 : .*$2= *\\([0-9]*\\),.*/\\1/p\" table; };"
	"sed -E \"s/(1p?2 : start= *)[0-9]+/\\1$at/; /last-lba/d\" table | sfdisk -q source.img;"
	"copy() { dd if=\"$S\" of=source.img bs=64k iflag=skip_bytes,count_bytes oflag=seek_bytes"
	" skip=$(($1 * 512)) seek=$(($2 * 512)) count=$(($3 * 512)) conv=notrunc,sparse status=none; };"
	"copy $(field 1 start) $(field 1 start) $(field 1 size); copy $(field 2 start) $at $(field 2 size);"
	"truncate -s 4608M big; printf heron >>big; printf reed | dd of=big bs=1 seek=4294967296 conv=notrunc status=none;"
	"printf 'write big big.raw\\n' | debugfs -w -f - \"source.img?offset=$((at * 512))\" >log 2>&1;"
	"truncate -s 2600G target.img; $W --quiet move --from source.img --to target.img --erase target.img --state state;"
	"sfdisk --verify target.img; sfdisk -d target.img >table; new=$(field 2 start); [ $new -gt 4294967296 ];"
	"for n in $(field 1 start) $new; do e2fsck -fn \"target.img?offset=$((n * 512))\"; done;"
	"debugfs -R 'dump big.raw back' \"target.img?offset=$((new * 512))\" 2>>log; [ $(stat -c %%s back) = 4831838213 ];"
	"[ \"$(tail -c 5 back)\" = heron ]; [ \"$(tail -c +4294967297 back | head -c 4)\" = reed ];"
	"[ $(du -k target.img | cut -f1) -lt 1500000 ]; echo whole";

START_TEST(beyond_32_bits)
{
	bench_add(boards[1].bench);
	g_autofree char *all =
		g_strdup_printf(script, sup_program(), sup_folder(), board_disk(&boards[1], false));
	const char *argv[] = { "bash", "-ec", all, NULL };
	SupRun run = sup_run("", argv);

	bench_expect(&run, 0, "\nwhole\n");
}
END_TEST

Suite *suite_large(void)
{
	Suite *s = suite_create("cli/large");
	TCase *tc = tcase_create("large");

	tcase_add_unchecked_fixture(tc, bench_make, bench_remove);
	tcase_add_checked_fixture(tc, sup_setup, sup_teardown);
	tcase_add_test(tc, beyond_32_bits);
	suite_add_tcase(s, tc);
	return s;
}
