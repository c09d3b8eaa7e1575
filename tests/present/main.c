#include "suite.h"

Suite *suite_axis(void);
Suite *suite_chart(void);

SUITE_MAIN(suite_axis(), suite_chart())
