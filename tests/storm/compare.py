"""Compares two mounted trees by what the kernel tells of them; shares no code with the program.
    compare.py SOURCE TARGET: prints differences, at most fifty, and ends with 1 if there are any."""
import fcntl
import hashlib
import os
import stat
import struct
import sys

FS_IOC_GETFLAGS = 0x80086601
BLOCK = 65536
FLAGS = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x80  # s u c S i a d A
# What a move edits, leaves behind, or brings along of its own.
PASSED = {b"etc/fstab", b"lost+found", b"var/lib/wanderitas", b"etc/cron.d/backup"}


def data_ranges(fd, size):
    ranges, at = [], 0
    while at < size:
        try:
            start = os.lseek(fd, at, os.SEEK_DATA)
        except OSError:
            break
        at = os.lseek(fd, start, os.SEEK_HOLE)
        ranges.append((start, min(at, size)))
    return ranges


def content(path, st):
    """What can be read, wherever its holes lie: block by block, those of zeros left out."""
    fd = os.open(path, os.O_RDONLY | os.O_NOATIME)
    digest = hashlib.sha256()
    ranges = data_ranges(fd, st.st_size)
    done = 0
    for start, end in ranges:
        at = max(start - start % BLOCK, done)
        while at < end:
            part = os.pread(fd, BLOCK, at)
            if part.strip(b"\0"):
                digest.update(struct.pack("<Q", at) + part)
            at += BLOCK
        done = max(done, at)
    flags = struct.unpack("I", fcntl.ioctl(fd, FS_IOC_GETFLAGS, b"\0" * 4))[0] & FLAGS
    os.close(fd)
    return digest.hexdigest(), flags, sum(end - start for start, end in ranges)


def describe(path):
    st = os.lstat(path)
    d = {"kind": stat.S_IFMT(st.st_mode), "mode": stat.S_IMODE(st.st_mode), "uid": st.st_uid,
         "gid": st.st_gid, "mtime": st.st_mtime_ns, "ctime": st.st_ctime_ns, "rdev": st.st_rdev,
         "xattrs": {n: os.getxattr(path, n, follow_symlinks=False)
                    for n in os.listxattr(path, follow_symlinks=False)}}
    if stat.S_ISREG(st.st_mode):
        d["size"], d["links"] = st.st_size, st.st_nlink
        d["content"], d["flags"], d["data"] = content(path, st)
    if stat.S_ISLNK(st.st_mode):
        d["target"] = os.readlink(path)
    return d, st.st_ino if not stat.S_ISDIR(st.st_mode) and st.st_nlink > 1 else None


def walk(top):
    top = os.fsencode(top)
    for path, folders, files in os.walk(top):
        relative = os.path.relpath(path, top)
        prefix = b"" if relative == b"." else relative + b"/"
        folders[:] = [f for f in folders if prefix + f not in PASSED]
        for name in folders + files:
            full = os.path.join(path, name)
            if prefix + name not in PASSED and not stat.S_ISSOCK(os.lstat(full).st_mode):
                yield prefix + name


def main(source, target):
    names = set(walk(source))
    there = set(walk(target))
    found = [f"only in the source: {n}" for n in sorted(names - there)]
    found += [f"only in the target: {n}" for n in sorted(there - names)]
    links = {}
    for name in sorted(names & there):
        a, link_a = describe(os.path.join(os.fsencode(source), name))
        b, link_b = describe(os.path.join(os.fsencode(target), name))
        if b.pop("data", 0) > a.pop("data", 0) + BLOCK:
            found.append(f"{name}: holes became data")
        for key in sorted(set(a) | set(b)):
            # A folder's change time tells of its names, which are made anew.
            if a.get(key) != b.get(key) and not (key == "ctime" and stat.S_ISDIR(a["kind"])):
                found.append(f"{name}: {key}: {a.get(key)} and {b.get(key)}")
        if (link_a is None) != (link_b is None) or links.setdefault(link_a, link_b) != link_b:
            found.append(f"{name}: its hard links lead elsewhere")
    print("\n".join(found[:50]))
    print(f"{len(names & there)} entries compared, {len(found)} differences")
    return 1 if found else 0


sys.exit(main(sys.argv[1], sys.argv[2]))
