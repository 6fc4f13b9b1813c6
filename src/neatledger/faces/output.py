"""Where a result goes, and in which form; and files that appear whole, when all is written, or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from neatledger.errors import NeatError

__all__ = ["Output", "open_output", "write_file"]


@dataclass(frozen=True, slots=True)
class Output:
    """One run's output: the form (table, csv, json), the file it is to go to (None: `stream`), and the terminal.

    `width` is that of the terminal in cells, 0 for none. `caveats` gives what to bear in mind of any result: it is
    asked when the result is there.
    """

    form: str
    target: str | None
    stream: TextIO
    width: int = 0
    is_colored: bool = False
    caveats: Callable[[], list[str]] = list


@contextmanager
def open_output(output: Output) -> Iterator[TextIO]:
    """Open where the result goes; a file appears whole, when all is written, or not at all."""
    if output.target is None:
        yield output.stream
        return
    with _open_file(output.target) as out:
        yield out


def write_file(target: str, data: bytes) -> None:
    """Write a whole file; it appears when all is written, or not at all. Raises `NeatError`."""
    with _open_file(target) as out:
        out.flush()
        out.buffer.write(data)


@contextmanager
def _open_file(name_of_it: str) -> Iterator[TextIO]:
    # What a link points to is written, and a device or a pipe is written to: neither is replaced by a file.
    target = Path(os.path.realpath(name_of_it))
    if target.exists() and not target.is_file():
        try:
            with open(target, "w", encoding="utf-8", newline="") as out:
                yield out
        except OSError as error:
            raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
        return
    try:
        handle, name = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)
    except OSError as error:
        raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
    try:
        with open(handle, "w", encoding="utf-8", newline="") as out:
            yield out
        os.chmod(name, _mode_for(target))
        os.replace(name, target)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _mode_for(target: Path) -> int:
    """Return the permission bits of a file that is written: those it had, or what is usual for new ones."""
    if target.exists():
        return target.stat().st_mode & 0o777
    usual = os.umask(0)
    os.umask(usual)
    return 0o666 & ~usual
