/* Asks the board's firmware through its command. */
#include "world/ask_firmware.h"

char *wdr_firmware_ask(const WdrWorld *world, const char *question)
{
	const char *argv[] = { "vcgencmd", question, NULL };
	g_auto(WdrRun) run = { 0 };

	return wdr_world_run(world, argv, NULL, &run, NULL) && run.exit_code == 0
		       ? g_steal_pointer(&run.output)
		       : NULL;
}
