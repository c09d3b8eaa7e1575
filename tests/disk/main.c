#include "suite.h"

Suite *suite_signs(void);
Suite *suite_blockdev(void);
Suite *suite_parttable(void);
Suite *suite_disks(void);

SUITE_MAIN(suite_blockdev(), suite_parttable(), suite_disks(), suite_signs())
