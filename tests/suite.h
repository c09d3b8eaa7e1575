/* A folder's suites, run one after the other. Each file of tests defines one function that makes
 * its suite; main.c of the folder lists them. */
#pragma once

#include <check.h>
#include <stdlib.h>

#define SUITE_MAIN(...)                                                                            \
	int main(void)                                                                             \
	{                                                                                          \
		/* Not a time in which a test should end: one in which it surely hangs. */         \
		setenv("CK_DEFAULT_TIMEOUT", "900", 0);                                            \
		Suite *suites[] = { __VA_ARGS__ };                                                 \
		SRunner *runner = srunner_create(suites[0]);                                       \
		for (size_t i = 1; i < sizeof(suites) / sizeof(*suites); i++)                      \
			srunner_add_suite(runner, suites[i]);                                      \
		srunner_run_all(runner, CK_ENV);                                                   \
		int failed = srunner_ntests_failed(runner);                                        \
		srunner_free(runner);                                                              \
		return failed ? EXIT_FAILURE : EXIT_SUCCESS;                                       \
	}
