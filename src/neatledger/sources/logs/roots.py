"""Paths of a server as paths in the system: which of its folders is which of ours."""

from __future__ import annotations

import os
from collections.abc import Mapping

from neatledger.errors import FormatError

__all__ = ["Roots"]

_MOST_FOLDERS = 100_000
_ODD = frozenset({"", ".", ".."})


class Roots:
    """Server folder → path in the system; the deepest folder that holds a path decides."""

    def __init__(self, roots: Mapping[bytes, bytes]) -> None:
        self._roots = sorted(roots.items(), key=lambda pair: -len(pair[0]))
        self._exact = frozenset(roots)
        self._known: dict[str, bytes] = {}

    def inside(self, path: str) -> bytes:
        """Return a path in the system, empty for none; raises `FormatError` where no root holds it."""
        if not path:
            return b""
        folder, _, name = path.rpartition("/")
        data = os.fsencode(path)
        if not folder or name in _ODD or data in self._exact:
            return self._placed(data)
        # Much is done in few folders.
        if folder not in self._known:
            if len(self._known) >= _MOST_FOLDERS:
                self._known.clear()
            self._known[folder] = self._placed(os.fsencode(folder)).rstrip(b"/") + b"/"
        return self._known[folder] + data.rpartition(b"/")[2]

    def _placed(self, path: bytes) -> bytes:
        for root, place in self._roots:
            below = path[len(root) :] if path.startswith(root) else None
            if below is not None and (root == b"/" or not below or below.startswith(b"/")):
                found = bytearray()
                for part in (*place.split(b"/"), *below.split(b"/")):
                    if part == b"..":
                        # Where it leads to only the server can say.
                        raise FormatError("a path that goes up again", os.fsdecode(path)[:80])
                    if part not in (b"", b"."):
                        found += b"/" + part
                return bytes(found) or b"/"
        raise FormatError("it lies below none of the folders of roots", os.fsdecode(path)[:80])
