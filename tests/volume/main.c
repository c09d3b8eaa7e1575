#include "suite.h"

Suite *suite_fat_name(void);
Suite *suite_fat(void);
Suite *suite_fat_damage(void);
Suite *suite_ext(void);
Suite *suite_ext_damage(void);
Suite *suite_tree(void);
Suite *suite_tree_disk(void);
Suite *suite_sweep(void);
Suite *suite_swap(void);
Suite *suite_volume_edit(void);
Suite *suite_content(void);

SUITE_MAIN(suite_fat_name(), suite_fat(), suite_fat_damage(), suite_ext(), suite_ext_damage(),
	suite_tree(), suite_tree_disk(), suite_sweep(), suite_swap(), suite_volume_edit(),
	suite_content())
