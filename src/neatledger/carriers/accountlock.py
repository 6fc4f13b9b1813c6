"""Files of accounts kept from being changed by two at once, as the system's own tools keep each other from it.

The tools of a POSIX system take a record lock on `.pwd.lock` beside the files, and wait 15 seconds for it
(lckpwdf(3)). Elsewhere than in /etc it is only taken where there is such a file: nobody else asks for it.
"""

from __future__ import annotations

import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from neatledger.errors import SourceError
from neatledger.files import locked

__all__ = ["account_files_locked"]

_PATIENCE, _PAUSE = 15.0, 0.05  # seconds
_OF_THE_SYSTEM = Path("/etc")


@contextmanager
def account_files_locked(folder: Path) -> Iterator[None]:
    """Keep everybody else who asks from changing the files of accounts in a folder; raises `SourceError`."""
    lock = folder / ".pwd.lock"
    with locked(folder):
        if not (lock.exists() or folder.resolve() == _OF_THE_SYSTEM):
            yield
            return
        try:
            handle = os.open(lock, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        except OSError as error:
            raise SourceError(f"cannot be locked: {error.strerror}", str(lock)) from None
        try:
            until = time.monotonic() + _PATIENCE
            while True:
                try:
                    fcntl.lockf(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except OSError:
                    if time.monotonic() > until:
                        hint = "wait for the other tool to end, and go on: mend --go-on"
                        raise SourceError("another tool is changing the accounts", str(lock), hint) from None
                    time.sleep(_PAUSE)
            yield
        finally:
            os.close(handle)
