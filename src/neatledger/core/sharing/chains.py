"""Hand-outs: what each receiver has through givers, who have it themselves only as far as others let them.

A hand-out gives what its giver has today and what it says, whichever is less, and a giver's own rights are those of
the ways `share`, `team` and `handed`. So rights run along chains of passing on. They are the least that
agree with themselves: hand-outs in a ring, none of whose givers has anything otherwise, give nothing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from neatledger.core.lists.rights import Right
from neatledger.core.survey.shared import HandOut

__all__ = ["ResolvedHandOut", "file_cap", "resolve_chains"]

_UNSURE = int(Right.UNSURE)


@dataclass(frozen=True, slots=True)
class ResolvedHandOut:
    """A hand-out made ready: its giver's principal, the principals that it reaches, and what it lets through at most.

    `perhaps` are those of whom it is not told whether they are in the group that it is for. `cap` is for folders,
    `file_cap` for files.
    """

    hand_out: HandOut
    giver: int | None
    receivers: tuple[int, ...]
    cap: int
    file_cap: int
    perhaps: tuple[int, ...] = ()


@lru_cache(maxsize=4096)
def file_cap(rights: Right) -> Right:
    """Return what rights on a folder come to on its files."""
    found = rights & (Right.READ | Right.VIEW | Right.CHANGE)
    return found | Right.DELETE if rights & Right.CLEAR else found


def resolve_chains(
    resolved: Sequence[ResolvedHandOut], own: Mapping[int, int], *, of_files: bool = False
) -> dict[int, int]:
    """Return the rights that each principal gets by hand-outs, from what each has of its own, as numbers.

    `Right.UNSURE` stands where more may be theirs: by a group of which nobody told whether they are in it.
    """
    got = _settle(resolved, own, {}, of_files=of_files)
    if any(one.perhaps for one in resolved):
        # Rights only grow with who is in a group: what is the same if nobody is and if everybody is, is so for sure.
        widest = [replace(one, receivers=(*one.receivers, *one.perhaps), perhaps=()) for one in resolved]
        most = _settle(widest, own, {}, of_files=of_files)
        doubtful = {number: _UNSURE for number, rights in most.items() if rights != got.get(number, 0)}
        got = _settle(resolved, own, doubtful, of_files=of_files)
    return got


def _settle(
    resolved: Sequence[ResolvedHandOut], own: Mapping[int, int], start: Mapping[int, int], *, of_files: bool
) -> dict[int, int]:
    live: Sequence[tuple[int, int, tuple[int, ...]]] = [
        (one.giver, (one.file_cap if of_files else one.cap) | _UNSURE, one.receivers)
        for one in resolved
        if one.giver is not None and (one.file_cap if of_files else one.cap) and not one.hand_out.is_untold
    ]
    # What a giver who was not told may give, nobody knows; the same where something of a hand-out cannot be read.
    got = dict(start) | {
        principal: _UNSURE
        for one in resolved
        if one.hand_out.is_untold and (one.file_cap if of_files else one.cap)
        for principal in one.receivers
    }
    is_new = True
    # Until nothing is added any more: rights only grow and are few, so it ends, and rings that nobody feeds stay
    # empty.
    while is_new:
        is_new = False
        for giver, cap, receivers in live:
            gives = (own.get(giver, 0) | got.get(giver, 0)) & cap
            if not gives:
                continue
            for principal in receivers:
                before = got.get(principal, 0)
                if gives & ~before:
                    got[principal] = before | gives
                    is_new = True
    return got
