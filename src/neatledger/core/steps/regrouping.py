"""One group's part of all lists given to another holder, and entries of people replaced by one of their group.

Every list is changed by itself where it names whom it is about; on models that pass entries on, where they were set.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace

from neatledger.core.access.shares import Share
from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, USER, Entry, pack_entries, unpack_entries
from neatledger.core.lists.posix import pack_body as pack_posix
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, State, folders_from
from neatledger.core.steps.grants import passed_on, set_holder
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = [
    "Regrouped",
    "group_in_place_of_people",
    "holder_in_place_of_group",
    "in_place_on_shares",
    "without_covered",
]

_HEAD = struct.Struct("<HI")
_NO_ID = Entry(GROUP_OBJ, 0).ident
_Edit = Callable[[bytes, str, bool], bytes]
"""Body, the item's owner and whether it is a default list → the body as it is to be."""
Regrouped = ListStep | FilesStep


def holder_in_place_of_group(state: State, model: str, old: Whom, new: Whom) -> list[Regrouped]:
    """Return the steps that name a group or a person wherever lists (or POSIX owners) name a group.

    Raises `StepError` where a person would have to become an owning group, or one item names both.
    """
    key = (GROUP if new.sort is Sort.GROUP else USER, _number(new.ident))

    def edit(body: bytes, owner: str, is_default: bool) -> bytes:
        gid = _HEAD.unpack_from(body)[1]
        entries = {(one.tag, one.ident): one.perm for one in unpack_entries(body)}
        mine = entries.pop((GROUP, int(old.ident)), None)
        owning, own = -1 if is_default else gid, (GROUP_OBJ, _NO_ID)
        if new.sort is Sort.USER:
            if owning == int(old.ident):
                raise StepError("the group owns items, which only a group can", hint="give these to another group")
            if mine is None or (owner == new.ident and not is_default):
                # Whoever owns an item has what its owner has, and nothing by a group.
                return _rebuilt(body, entries, gid) if mine is not None else body
        elif mine is not None and owning == int(new.ident):
            entries[own] = _larger(entries[own], mine)
            return _rebuilt(body, entries, gid)
        elif owning == int(old.ident) and key in entries:
            entries[own] = _larger(entries[own], entries.pop(key))
        if mine is not None:
            entries[key] = _larger(entries.get(key, 0), mine)
        return _rebuilt(body, entries, int(new.ident) if owning == int(old.ident) else gid)

    if MODELS[model].has_defaults:
        return _each(state, model, edit)
    return _where_set(state, model, [old.ident], new, lambda given: given[old.ident])


def group_in_place_of_people(state: State, model: str, people: Collection[str], group: Whom) -> list[Regrouped]:
    """Return the steps that name a group wherever lists name each of its people alike (by identifier).

    Where they name some of them alone, or not all alike, nothing is changed. Raises `StepError`.
    """

    def edit(body: bytes, owner: str, is_default: bool) -> bytes:
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


def without_covered(state: State, model: str, group: Whom, covered: Sequence[Whom]) -> list[Regrouped]:
    """Return the steps that leave some holders out of lists that give a group all that they give these.

    Those of `covered` have nobody in them, or are nobody, who is not in the group.
    """
    keys = {(GROUP if one.sort is Sort.GROUP else USER, one.ident): one for one in covered}

    def edit(body: bytes, owner: str, is_default: bool) -> bytes:
        entries = {(one.tag, one.ident): one.perm for one in unpack_entries(body)}
        gid = _HEAD.unpack_from(body)[1]
        mine = entries.get((GROUP, int(group.ident)))
        if gid == int(group.ident) and not is_default:
            mine = (mine or 0) | entries[GROUP_OBJ, _NO_ID]
        if mine is None:
            # It does not speak of them: an entry that keeps something from somebody keeps it from what others have.
            return body
        for tag, ident in keys:
            perm = entries.get((tag, int(ident)))
            # A person's entry decides alone: without it they have what the group gives, and so no less and no more.
            is_covered = perm == mine if tag == USER else perm is not None and not perm & ~mine
            if is_covered and not (tag == USER and ident == owner):
                del entries[tag, int(ident)]
        return _rebuilt(body, entries, gid)

    if MODELS[model].has_defaults:
        return _each(state, model, edit)
    found: list[Regrouped] = []
    for path, item in folders_from(state, b"/"):
        view = MODELS[model].parse(item.body).view(is_folder=True)
        named = view.users | view.groups | view.either
        body = item.body
        for one in covered:
            has = named.get(one.ident, Right.NONE)
            if has and not has & ~named.get(group.ident, Right.NONE) and group.ident in named:
                body = set_holder(model, body, one, None, is_folder=True)
        found += _changed(state, model, path, item, body)
    return found


def in_place_on_shares(state: State, old: Whom, new: Whom) -> list[ShareStep]:
    """Return the steps that name somebody in place of a group in the permissions of shares, and in their switches."""
    found = []
    for facts in state.facts.get("shares") or ():
        share = Share.of_facts(facts)
        has = MODELS["nt"].parse(share.body).view(is_folder=True).either
        body = share.body
        if old.ident in has:
            body = set_holder("nt", body, old, None, is_folder=True)
            rights = has[old.ident] | has.get(new.ident, Right.NONE)
            body = set_holder("nt", body, new, rights, is_folder=True)
        enters = None if share.enters is None else _swapped(share.enters, old, new)
        after = replace(share, body=body, enters=enters, writers=_swapped(share.writers, old, new))
        if after != share:
            found.append(ShareStep(state.system, share, after))
    return found


def _larger(one: int, other: int) -> int:
    """Return what two entries of the same people give; each is asked alone: r of one and w of another are not rw."""
    if one & ~other and other & ~one:
        raise StepError("two groups give different things on one item, and not together: a person must look at it")
    return one | other


def _swapped(idents: frozenset[str], old: Whom, new: Whom) -> frozenset[str]:
    return frozenset(new.ident if one == old.ident else one for one in idents)


def _number(ident: str) -> int:
    return int(ident) if ident.isdecimal() else -1


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


def _each(state: State, model: str, edit: _Edit) -> list[Regrouped]:
    found: list[Regrouped] = []
    for path, item in folders_from(state, b"/"):
        default = None if item.default is None else edit(item.default, item.owner, True)
        after = ItemState(item.owner, edit(item.body, item.owner, False), default)
        if after != item:
            found.append(ListStep(state.system, path, model, item, after))
        sorts = state.file_sorts(path)
        then = {sort: FileSort(sort.owner, edit(sort.body, sort.owner, False)) for sort in sorts}
        found += files_steps(state.system, path, model, sorts, then)
    return found


def _where_set(
    state: State, model: str, idents: list[str], group: Whom, rights_of: Callable[[dict[str, Right]], Right]
) -> list[Regrouped]:
    """Change lists where entries were set, from the top down, and pass them on anew."""
    found: list[Regrouped] = []
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
            found += _changed(state, model, path, item, body)
    return found


def _changed(state: State, model: str, path: bytes, item: ItemState, body: bytes) -> list[Regrouped]:
    """Return the steps that give a folder another list and pass it on, and make them in the state."""
    if body == item.body:
        return []
    after = ItemState(item.owner, body, item.default)
    steps: list[Regrouped] = [ListStep(state.system, path, model, item, after)]
    steps += passed_on(state, path, model, after)
    for step in steps:
        step.apply(state)
    return steps
