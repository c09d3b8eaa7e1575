#include "bench.h"

#include "base/io.h"

#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static char *template_folder;
static bool is_own = true;
static char *moved_folder;

/* One that was made for all suites of a run, or one of this suite's own. */
void bench_make(void)
{
	const char *shared = g_getenv("WANDERITAS_TEST_BENCH");

	if (shared) {
		template_folder = g_path_get_dirname(shared);
		is_own = false;
		return;
	}
	template_folder = g_dir_make_tmp("wanderitas-bench-XXXXXX", NULL);
	g_autofree char *command = g_strdup_printf(
		"ASAN_OPTIONS=detect_leaks=0 %s --quiet demo --small %s/bench >/dev/null",
		sup_program(), template_folder);

	ck_assert_int_eq(system(command), 0);
}

void bench_remove(void)
{
	if (is_own)
		wdr_remove_folder(template_folder);
	g_free(template_folder);
	if (moved_folder)
		wdr_remove_folder(moved_folder);
	g_clear_pointer(&moved_folder, g_free);
}

/* All of one bench: not what lies below boards/, which are benches of their own. */
static void copy_bench(const char *from, const char *to)
{
	static const char copy[] =
		"mkdir -p \"$1\" && cp -a \"$0/dev\" \"$0/proc\" \"$0/sys\" \"$0/root\" \"$0/bin\" \"$1\"";

	SUP_TOOL("sh", "-c", copy, from, to);
}

void bench_make_moved(void)
{
	bench_make();
	moved_folder = g_dir_make_tmp("wanderitas-bench-XXXXXX", NULL);
	sup_setup();
	g_autofree char *from = g_build_filename(template_folder, "bench", NULL);
	g_autofree char *moved = bench_moved();
	copy_bench(from, moved);
	SUP_TOOL(sup_program(), "--bench", moved, "move", "--to", "nvme0n1", "--erase", "nvme0n1");
	sup_teardown();
}

char *bench_moved(void)
{
	return g_build_filename(moved_folder, "bench", NULL);
}

void bench_restart(const char *bench)
{
	SUP_TOOL(WDR_TEST_DATA "/../../scripts/running-bench", bench, "nvme0n1");
}

void bench_take_moved(void)
{
	g_autofree char *from = bench_moved();

	ck_assert(access(sup_path("bench"), F_OK) != 0);
	copy_bench(from, sup_path("bench"));
}

void bench_add(const char *below)
{
	g_autofree char *from = g_build_filename(template_folder, "bench", below, NULL);

	if (access(bench_path(below), F_OK) != 0)
		copy_bench(from, bench_path(below));
}

const char *bench_path(const char *path)
{
	g_autofree char *relative = g_build_filename("bench", path, NULL);

	/* The first board's own is copied when a test first needs it: many need another alone. */
	if (!g_str_has_prefix(path, "boards/") && access(sup_path("bench/dev"), F_OK) != 0) {
		g_autofree char *from = g_build_filename(template_folder, "bench", NULL);
		copy_bench(from, sup_path("bench"));
	}
	return sup_path(relative);
}

SupRun bench_run(const char *input, const char *const *arguments)
{
	const char *argv[32] = { sup_program(), "--bench", bench_path(".") };
	size_t n = 3;

	for (size_t i = 0; arguments[i]; i++)
		argv[n++] = arguments[i];
	return sup_run(input, argv);
}

const char *bench_faults(void)
{
	const char *library = g_getenv("WANDERITAS_TEST_FAULTS");

	return library ? library : WDR_TEST_FAULTS;
}

const char *bench_program_for_others(void)
{
	const char *argv[] = { "setpriv", "--reuid=65534", "--clear-groups", "test", "-x",
		sup_program(), NULL };

	if (!sup_is_root() || sup_run("", argv).code == 0)
		return sup_program();
	SUP_TOOL("cp", sup_program(), sup_path("program"));
	return sup_path("program");
}

void bench_begin_faults(const char *faults)
{
	setenv("WDR_FAULTS", faults, 1);
	setenv("LD_PRELOAD", bench_faults(), 1);
}

void bench_begin_old_kernel(void)
{
	setenv("WDR_OLD_KERNEL", "1", 1);
	setenv("LD_PRELOAD", bench_faults(), 1);
}

void bench_end_faults(void)
{
	unsetenv("WDR_OLD_KERNEL");
	unsetenv("LD_PRELOAD");
	unsetenv("WDR_FAULTS");
}

SupRun bench_run_with_faults(const char *faults, const char *const *arguments)
{
	bench_begin_faults(faults);
	SupRun run = bench_run("", arguments);
	bench_end_faults();
	return run;
}

uint64_t bench_root_block(const char *image, const char *file, unsigned index)
{
	g_autofree char *request = g_strdup_printf("bmap /%s %u", file, index);
	g_autofree char *volume = g_strdup_printf("%s?offset=%u", image, (unsigned)ROOT_AT);
	uint64_t block = g_ascii_strtoull(SUP_TOOL("debugfs", "-R", request, volume), NULL, 10);

	ck_assert_uint_gt(block, 0);
	return ROOT_AT + block * 4096;
}

static void become_program(const char *const *arguments)
{
	const char *argv[16] = { sup_program(), "--bench", bench_path(".") };
	int out = open(sup_path("out"), O_WRONLY | O_CREAT | O_TRUNC, 0644);

	for (size_t i = 0; arguments[i]; i++)
		argv[3 + i] = arguments[i];
	setenv("ASAN_OPTIONS", "detect_leaks=0:verify_asan_link_order=0:quarantine_size_mb=16", 1);
	dup2(out, 1);
	dup2(out, 2);
	execv(sup_program(), (char *const *)(uintptr_t)argv);
	_exit(127);
}

int bench_interrupt(int number, const char *when, const char *const *arguments)
{
	g_autofree char *signal = g_strdup_printf("%d:%s", number, when);
	int status = 0;

	pid_t child = fork();
	if (child == 0) {
		setenv("WDR_SIGNAL", signal, 1);
		setenv("LD_PRELOAD", bench_faults(), 1);
		become_program(arguments);
	}
	ck_assert_int_eq(waitpid(child, &status, 0), child);
	return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

void bench_expect(const SupRun *run, int code, const char *text)
{
	ck_assert_msg(run->code == code, "ended with %d, not %d:\n%.3000s%.1000s", run->code, code,
		run->out, run->err);
	if (text)
		ck_assert_msg(strstr(run->out, text) || strstr(run->err, text),
			"no '%s' in:\n%.3000s%.1000s", text, run->out, run->err);
}

static char *mtools_image(const char *image)
{
	return g_strdup_printf("%s@@%u", image, (unsigned)BOOT_AT);
}

char *bench_boot_file(const char *image, const char *file)
{
	g_autofree char *at = mtools_image(image);
	g_autofree char *path = g_strconcat("::", file, NULL);

	return SUP_TOOL("mtype", "-i", at, path);
}

void bench_put_boot_file(const char *image, const char *file, const char *text)
{
	g_autofree char *at = mtools_image(image);
	g_autofree char *path = g_strconcat("::", file, NULL);

	sup_write(sup_path("put"), text);
	SUP_TOOL("mcopy", "-o", "-D", "o", "-i", at, sup_path("put"), path);
}

static char *root_volume(const char *image)
{
	return g_strdup_printf("%s?offset=%u", image, (unsigned)ROOT_AT);
}

char *bench_root_file(const char *image, const char *file)
{
	g_autofree char *request = g_strconcat("cat /", file, NULL);
	g_autofree char *volume = root_volume(image);

	return SUP_TOOL("debugfs", "-R", request, volume);
}

void bench_change_root(const char *image, const char *const *requests)
{
	g_autofree char *volume = root_volume(image);

	for (size_t i = 0; requests[i]; i++)
		SUP_TOOL("debugfs", "-w", "-R", requests[i], volume);
}

void bench_put_root_file(const char *image, const char *file, const char *text)
{
	g_autofree char *remove = g_strconcat("rm /", file, NULL);
	g_autofree char *write = g_strdup_printf("write %s %s", sup_path("put"), file);
	const char *requests[] = { remove, write, NULL };

	sup_write(sup_path("put"), text);
	bench_change_root(image, requests);
}
