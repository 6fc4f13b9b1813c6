"""A file system that keeps quotas, for real: Btrfs with quota groups on a loop device."""

from __future__ import annotations

import errno
import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["is_there", "make_subvolume", "mounted", "settle", "write_more"]

SIZE = 512 * 1024**2


def is_there() -> bool:
    """Tell whether such a file system can be made and mounted here."""
    return os.geteuid() == 0 and shutil.which("mkfs.btrfs") is not None and os.path.exists("/dev/loop-control")


def _run(*words: object) -> str:
    return subprocess.run([str(word) for word in words], check=True, capture_output=True, text=True).stdout


@contextmanager
def mounted(folder: Path) -> Iterator[Path]:
    """Make a file system with quota groups in a folder, and have it mounted while the context lasts."""
    image, top = folder / "image", folder / "top"
    with open(image, "wb") as out:
        out.truncate(SIZE)
    top.mkdir()
    _run("mkfs.btrfs", "-q", image)
    _run("mount", "-o", "loop", image, top)
    try:
        _run("btrfs", "quota", "enable", top)
        yield top
    finally:
        _run("umount", top)


def make_subvolume(path: Path, limit: int | None) -> None:
    """Make a subvolume with a limit on what it refers to."""
    _run("btrfs", "subvolume", "create", path)
    if limit is not None:
        _run("btrfs", "qgroup", "limit", limit, path)


def limit_above(top: Path, name: str, limit: int) -> None:
    """Put a subvolume into a group in a group, and limit the outer one."""
    numbers = {line.split()[-1]: line.split()[1] for line in _run("btrfs", "subvolume", "list", top).splitlines()}
    for group in ("1/0", "2/0"):
        _run("btrfs", "qgroup", "create", group, top)
    _run("btrfs", "qgroup", "assign", f"0/{numbers[name]}", "1/0", top)
    _run("btrfs", "qgroup", "assign", "1/0", "2/0", top)
    _run("btrfs", "qgroup", "limit", limit, "2/0", top)


def limit_own(path: Path, limit: int) -> None:
    """Limit what a subvolume has for itself."""
    _run("btrfs", "qgroup", "limit", "-e", limit, path)


def settle(top: Path) -> None:
    """Have everything written, and the quota groups told of it."""
    _run("btrfs", "filesystem", "sync", top)


def referenced(top: Path) -> dict[str, tuple[int, int | None]]:
    """Return what the file system's own tool tells: by path below the top, bytes used and the limit."""
    found = {}
    for line in _run("btrfs", "qgroup", "show", "-re", "--raw", top).splitlines()[2:]:
        _, used, _, limit, _, *path = line.split()
        found["" if path == ["<toplevel>"] else " ".join(path)] = int(used), None if limit == "none" else int(limit)
    return found


def write_more(path: Path, size: int, *, append: bool = False) -> int:
    """Write so many bytes into a file in one go; return how many the quota let through."""
    done = 0
    with open(path, "ab" if append else "wb", buffering=0) as out:
        try:
            while done < size:
                done += out.write(os.urandom(min(1 << 20, size - done)))
            os.fsync(out.fileno())
        except OSError as error:
            assert error.errno == errno.EDQUOT, error
    return done
