#include "suite.h"

Suite *suite_layout(void);
Suite *suite_itinerary(void);
Suite *suite_hostname(void);

SUITE_MAIN(suite_layout(), suite_itinerary(), suite_hostname())
