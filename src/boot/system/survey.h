/* What there is: the board, the running system, the disks and what is on them. Only reads; what
 * cannot be read is part of the answer. */
#pragma once

#include "boot/system/system.h"

typedef struct {
	WdrDisk *disk;
	WdrSystem *system;    /* NULL: could not be read */
	char *problem;        /* why not */
	bool lacks_rights;    /* root could have read it */
	char *loader;         /* before its partitions or in some; NULL: none is known */
	char *loader_problem; /* why this board does not boot by it; NULL: nothing speaks against it
			       */
	bool is_live;         /* the system runs from it; see wdr_disk_is_live() */
	GPtrArray *mounted;   /* char * or NULL, one for each of system->parts */
} WdrSurveyDisk;

typedef struct {
	char *board; /* NULL: the machine does not say */
	char *os_name, *host_name, *kernel;
	char *root_source; /* name of the partition that / is mounted from; NULL: unknown */
	bool has_machine;  /* false: only images named by the user were looked at */
	GPtrArray *disks;  /* WdrSurveyDisk */
	GPtrArray *others; /* the same: disks that were not asked for, but that mentions may name */
} WdrSurvey;

/* names NULL or empty: all disks of the world. */
bool wdr_survey_make(const WdrWorld *world, char *const *names, WdrSurvey **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
void wdr_survey_free(WdrSurvey *s);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrSurvey, wdr_survey_free)

/* "mmcblk0p2"; for images "2" behind the file's name. The caller's. */
char *wdr_survey_part_name(const WdrSurveyDisk *d, unsigned number);
/* The systems (WdrSystem) of the machine's disks but these two (b may be NULL); disks that cannot
 * be read are none. */
bool wdr_systems_beside(const WdrWorld *world, const WdrDisk *a, const WdrDisk *b, GPtrArray **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* A disk opened for reading, and read as a system. */
bool wdr_system_open(const WdrWorld *world, const WdrDisk *disk, WdrSystem **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
