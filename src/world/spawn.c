/* Copies of the program, each with a pipe for what it says. */
#include "world/spawn.h"

#include "base/cleanup.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

enum { LINE_BYTES_MAX = 64 * 1024, LOST = 255 };

struct WdrSpawn {
	pid_t pid;
	int says;      /* -1: it was closed */
	GString *part; /* of a line */
	char *line;
	bool is_over, was_stopped;
	int exit_code;
};

typedef struct {
	WdrFd in, out, err, says, heard;
} Ends;

static void ends_clear(Ends *e)
{
	wdr_fd_clear(&e->in);
	wdr_fd_clear(&e->out);
	wdr_fd_clear(&e->err);
	wdr_fd_clear(&e->says);
	wdr_fd_clear(&e->heard);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Ends, ends_clear)

static bool open_ends(const WdrSpawnTask *task, Ends *ret, GError **error)
{
	const int flags = O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC;
	int both[2];

	if (pipe2(both, O_CLOEXEC) != 0)
		return wdr_error_set_errno(error, errno, "making a pipe");
	ret->heard = both[0];
	ret->says = both[1];
	(void)fcntl(ret->heard, F_SETFL, O_NONBLOCK);
	ret->in = open("/dev/null", O_RDONLY | O_CLOEXEC);
	if (ret->in < 0)
		return wdr_error_set_errno(error, errno, "opening /dev/null");
	ret->out = open(task->out_path, flags, 0600);
	if (ret->out < 0)
		return wdr_error_set_errno(error, errno, "creating %s", task->out_path);
	ret->err = open(task->err_path, flags, 0600);
	if (ret->err < 0)
		return wdr_error_set_errno(error, errno, "creating %s", task->err_path);
	return true;
}

/* An answer that did not get out is none. What is open stays open until the end: it is the
 * program's, or goes with the process. */
static G_NORETURN void be_child(
	const WdrSpawnTask *task, const GPtrArray *siblings, const Ends *ends)
{
	/* While a copy has the reading end of another's pipe, that one would wait for a reader when
	 * the program is gone. */
	for (guint i = 0; i < siblings->len; i++)
		close(((WdrSpawn *)siblings->pdata[i])->says);
	close(ends->heard);
	setpgid(0, 0);
	if (dup2(ends->in, STDIN_FILENO) < 0 || dup2(ends->out, STDOUT_FILENO) < 0 ||
		dup2(ends->err, STDERR_FILENO) < 0)
		_exit(LOST);
	int code = task->work(task->data, ends->says);
	_exit(fflush(stdout) == 0 && !ferror(stdout) ? code : LOST);
}

bool wdr_spawn_start(const WdrSpawnTask *task, GPtrArray *children, GError **error)
{
	g_auto(Ends) ends = { -1, -1, -1, -1, -1 };

	if (!open_ends(task, &ends, error))
		return false;
	/* What is still to be printed is the program's to print. */
	(void)fflush(NULL);
	pid_t pid = fork();
	if (pid < 0)
		return wdr_error_set_errno(error, errno, "starting a copy of this program");
	if (pid == 0)
		be_child(task, children, &ends);
	WdrSpawn *c = g_new0(WdrSpawn, 1);
	c->pid = pid;
	c->says = wdr_fd_steal(&ends.heard);
	c->part = g_string_new(NULL);
	g_ptr_array_add(children, c);
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
