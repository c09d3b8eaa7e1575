#include "suite.h"

Suite *suite_advice(void);
Suite *suite_corrections(void);
Suite *suite_boards(void);
Suite *suite_commands(void);
Suite *suite_damage(void);
Suite *suite_large(void);
Suite *suite_drivers(void);
Suite *suite_formats(void);
Suite *suite_guide(void);
Suite *suite_identity(void);
Suite *suite_into(void);
Suite *suite_kinds(void);
Suite *suite_loader(void);
Suite *suite_loader_sets(void);
Suite *suite_logical(void);
Suite *suite_manual(void);
Suite *suite_medium(void);
Suite *suite_mentions(void);
Suite *suite_moves(void);
Suite *suite_readdress(void);
Suite *suite_ready(void);
Suite *suite_arrive(void);
Suite *suite_autoboot(void);
Suite *suite_running(void);
Suite *suite_second(void);
Suite *suite_pace(void);
Suite *suite_pause(void);
Suite *suite_packed_images(void);
Suite *suite_report(void);
Suite *suite_roster(void);
Suite *suite_tune(void);
Suite *suite_uefi(void);
Suite *suite_refusals(void);
Suite *suite_order(void);
Suite *suite_exit_codes(void);
Suite *suite_outputs(void);
Suite *suite_rehearse(void);
Suite *suite_resume(void);
Suite *suite_status(void);
Suite *suite_stops(void);

SUITE_MAIN(suite_commands(), suite_roster(), suite_packed_images(), suite_moves(), suite_boards(),
	suite_readdress(), suite_running(), suite_kinds(), suite_mentions(), suite_refusals(),
	suite_stops(), suite_resume(), suite_damage(), suite_large(), suite_identity(),
	suite_exit_codes(), suite_outputs(), suite_into(), suite_logical(), suite_rehearse(),
	suite_medium(), suite_ready(), suite_arrive(), suite_autoboot(), suite_drivers(),
	suite_order(), suite_loader(), suite_loader_sets(), suite_second(), suite_tune(),
	suite_uefi(), suite_pace(), suite_pause(), suite_report(), suite_formats(), suite_advice(),
	suite_corrections(), suite_manual(), suite_guide(), suite_status())
