#include "suite.h"

Suite *suite_axis(void);
Suite *suite_chart(void);
Suite *suite_pace(void);
Suite *suite_time_left(void);

SUITE_MAIN(suite_axis(), suite_chart(), suite_pace(), suite_time_left())
