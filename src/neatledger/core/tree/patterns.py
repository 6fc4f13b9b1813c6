"""Patterns of folders: ``*`` stands for one name or a part of it, ``**`` for any number of folders."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import Any, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.table import Table

__all__ = ["match_folders", "match_path", "match_text"]


def match_text(pattern: str, text: str) -> bool:
    """Tell whether a text fits a pattern in which only ``*`` is special, for any run of characters."""
    return re.fullmatch(".*".join(map(re.escape, pattern.split("*"))), text, re.DOTALL) is not None


Column = NDArray[np.signedinteger[Any]]


@lru_cache(maxsize=256)
def _name_pattern(name: bytes) -> re.Pattern[bytes]:
    return re.compile(b".*".join(map(re.escape, name.split(b"*"))), re.DOTALL)


def match_folders(pattern: bytes, folders: Table) -> list[int]:
    """Return the rows of the folders that fit, walking down only where something still can."""
    steps = [step for step in pattern.split(b"/") if step]
    names = folders.texts("name")
    if b"**" in steps and steps[-1] != b"**":
        return _match_upwards(steps, names, folders["parent"])
    first, children = folders["first_child"], folders["children"]
    found: set[int] = set()
    seen: set[tuple[int, int]] = set()
    waiting = [(0, 0)]
    while waiting:
        row, done = waiting.pop()
        if (row, done) in seen:
            continue
        seen.add((row, done))
        if done == len(steps):
            found.add(row)
            continue
        below = range(int(first[row]), int(first[row]) + int(children[row]))
        if steps[done] == b"**":
            waiting.append((row, done + 1))
            waiting += [(child, done) for child in below]
        else:
            waiting += [(child, done + 1) for child in _named(steps[done], names, below)]
    return sorted(found)


@runtime_checkable
class Searchable(Protocol):
    """Names that can be searched for one faster than by looking at each."""

    def rows_of(self, text: bytes, /) -> Iterator[int]:
        """Yield the rows of a name."""


def _match_upwards(steps: list[bytes], names: Sequence[bytes], parent: Column) -> list[int]:
    """Return the rows that fit where a folder may be at any depth: by its own name first, which few have."""
    last = steps[-1]
    if b"*" in last:
        fits = _name_pattern(last).fullmatch
        rows = [row for row, name in enumerate(names) if fits(name) and row]
    elif isinstance(names, Searchable):
        rows = [row for row in names.rows_of(last) if row]
    else:
        rows = [row for row, name in enumerate(names) if name == last and row]
    whole = _path_pattern(tuple(steps))
    found = []
    for row in rows:
        path, above = [], row
        while above > 0:
            path.append(names[above])
            above = int(parent[above])
        if whole.fullmatch(b"/" + b"/".join(reversed(path))):
            found.append(row)
    return found


@lru_cache(maxsize=64)
def _path_pattern(steps: tuple[bytes, ...]) -> re.Pattern[bytes]:
    parts = [
        b"(?:/[^/]+)*" if step == b"**" else b"/" + b"[^/]*".join(map(re.escape, step.split(b"*"))) for step in steps
    ]
    return re.compile(b"".join(parts), re.DOTALL)


def match_path(pattern: bytes, path: bytes) -> bool:
    """Tell whether a path fits a pattern of folders."""
    steps = tuple(step for step in pattern.split(b"/") if step)
    return _path_pattern(steps).fullmatch(b"" if path == b"/" else path) is not None


def _named(step: bytes, names: Sequence[bytes], below: range) -> list[int]:
    if b"*" not in step:
        return [child for child in below if names[child] == step]
    fits = _name_pattern(step).fullmatch
    return [child for child in below if fits(names[child])]
