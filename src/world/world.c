/* Paths, programs and observers of a machine or a bench.
 *
 * Everything outside of the program is reached through here: a path gets the bench's folder in
 * front, a program of a board is looked for in the bench's bin/ folder. Tests give it a small tree
 * and own the clock. Programs are started from a list of arguments, never by a shell. */
#include "world/world.h"

#include "base/cleanup.h"
#include "base/command.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>

struct WdrWorld {
	char *bench;
	int64_t began_us;
	WdrObserver observer;
	GHashTable *kept; /* char *, Kept */
};

typedef struct {
	char *path;
	WdrFd fd;
} Kept;

static void kept_free(gpointer data)
{
	Kept *kept = data;

	wdr_fd_clear(&kept->fd);
	g_free(kept->path);
	g_free(kept);
}

bool wdr_world_new(const char *bench, WdrWorld **ret, GError **error)
{
	if (bench) {
		g_autofree char *dev = g_build_filename(bench, "dev", NULL);
		g_autofree char *root = g_build_filename(bench, "root", NULL);
		if (!wdr_is_folder(dev) || !wdr_is_folder(root)) {
			wdr_error_set(error, WDR_ERROR_USAGE, "%s is not a bench", bench);
			g_autofree char *make = wdr_command("demo", "field-bench");
			wdr_error_hint(error, "to make one with sample boards: %s", make);
			return false;
		}
	}
	WdrWorld *world = g_new0(WdrWorld, 1);
	world->bench = bench ? g_canonicalize_filename(bench, NULL) : NULL;
	g_autofree char *uptime = bench ? wdr_world_line(world, "/proc/uptime") : NULL;
	world->began_us = !bench   ? g_get_monotonic_time()
			  : uptime ? (int64_t)(g_ascii_strtod(uptime, NULL) * 1e6)
				   : 0;
	world->kept = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, kept_free);
	*ret = world;
	return true;
}

void wdr_world_free(WdrWorld *world)
{
	if (!world)
		return;
	g_hash_table_unref(world->kept);
	g_free(world->bench);
	g_free(world);
}

const char *wdr_world_keep(const WdrWorld *world, const char *key, const char *path, int fd)
{
	Kept *kept = g_new(Kept, 1);

	*kept = (Kept){ g_strdup(path), fd };
	g_hash_table_replace(world->kept, g_strdup(key), kept);
	return kept->path;
}

const char *wdr_world_kept(const WdrWorld *world, const char *key)
{
	const Kept *kept = g_hash_table_lookup(world->kept, key);

	return kept ? kept->path : NULL;
}

const char *wdr_world_bench(const WdrWorld *world)
{
	return world->bench;
}

char *wdr_world_path(const WdrWorld *world, const char *path)
{
	static const char *const beside_root[] = { "/dev", "/proc", "/sys" };

	if (!world->bench)
		return g_strdup(path);
	for (size_t i = 0; i < G_N_ELEMENTS(beside_root); i++) {
		size_t len = strlen(beside_root[i]);
		if (strncmp(path, beside_root[i], len) == 0 &&
			(path[len] == '/' || path[len] == '\0'))
			return g_build_filename(world->bench, path, NULL);
	}
	return g_build_filename(world->bench, "root", path, NULL);
}

bool wdr_world_is_running(const WdrWorld *world)
{
	static const char *const inits[] = { "/sbin/init", "/usr/sbin/init", "/bin/init" };

	for (size_t i = 0; world->bench && i < G_N_ELEMENTS(inits); i++) {
		g_autofree char *path = wdr_world_path(world, inits[i]);
		if (g_file_test(path, G_FILE_TEST_EXISTS | G_FILE_TEST_IS_SYMLINK))
			return true;
	}
	return !world->bench;
}

bool wdr_world_is_reproducible(const WdrWorld *world)
{
	(void)world;
	return g_getenv("SOURCE_DATE_EPOCH") != NULL;
}

int64_t wdr_world_now(const WdrWorld *world)
{
	const char *fixed = g_getenv("SOURCE_DATE_EPOCH");

	(void)world;
	return fixed ? g_ascii_strtoll(fixed, NULL, 10) : g_get_real_time() / G_USEC_PER_SEC;
}

int64_t wdr_world_stamp(const WdrWorld *world)
{
	return MIN(wdr_world_now(world), g_get_real_time() / G_USEC_PER_SEC);
}

int64_t wdr_world_began_us(const WdrWorld *world)
{
	return world->began_us;
}

/* The copying reports from a thread of its own. */
static GMutex observing;

void wdr_world_observe(WdrWorld *world, const WdrObserver *observer)
{
	world->observer = *observer;
}

void wdr_world_work(const WdrWorld *world, const WdrWork *work)
{
	if (!world->observer.on_work)
		return;
	g_mutex_lock(&observing);
	world->observer.on_work(world->observer.data, work);
	g_mutex_unlock(&observing);
}

void wdr_world_numbered_step(const WdrWorld *world, unsigned number, const char *step)
{
	if (!world->observer.on_step)
		return;
	g_mutex_lock(&observing);
	world->observer.on_step(world->observer.data, number, step);
	g_mutex_unlock(&observing);
}

void wdr_world_step(const WdrWorld *world, const char *format, ...)
{
	va_list args;

	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_world_numbered_step(world, 0, text);
}

void wdr_world_note(const WdrWorld *world, const char *format, ...)
{
	va_list args;

	if (!world->observer.on_note)
		return;
	va_start(args, format);
	g_autofree char *text = g_strdup_vprintf(format, args);
	va_end(args);
	g_mutex_lock(&observing);
	world->observer.on_note(world->observer.data, text);
	g_mutex_unlock(&observing);
}

void wdr_world_progress(const WdrWorld *world, const WdrProgress *progress)
{
	if (!world->observer.on_progress)
		return;
	g_mutex_lock(&observing);
	world->observer.on_progress(world->observer.data, progress);
	g_mutex_unlock(&observing);
}

void wdr_run_clear(WdrRun *run)
{
	g_clear_pointer(&run->output, g_free);
}

/* Programs that ask or change the machine itself. On a bench only stand-ins will do: those of this
 * machine would change it in the bench's place. */
static bool is_of_machine(const char *name)
{
	static const char *const names[] = { "dracut", "efibootmgr", "rpi-eeprom-config",
		"systemctl", "systemd-run", "update-initramfs", "vcgencmd", NULL };

	return g_strv_contains(names, name);
}

static char *search_path(const WdrWorld *world)
{
	const char *path = g_getenv("PATH");
	g_autofree char *bin = world->bench ? g_build_filename(world->bench, "bin", NULL) : NULL;

	return g_strconcat(bin ? bin : "", bin ? ":" : "", path ? path : "", path ? ":" : "",
		"/usr/local/sbin:/usr/sbin:/sbin:/usr/bin:/bin", NULL);
}

static char *find_program(const char *path, const char *name)
{
	g_auto(GStrv) folders = g_strsplit(path, ":", -1);

	if (strchr(name, '/'))
		return g_strdup(name);
	for (size_t i = 0; folders[i]; i++) {
		g_autofree char *full = g_build_filename(folders[i], name, NULL);
		if (*folders[i] && g_file_test(full, G_FILE_TEST_IS_EXECUTABLE) &&
			!wdr_is_folder(full))
			return g_steal_pointer(&full);
	}
	return NULL;
}

char *wdr_world_program(const WdrWorld *world, const char *name)
{
	g_autofree char *bench = world->bench && is_of_machine(name)
					 ? g_build_filename(world->bench, "bin", NULL)
					 : NULL;
	g_autofree char *path = bench ? g_steal_pointer(&bench) : search_path(world);

	return find_program(path, name);
}

static char **program_environment(const char *path, const char *const *extra)
{
	char **environment = g_get_environ();

	environment = g_environ_setenv(environment, "LC_ALL", "C", TRUE);
	environment = g_environ_setenv(environment, "PATH", path, TRUE);
	for (size_t i = 0; extra && extra[i]; i++) {
		g_auto(GStrv) pair = g_strsplit(extra[i], "=", 2);
		environment = g_environ_setenv(environment, pair[0], pair[1], TRUE);
	}
	return environment;
}

char *wdr_world_line(const WdrWorld *world, const char *path)
{
	g_autofree char *where = wdr_world_path(world, path);
	g_autofree char *line = wdr_read_line(where);

	return line && *line ? g_steal_pointer(&line) : NULL;
}

/* Debian's, of the programs that a move runs; NULL: another one, which the board's system has. */
static const char *package_of(const char *program)
{
	static const struct {
		const char *program, *package;
	} all[] = {
		{ "mkfs.ext4", "e2fsprogs" },
		{ "e2fsck", "e2fsprogs" },
		{ "tune2fs", "e2fsprogs" },
		{ "mkfs.vfat", "dosfstools" },
		{ "fsck.fat", "dosfstools" },
		{ "efibootmgr", "efibootmgr" },
	};

	for (size_t i = 0; i < G_N_ELEMENTS(all); i++) {
		if (strcmp(program, all[i].program) == 0)
			return all[i].package;
	}
	return NULL;
}

bool wdr_world_run(const WdrWorld *world, const char *const *argv, const char *const *environment,
	WdrRun *ret, GError **error)
{
	g_autofree char *path = search_path(world);
	g_autofree char *program = wdr_world_program(world, argv[0]);
	g_auto(GStrv) words = g_strdupv((char **)argv);
	g_auto(GStrv) env = program_environment(path, environment);
	g_autofree char *out = NULL;
	g_autofree char *err = NULL;
	g_autoptr(GError) local = NULL;
	int status = 0;

	if (!program) {
		wdr_error_set(error, WDR_ERROR_IO, "the program %s is not installed", argv[0]);
		const char *package = package_of(argv[0]);
		g_autofree char *install =
			package ? wdr_system_command("apt", "install", package) : NULL;
		if (install)
			wdr_error_hint(error, "to install it on Debian: %s", install);
		return false;
	}
	g_free(words[0]);
	words[0] = g_strdup(program);
	g_autofree char *line = g_strjoinv(" ", words);
	g_debug("running %s", line);
	int64_t begun = g_get_monotonic_time();
	/* All our descriptors are closed on exec. Leaving that to the kernel lets GLib use
	 * posix_spawn, which does not copy the page tables of a move that holds much memory. */
	if (!g_spawn_sync(NULL, words, env, G_SPAWN_LEAVE_DESCRIPTORS_OPEN, NULL, NULL, &out, &err,
		    &status, &local))
		return wdr_error_set(
			error, WDR_ERROR_IO, "running %s: %s", argv[0], local->message);
	g_debug("%s took %.2f s", argv[0], wdr_seconds_since(begun));
	ret->exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
	ret->output = g_strconcat(out, err, NULL);
	return true;
}
