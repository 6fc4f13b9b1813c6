"""One group's part of all lists given to another one, and entries of people replaced by one of their group.

Every list is changed by itself where it names whom it is about; on models that pass entries on, where they were set.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Collection

from neatledger.core.lists.posix import GROUP, MASK, USER, Entry, pack_entries, unpack_entries
from neatledger.core.lists.posix import pack_body as pack_posix
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, State, folders_from
from neatledger.core.steps.grants import passed_on, set_holder
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["group_in_place_of_group", "group_in_place_of_people"]

_HEAD = struct.Struct("<HI")
_Edit = Callable[[bytes, bool], bytes]
"""Body and whether it is a default list → the body as it is to be."""


def group_in_place_of_group(state: State, model: str, old: Whom, new: Whom) -> list[ListStep | FilesStep]:
    """Return the steps that name a group wherever lists (or POSIX owners) name another one; raises `StepError`."""

    def edit(body: bytes, is_default: bool) -> bytes:
        gid = _HEAD.unpack_from(body)[1]
        entries = {(one.tag, one.ident): one.perm for one in unpack_entries(body)}
        mine = entries.pop((GROUP, int(old.ident)), None)
        key = (GROUP, int(new.ident))
        owning = 0 if is_default else gid
        if (mine is not None and owning == int(new.ident)) or (owning == int(old.ident) and key in entries):
            raise StepError("both groups are named on one item: a person must look at it")
        if mine is not None:
            entries[key] = entries.get(key, 0) | mine
        return _rebuilt(body, entries, int(new.ident) if gid == int(old.ident) and not is_default else gid)

    if MODELS[model].has_defaults:
        return _each(state, model, edit)
    return _where_set(state, model, [old.ident], new, lambda given: given[old.ident])


def group_in_place_of_people(
    state: State, model: str, people: Collection[str], group: Whom
) -> list[ListStep | FilesStep]:
    """Return the steps that name a group wherever lists name each of its people alike (by identifier).

    Where they name some of them alone, or not all alike, nothing is changed. Raises `StepError`.
    """

    def edit(body: bytes, is_default: bool) -> bytes:
        entries = {(one.tag, one.ident): one.perm for one in unpack_entries(body)}
        keys = [(USER, int(ident)) for ident in people]
        perms = {entries.get(key) for key in keys}
        gid = _HEAD.unpack_from(body)[1]
        if len(perms) != 1 or None in perms or (GROUP, int(group.ident)) in entries or gid == int(group.ident):
            return body
        for key in keys:
            entries[GROUP, int(group.ident)] = entries.pop(key)
        return _rebuilt(body, entries, gid)

    if MODELS[model].has_defaults:
        return _each(state, model, edit)
    return _where_set(state, model, list(people), group, lambda given: _alike(given.values()))


def _alike(rights: Collection[Right]) -> Right:
    return next(iter(rights)) if len(set(rights)) == 1 else Right.NONE


def _rebuilt(body: bytes, entries: dict[tuple[int, int], int], gid: int) -> bytes:
    """Return a POSIX body with other named entries; its mode bits stay, for the mask is among them."""
    mode, owner = _HEAD.unpack_from(body)
    made = [Entry(tag, perm, ident) for (tag, ident), perm in sorted(entries.items())]
    if made == unpack_entries(body) and gid == owner:
        return body
    has_named = any(one.tag == MASK for one in made)
    return pack_posix(mode & 0o7777, gid, pack_entries(made) if has_named else b"", mode & ~0o7777)


def _each(state: State, model: str, edit: _Edit) -> list[ListStep | FilesStep]:
    found: list[ListStep | FilesStep] = []
    for path, item in folders_from(state, b"/"):
        default = None if item.default is None else edit(item.default, True)
        after = ItemState(item.owner, edit(item.body, False), default)
        if after != item:
            found.append(ListStep(state.system, path, model, item, after))
        sorts = state.file_sorts(path)
        then = {sort: FileSort(sort.owner, edit(sort.body, False)) for sort in sorts}
        found += files_steps(state.system, path, model, sorts, then)
    return found


def _where_set(
    state: State, model: str, idents: list[str], group: Whom, rights_of: Callable[[dict[str, Right]], Right]
) -> list[ListStep | FilesStep]:
    """Change lists where entries were set, from the top down, and pass them on anew."""
    found: list[ListStep | FilesStep] = []
    for path, item in folders_from(state, b"/"):
        view = MODELS[model].parse(item.body).view(is_folder=True)
        named = view.users | view.groups | view.either
        rights = rights_of({one: named[one] for one in idents}) if set(idents) <= named.keys() else Right.NONE
        if rights:
            body = item.body
            for ident in idents:
                sort = Sort.GROUP if ident in view.groups else Sort.USER
                body = set_holder(model, body, Whom(sort, ident), None, is_folder=True)
            body = set_holder(model, body, group, rights | named.get(group.ident, Right.NONE), is_folder=True)
            after = ItemState(item.owner, body, item.default)
            steps: list[ListStep | FilesStep] = [ListStep(state.system, path, model, item, after)]
            steps += passed_on(state, path, model, after)
            for step in steps:
                step.apply(state)
            found += steps
    return found
