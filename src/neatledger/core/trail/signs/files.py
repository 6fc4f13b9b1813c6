"""Files deleted, renamed or written in masses, and files of many kinds that become one kind which nobody knew."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.signs.bursts import bursts, busiest
from neatledger.core.trail.signs.contract import History, Sign, SignKind
from neatledger.core.trail.signs.wording import length

__all__ = ["find"]

Ints = NDArray[np.int64]
_MASSES = (
    (Did.DELETE, SignKind.MASS_DELETION, "deleted"),
    (Did.RENAME, SignKind.MASS_RENAMING, "renamed"),
    (Did.CHANGE, SignKind.MASS_WRITING, "written"),
)
_MAY_MAKE = (Did.RENAME, Did.CHANGE, Did.MAKE)  # files of another kind
_FEW_KINDS = 3
_SHARE_OF_KIND = 0.8


def find(history: History) -> Iterator[Sign]:
    """Yield the signs of this family."""
    is_new_kind = np.array([one not in history.known.kinds for one in history.table.kinds] + [False], dtype=bool)
    for login, rows in history.accounts():
        for did, kind, verb in _MASSES:
            yield from _masses(history, login, history.done(rows, did), did, kind, verb)
        for did in _MAY_MAKE if history.known.kinds else ():
            mine = history.done(rows, did)
            yield from _kinds(history, login, mine[is_new_kind[history.table.kind[mine]]], did)


def _masses(history: History, login: str, rows: Ints, did: Did, kind: SignKind, verb: str) -> Iterator[Sign]:
    limits, window = history.limits, history.limits.burst_minutes * 60
    moments = history.table.moments[rows]
    past = moments[moments < history.since]
    usual = busiest(past, window)
    threshold = max(limits.mass_files, limits.mass_times * usual)
    for span, records in _fetched(history, login, did, moments, threshold):
        where, within = _common({one.path for one in records}), length(span[1] - span[0])
        most, all_of_them = _most_files(records, window)
        if most >= threshold:
            words = f"{all_of_them:,} files {verb} within {within}; {most:,} in {limits.burst_minutes} minutes"
            words += f"; the most before was {usual:,}" if len(past) else "; no earlier figure to compare with"
            yield Sign.of(history, kind, span, most, threshold, words, login=login, path=where)


def _kinds(history: History, login: str, rows: Ints, did: Did) -> Iterator[Sign]:
    """Yield where files of many kinds became one of which none was known; `rows` are those of unknown kinds."""
    threshold = history.limits.unknown_kind_files
    for span, records in _fetched(history, login, did, history.table.moments[rows], threshold):
        became = _one_unknown_kind(history, records)
        if became is not None:
            ending = became.ending.decode("utf-8", "backslashreplace")
            words = f"{became.files:,} files of {became.kinds} kinds became .{ending}"
            words += f" within {length(span[1] - span[0])}; no file of that kind was ever counted"
            yield Sign.of(
                history, SignKind.ONE_UNKNOWN_KIND, span, became.files, threshold, words,
                login=login, path=_common({one.path for one in records}),
            )  # fmt: skip


def _fetched(
    history: History, login: str, did: Did, moments: Ints, fewest: int
) -> Iterator[tuple[tuple[int, int], list[Record]]]:
    """Yield the time and the records of each burst that is looked at."""
    for first, last in bursts(moments, history.limits.burst_minutes * 60, fewest):
        span = int(moments[first]), int(moments[last])
        if span[1] >= history.since:
            yield span, [one for one in history.fetch(login, did, span[0], span[1] + 1) if one.is_done]


def _most_files(records: Sequence[Record], window: int) -> tuple[int, int]:
    """Return how many different files some `window` seconds hold at most, and how many there are in all."""
    first_seen: dict[bytes, int] = {}
    for one in records:
        # What is saved again and again is one file.
        first_seen.setdefault(one.path, int(one.moment.timestamp()))
    return busiest(np.array(sorted(first_seen.values()), dtype=np.int64), window), len(first_seen)


@dataclass(frozen=True, slots=True)
class _Became:
    """So many files of so many kinds became files of one other ending."""

    kinds: int
    ending: bytes
    files: int


def _one_unknown_kind(history: History, records: Sequence[Record]) -> _Became | None:
    """Return into what files of many kinds were made, if nearly all became one kind that nobody knew."""
    became: dict[bytes, dict[bytes, bytes]] = {}
    for one in records:
        path = one.to or one.path
        stem, _, ending = path.rpartition(b".")
        # A file that was written anew has its old kind still before the new one, if any.
        before = _ending(one.path if one.to else stem)
        if before and (now := _ending(path)) and now not in history.known.kinds and now != before:
            became.setdefault(now, {})[path] = before
    files = len({one.path for one in records})
    for ending, found in became.items():
        kinds = len(set(found.values()))
        if len(found) >= max(history.limits.unknown_kind_files, _SHARE_OF_KIND * files) and kinds >= _FEW_KINDS:
            return _Became(kinds, ending, len(found))
    return None


def _ending(path: bytes) -> bytes:
    stem, _, ending = path.rpartition(b"/")[2].rpartition(b".")
    return ending.lower() if stem else b""


def _common(paths: Iterable[bytes]) -> bytes:
    """Return the deepest folder that holds all of some files."""
    parts = [one.split(b"/")[:-1] for one in paths]
    if not parts:
        return b""
    low, high = min(parts), max(parts)
    same = next((at for at, (one, other) in enumerate(zip(low, high, strict=False)) if one != other), None)
    return b"/".join(low[: min(len(low), len(high)) if same is None else same]) or b"/"
