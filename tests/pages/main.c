#include "suite.h"

Suite *suite_page(void);
Suite *suite_page_index(void);

SUITE_MAIN(suite_page(), suite_page_index())
