/* The reports of many boards: a page for each, one that lists them, and a table for labels. */
#pragma once

#include "cli/common/cli.h"

typedef struct {
	const char *roster;  /* its slots; NULL: the documents of a folder */
	const char *reports; /* the folder, with what `report --json` printed in files *.json */
	const char *folder;  /* gets the pages; is made if need be; NULL: no pages */
} WdrReportMany;

bool wdr_cli_report_many(const WdrGlobals *globals, const WdrReportMany *o,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
