"""What looking again after carrying out showed, in sentences: all as it was to be, or what is not, and by whom."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured, bounded
from neatledger.reports.change_words import file_words, level_word, what_changes
from neatledger.reports.report import count_of

__all__ = ["proof_notes"]

_MOST = 10


class LookedAt(Protocol):
    """What was compared of one system."""

    @property
    def system(self) -> str: ...
    @property
    def folders(self) -> int: ...
    @property
    def files(self) -> int: ...
    @property
    def accounts(self) -> int: ...
    @property
    def groups(self) -> int: ...
    @property
    def unseen(self) -> int: ...


class Deviation(Protocol):
    """One thing that is not as it was to be."""

    @property
    def system(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def what(self) -> str: ...
    @property
    def steps(self) -> Sequence[Step]: ...
    @property
    def is_as_before(self) -> bool: ...
    @property
    def who(self) -> Sequence[str]: ...


class Changed(Protocol):
    """What somebody gained or lost by what no step made."""

    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...


class Proof(Protocol):
    """What looking again showed."""

    @property
    def since(self) -> str: ...
    @property
    def looked(self) -> Sequence[LookedAt]: ...
    @property
    def made(self) -> int: ...
    @property
    def failed(self) -> Sequence[Deviation]: ...
    @property
    def others(self) -> Sequence[Deviation]: ...
    @property
    def passed_on(self) -> Sequence[Address]: ...
    @property
    def came(self) -> int: ...
    @property
    def went(self) -> int: ...
    @property
    def changes(self) -> Sequence[Changed]: ...
    @property
    def untold(self) -> Sequence[str]: ...
    @property
    def silent(self) -> Sequence[str]: ...
    @property
    def is_as_meant(self) -> bool: ...


def proof_notes(proof: Proof, *, is_over: bool) -> list[str]:
    """Say what was looked at, and what is not as it was to be; a run that `is_over` made all of its steps."""
    notes = []
    unseen = [one for one in proof.looked if one.unseen]
    looked = "; ".join(map(_looked, proof.looked))
    steps = count_of(proof.made, "step")
    shows = f"{steps} {'shows' if proof.made == 1 else 'show'}"
    rest = "everything else is as it was" if is_over else "everything else is as it was (the rest was not made)"
    said = assured("proof", proof.is_as_meant, "Not all is as it was to be", steps=shows, rest=rest)
    if proof.looked:
        sentence = bounded(f"{said.text}.", [one.system for one in unseen] if said.is_assured else [])
        notes.append(f"Looked at again and compared with {proof.since}: {looked}. {sentence}")
    notes += [f"Not known: {why}." for why in proof.untold]
    if proof.failed:
        notes.append(f"{count_of(len(proof.failed), 'thing')} that steps set {_is(proof.failed)} not as they set it:")
        notes += _listed([_failed(one) for one in proof.failed])
    if proof.others:
        notes.append(f"Somebody else changed {count_of(len(proof.others), 'thing')} meanwhile:")
        notes += _listed([_other(one) for one in proof.others])
    if proof.passed_on:
        where = ", ".join(map(_place, proof.passed_on[:3])) + (" and more" if len(proof.passed_on) > 3 else "")
        folders = count_of(len(proof.passed_on), "folder")
        notes.append(f"The server passed on what a step set above {folders}: {where}.")
    if proof.changes:
        people = count_of(len({one.change.person for one in proof.changes}), "person")
        notes.append(f"By that {people} {'has' if people.startswith('1 ') else 'have'} other rights than meant:")
        notes += _listed([_change(one) for one in proof.changes])
    if proof.silent:
        notes.append(f"Who it was is not known: {', '.join(proof.silent)} has no log that the plan names.")
    if proof.came or proof.went:
        notes.append(f"As people work: {count_of(proof.came, 'file')} came, {proof.went:,} went.")
    for one in unseen:
        notes.append(f"Not compared in {one.system}, for it was not seen: {count_of(one.unseen, 'thing')}.")
    return notes


def _looked(one: LookedAt) -> str:
    parts = (
        (one.folders, "folder"), (one.files, "file"), (one.accounts, "account"), (one.groups, "group"),
    )  # fmt: skip
    return f"{one.system}, {', '.join(count_of(number, word) for number, word in parts)}"


def _is(some: Sequence[object]) -> str:
    return "is" if len(some) == 1 else "are"


def _listed(lines: Sequence[str]) -> list[str]:
    more = [f"  and {len(lines) - _MOST:,} more"] if len(lines) > _MOST else []
    return [f"  {line}" for line in lines[:_MOST]] + more


def _place(place: Address | str) -> str:
    return place if isinstance(place, str) else f"{place.system}:{os.fsdecode(place.path)}"


def _failed(one: Deviation) -> str:
    how = "as before the step: it was not made, or somebody took it back" if one.is_as_before else one.what
    return f"{_place(one.place)}: {how}"


def _other(one: Deviation) -> str:
    who = f" ({'; '.join(one.who)})" if one.who else ""
    return f"{_place(one.place)}: {one.what}{who}"


def _change(one: Changed) -> str:
    change = one.change
    verb = what_changes(change)
    before, after = level_word(change.before), level_word(change.after)
    words = f"{before} → {after}" if before != after else file_words(change) or "what else is not known"
    return f"{change.person} {verb} on {_place(one.address)}: {words}"
