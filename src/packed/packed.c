/* Recognises a packed disk image, unpacks it, and compares it with its checksum file.
 *
 * It goes into a sparse file: of a card of 32 GiB with 3 GiB on it, 3 GiB are written. How much
 * that will be is not known before the end, so the room is looked at on the way, and some of it is
 * always left: this may be the system's own disk. */
#include "packed/packed.h"

#include "base/cleanup.h"
#include "base/command.h"
#include "base/io.h"
#include "base/stat.h"
#include "base/stop.h"
#include "base/text.h"
#include "packed/checksum_file.h"
#include "packed/packed_stream.h"
#include "packed/zip_file.h"
#include "world/scratch_file.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <zlib.h>

enum {
	CHUNK_BYTES = 1024 * 1024,
	HOLE_BYTES = 64 * 1024, /* zeros of this length, at such a place, are not written */
	MAGIC_BYTES = 8,
};
#define ROOM_EVERY_BYTES (UINT64_C(64) * 1024 * 1024)
/* Unpacking that takes longer is worth doing once for several commands. */
#define LONG_US (30 * G_USEC_PER_SEC)
#define ROOM_TO_LEAVE (UINT64_C(64) * 1024 * 1024)

typedef struct {
	const char *kind;
	const char *suffixes[3];
	const char *magic;
	size_t len;
	const char *command; /* unpacks it, and keeps the packed file */
} Kind;

static const Kind kinds[] = {
	{ "xz", { ".xz" },
		"\xfd"
		"7zXZ\0",
		6, "xz -dk" },
	{ "gzip", { ".gz", ".gzip" }, "\x1f\x8b\x08", 3, "gzip -dk" },
	{ "bzip2", { ".bz2" }, "BZh", 3, "bzip2 -dk" },
	{ "zstd", { ".zst", ".zstd" }, "\x28\xb5\x2f\xfd", 4, "zstd -d" },
	{ "zip", { ".zip" }, "PK\x03\x04", 4, "unzip" },
};

/* What programs convert: "PROGRAM FROM TO". */
static const struct {
	const char *kind, *magic;
	size_t len;
	const char *command;
} foreign[] = {
	{ "a qcow2 image", "QFI\xfb", 4, "qemu-img convert -O raw" },
	{ "a VMDK image", "KDMV", 4, "qemu-img convert -O raw" },
	{ "a VHDX image", "vhdxfile", 8, "qemu-img convert -O raw" },
	{ "an Android sparse image", "\x3a\xff\x26\xed", 4, "simg2img" },
	{ "an lz4 file", "\x04\x22\x4d\x18", 4, "lz4 -d" },
	{ "a 7-Zip archive", "7z\xbc\xaf\x27\x1c", 6, NULL },
	{ "a RAR archive", "Rar!\x1a\x07", 6, NULL },
};

/* ---- what it is ---- */

static bool read_magic(const char *path, uint8_t magic[MAGIC_BYTES])
{
	WdrStat st;

	if (wdr_stat(path, &st) != 0 || !S_ISREG(st.stx_mode))
		return false;
	g_auto(WdrFd) fd = open(path, O_RDONLY | O_CLOEXEC);
	memset(magic, 0, MAGIC_BYTES);
	return fd >= 0 && wdr_pread_some(fd, magic, MAGIC_BYTES, 0) > 0;
}

static const Kind *kind_of(const char *path)
{
	uint8_t magic[MAGIC_BYTES];

	if (!read_magic(path, magic))
		return NULL;
	for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
		if (memcmp(magic, kinds[i].magic, kinds[i].len) == 0)
			return &kinds[i];
	}
	return NULL;
}

const char *wdr_packed_kind(const char *path)
{
	const Kind *kind = kind_of(path);

	return kind ? kind->kind : NULL;
}

const char *wdr_packed_foreign(const char *path, char **ret_hint)
{
	uint8_t magic[MAGIC_BYTES];

	*ret_hint = NULL;
	if (!read_magic(path, magic))
		return NULL;
	for (size_t i = 0; i < G_N_ELEMENTS(foreign); i++) {
		if (memcmp(magic, foreign[i].magic, foreign[i].len) != 0)
			continue;
		g_autofree char *raw = g_strconcat(path, ".raw", NULL);
		g_autofree char *from = wdr_shell_word(path);
		g_autofree char *to = wdr_shell_word(raw);
		if (foreign[i].command)
			*ret_hint = g_strdup_printf("%s %s %s", foreign[i].command, from, to);
		return foreign[i].kind;
	}
	return NULL;
}

/* "heron.img.xz" -> "heron.img"; NULL: it has another ending. The caller's. */
static char *without_suffix(const Kind *kind, const char *path)
{
	for (size_t i = 0; i < G_N_ELEMENTS(kind->suffixes) && kind->suffixes[i]; i++) {
		size_t len = strlen(path) - MIN(strlen(path), strlen(kind->suffixes[i]));
		if (len > 0 && g_ascii_strcasecmp(path + len, kind->suffixes[i]) == 0)
			return g_strndup(path, len);
	}
	return NULL;
}

char *wdr_packed_command(const char *path, const char *name)
{
	g_autofree char *word = wdr_shell_word(path);

	for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
		if (strcmp(kinds[i].kind, name) == 0)
			return g_strdup_printf("%s %s", kinds[i].command, word);
	}
	return NULL;
}

/* ---- unpacking ---- */

typedef struct {
	const WdrWorld *world;
	const char *path;
	const Kind *kind;
	WdrFd in, out;
	char *folder;        /* that `out` lies in */
	uint64_t start, end; /* of what is to be unpacked, in `in` */
	uint64_t at, size;   /* how far that is; how much came of it */
	uint64_t next_look;  /* at the room that is left, from this size on */
	gint64 begun_us;
	WdrZipMember member; /* of a zip file */
	uint32_t crc;        /* the same */
	WdrChecksumFile expected;
	GChecksum *packed_sum, *content_sum; /* NULL: not wanted */
} Unpacking;

static void unpacking_clear(Unpacking *u)
{
	wdr_fd_clear(&u->in);
	wdr_fd_clear(&u->out);
	g_free(u->folder);
	wdr_zip_member_clear(&u->member);
	wdr_checksum_file_clear(&u->expected);
	if (u->packed_sum)
		g_checksum_free(u->packed_sum);
	if (u->content_sum)
		g_checksum_free(u->content_sum);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Unpacking, unpacking_clear)

static bool too_little_room(const Unpacking *u, uint64_t room, GError **error)
{
	g_autofree char *left = wdr_format_size(room);
	g_autofree char *done = wdr_format_size(u->size);

	wdr_error_set(error, WDR_ERROR_NO_SPACE,
		"unpacking %s: %s has too little room (%s left, %s unpacked)", u->path, u->folder,
		left, done);
	wdr_error_hint(error,
		"nothing was written to a disk; free some space there, or set TMPDIR to a folder "
		"with more room");
	return false;
}

static bool look_at_room(Unpacking *u, uint64_t wanted, GError **error)
{
	uint64_t room = wdr_folder_room(u->folder);

	u->next_look = u->size + ROOM_EVERY_BYTES;
	return room >= wanted + ROOM_TO_LEAVE || too_little_room(u, room, error);
}

/* Zeros are left out. */
static bool write_out(Unpacking *u, const uint8_t *bytes, size_t len, GError **error)
{
	while (len > 0) {
		size_t part = MIN(len, HOLE_BYTES - (size_t)(u->size % HOLE_BYTES));
		if (!wdr_is_zero(bytes, part) &&
			!wdr_pwrite_all(u->out, bytes, part, u->size, error)) {
			g_prefix_error(error, "unpacking %s into %s: ", u->path, u->folder);
			return false;
		}
		bytes += part;
		len -= part;
		u->size += part;
	}
	return u->size < u->next_look || look_at_room(u, 0, error);
}

static bool take(Unpacking *u, const uint8_t *bytes, size_t len, GError **error)
{
	if (u->content_sum)
		g_checksum_update(u->content_sum, bytes, (gssize)len);
	if (u->member.method)
		u->crc = (uint32_t)crc32(u->crc, bytes, (uInt)len);
	return write_out(u, bytes, len, error);
}

static bool bad(const Unpacking *u, WdrPackedState state, GError **error)
{
	g_autofree char *command = wdr_packed_command(u->path, u->kind->kind);

	if (state == WDR_PACKED_MEMORY) {
		wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s needs more memory to be unpacked than may be used here", u->path);
		wdr_error_hint(error, "unpack it first: %s", command);
		return false;
	}
	wdr_error_set(error, WDR_ERROR_FORMAT,
		state == WDR_PACKED_SHORT
			? "%s ends too early: the %s data goes on behind byte %" G_GUINT64_FORMAT
			: "%s is damaged: its %s data is wrong at or before byte %" G_GUINT64_FORMAT,
		u->path, u->kind->kind, u->at);
	wdr_error_hint(error, "nothing was written to a disk; download or copy the file again");
	return false;
}

static void tell_progress(const Unpacking *u)
{
	double seconds = (double)(g_get_monotonic_time() - u->begun_us) / G_USEC_PER_SEC;
	uint64_t done = u->at - u->start;
	WdrProgress progress = { .share = (double)done / (double)MAX(u->end - u->start, 1),
		.bytes_per_s = seconds > 0 ? (double)u->size / seconds : 0 };

	wdr_world_progress(u->world, &progress);
}

/* Unpacks what lies in the buffer. */
static bool run_piece(Unpacking *u, WdrPackedStream *stream, WdrPackedPiece *piece, uint8_t *out,
	WdrPackedState *ret, GError **error)
{
	do {
		piece->out = out;
		piece->out_room = CHUNK_BYTES;
		*ret = wdr_packed_stream_run(stream, piece);
		if (*ret > WDR_PACKED_END)
			return bad(u, *ret, error);
		if (!take(u, out, CHUNK_BYTES - piece->out_room, error) || !wdr_stop_check(error))
			return false;
		/* A full buffer may have more behind it, also where all input is taken. */
	} while (*ret == WDR_PACKED_MORE &&
		 (piece->in_len > 0 || piece->out_room == 0 || piece->is_last));
	return true;
}

static bool run(Unpacking *u, WdrPackedStream *stream, GError **error)
{
	g_autofree uint8_t *in = g_malloc(CHUNK_BYTES);
	g_autofree uint8_t *out = g_malloc(CHUNK_BYTES);
	WdrPackedState state = WDR_PACKED_MORE;

	while (state == WDR_PACKED_MORE) {
		size_t len = (size_t)MIN((uint64_t)CHUNK_BYTES, u->end - u->at);
		WdrPackedPiece piece = {
			.in = in, .in_len = len, .is_last = u->at + len == u->end
		};
		if (!wdr_pread_all(u->in, in, len, u->at, error)) {
			g_prefix_error(error, "reading %s: ", u->path);
			return false;
		}
		u->at += len;
		if (u->packed_sum && !u->member.method)
			g_checksum_update(u->packed_sum, in, (gssize)len);
		if (!run_piece(u, stream, &piece, out, &state, error))
			return false;
		u->at -= piece.in_len;
		if (piece.in_len > 0 || (state == WDR_PACKED_END && u->at != u->end))
			return bad(u, WDR_PACKED_DAMAGED, error);
		tell_progress(u);
	}
	return true;
}

/* Where in the file the packed data is. */
static bool find_data(Unpacking *u, uint64_t file_size, GError **error)
{
	u->end = file_size;
	if (strcmp(u->kind->kind, "zip") != 0)
		return true;
	if (!wdr_zip_find_image(u->in, file_size, &u->member, error)) {
		g_prefix_error(error, "%s: ", u->path);
		g_autofree char *command = wdr_packed_command(u->path, u->kind->kind);
		wdr_error_hint(error, "unpack it, and name the image: %s", command);
		return false;
	}
	u->start = u->at = u->member.offset;
	u->end = u->start + u->member.packed_size;
	return true;
}

/* ---- its checksums ---- */

static bool other_sum(const Unpacking *u, const char *is, GError **error)
{
	wdr_error_set(error, WDR_ERROR_FORMAT, "%s%s does not match %s: its %s is %s, not %s",
		u->expected.is_of_content ? "what is in " : "", u->path, u->expected.file,
		u->expected.name, is, u->expected.hex);
	wdr_error_hint(error, "nothing was written to a disk; download both files again");
	return false;
}

/* The packed bytes of a zip file are not all read while one member is unpacked. */
static bool sum_zip(Unpacking *u, uint64_t size, GError **error)
{
	g_autofree uint8_t *bytes = g_malloc(CHUNK_BYTES);

	for (uint64_t at = 0; at < size; at += CHUNK_BYTES) {
		size_t len = (size_t)MIN((uint64_t)CHUNK_BYTES, size - at);
		if (!wdr_pread_all(u->in, bytes, len, at, error) || !wdr_stop_check(error))
			return false;
		g_checksum_update(u->packed_sum, bytes, (gssize)len);
	}
	return true;
}

static bool check_sums(Unpacking *u, uint64_t file_size, GError **error)
{
	if (u->member.method && (u->crc != u->member.crc || u->size != u->member.size))
		return bad(u, WDR_PACKED_DAMAGED, error);
	if (!u->expected.file)
		return true;
	if (u->packed_sum && u->member.method && !sum_zip(u, file_size, error))
		return false;
	const char *is = g_checksum_get_string(u->packed_sum ? u->packed_sum : u->content_sum);
	if (strcmp(is, u->expected.hex) != 0)
		return other_sum(u, is, error);
	wdr_world_step(u->world, "%s%s matches %s (%s)",
		u->expected.is_of_content ? "what is in " : "", u->path, u->expected.file,
		u->expected.name);
	return true;
}

static bool expect_sums(Unpacking *u, GError **error)
{
	g_autofree char *unpacked = without_suffix(u->kind, u->path);
	const char *content = u->member.name ? u->member.name : unpacked;
	/* A zip file may say anything, "../" too. */
	g_autofree char *name = content ? g_path_get_basename(content) : NULL;

	if (!wdr_checksum_file_find(u->path, name, &u->expected, error))
		return false;
	if (!u->expected.file)
		return true;
	*(u->expected.is_of_content ? &u->content_sum : &u->packed_sum) =
		g_checksum_new(u->expected.type);
	return true;
}

/* ---- the whole ---- */

static void tell_once(const Unpacking *u)
{
	gint64 took = g_get_monotonic_time() - u->begun_us;

	if (took < LONG_US)
		return;
	g_autofree char *time = wdr_format_duration((uint64_t)(took / G_USEC_PER_SEC));
	g_autofree char *command = wdr_packed_command(u->path, u->kind->kind);
	wdr_world_note(u->world,
		"unpacking took %s, and each command does it anew; to do it once: %s", time,
		command);
}

static bool unpack(Unpacking *u, uint64_t file_size, GError **error)
{
	g_autofree char *beside = g_path_get_dirname(u->path);
	g_autofree char *name = g_path_get_basename(u->path);

	if (!find_data(u, file_size, error) || !expect_sums(u, error) ||
		!wdr_scratch_file_new(beside, &u->out, &u->folder, error) ||
		!look_at_room(u, u->end - u->start, error))
		return false;
	g_autoptr(WdrPackedStream) stream =
		wdr_packed_stream_new(u->member.method ? u->member.method : u->kind->kind);
	if (!stream)
		return bad(u, WDR_PACKED_MEMORY, error);
	wdr_world_step(u->world, "unpacking %s (%s)", name, u->kind->kind);
	u->begun_us = g_get_monotonic_time();
	if (!run(u, stream, error) || !check_sums(u, file_size, error))
		return false;
	if (ftruncate(u->out, (off_t)u->size) != 0)
		return wdr_error_set_errno(
			error, errno, "unpacking %s into %s", u->path, u->folder);
	tell_once(u);
	return true;
}

/* The same file is unpacked once, even where several parts of a command ask for it. */
static char *key_of(const char *path, const WdrStat *st)
{
	g_autofree char *full = g_canonicalize_filename(path, NULL);

	return g_strdup_printf("%s %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT " %" G_GINT64_FORMAT
			       ".%09u",
		full, (guint64)st->stx_ino, (guint64)st->stx_size, (gint64)st->stx_mtime.tv_sec,
		st->stx_mtime.tv_nsec);
}

/* Nobody has it open for writing from then on: who reads a source asks for that. */
static const char *keep(Unpacking *u, const char *key, GError **error)
{
	g_autofree char *writable = wdr_scratch_file_path(u->out);
	int fd = open(writable, O_RDONLY | O_CLOEXEC);

	if (fd < 0) {
		wdr_error_set_errno(error, errno, "opening what was unpacked from %s", u->path);
		return NULL;
	}
	g_autofree char *path = wdr_scratch_file_path(fd);
	return wdr_world_keep(u->world, key, path, fd);
}

bool wdr_packed_unpack(const WdrWorld *world, const char *path, char **ret_path, GError **error)
{
	g_auto(Unpacking) u = { .world = world,
		.path = path,
		.kind = kind_of(path),
		.in = open(path, O_RDONLY | O_CLOEXEC),
		.out = -1 };
	WdrStat st;

	if (u.in < 0 || wdr_fstat(u.in, &st) != 0)
		return wdr_error_set_errno(error, errno, "opening %s", path);
	if (!u.kind)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s is not packed any more", path);
	g_autofree char *key = key_of(path, &st);
	const char *kept = wdr_world_kept(world, key);
	if (!kept) {
		if (!unpack(&u, st.stx_size, error)) {
			/* Whoever asks once more does not wait for the same failure. */
			wdr_world_keep(world, key, "", -1);
			return false;
		}
		kept = keep(&u, key, error);
	}
	if (kept && !*kept)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s could not be unpacked", path);
	*ret_path = g_strdup(kept);
	return kept != NULL;
}
