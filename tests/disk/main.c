#include "suite.h"

Suite *suite_signs(void);
Suite *suite_blockdev(void);
Suite *suite_parttable(void);
Suite *suite_disks(void);
Suite *suite_link(void);
Suite *suite_pace(void);

SUITE_MAIN(suite_blockdev(), suite_parttable(), suite_disks(), suite_signs(), suite_link(),
	suite_pace())
