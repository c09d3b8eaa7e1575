/* wanderitas demo: makes a bench with sample boards. */
#include "cli/cli.h"

#include "cli/progress.h"
#include "sample/sample.h"

static int demo_run(WdrGlobals *globals, int argc, char **argv)
{
	gboolean is_small = FALSE;
	const GOptionEntry entries[] = {
		{ "small", 0, 0, G_OPTION_ARG_NONE, &is_small,
			"Give the first board fewer and smaller files, for a quick try", NULL },
		{ 0 },
	};
	g_autoptr(GError) error = NULL;
	g_autoptr(WdrWorld) world = NULL;
	WdrOut out = wdr_cli_stdout(globals);

	if (!wdr_cli_parse(&wdr_cmd_demo, globals, entries, &argc, &argv, &error) ||
		!wdr_cli_world(globals, &world, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	if (argc != 2) {
		wdr_error_set(&error, WDR_ERROR_USAGE, "demo takes one folder");
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	}
	if (!wdr_sample_make_bench(world, argv[1], is_small, &error))
		return wdr_cli_fail(globals, error, WDR_EXIT_REFUSED);
	wdr_progress_end();
	wdr_out_text(
		&out, WDR_STYLE_GOOD, "a bench with the board heron-hide-3 is in %s\n", argv[1]);
	wdr_out_text(&out, WDR_STYLE_PLAIN,
		"three more boards have benches of their own below it:\n"
		"  %s/boards/bittern-tower-1    extlinux menu, GPT\n"
		"  %s/boards/kingfisher-weir-2  loader script with settings, MBR\n"
		"  %s/boards/dipper-brook-4     extlinux menu, a driver missing\n"
		"try: wanderitas --bench %s survey\n",
		argv[1], argv[1], argv[1], argv[1]);
	return WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_demo = { "demo", "DIR", "Make a bench: a folder with sample boards.",
	WDR_GROUP_AFTER, demo_run };
