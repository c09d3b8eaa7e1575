/* Children, each with a pipe for what it says. */
#include "world/spawn.h"

#include "base/cleanup.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

extern char **environ;

enum { LINE_BYTES_MAX = 64 * 1024 };

struct WdrSpawn {
	pid_t pid;
	int says;      /* -1: it was closed */
	GString *part; /* of a line */
	char *line;
	bool is_over, was_stopped;
	int exit_code;
};

static bool set_up(posix_spawn_file_actions_t *files, posix_spawnattr_t *attributes,
	const char *out_path, const char *err_path, int says)
{
	const int flags = O_WRONLY | O_CREAT | O_TRUNC;
	sigset_t defaults;

	sigemptyset(&defaults);
	sigaddset(&defaults, SIGPIPE);
	/* Closed on exec but for what it is given: dup2() to the same number would not clear that.
	 */
	return posix_spawn_file_actions_addopen(files, STDIN_FILENO, "/dev/null", O_RDONLY, 0) ==
		       0 &&
	       posix_spawn_file_actions_addopen(files, STDOUT_FILENO, out_path, flags, 0600) == 0 &&
	       posix_spawn_file_actions_addopen(files, STDERR_FILENO, err_path, flags, 0600) == 0 &&
	       posix_spawn_file_actions_adddup2(files, says, WDR_SPAWN_SAYS) == 0 &&
	       posix_spawnattr_setsigdefault(attributes, &defaults) == 0 &&
	       posix_spawnattr_setpgroup(attributes, 0) == 0 &&
	       posix_spawnattr_setflags(
		       attributes, POSIX_SPAWN_SETPGROUP | POSIX_SPAWN_SETSIGDEF) == 0;
}

/* Above the numbers that a child is given. */
static bool make_pipe(int ret[2])
{
	int both[2];

	if (pipe2(both, O_CLOEXEC) != 0)
		return false;
	for (size_t i = 0; i < 2; i++) {
		ret[i] = fcntl(both[i], F_DUPFD_CLOEXEC, WDR_SPAWN_SAYS + 1);
		close(both[i]);
	}
	return ret[0] >= 0 && ret[1] >= 0;
}

bool wdr_spawn_start(const char *program, const char *const *argv, const char *out_path,
	const char *err_path, WdrSpawn **ret, GError **error)
{
	posix_spawn_file_actions_t files;
	posix_spawnattr_t attributes;
	int both[2] = { -1, -1 };
	pid_t pid = 0;
	int failed = 0;

	posix_spawn_file_actions_init(&files);
	posix_spawnattr_init(&attributes);
	if (!make_pipe(both) || !set_up(&files, &attributes, out_path, err_path, both[1]))
		failed = errno ? errno : ENOMEM;
	else
		failed = posix_spawn(
			&pid, program, &files, &attributes, (char *const *)argv, environ);
	posix_spawn_file_actions_destroy(&files);
	posix_spawnattr_destroy(&attributes);
	if (both[1] >= 0)
		close(both[1]);
	if (failed) {
		if (both[0] >= 0)
			close(both[0]);
		return wdr_error_set_errno(error, failed, "starting %s", program);
	}
	WdrSpawn *c = g_new0(WdrSpawn, 1);
	c->pid = pid;
	c->says = both[0];
	(void)fcntl(c->says, F_SETFL, O_NONBLOCK);
	c->part = g_string_new(NULL);
	*ret = c;
	return true;
}

void wdr_spawn_free(WdrSpawn *c)
{
	if (!c)
		return;
	wdr_fd_clear(&c->says);
	g_string_free(c->part, TRUE);
	g_free(c->line);
	g_free(c);
}

static void listen_to(WdrSpawn *c)
{
	char bytes[4096];
	ssize_t n = 0;

	while ((n = read(c->says, bytes, sizeof(bytes))) > 0) {
		g_string_append_len(c->part, bytes, n);
		if (c->part->len > LINE_BYTES_MAX)
			g_string_truncate(c->part, 0);
		char *end = strrchr(c->part->str, '\n');
		if (!end)
			continue;
		*end = '\0';
		char *begin = strrchr(c->part->str, '\n');
		g_free(c->line);
		c->line = g_strdup(begin ? begin + 1 : c->part->str);
		g_string_erase(c->part, 0, end + 1 - c->part->str);
	}
	if (n == 0)
		wdr_fd_clear(&c->says);
}

static void look_after(WdrSpawn *c)
{
	int status = 0;

	if (c->is_over || waitpid(c->pid, &status, WNOHANG) != c->pid)
		return;
	c->is_over = true;
	c->exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

void wdr_spawns_wait(const GPtrArray *children, int milliseconds)
{
	g_autofree struct pollfd *all = g_new0(struct pollfd, children->len + 1);

	for (guint i = 0; i < children->len; i++)
		all[i] = (struct pollfd){ ((WdrSpawn *)children->pdata[i])->says, POLLIN, 0 };
	(void)poll(all, children->len, milliseconds);
	for (guint i = 0; i < children->len; i++) {
		WdrSpawn *c = children->pdata[i];
		if (c->says >= 0)
			listen_to(c);
		look_after(c);
	}
}

const char *wdr_spawn_said(const WdrSpawn *c)
{
	return c->line;
}

bool wdr_spawn_is_over(const WdrSpawn *c)
{
	return c->is_over;
}

int wdr_spawn_exit_code(const WdrSpawn *c)
{
	return c->exit_code;
}

void wdr_spawn_stop(WdrSpawn *c)
{
	if (!c->is_over && !c->was_stopped)
		kill(c->pid, SIGTERM);
	c->was_stopped = true;
}
