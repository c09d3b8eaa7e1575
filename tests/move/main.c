#include "suite.h"

Suite *suite_layout(void);
Suite *suite_itinerary(void);
Suite *suite_packing(void);
Suite *suite_carry(void);
Suite *suite_leave(void);
Suite *suite_packed(void);
Suite *suite_apply(void);
Suite *suite_checkpoint(void);
Suite *suite_pace(void);
Suite *suite_hostname(void);

SUITE_MAIN(suite_layout(), suite_itinerary(), suite_packing(), suite_carry(), suite_leave(),
	suite_packed(), suite_apply(), suite_checkpoint(), suite_pace(), suite_hostname())
