#include "suite.h"

Suite *suite_cursor(void);
Suite *suite_text(void);
Suite *suite_io(void);
Suite *suite_hash(void);
Suite *suite_json(void);
Suite *suite_record(void);
Suite *suite_stat(void);

SUITE_MAIN(suite_cursor(), suite_text(), suite_io(), suite_hash(), suite_json(), suite_record(),
	suite_stat())
