#include "suite.h"

Suite *suite_pace_record(void);
Suite *suite_pace(void);

SUITE_MAIN(suite_pace_record(), suite_pace())
