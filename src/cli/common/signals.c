/* Stops the program at Ctrl-C and the like: politely first, at once the second time. */
#include "cli/common/signals.h"

#include "base/stop.h"

#include <glib.h>
#include <signal.h>
#include <unistd.h>

enum { PATIENCE = 2 }; /* s */

static volatile sig_atomic_t has_told, asked;

static void on_signal(int number)
{
	if (has_told) {
		signal(number, SIG_DFL);
		raise(number);
		return;
	}
	asked = number;
	wdr_stop_request(number);
	alarm(PATIENCE);
}

static void on_alarm(int number)
{
	static const char text[] =
		"\nwanderitas: stopping; waiting for the present write to complete (a disk that "
		"does not answer can take minutes)\n"
		"  press Ctrl-C again to end at once, as a power cut would\n";
	(void)number;
	if (!wdr_stop_is_careful()) {
		signal((int)asked, SIG_DFL);
		raise((int)asked);
		return;
	}
	has_told = 1;
	/* Nobody is left to tell if this fails. */
	if (write(STDERR_FILENO, text, sizeof(text) - 1) < 0)
		return;
}

void wdr_signals_set_up(void)
{
	static const int signals[] = { SIGINT, SIGTERM, SIGHUP };
	struct sigaction action = { .sa_handler = on_signal };
	struct sigaction told = { .sa_handler = on_alarm, .sa_flags = SA_RESTART };

	for (size_t i = 0; i < G_N_ELEMENTS(signals); i++)
		sigaction(signals[i], &action, NULL);
	sigaction(SIGALRM, &told, NULL);
	/* A closed terminal or pipe is an error of writing, not the end of a move. */
	signal(SIGPIPE, SIG_IGN);
}
