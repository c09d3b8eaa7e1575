#include "suite.h"

Suite *suite_layout(void);
Suite *suite_itinerary(void);
Suite *suite_packing(void);
Suite *suite_carry(void);

SUITE_MAIN(suite_layout(), suite_itinerary(), suite_packing(), suite_carry())
