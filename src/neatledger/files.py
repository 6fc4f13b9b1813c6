"""Files that appear whole, when all is written, or not at all; they stay whose they were, with the access they had.

Results, the plan and figures are all written through here. Others may change what lies in a folder at any moment, so
a place is found once, part by part, and from then on only what was opened there is looked at, written and given away.
"""

from __future__ import annotations

import errno
import os
import secrets
import shutil
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import IO, Any, TextIO

from neatledger.errors import NeatError

__all__ = ["check_target", "copy_file", "locked", "open_replacement", "write_file"]

_MOST_LINKS = 40
_PATIENCE_SECONDS, _STEP_SECONDS = 30.0, 0.05
_LIST = "system.posix_acl_access"
_HAS_HANDLES = os.open in os.supports_dir_fd and hasattr(os, "O_NOFOLLOW")
_NO_FOLLOW, _CLOSED = getattr(os, "O_NOFOLLOW", 0), getattr(os, "O_CLOEXEC", 0)
# To look at something without opening it, where the system can (open(2)).
_LOOK = getattr(os, "O_PATH", os.O_RDONLY | getattr(os, "O_NONBLOCK", 0)) | _NO_FOLLOW | _CLOSED
_FOLDER = getattr(os, "O_PATH", os.O_RDONLY) | getattr(os, "O_DIRECTORY", 0) | _NO_FOLLOW | _CLOSED
_SHARED = stat.S_IWOTH | stat.S_IWGRP
_SETS_IDS = stat.S_ISUID | stat.S_ISGID


def write_file(target: str | Path, data: bytes) -> None:
    """Write a whole file; it appears when all is written, or not at all. Raises `NeatError`."""
    with open_replacement(target) as out:
        out.flush()
        out.buffer.write(data)


def check_target(target: str | Path) -> None:
    """Say before long work that a file could not be written: its folder is missing, or shut. Raises `NeatError`."""
    try:
        with _find_place(Path(target)) as place:
            place.check()
    except OSError as error:
        raise _not_written(target, error) from None


def copy_file(target: str | Path, source: IO[bytes]) -> None:
    """Write what is left of an open file, as `write_file` does, piece by piece; a new one is its owner's alone.

    Raises `NeatError`.
    """
    with open_replacement(target, mode=0o600) as out:
        out.flush()
        shutil.copyfileobj(source, out.buffer)


@contextmanager
def open_replacement(target: str | Path, mode: int = 0o666) -> Iterator[TextIO]:
    """Open a text file that takes the target's place when all is written; raises `NeatError`.

    Where the target is a symbolic link, what it leads to is written and the link stays; a device or a pipe is written
    to. A file that is there keeps its owner, its mode and its access list.
    """
    try:
        with _find_place(Path(target)) as place:
            before = place.look()
            if before is not None and not stat.S_ISREG(before.st_mode):
                with open(place.open_thing(before), "w", encoding="utf-8", newline="") as out:
                    yield out
                return
            with place.making() as (handle, name):
                with open(handle, "w", encoding="utf-8", newline="", closefd=False) as out:
                    yield out
                os.fsync(handle)
                place.put(handle, name, before, mode)
    except OSError as error:
        raise _not_written(target, error) from None


def _not_written(target: str | Path, error: OSError) -> NeatError:
    return NeatError(f"cannot write: {error.strerror or error}", str(target))


def _refused(message: str) -> OSError:
    return OSError(errno.EACCES, message)


@dataclass(frozen=True, slots=True)
class _Place:
    """A name in a folder that is held open; where the system has no such handles, in the folder of a path."""

    folder: int | None
    above: Path
    name: str

    def _at(self, name: str) -> tuple[str, dict[str, Any]]:
        return (name, {"dir_fd": self.folder}) if self.folder is not None else (str(self.above / name), {})

    def look(self) -> os.stat_result | None:
        """Return what is there, itself and not what it leads to; None: nothing."""
        return self._look(self.name)

    def _look(self, name: str) -> os.stat_result | None:
        path, by = self._at(name)
        try:
            return os.stat(path, follow_symlinks=False, **by)
        except FileNotFoundError:
            return None

    def _open(self, name: str, flags: int, mode: int = 0o600) -> int:
        path, by = self._at(name)
        return os.open(path, flags | _NO_FOLLOW | _CLOSED | getattr(os, "O_BINARY", 0), mode, **by)

    def _folder_stat(self) -> os.stat_result:
        return os.stat(self.above if self.folder is None else self.folder)

    def check(self) -> None:
        """Raise `OSError` where nothing can be written here."""
        before = self.look()
        if before is not None:
            self._check_owner(before)
            if not stat.S_ISREG(before.st_mode):
                return
        path, by = self._at(".")
        if not os.access(path, os.W_OK | os.X_OK, **by):
            raise OSError(errno.EACCES, os.strerror(errno.EACCES))

    def _check_owner(self, before: os.stat_result) -> None:
        """Refuse what somebody else put into a folder that all may write to, whatever the kernel is set to do.

        As fs.protected_regular and fs.protected_fifos have it at 2 (proc(5)).
        """
        if not hasattr(os, "geteuid"):
            return
        folder = self._folder_stat()
        is_shared = folder.st_mode & stat.S_ISVTX and folder.st_mode & _SHARED
        if is_shared and before.st_uid not in (os.geteuid(), folder.st_uid):
            raise _refused("it is somebody else's, in a folder that others may write to")

    def open_thing(self, before: os.stat_result) -> int:
        """Open a device or a pipe for writing; raises `OSError` where it is not that any more."""
        if stat.S_ISFIFO(before.st_mode):
            self._check_owner(before)
        handle = self._open(self.name, os.O_WRONLY)
        if stat.S_IFMT(os.fstat(handle).st_mode) != stat.S_IFMT(before.st_mode):
            os.close(handle)
            raise _refused("somebody put something else in its place")
        return handle

    @contextmanager
    def making(self) -> Iterator[tuple[int, str]]:
        """Give a new file beside the name, open, and what it is called; it is gone at the end, unless it was put."""
        name = f".{self.name[:100]}.{secrets.token_hex(6)}"
        handle = self._open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL)
        try:
            yield handle, name
        finally:
            if self._is(name, handle):
                path, by = self._at(name)
                os.unlink(path, **by)
            os.close(handle)

    def _is(self, name: str, handle: int) -> bool:
        found, ours = self._look(name), os.fstat(handle)
        return found is not None and (found.st_dev, found.st_ino) == (ours.st_dev, ours.st_ino)

    def put(self, handle: int, name: str, before: os.stat_result | None, mode: int) -> None:
        """Let a file that is written take the name, with the owner, mode and access list of what had it."""
        if before is None:
            if hasattr(os, "fchmod"):
                os.fchmod(handle, mode & ~_umask())
        else:
            self._check_owner(before)
            if not self._take_on(handle, before):
                self._write_over(handle, before)
                return
        (source, by), (target, _) = self._at(name), self._at(self.name)
        both = {"src_dir_fd": by["dir_fd"], "dst_dir_fd": by["dir_fd"]} if by else {}
        os.replace(source, target, **both)
        if not self._is(self.name, handle):
            raise _refused("somebody put something else in its place")

    def _take_on(self, handle: int, before: os.stat_result) -> bool:
        """Give a new file the owner, access list and mode of the one that has the name; tell whether that worked."""
        if not hasattr(os, "fchown"):
            return True
        try:
            there = self._open_before(before)
            try:
                now = os.fstat(handle)
                if (now.st_uid, now.st_gid) != (before.st_uid, before.st_gid):
                    os.fchown(handle, before.st_uid, before.st_gid)
                if hasattr(os, "listxattr"):
                    _copy_attributes(handle, there)
                # What set whose rights it runs with goes away with what it did, as it does with any writing.
                os.fchmod(handle, stat.S_IMODE(before.st_mode) & ~_SETS_IDS)
            finally:
                os.close(there)
        except OSError:
            return False
        return True

    def _open_before(self, before: os.stat_result) -> int:
        path, by = self._at(self.name)
        there = os.open(path, _LOOK, **by)
        found = os.fstat(there)
        if (found.st_dev, found.st_ino) != (before.st_dev, before.st_ino):
            os.close(there)
            raise _refused("somebody put something else in its place")
        return there

    def _write_over(self, handle: int, before: os.stat_result) -> None:
        """Replace what a file holds, and not the file: it belongs to somebody else, who is to keep it."""
        there = self._open(self.name, os.O_RDWR)
        with open(there, "r+b") as out, open(handle, "rb", closefd=False) as written:
            found = os.fstat(there)
            if (found.st_dev, found.st_ino) != (before.st_dev, before.st_ino) or found.st_nlink > 1:
                raise _refused("it is somebody else's, and known by another name too")
            written.seek(0)
            shutil.copyfileobj(written, out)
            out.truncate()


@contextmanager
def _find_place(path: Path) -> Iterator[_Place]:
    """Find the folder and the name of a path, links followed; raises `OSError` where a link is not to be trusted.

    Links that somebody else put into a folder that all may write to are not followed, whatever the kernel is set to
    do (fs.protected_symlinks, proc(5)); elsewhere somebody else's link is followed into what is theirs.
    """
    if not _HAS_HANDLES:
        found = Path(os.path.realpath(path))
        yield _Place(None, found.parent, found.name)
        return
    finder = _Finder()
    try:
        name = finder.find(path)
        yield _Place(finder.folder, path.parent, name)
    finally:
        finder.close()


class _Finder:
    """Goes along a path part by part, and holds the folder that it is in."""

    def __init__(self) -> None:
        self.folder = os.open(".", _FOLDER)
        self._links = 0
        self._led_by: int | None = None

    def close(self) -> None:
        os.close(self.folder)

    def _enter(self, name: str) -> None:
        entered = os.open(name, _FOLDER, dir_fd=self.folder)
        os.close(self.folder)
        self.folder = entered

    def find(self, path: Path) -> str:
        """Go to the folder of a path, and return the name there; raises `OSError`."""
        waiting = _parts(str(path))
        while True:
            name = waiting.pop(0)
            info = self._look(name)
            if info is not None and stat.S_ISLNK(info.st_mode):
                waiting = self._follow(name, info) + waiting
            elif waiting or name in ("/", "..", "."):
                self._enter(name)
                if not waiting:
                    raise OSError(errno.EISDIR, os.strerror(errno.EISDIR))
            else:
                self._check_way(info)
                return name

    def _look(self, name: str) -> os.stat_result | None:
        try:
            return os.stat(name, dir_fd=self.folder, follow_symlinks=False)
        except FileNotFoundError:
            return None

    def _follow(self, name: str, info: os.stat_result) -> list[str]:
        self._links += 1
        if self._links > _MOST_LINKS:
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
        folder = os.stat(self.folder)
        is_shared = folder.st_mode & stat.S_ISVTX and folder.st_mode & stat.S_IWOTH
        if is_shared and info.st_uid not in (os.geteuid(), folder.st_uid):
            raise _refused(f"{name} is somebody else's link in a shared folder, and not followed")
        if info.st_uid not in (os.geteuid(), 0):
            self._led_by = info.st_uid
        return _parts(os.readlink(name, dir_fd=self.folder))

    def _check_way(self, found: os.stat_result | None) -> None:
        """Refuse what somebody's link leads to where it is not theirs."""
        if self._led_by is not None and self._led_by not in (
            os.stat(self.folder).st_uid,
            found.st_uid if found is not None else None,
        ):
            raise _refused("somebody else's link leads there, to what is not theirs, and is not followed")


def _parts(path: str) -> list[str]:
    """Return the parts of a path; an absolute one begins with the root."""
    found = list(PurePath(path).parts) or ["."]
    # A slash at the end says that it is a folder.
    return [*found, "."] if path.endswith("/") and found[-1] != "/" else found


def _copy_attributes(handle: int, there: int) -> None:
    """Give a file the attributes of another; both are open, that one perhaps only to be looked at."""
    # What was opened to be looked at tells its attributes by its place in the table of open files alone.
    known = f"/proc/self/fd/{there}" if hasattr(os, "O_PATH") else there
    with suppress(OSError):
        # What a folder passes on to new files (its default list) is not what this file had.
        os.removexattr(handle, _LIST)
    for attribute in os.listxattr(known):
        try:
            os.setxattr(handle, attribute, os.getxattr(known, attribute))
        except OSError:
            if attribute == _LIST:
                raise


def _umask() -> int:
    usual = os.umask(0)
    os.umask(usual)
    return usual


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Keep other runs from changing what is in a folder meanwhile; raises `NeatError` where one does not end.

    Where the system has no such locks, nobody is kept from anything.
    """
    try:
        import fcntl

        handle = os.open(folder, os.O_RDONLY)
    except (ImportError, OSError):
        yield
        return
    try:
        until = time.monotonic() + _PATIENCE_SECONDS
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                if time.monotonic() > until:
                    hint = "wait for the other command to end, and call again"
                    raise NeatError("another command is changing the plan", str(folder), hint) from None
                time.sleep(_STEP_SECONDS)
            except OSError:
                # A file system that knows no locks.
                break
            else:
                break
        yield
    finally:
        os.close(handle)
