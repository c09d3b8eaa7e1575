#include "suite.h"

Suite *suite_address(void);
Suite *suite_mention(void);
Suite *suite_edit(void);

SUITE_MAIN(suite_address(), suite_mention(), suite_edit())
