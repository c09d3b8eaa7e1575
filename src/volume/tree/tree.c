/* Lists and opens entries of a mounted tree.
 *
 * Nothing is opened by an absolute path: each access begins at a descriptor of the tree's root and
 * follows no link (tree_open.c), so a link that somebody puts there meanwhile leads nowhere.
 * Entries that are on another device are other mounts, and do not count as part of the tree. */
#include "volume/tree/tree_priv.h"

#include "base/cleanup.h"
#include "base/io.h"
#include "disk/mounts.h"
#include "volume/tree/detached.h"

#include <dirent.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/xattr.h>

typedef WdrTree Tree;

enum { XATTR_MAX_BYTES = 65536 };

/* Flags that the kernel lets a user set and that ext4 keeps. */
static const uint32_t kept_flags = FS_SECRM_FL | FS_UNRM_FL | FS_COMPR_FL | FS_SYNC_FL |
				   FS_IMMUTABLE_FL | FS_APPEND_FL | FS_NODUMP_FL | FS_NOATIME_FL |
				   FS_DIRSYNC_FL | FS_TOPDIR_FL | FS_JOURNAL_DATA_FL |
				   FS_NOTAIL_FL | FS_PROJINHERIT_FL;

enum { LOOKS_MAX = 4 };

/* What a look at an entry tells without opening it. */
static WdrEntry glance(const WdrStat *st, WdrKind kind)
{
	return (WdrEntry){ .kind = kind,
		.mode = st->stx_mode & 07777,
		.uid = st->stx_uid,
		.gid = st->stx_gid,
		.links = st->stx_nlink,
		.size = kind == WDR_KIND_FILE || kind == WDR_KIND_SYMLINK ? st->stx_size : 0,
		.atime = wdr_tree_time(&st->stx_atime),
		.mtime = wdr_tree_time(&st->stx_mtime),
		.ctime = wdr_tree_time(&st->stx_ctime) };
}

static bool list_one(
	Tree *t, int fd, const struct dirent *d, WdrListFunc each, void *data, GError **error)
{
	WdrStat st = { 0 };

	if (strcmp(d->d_name, ".") == 0 || strcmp(d->d_name, "..") == 0)
		return true;
	/* Without a link it was removed or replaced while it was looked at: the name leads to
	 * nothing by now, or to something else. */
	for (int tries = 0; st.stx_nlink == 0 && tries < LOOKS_MAX; tries++) {
		if (wdr_stat_below(fd, d->d_name, &st) != 0)
			/* Gone since the folder was read: a running system does that. */
			return errno == ENOENT ? true
					       : wdr_error_set_errno(error, errno, "%s", d->d_name);
	}
	/* A file that has a name has a link; passes copy it once more when it has changed. */
	st.stx_nlink = MAX(st.stx_nlink, 1);
	WdrName name = { .name = d->d_name, .id = st.stx_ino, .links = st.stx_nlink };
	if (!wdr_kind_of_mode(st.stx_mode, &name.kind))
		return wdr_error_set(
			error, WDR_ERROR_UNSUPPORTED, "%s is of no known kind", d->d_name);
	/* What is mounted here belongs to another volume: an empty folder replaces it. */
	if (wdr_stat_device(&st) != t->device)
		return name.kind == WDR_KIND_FOLDER ? each(data, &name, error) : true;
	WdrEntry seen = glance(&st, name.kind);
	name.glance = &seen;
	return each(data, &name, error);
}

static bool tree_list(
	WdrVolume *v, const WdrNode *folder, WdrListFunc each, void *data, GError **error)
{
	Tree *t = WDR_DERIVED(v, Tree, volume);
	g_auto(WdrFd) fd = wdr_tree_open_quietly(t, folder->path);
	WdrStat st;

	if (fd < 0 || wdr_fstat(fd, &st) != 0)
		return wdr_error_set_errno(
			error, errno, "opening folder %s/%s", v->name, folder->path);
	if (wdr_stat_device(&st) != t->device || g_hash_table_contains(t->hidden, folder->path))
		return true;
	DIR *dir = fdopendir(fd);
	if (!dir)
		return wdr_error_set_errno(
			error, errno, "reading folder %s/%s", v->name, folder->path);
	fd = -1;
	bool is_fine = true;
	errno = 0;
	for (struct dirent *d; is_fine && (d = readdir(dir)); errno = 0)
		is_fine = list_one(t, dirfd(dir), d, each, data, error);
	if (is_fine && errno != 0)
		is_fine = wdr_error_set_errno(
			error, errno, "reading folder %s/%s", v->name, folder->path);
	closedir(dir);
	return is_fine;
}

/* One look at the name. Going through the folder's list instead would look at every entry of it. */
static bool tree_find(
	WdrVolume *v, const WdrNode *folder, const char *name, WdrNamed *ret, GError **error)
{
	Tree *t = WDR_DERIVED(v, Tree, volume);
	g_auto(WdrFd) fd = wdr_tree_open_quietly(t, folder->path);
	WdrStat st;

	if (fd < 0 || wdr_fstat(fd, &st) != 0)
		return wdr_error_set_errno(
			error, errno, "opening folder %s/%s", v->name, folder->path);
	/* Lists have no names like these. */
	if (strcmp(name, ".") == 0 || strcmp(name, "..") == 0 || strchr(name, '/'))
		return true;
	if (wdr_stat_device(&st) != t->device || g_hash_table_contains(t->hidden, folder->path))
		return true;
	if (wdr_stat_below(fd, name, &st) != 0)
		return errno == ENOENT || errno == ENAMETOOLONG ||
		       wdr_error_set_errno(error, errno, "%s/%s/%s", v->name, folder->path, name);
	if (!wdr_kind_of_mode(st.stx_mode, &ret->kind))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "%s is of no known kind", name);
	ret->id = st.stx_ino;
	/* Of what is mounted here, folders alone are shown: see list_one(). */
	ret->is_there = wdr_stat_device(&st) == t->device || ret->kind == WDR_KIND_FOLDER;
	return true;
}

/* xattrs through the descriptor's entry in proc: works for links and special files, which cannot be
 * opened for reading. */
static bool read_xattrs(const char *proc_path, WdrEntry *ret, GError **error)
{
	char small[1024];
	ssize_t len = listxattr(proc_path, small, sizeof(small));
	g_autofree char *large = NULL;
	const char *names = small;

	if (len < 0 && errno == ERANGE) {
		large = g_malloc(XATTR_MAX_BYTES);
		names = large;
		len = listxattr(proc_path, large, XATTR_MAX_BYTES);
	}
	if (len < 0)
		return errno == ENOTSUP ? true
					: wdr_error_set_errno(error, errno, "listing xattrs");
	if (len == 0)
		return true;
	g_autofree uint8_t *value = g_malloc(XATTR_MAX_BYTES);
	for (const char *name = names; name < names + len; name += strlen(name) + 1) {
		ssize_t got = getxattr(proc_path, name, value, XATTR_MAX_BYTES);
		if (got < 0 && errno == ENODATA)
			continue;
		if (got < 0)
			return wdr_error_set_errno(error, errno, "reading xattr %s", name);
		wdr_entry_add_xattr(ret, name, value, (size_t)got);
	}
	wdr_entry_sort_xattrs(ret);
	return true;
}

static void read_flags(const Tree *t, const char *path, WdrEntry *ret)
{
	g_auto(WdrFd) fd = wdr_tree_open_quietly(t, path);
	struct fsxattr x;
	int flags = 0;

	if (fd < 0)
		return;
	if (ioctl(fd, FS_IOC_GETFLAGS, &flags) == 0)
		ret->flags = (uint32_t)flags & kept_flags;
	if (ioctl(fd, FS_IOC_FSGETXATTR, &x) == 0)
		ret->project = x.fsx_projid;
}

static bool read_target(int fd, WdrEntry *ret, GError **error)
{
	g_autofree char *target = g_malloc0(PATH_MAX + 1);
	ssize_t len = readlinkat(fd, "", target, PATH_MAX);

	if (len < 0)
		return wdr_error_set_errno(error, errno, "reading a link");
	ret->target = g_steal_pointer(&target);
	ret->size = (uint64_t)len;
	return true;
}

static bool stat_open(const Tree *t, int fd, const WdrNode *node, WdrEntry *ret, GError **error)
{
	WdrStat st;
	WdrKind kind;

	if (wdr_fstat(fd, &st) != 0)
		return wdr_error_set_errno(error, errno, "looking at it");
	if (!wdr_kind_of_mode(st.stx_mode, &kind))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED, "of no known kind");
	*ret = glance(&st, kind);
	ret->has_allocated = true;
	ret->allocated = st.stx_blocks * 512;
	if (st.stx_mask & STATX_BTIME)
		ret->crtime = wdr_tree_time(&st.stx_btime);
	ret->rdev_major = st.stx_rdev_major;
	ret->rdev_minor = st.stx_rdev_minor;
	ret->place = st.stx_ino;
	if (ret->kind == WDR_KIND_SYMLINK && !read_target(fd, ret, error))
		return false;
	if (ret->kind == WDR_KIND_FILE || ret->kind == WDR_KIND_FOLDER)
		read_flags(t, node->path, ret);
	g_autofree char *proc_path = g_strdup_printf("/proc/self/fd/%d", fd);
	return read_xattrs(proc_path, ret, error);
}

static bool tree_stat(WdrVolume *v, const WdrNode *node, WdrEntry *ret, GError **error)
{
	Tree *t = WDR_DERIVED(v, Tree, volume);
	g_auto(WdrFd) fd = wdr_tree_open(t, node->path, O_PATH);
	g_auto(WdrEntry) entry = { 0 };

	if (fd < 0)
		return wdr_error_set_errno(error, errno, "opening %s/%s", v->name, node->path);
	if (!stat_open(t, fd, node, &entry, error)) {
		g_prefix_error(error, "%s/%s: ", v->name, node->path);
		return false;
	}
	*ret = entry;
	entry = (WdrEntry){ 0 };
	return true;
}

/* ---- changing ---- */

/* The folder that holds the path; *ret_name is borrowed from the path. */
static int open_parent(const Tree *t, const char *path, const char **ret_name)
{
	const char *slash = strrchr(path, '/');
	g_autofree char *folder = g_strndup(path, slash ? (size_t)(slash - path) : 0);

	*ret_name = slash ? slash + 1 : path;
	return wdr_tree_open(t, folder, O_RDONLY | O_DIRECTORY);
}

/* The xattrs of the file that goes away. What a file system cannot hold is not there either. */
static bool copy_xattrs(const Tree *t, const char *path, int fd, GError **error)
{
	g_auto(WdrFd) from = wdr_tree_open(t, path, O_PATH);
	g_auto(WdrEntry) entry = { 0 };

	if (from < 0)
		return true;
	g_autofree char *proc_path = g_strdup_printf("/proc/self/fd/%d", from);
	if (!read_xattrs(proc_path, &entry, error))
		return false;
	for (size_t i = 0; i < entry.n_xattrs; i++) {
		const WdrXattr *x = &entry.xattrs[i];
		if (fsetxattr(fd, x->name, x->value, x->len, 0) != 0 && errno != ENOTSUP)
			return wdr_error_set_errno(error, errno, "setting xattr %s", x->name);
	}
	return true;
}

/* A file system without owners says EPERM to setting them, which is fine when they are right. */
static bool set_metadata(int fd, const WdrEntry *like, GError **error)
{
	WdrStat st;

	if (fchown(fd, like->uid, like->gid) != 0 &&
		(wdr_fstat(fd, &st) != 0 || st.stx_uid != like->uid || st.stx_gid != like->gid))
		return wdr_error_set_errno(error, errno, "setting the owner");
	if (fchmod(fd, like->mode) != 0 && errno != EPERM)
		return wdr_error_set_errno(error, errno, "setting the mode");
	return wdr_set_mtime(fd, like->mtime.sec, like->mtime.nsec) == 0 ||
	       wdr_error_set_errno(error, errno, "setting the modification time");
}

static bool finish_temporary(
	const Tree *t, int fd, const char *path, const WdrEntry *like, GError **error)
{
	return copy_xattrs(t, path, fd, error) && set_metadata(fd, like, error) &&
	       (fsync(fd) == 0 || wdr_error_set_errno(error, errno, "flushing"));
}

bool wdr_tree_put_file(WdrVolume *tree, const char *path, const void *data, size_t len,
	const WdrEntry *like, GError **error)
{
	Tree *t = WDR_DERIVED(tree, Tree, volume);
	const char *name = NULL;
	g_auto(WdrFd) folder = open_parent(t, path, &name);
	g_autofree char *temporary = g_strdup_printf(".%s.wanderitas", name);

	if (folder < 0)
		return wdr_error_set_errno(
			error, errno, "opening the folder of %s/%s", tree->name, path);
	/* One that a kill left behind is ours to take away. */
	unlinkat(folder, temporary, 0);
	g_auto(WdrFd) fd =
		openat(folder, temporary, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
	if (fd < 0)
		return wdr_error_set_errno(
			error, errno, "creating a file beside %s/%s", tree->name, path);
	if (!wdr_pwrite_all(fd, data, len, 0, error) ||
		!finish_temporary(t, fd, path, like, error)) {
		g_prefix_error(error, "%s/%s: ", tree->name, path);
		unlinkat(folder, temporary, 0);
		return false;
	}
	if (renameat(folder, temporary, folder, name) != 0 || fsync(folder) != 0) {
		wdr_error_set_errno(error, errno, "replacing %s/%s", tree->name, path);
		unlinkat(folder, temporary, 0);
		return false;
	}
	return true;
}

bool wdr_tree_remove_file(WdrVolume *tree, const char *path, GError **error)
{
	const char *name = NULL;
	g_auto(WdrFd) folder = open_parent(WDR_DERIVED(tree, Tree, volume), path, &name);

	if (folder < 0)
		return errno == ENOENT ? true
				       : wdr_error_set_errno(error, errno,
						 "opening the folder of %s/%s", tree->name, path);
	if (unlinkat(folder, name, 0) != 0 && errno != ENOENT)
		return wdr_error_set_errno(error, errno, "removing %s/%s", tree->name, path);
	return fsync(folder) == 0 ||
	       wdr_error_set_errno(error, errno, "flushing the folder of %s/%s", tree->name, path);
}

static void tree_free(WdrVolume *v)
{
	Tree *t = WDR_DERIVED(v, Tree, volume);

	wdr_tree_end_ahead(t);
	g_mutex_clear(&t->ahead_lock);
	g_cond_clear(&t->ahead_changed);
	g_hash_table_unref(t->hidden);
	wdr_sweep_free(t->sweep);
	wdr_blockdev_free(t->disk);
	close(t->root);
	if (t->mount >= 0)
		close(t->mount);
	g_free(t);
}

bool wdr_tree_flush(WdrVolume *tree, GError **error)
{
	return syncfs(WDR_DERIVED(tree, Tree, volume)->root) == 0 ||
	       wdr_error_set_errno(error, errno, "flushing what is mounted at %s", tree->name);
}

void wdr_tree_hide(WdrVolume *tree, const char *path)
{
	g_hash_table_add(WDR_DERIVED(tree, Tree, volume)->hidden, g_strdup(path));
}

/* root and mount are taken over. */
static WdrVolume *tree_new(const char *folder, int root, int mount, const WdrStat *st)
{
	static const WdrVolumeOps ops = { "tree", tree_list, tree_stat, wdr_tree_content_open,
		tree_free, tree_find };
	Tree *t = g_new0(Tree, 1);

	g_mutex_init(&t->ahead_lock);
	g_cond_init(&t->ahead_changed);

	t->volume.ops = &ops;
	t->volume.name = g_strdup(folder);
	t->volume.root_id = st->stx_ino;
	t->volume.is_changing = true;
	t->root = root;
	t->mount = mount;
	t->device = wdr_stat_device(st);
	t->hidden = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
	return &t->volume;
}

bool wdr_tree_volume_open(const char *folder, WdrVolume **ret, GError **error)
{
	g_auto(WdrFd) root = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	WdrStat st;

	if (root < 0 || wdr_fstat(root, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening folder %s", folder);
	*ret = tree_new(folder, wdr_fd_steal(&root), -1, &st);
	return true;
}

/* mount: of which the tree shows the top; taken over, also on failure. */
static bool open_top(int mount_taken, const char *point, WdrVolume **ret, GError **error)
{
	g_auto(WdrFd) mount = mount_taken;
	g_auto(WdrFd) root = openat(mount, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	WdrStat st;

	if (root < 0 || wdr_fstat(root, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening folder %s", point);
	*ret = tree_new(point, wdr_fd_steal(&root), wdr_fd_steal(&mount), &st);
	return true;
}

static bool not_to_be_seen(const char *point, int failure, GError **error)
{
	return wdr_error_set_errno(error, failure, "looking under what is mounted on %s", point);
}

bool wdr_tree_volume_open_mount(const char *point, WdrVolume **ret, GError **error)
{
	int mount = wdr_detached_copy(point);

	return mount < 0 ? not_to_be_seen(point, errno, error) : open_top(mount, point, ret, error);
}

bool wdr_tree_volume_open_again(
	const WdrMount *mount, const char *point, WdrVolume **ret, GError **error)
{
	g_auto(WdrFd) in_use = open(point, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	WdrStat used;
	WdrStat named;

	if (in_use < 0 || wdr_fstat(in_use, &used) != 0 || wdr_stat(mount->source, &named) != 0)
		return wdr_error_set_errno(error, errno, "opening folder %s", point);
	if (!S_ISBLK(named.stx_mode) || wdr_stat_node(&named) != wdr_stat_device(&used))
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s is not what is mounted at %s", mount->source, point);
	int again = wdr_detached_again(mount);
	return again < 0 ? not_to_be_seen(point, errno, error) : open_top(again, point, ret, error);
}
