/* Scratch files without a name, and where to have them.
 *
 * /tmp is often memory, which a board has too little of. /var/tmp is on a disk; the folder that a
 * file was found in may have more room. */
#include "world/scratch_file.h"

#include "base/cleanup.h"
#include "base/io.h"

#include <fcntl.h>

/* Some file systems know no files without a name: such a file is made and removed at once. */
static int make(const char *folder)
{
	int fd = open(folder, O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);

	if (fd >= 0 || (errno != EOPNOTSUPP && errno != EISDIR && errno != EINVAL))
		return fd;
	g_autofree char *path = g_build_filename(folder, ".wanderitas-XXXXXX", NULL);
	fd = g_mkstemp_full(path, O_RDWR | O_CLOEXEC, 0600);
	if (fd >= 0)
		unlink(path);
	return fd;
}

/* The first of these that a file can be made in. */
static bool make_in(
	const char *const *folders, size_t n, int *ret, char **ret_folder, GError **error)
{
	int failed = 0;

	for (size_t i = 0; i < n; i++) {
		*ret = make(folders[i]);
		failed = *ret < 0 && failed == 0 ? errno : failed;
		if (*ret >= 0) {
			*ret_folder = g_strdup(folders[i]);
			return true;
		}
	}
	wdr_error_set_errno(error, failed, "making a scratch file in %s", folders[0]);
	wdr_error_hint(error, "set TMPDIR to a folder that can be written to");
	return false;
}

bool wdr_scratch_file_new(const char *beside, int *ret, char **ret_folder, GError **error)
{
	const char *chosen = g_getenv("TMPDIR");
	bool has_more = wdr_folder_room(beside) > wdr_folder_room("/var/tmp");
	const char *const folders[] = { has_more ? beside : "/var/tmp",
		has_more ? "/var/tmp" : beside };

	return chosen && *chosen ? make_in(&chosen, 1, ret, ret_folder, error)
				 : make_in(folders, G_N_ELEMENTS(folders), ret, ret_folder, error);
}

char *wdr_scratch_file_path(int fd)
{
	return g_strdup_printf("/proc/%ld/fd/%d", (long)getpid(), fd);
}
