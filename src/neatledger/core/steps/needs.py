"""Which steps must come after which others, harm or no harm: one makes, or takes away, what the other speaks of.

An account and a group are there before anything that names them, wherever the steps were found; else those that
change one thing keep the order in which they were found.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from neatledger.core.lists.table import MODELS
from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.lists import FilesStep, ListStep, TreeStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.shares import ShareStep

__all__ = ["find_needs"]


def find_needs(steps: Sequence[Step]) -> dict[int, set[int]]:
    """Return step → the steps that it must come after, by their numbers; for those that need any."""
    found: dict[int, set[int]] = {}
    for number, other in (*_of_one_thing(steps), *_of_folders(steps), *_of_holders(steps)):
        if number != other:
            found.setdefault(number, set()).add(other)
    return found


def _of_one_thing(steps: Sequence[Step]) -> Iterator[tuple[int, int]]:
    last: dict[tuple[str, str, str], int] = {}
    files: dict[tuple[str, bytes], list[int]] = {}
    for number, step in enumerate(steps):
        if isinstance(step, FilesStep):
            here = files.setdefault((step.system, step.path), [])
            for other in here:
                before = steps[other]
                assert isinstance(before, FilesStep)
                # Files that were of one sort are told from others by that alone.
                if {before.before, before.after} & {step.before, step.after}:
                    yield number, other
            here.append(number)
            continue
        kind = "account" if isinstance(step, AccountStep | ServiceStep | WholeAccountStep) else step.kind
        key = step.system, "list" if isinstance(step, FolderStep) else kind, step.target
        if key in last:
            yield number, last[key]
        last[key] = number


def _of_folders(steps: Sequence[Step]) -> Iterator[tuple[int, int]]:
    """Yield the steps on what lies in a folder that is made, and those before it is taken away."""
    folders = {(step.system, step.path): number for number, step in enumerate(steps) if isinstance(step, FolderStep)}
    if not folders:
        return
    for number, step in enumerate(steps):
        if not isinstance(step, TreeStep):
            continue
        path = step.path
        while True:
            other = folders.get((step.system, path))
            if other is not None and other != number:
                folder = steps[other]
                assert isinstance(folder, FolderStep)
                is_first = folder.made if path != step.path else other < number
                yield (number, other) if is_first else (other, number)
            if path == b"/":
                break
            path = path.rpartition(b"/")[0] or b"/"


def _of_holders(steps: Sequence[Step]) -> Iterator[tuple[int, int]]:
    made: dict[tuple[str, str], list[tuple[int, bool]]] = {}
    for number, step in enumerate(steps):
        if isinstance(step, GroupStep):
            for name in {step.group, step.name}:
                made.setdefault((step.system, name), []).append((number, step.made))
        elif isinstance(step, WholeAccountStep):
            account = step.after or step.before
            assert account is not None
            for name in {account.login, account.ident} - {""}:
                made.setdefault((step.system, name), []).append((number, step.after is not None))
    if not made:
        return
    for number, step in enumerate(steps):
        for name in _named(step):
            for other, is_made in made.get((step.system, name), ()):
                if other != number:
                    yield (number, other) if is_made else (other, number)


def _named(step: Step) -> set[str]:
    """Return by identifier or name whom a step speaks of, but for what it makes itself."""
    match step:
        case ListStep():
            items = [step.before, step.after]
        case FolderStep():
            items = [step.item]
        case FilesStep():
            bodies = {side.body for side in (step.before, step.after)}
            named = {ident for body in bodies for ident in MODELS[step.model].parse(body).named}
            return named | {step.before.owner, step.after.owner}
        case ShareStep():
            return {ident for side in (step.before, step.after) for ident in MODELS["nt"].parse(side.body).named}
        case MemberStep():
            return {step.group, step.name, step.member}
        case AccountStep() | ServiceStep():
            return {step.login}
        case GroupStep():
            return {step.first} - {""}
        case WholeAccountStep():
            account = step.after or step.before
            return {account.primary, *step.groups} - {""} if account is not None else set()
        case _:
            return set()
    found = {one.owner for one in items}
    for item in items:
        model = MODELS[step.model]
        for body in (item.body, item.default):
            if body is not None:
                access_list = model.parse(body)
                found |= access_list.named
        group = model.group_of(item.body)
        found |= {group} if group else set()
    return found
