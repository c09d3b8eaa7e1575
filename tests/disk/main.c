#include "suite.h"

Suite *suite_failure_clues(void);
Suite *suite_blockdev(void);
Suite *suite_buffers(void);
Suite *suite_parttable(void);
Suite *suite_disks(void);
Suite *suite_link(void);
Suite *suite_ata_health(void);
Suite *suite_nvme_health(void);

SUITE_MAIN(suite_blockdev(), suite_buffers(), suite_parttable(), suite_disks(),
	suite_failure_clues(), suite_link(), suite_nvme_health(), suite_ata_health())
