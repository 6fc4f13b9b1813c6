"""Patterns of folders: ``*`` stands for one name or a part of it, ``**`` for any number of folders."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache

from neatledger.core.survey import Table

__all__ = ["match_folders", "match_text"]


def match_text(pattern: str, text: str) -> bool:
    """Tell whether a text fits a pattern in which only ``*`` is special, for any run of characters."""
    return re.fullmatch(".*".join(map(re.escape, pattern.split("*"))), text, re.DOTALL) is not None


@lru_cache(maxsize=256)
def _name_pattern(name: bytes) -> re.Pattern[bytes]:
    return re.compile(b".*".join(map(re.escape, name.split(b"*"))), re.DOTALL)


def match_folders(pattern: bytes, folders: Table) -> list[int]:
    """Return the rows of the folders that fit, walking down only where something still can."""
    steps = [step for step in pattern.split(b"/") if step]
    names = folders.texts("name")
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


def _named(step: bytes, names: Sequence[bytes], below: range) -> list[int]:
    if b"*" not in step:
        return [child for child in below if names[child] == step]
    fits = _name_pattern(step).fullmatch
    return [child for child in below if fits(names[child])]
