# Writes commit.h: the commit that a build is made from. A checkout asks git; an archive that git made has it in
# cmake/commit.txt; anything else says "unknown". The file is touched only when it changes.
#   cmake -DFROM=SOURCES -DTO=FILE -P commit.cmake
set(commit unknown)
if(EXISTS ${FROM}/.git)
	execute_process(COMMAND git -C ${FROM} rev-parse --short=12 HEAD OUTPUT_VARIABLE found
		OUTPUT_STRIP_TRAILING_WHITESPACE ERROR_QUIET RESULT_VARIABLE failed)
	if(failed EQUAL 0)
		set(commit ${found})
		execute_process(COMMAND git -C ${FROM} diff --quiet HEAD ERROR_QUIET RESULT_VARIABLE changed)
		if(NOT changed EQUAL 0)
			string(APPEND commit ", changed since")
		endif()
	endif()
else()
	file(STRINGS ${FROM}/cmake/commit.txt found LIMIT_COUNT 1)
	if(found MATCHES "^[0-9a-f]+$")
		string(SUBSTRING ${found} 0 12 commit)
	endif()
endif()
file(CONFIGURE OUTPUT ${TO} CONTENT "#define WDR_COMMIT \"${commit}\"\n")
