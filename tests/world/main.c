#include "suite.h"

Suite *suite_world(void);

SUITE_MAIN(suite_world())
