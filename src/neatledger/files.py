"""Files that appear whole, when all is written, or not at all; they stay whose they were, with the access they had.

Results, the plan and figures are all written through here.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, TextIO

from neatledger.errors import NeatError

__all__ = ["check_target", "copy_file", "locked", "open_replacement", "write_file"]

_MOST_LINKS = 40
_PATIENCE_SECONDS, _STEP_SECONDS = 30.0, 0.05
_LIST = "system.posix_acl_access"


def write_file(target: str | Path, data: bytes) -> None:
    """Write a whole file; it appears when all is written, or not at all. Raises `NeatError`."""
    with open_replacement(target) as out:
        out.flush()
        out.buffer.write(data)


def check_target(target: str | Path) -> None:
    """Say before long work that a file could not be written: its folder is missing, or shut. Raises `NeatError`."""
    try:
        folder = _followed(Path(target)).parent
        if not os.access(folder, os.W_OK | os.X_OK):
            number = errno.EACCES if folder.is_dir() else errno.ENOENT
            raise OSError(number, os.strerror(number))
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
        path = _followed(Path(target))
        if path.exists() and not path.is_file():
            with open(path, "w", encoding="utf-8", newline="", opener=_not_following) as out:
                yield out
            return
        handle, name = tempfile.mkstemp(prefix=f".{path.name[:100]}.", dir=path.parent)
        try:
            with open(handle, "w", encoding="utf-8", newline="") as out:
                yield out
                out.flush()
                os.fsync(out.fileno())
            _put_in_place(name, path, mode)
        finally:
            Path(name).unlink(missing_ok=True)
    except OSError as error:
        raise _not_written(target, error) from None


def _not_written(target: str | Path, error: OSError) -> NeatError:
    return NeatError(f"cannot write: {error.strerror or error}", str(target))


def _not_following(path: str, flags: int) -> int:
    return os.open(path, flags | getattr(os, "O_NOFOLLOW", 0), 0o666)


def _followed(path: Path) -> Path:
    """Return where a path leads, its last part followed; raises `OSError` where a link is not to be trusted.

    Links that somebody else put into a folder that all may write to are not followed, whatever the kernel is set to
    do (fs.protected_symlinks, proc(5)).
    """
    for _ in range(_MOST_LINKS):
        try:
            info = os.lstat(path)
        except FileNotFoundError:
            return path
        if not stat.S_ISLNK(info.st_mode):
            return path
        folder = os.stat(path.parent)
        is_shared = folder.st_mode & stat.S_ISVTX and folder.st_mode & stat.S_IWOTH
        if is_shared and info.st_uid not in (os.geteuid(), folder.st_uid):
            raise OSError(errno.EACCES, f"{path} is somebody else's link in a shared folder, and not followed")
        path = path.parent / os.readlink(path)
    raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))


def _put_in_place(name: str, path: Path, mode: int) -> None:
    """Let a file that is written take the place of another, with that one's owner, mode and access list."""
    try:
        before = os.lstat(path)
    except FileNotFoundError:
        os.chmod(name, mode & ~_umask())
        os.replace(name, path)
        return
    if _takes_on(name, path, before):
        os.replace(name, path)
    else:
        # It belongs to somebody else, who is to keep it: what it holds is replaced, and not the file.
        with open(path, "r+b", opener=_not_following) as out:
            out.write(Path(name).read_bytes())
            out.truncate()


def _takes_on(name: str, path: Path, before: os.stat_result) -> bool:
    """Give a new file the owner, access list and mode of another; tell whether that can be done."""
    if not hasattr(os, "chown"):
        return True
    try:
        now = os.stat(name)
        if (now.st_uid, now.st_gid) != (before.st_uid, before.st_gid):
            os.chown(name, before.st_uid, before.st_gid)
        if hasattr(os, "listxattr"):
            _copy_attributes(name, path)
        os.chmod(name, stat.S_IMODE(before.st_mode))
    except OSError:
        return False
    return True


def _copy_attributes(name: str, path: Path) -> None:
    with suppress(OSError):
        # What a folder passes on to new files (its default list) is not what this file had.
        os.removexattr(name, _LIST)
    for attribute in os.listxattr(path, follow_symlinks=False):
        try:
            os.setxattr(name, attribute, os.getxattr(path, attribute, follow_symlinks=False))
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
