"""Changes of a tree, at random from a seed: each is one function, named by what it does. They act below
one folder, and leave what is outside of it alone."""
import ctypes
import fcntl
import mmap
import os
import random
import shutil
import stat
import struct

LIBC = ctypes.CDLL(None, use_errno=True)
FS_IOC_GETFLAGS, FS_IOC_SETFLAGS = 0x80086601, 0x40086602
FLAGS = [0x1, 0x2, 0x4, 0x8, 0x40, 0x80]  # s u c S d A
KEEP_SIZE, PUNCH_HOLE, ZERO_RANGE = 1, 2, 16
EXCHANGE = 2
OLD = 1714550400  # 2024-05-01


class Storm:
    def __init__(self, top, seed):
        self.top = os.fsencode(top)
        self.random = random.Random(seed)
        self.count = 0
        os.makedirs(self.top, exist_ok=True)

    # ---- choosing

    def folders(self):
        found = [self.top]
        for path, names, _ in os.walk(self.top):
            found += [os.path.join(path, n) for n in names
                      if not os.path.islink(os.path.join(path, n))]
        return found

    def entries(self, want=lambda st: True):
        found = []
        for path, names, files in os.walk(self.top):
            for n in names + files:
                full = os.path.join(path, n)
                try:
                    if want(os.lstat(full)):
                        found.append(full)
                except FileNotFoundError:
                    pass
        return found

    def file(self):
        found = self.entries(lambda st: stat.S_ISREG(st.st_mode))
        return self.random.choice(found) if found else self.create()

    def any(self):
        found = self.entries()
        return self.random.choice(found) if found else self.create()

    def folder(self):
        return self.random.choice(self.folders())

    def name(self):
        self.count += 1
        odd = [b"", b" ", b"\t", b"\n", b"\\", b"\xff\xfe", b"\xc3\xa4", b"'", b'"', b"*", b"-"]
        return b"n%d%s" % (self.random.randrange(60), self.random.choice(odd))

    def path(self):
        return os.path.join(self.folder(), self.name())

    def bytes(self, most=200000):
        size = self.random.choice([0, 1, 60, 100, 4095, 4096, 4097, self.random.randrange(most)])
        return self.random.randbytes(size)

    def clear(self, path):
        if os.path.isdir(path) and not os.path.islink(path):
            shutil.rmtree(path)
        elif os.path.lexists(path):
            os.unlink(path)

    # ---- the changes

    def create(self):
        path = self.path()
        self.clear(path)
        with open(path, "wb") as f:
            f.write(self.bytes())
        return path

    def append(self):
        with open(self.file(), "ab") as f:
            f.write(self.bytes(20000))

    def overwrite(self):
        path = self.file()
        with open(path, "r+b") as f:
            f.seek(self.random.randrange(max(os.path.getsize(path), 1)))
            f.write(self.bytes(20000))

    def truncate(self):
        path = self.file()
        os.truncate(path, self.random.randrange(os.path.getsize(path) + 1))

    def extend_with_a_hole(self):
        os.truncate(self.file(), self.random.randrange(30000000))

    def punch(self):
        path = self.file()
        self.fallocate(path, PUNCH_HOLE | KEEP_SIZE)

    def zero_range(self):
        self.fallocate(self.file(), ZERO_RANGE)

    def preallocate(self):
        self.fallocate(self.file(), 0)

    def fallocate(self, path, mode):
        fd = os.open(path, os.O_RDWR)
        LIBC.fallocate(fd, mode, ctypes.c_long(self.random.randrange(100000)),
                       ctypes.c_long(1 + self.random.randrange(300000)))
        os.close(fd)

    def unlink(self):
        os.unlink(self.file())

    def rename(self):
        to = self.path()
        self.clear(to)
        os.rename(self.file(), to)

    def rename_over(self):
        os.rename(self.file(), self.file())

    def exchange(self):
        LIBC.renameat2(-100, self.file(), -100, self.any(), EXCHANGE)

    def rename_folder(self):
        path = self.folder()
        to = os.path.join(self.top, self.name())
        if path != self.top and not os.path.lexists(to):
            os.rename(path, to)

    def make_folder(self):
        path = self.path()
        self.clear(path)
        os.mkdir(path)

    def make_deep_folder(self):
        os.makedirs(os.path.join(self.folder(), *[b"d%d" % i for i in range(9)]), exist_ok=True)

    def remove_tree(self):
        path = self.folder()
        if path != self.top:
            shutil.rmtree(path)

    def fill_folder(self):
        path = self.path()
        self.clear(path)
        os.mkdir(path)
        for i in range(300):
            with open(os.path.join(path, b"many%d" % i), "wb") as f:
                f.write(b"%d" % i)

    def link(self):
        to = self.path()
        self.clear(to)
        os.link(self.file(), to)

    def unlink_a_linked_one(self):
        found = self.entries(lambda st: stat.S_ISREG(st.st_mode) and st.st_nlink > 1)
        if found:
            os.unlink(self.random.choice(found))

    def break_a_link(self):
        path = self.file()
        shutil.copyfile(path, path + b".c")
        os.rename(path + b".c", path)

    def symlink(self):
        path = self.path()
        self.clear(path)
        os.symlink(self.random.choice([b"x", b"/etc/fstab", b"y" * 59, b"z" * 60, b"l" * 900]), path)

    def make_fifo(self):
        path = self.path()
        self.clear(path)
        os.mkfifo(path)

    def make_device(self):
        path = self.path()
        self.clear(path)
        os.mknod(path, 0o600 | stat.S_IFCHR, os.makedev(1, self.random.randrange(3, 9)))

    def replace_kind(self):
        path = self.any()
        self.clear(path)
        self.random.choice([os.mkdir, os.mkfifo, lambda p: os.symlink(b"gone", p),
                            lambda p: open(p, "wb").close()])(path)

    def change_mode(self):
        os.chmod(self.file(), self.random.choice([0o600, 0o644, 0o4755, 0o2755, 0o1777, 0]))

    def change_owner(self):
        os.chown(self.any(), self.random.randrange(70000), self.random.randrange(70000),
                 follow_symlinks=False)

    def set_times_back(self):
        os.utime(self.any(), ns=(OLD * 10**9, OLD * 10**9 + self.random.randrange(10**9)),
                 follow_symlinks=False)

    def set_times_ahead(self):
        os.utime(self.any(), (4102444800, 5000000000), follow_symlinks=False)

    def rewrite_with_old_times(self):
        """Another content, with size and times as they were."""
        path = self.file()
        st = os.stat(path)
        with open(path, "r+b") as f:
            f.write(self.random.randbytes(min(st.st_size, 100000)))
        os.utime(path, ns=(st.st_atime_ns, st.st_mtime_ns))

    def replace_with_old_times(self):
        """Another file, which often gets the old one's inode."""
        path = self.file()
        st = os.stat(path)
        os.unlink(path)
        with open(path + b"r", "wb") as f:
            f.write(self.random.randbytes(min(st.st_size, 3000000)))
            f.truncate(st.st_size)
        os.utime(path + b"r", ns=(st.st_atime_ns, st.st_mtime_ns))

    def set_xattr(self):
        os.setxattr(self.file(), "user.k%d" % self.random.randrange(4),
                    self.random.randbytes(self.random.choice([0, 5, 100, 3000])))

    def remove_xattr(self):
        path = self.file()
        for name in os.listxattr(path):
            os.removexattr(path, name)

    def set_acl(self):
        entries = [(1, 6, 0xffffffff), (2, 4, self.random.randrange(3000)), (4, 4, 0xffffffff),
                   (16, 6, 0xffffffff), (32, 0, 0xffffffff)]
        acl = struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *e) for e in entries)
        os.setxattr(self.file(), "system.posix_acl_access", acl)

    def set_flags(self):
        fd = os.open(self.file(), os.O_RDONLY | os.O_NONBLOCK)
        flags = struct.unpack("I", fcntl.ioctl(fd, FS_IOC_GETFLAGS, b"\0" * 4))[0]
        fcntl.ioctl(fd, FS_IOC_SETFLAGS,
                    struct.pack("I", flags ^ self.random.choice(FLAGS)))
        os.close(fd)

    def write_mapped(self):
        path = self.file()
        if os.path.getsize(path) == 0:
            return
        with open(path, "r+b") as f, mmap.mmap(f.fileno(), 0) as m:
            at = self.random.randrange(len(m))
            part = self.random.randbytes(min(5000, len(m) - at))
            m[at:at + len(part)] = part

    def write_direct(self):
        fd = os.open(self.file(), os.O_RDWR | os.O_DIRECT)
        m = mmap.mmap(-1, 8192)
        m.write(self.random.randbytes(8192))
        try:
            os.pwrite(fd, m, 4096 * self.random.randrange(30))
        finally:
            os.close(fd)

    def remove_and_make_again(self):
        path = self.file()
        os.unlink(path)
        with open(path, "wb") as f:
            f.write(self.bytes())

    # ---- all of them

    def changes(self):
        helpers = {"folders", "entries", "file", "any", "folder", "name", "path", "bytes", "clear",
                   "fallocate", "changes", "step"}
        return sorted(n for n in dir(Storm) if not n.startswith("_") and n not in helpers)

    def step(self):
        """One change; the name of what it was. One that makes no sense here does nothing."""
        name = self.random.choice(self.changes())
        try:
            getattr(self, name)()
        except OSError:
            pass
        return name
