"""The Linux kernel as judge: a process takes on each account's ids and tries.

`make_random_tree` builds hostile trees, `try_everything` asks the kernel about every folder and file.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import random
import stat
import struct
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, OTHER, USER, USER_OBJ, Entry
from neatledger.formats.posixacl import entries_to_attribute

ACCESS, DEFAULT = "system.posix_acl_access", "system.posix_acl_default"
PASSWD = """\
root:x:0:0:root:/root:/bin/sh
alias:x:0:3001:another superuser:/:/bin/sh
ada:x:2001:3001:Ada:/:/bin/sh
bo:x:2002:3001:Bo:/:/bin/sh
cy:x:2003:3002:Cy:/:/bin/sh
twin:x:2003:3003:Cy by another login:/:/bin/sh
dee:x:2004:3009:Dee, in no group of the lists:/:/bin/sh
high:x:4000000000:4000000001:Ids beyond 31 bits:/:/bin/sh
zero:x:2006:0:Primary group of number 0:/:/bin/sh
"""
GROUP_FILE = """\
root:x:0:
staff:x:3001:cy
vets:x:3002:ada,twin,high
vets2:x:3002:bo
desk:x:3003:ada,dee
empty:x:3004:
big:x:4000000001:
"""
NAMES = [
    b"plain",
    b"with space",
    b"new\nline",
    b"\xff\xfe not utf-8",
    "r\u200fl".encode(),
    b"100%",
    b'q"uo,te',
    b"-dash",
]
UIDS, GIDS = [0, 2001, 2002, 2003, 2004, 4000000000, 7777], [0, 3001, 3002, 3003, 4000000001, 8888]


@dataclass(frozen=True)
class Login:
    name: str
    uid: int
    gid: int
    groups: tuple[int, ...]


def logins(groups: str = GROUP_FILE) -> list[Login]:
    """The accounts of PASSWD with the groups that initgroups(3) would give them."""
    members: dict[str, list[int]] = {}
    for line in groups.splitlines():
        _, _, gid, names = line.split(":")
        for name in filter(None, names.split(",")):
            members.setdefault(name, []).append(int(gid))
    found = []
    for line in PASSWD.splitlines():
        name, _, uid, gid, *_ = line.split(":")
        found.append(Login(name, int(uid), int(gid), (int(gid), *members.get(name, ()))))
    return found


def _random_entries(rng: random.Random) -> list[Entry]:
    entries = [
        Entry(USER_OBJ, rng.randrange(8)),
        Entry(GROUP_OBJ, rng.randrange(8)),
        Entry(OTHER, rng.choice([0, 1, 4, 5, 7])),
    ]
    named = [Entry(USER, rng.randrange(8), uid) for uid in rng.sample(UIDS, rng.randrange(3))]
    named += [Entry(GROUP, rng.randrange(8), gid) for gid in rng.sample(GIDS, rng.randrange(4))]
    if named or rng.random() < 0.3:
        entries.append(Entry(MASK, rng.choice([7, 7, 5, 3, 1, 0, 6])))
    return entries + named


def _dress(path: bytes, rng: random.Random, is_folder: bool) -> None:
    os.chown(path, rng.choice(UIDS), rng.choice(GIDS))
    open_mode = rng.random() < 0.5 and is_folder
    mode = 0o755 if open_mode else rng.randrange(0o1000)
    if is_folder:
        mode |= rng.choice([0, 0, 0o1000, 0o2000, 0o1000])
    os.chmod(path, mode)
    if rng.random() < 0.5:
        os.setxattr(path, ACCESS, entries_to_attribute(_random_entries(rng)))
    if is_folder and rng.random() < 0.2:
        os.setxattr(path, DEFAULT, entries_to_attribute(_random_entries(rng)))


def make_random_tree(root: Path, seed: int, folders: int) -> None:
    """Make folders and files with random owners, modes, lists and names, links and special files among them."""
    rng = random.Random(seed)
    root.mkdir()
    made = [os.fsencode(root)]
    for number in range(folders):
        above = rng.choice(made[-12:] + made[:1])
        path = above + b"/" + rng.choice(NAMES) + b" %d" % number
        os.mkdir(path)
        made.append(path)
    for path in made:
        for number in range(rng.choice([0, 1, 2, 5])):
            name = path + b"/" + rng.choice(NAMES) + b"%d.doc" % number
            Path(os.fsdecode(name)).write_bytes(b"x" * number)
            _dress(name, rng, False)
        if rng.random() < 0.2:
            os.symlink(b"/etc/passwd", path + b"/a link")
            os.mkfifo(path + b"/a pipe")
    for path in reversed(made[1:]):
        _dress(path, rng, True)
    os.chmod(root, 0o755)


_GET_FLAGS, _SET_FLAGS, _IMMUTABLE, _APPEND_ONLY = 0x80086601, 0x40086602, 0x10, 0x20  # ioctl_iflags(2)


def set_flag(path: bytes, flag: int) -> None:
    """Set the flags of an inode that refuse even the superuser; 0 takes them away."""
    here = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        (flags,) = struct.unpack("l", fcntl.ioctl(here, _GET_FLAGS, bytes(8)))
        fcntl.ioctl(here, _SET_FLAGS, struct.pack("l", flags & ~(_IMMUTABLE | _APPEND_ONLY) | flag))
    finally:
        os.close(here)


@contextlib.contextmanager
def locked_tree(root: Path, seed: int) -> Iterator[None]:
    """Flag some folders and files as immutable or append-only, and mount some folders again, read-only or not."""
    rng = random.Random(seed)
    folders = [path for path in list_tree(root) if path != os.fsencode(root)]
    files = [path for inside in list_tree(root).values() for path in inside]
    flagged, mounted = rng.sample(folders, 12) + rng.sample(files, 20), rng.sample(folders, 6)
    try:
        for path in mounted:
            subprocess.run(["mount", "--bind", path, path], check=True)
            if rng.random() < 0.7:
                subprocess.run(["mount", "-o", "remount,bind,ro", path], check=True)
        for path in flagged:
            with contextlib.suppress(OSError):  # on what was mounted read-only
                set_flag(path, rng.choice([_IMMUTABLE, _APPEND_ONLY]))
        yield
    finally:
        for path in reversed(mounted):
            subprocess.run(["umount", path], check=True)
        for path in flagged:
            set_flag(path, 0)


def _tries(action: Callable[[], object]) -> bool:
    try:
        action()
    except OSError as error:
        # Refused by a mode or a flag, by a mount that is read-only, or since something is mounted there.
        if error.errno not in (errno.EACCES, errno.EPERM, errno.EROFS, errno.EBUSY):
            raise
        return False
    return True


def _open(path: bytes, flags: int) -> None:
    os.close(os.open(path, flags))


def _make_and_remove(folder: bytes) -> None:
    probe = folder + b"/probe of the judge %d" % os.getpid()
    _open(probe, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
    # From an append-only folder nothing can be removed again.
    with contextlib.suppress(PermissionError):
        os.unlink(probe)


def _rename_there_and_back(path: bytes) -> None:
    os.rename(path, path + b"~")
    os.rename(path + b"~", path)


def _touch_as_owner(path: bytes) -> None:
    # Setting explicit times asks for ownership, as changing the list does, and changes nothing else.
    os.utime(path, (1_700_000_000, 1_700_000_000))


def _try_folder(path: bytes, is_root: bool, files: list[bytes]) -> list[int]:
    """Return what is let of a folder, and of its files one after the other: reading, changing, deleting."""
    here = [
        _tries(lambda: os.chdir(path)),
        _tries(lambda: os.listdir(path)),
        _tries(lambda: _make_and_remove(path)),
        not is_root and _tries(lambda: _rename_there_and_back(path)),
        _tries(lambda: _touch_as_owner(path)),
    ]
    os.chdir("/")
    each = [_tries(lambda f=f: _open(f, os.O_RDONLY | os.O_NOFOLLOW)) for f in files]
    each += [_tries(lambda f=f: _open(f, os.O_WRONLY | os.O_NOFOLLOW)) for f in files]
    each += [_tries(lambda f=f: _rename_there_and_back(f)) for f in files]
    return [*map(int, here), *map(int, each)]


def list_tree(root: Path) -> dict[bytes, list[bytes]]:
    """Every folder with its regular files."""
    found: dict[bytes, list[bytes]] = {}
    for path, _, names in os.walk(os.fsencode(root)):
        whole = [path + b"/" + name for name in names]
        found[path] = [each for each in whole if stat.S_ISREG(os.lstat(each).st_mode)]
    return found


def try_everything(root: Path) -> dict[tuple[str, bytes], list[int]]:
    """Ask the kernel: (login, path below the root) → enter list add delete manage files read change delete."""
    found = {}
    for key, cells in try_each(root).items():
        files = len(cells[5:]) // 3
        found[key] = [*cells[:5], files, *(sum(cells[5 + files * n : 5 + files * (n + 1)]) for n in range(3))]
    return found


def try_each(root: Path, groups: str = GROUP_FILE) -> dict[tuple[str, bytes], list[int]]:
    """Ask the kernel: (login, path below the root) → enter list add delete manage, and what is let of each file."""
    tree = list_tree(root)
    before = {path: os.lstat(path).st_mode for path in tree}
    top = os.fsencode(root)
    answers: dict[tuple[str, bytes], list[int]] = {}
    for login in logins(groups):
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            with contextlib.suppress(BaseException):
                os.setgroups(login.groups)
                os.setresgid(login.gid, login.gid, login.gid)
                os.setresuid(login.uid, login.uid, login.uid)
                found = [[path.hex(), _try_folder(path, path == top, files)] for path, files in tree.items()]
                with os.fdopen(writing, "w") as out:
                    json.dump(found, out)
            os._exit(0)
        os.close(writing)
        with os.fdopen(reading) as answer:
            for path, cells in json.load(answer):
                answers[login.name, bytes.fromhex(path)[len(top) :] or b"/"] = cells
        os.waitpid(child, 0)
    assert {path: os.lstat(path).st_mode for path in tree} == before, "the judge changed the tree"
    return answers
