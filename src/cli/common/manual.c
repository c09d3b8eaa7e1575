/* Prints the help of one command. */
#include "cli/common/manual.h"

#include <stdio.h>
#include <string.h>

bool wdr_manual_print(const char *name)
{
	for (const WdrManual *m = wdr_manual; m->name; m++) {
		if (strcmp(m->name, name) != 0)
			continue;
		for (size_t i = 0; m->help[i]; i++)
			puts(m->help[i]);
		return true;
	}
	return false;
}
