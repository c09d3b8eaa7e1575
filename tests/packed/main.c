#include "suite.h"

Suite *suite_packed(void);

SUITE_MAIN(suite_packed())
