#include "suite.h"

Suite *suite_volume_copy(void);
Suite *suite_apply_changes(void);
Suite *suite_checkpoint(void);
Suite *suite_exclude(void);
Suite *suite_list_entry(void);
Suite *suite_packing_list(void);
Suite *suite_read_behind(void);

SUITE_MAIN(suite_volume_copy(), suite_apply_changes(), suite_checkpoint(), suite_exclude(),
	suite_list_entry(), suite_packing_list(), suite_read_behind())
