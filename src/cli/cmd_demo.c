/* wanderitas demo: makes a bench with sample boards. */
#include "cli/common/cli.h"

#include "base/command.h"
#include "base/json.h"
#include "cli/common/progress.h"
#include "sample/sample.h"

static const struct {
	const char *name, *folder, *boots_by;
} boards[] = {
	{ "heron-hide-3", NULL, "firmware, FAT boot volume, MBR" },
	{ "bittern-tower-1", "boards/bittern-tower-1", "extlinux menu, GPT" },
	{ "kingfisher-weir-2", "boards/kingfisher-weir-2", "loader script with settings, MBR" },
	{ "dipper-brook-4", "boards/dipper-brook-4", "extlinux menu, a driver missing" },
	{ "curlew-dune-5", "boards/curlew-dune-5", "UEFI firmware, GRUB, GPT" },
};

/* The caller's. */
static char *bench_of(const char *folder, size_t board)
{
	return boards[board].folder ? g_build_filename(folder, boards[board].folder, NULL)
				    : g_strdup(folder);
}

static void show(const WdrOut *out, const char *folder)
{
	wdr_out_text(out, WDR_STYLE_GOOD, "five boards, each with a bench of its own:\n");
	for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
		g_autofree char *bench = bench_of(folder, i);
		wdr_out_text(out, WDR_STYLE_PLAIN, "  %-17s  %s  (%s)\n", boards[i].name, bench,
			boards[i].boots_by);
	}
	wdr_command_use_bench(folder);
	g_autofree char *look = wdr_command("survey");
	wdr_out_text(out, WDR_STYLE_PLAIN, "try: %s\n", look);
}

static void show_json(const char *folder)
{
	json_t *list = json_array();

	for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
		g_autofree char *bench = bench_of(folder, i);
		json_array_append_new(
			list, json_pack("{s:s, s:o, s:s}", "name", boards[i].name, "bench",
				      wdr_json_text(bench), "boots_by", boards[i].boots_by));
	}
	g_autoptr(json_t) root =
		json_pack("{s:s, s:o}", "format", "wanderitas-demo/1", "boards", list);
	wdr_json_print(root, stdout);
}

static int demo_run(WdrGlobals *globals, int argc, char **argv)
{
	gboolean is_small = FALSE;
	const GOptionEntry entries[] = {
		WDR_OPTION("small", 0, NONE, &is_small),
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
	if (globals->json)
		show_json(argv[1]);
	else
		show(&out, argv[1]);
	return WDR_EXIT_DONE;
}

const WdrCommand wdr_cmd_demo = { "demo", demo_run };
