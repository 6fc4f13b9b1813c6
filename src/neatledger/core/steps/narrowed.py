"""A list with one person's part in it made another, and everybody else's as it is.

An entry that gives the person more by a group or by all is taken apart: others keep what it gave them, by their
groups where that will do, else by name.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from neatledger.core.lists.doubt import judge_item
from neatledger.core.lists.holders import Crowd
from neatledger.core.lists.rights import EVERY_RIGHT, LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.wanted import Meant, wanted_item
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["fitting_owner", "narrowed_item", "rights_by_list"]

_NOBODYS = "0"  # the superuser, who may do everything anyhow
# What is left of the others is seen to by the entries that are kept whole.
_TOLD = Right.LIST | Right.READ | Right.ADD | Right.CHANGE


def narrowed_item(
    model: str,
    item: ItemState,
    people: Sequence[Principal],
    groups: Mapping[str, tuple[str, frozenset[str]]],
    left: Mapping[str, Level],
    *,
    is_folder: bool = True,
    gives: bool = False,
) -> ItemState:
    """Return a folder (or a sort of files) on which some people have what is left to them, and others what they had.

    What somebody lacks of it is given where `gives` says so. `people` are all whom the list decides about; `groups`
    are as `Meant` has them. Raises `StepError` where the entries hang together so that it cannot be done.
    """
    has = rights_by_list(model, item, people, is_folder=is_folder)
    narrowed = {person: LEVEL_RIGHTS[level] for person, level in left.items()}
    if not is_folder:
        # What stands in the folder may be changed by whoever may add to it.
        narrowed = {one: rights | Right.CHANGE if rights & Right.ADD else rights for one, rights in narrowed.items()}
    wanted = {person: rights & narrowed.get(person, rights) for person, rights in has.items()}
    if gives:
        wanted |= narrowed
    view = MODELS[model].parse(item.body).view(is_folder=is_folder)
    logins = {one.account.login for one in people if one.person in left}
    given = {ident: rights for ident, rights in (view.groups | view.either).items() if ident in groups}
    kept = [
        (Whom(Sort.GROUP, ident, groups[ident][0]), rights)
        for ident, rights in given.items()
        if not groups[ident][1] & logins
    ]
    after = wanted_item(item, Meant(model, people, wanted, kept, groups), is_folder=is_folder)
    now = rights_by_list(model, after, people, is_folder=is_folder)
    open_ = {one.person for one in people if one.may_come_in}
    for person, rights in now.items():
        if person in left and rights & ~wanted[person] & _TOLD:
            raise StepError(f"{person} has it by no entry: as the owner, or for the folder lets everybody")
        # Whose account is shut lacks nothing that a list could give.
        lost = has[person] & ~rights if person in open_ else Right.NONE
        if person not in left and (lost | rights & ~has[person]) & _TOLD:
            raise StepError(f"{person} has it by the same entries: a person must look at them")
    return after


def fitting_owner(meant: Meant, file: ItemState, of_folder: str, beyond: Collection[str]) -> str:
    """Return who should own a file: its owner, but the folder's where that is somebody who has too much by owning it.

    No entry takes from owners what is theirs. `beyond` are those of whom it is known that they have too much.
    """
    theirs = meant.crowd.by_user.get(file.owner, 0)
    people = {one.person for number, one in enumerate(meant.people) if theirs >> number & 1} & set(beyond)
    if not people or meant.model != "posix":
        return file.owner
    has = rights_by_list(meant.model, file, meant.people, is_folder=False)
    for person in people:
        may = meant.rights.get(person, Right.NONE)
        may |= Right.CHANGE if may & Right.ADD else Right.NONE
        if has[person] & ~may & (Right.READ | Right.CHANGE):
            return of_folder if of_folder != file.owner else _NOBODYS
    return file.owner


def rights_by_list(model: str, item: ItemState, people: Sequence[Principal], *, is_folder: bool) -> dict[str, Right]:
    """Return what a list gives each person, by any of their accounts."""
    crowd = Crowd([one.holder for one in people])
    given = judge_item(MODELS[model], item.owner, item.body, crowd, is_folder=is_folder)
    found = dict.fromkeys((one.person for one in people), Right.NONE)
    for right in (one for one in EVERY_RIGHT if one in given):
        bits = given[right]
        for number, one in enumerate(people):
            if bits >> number & 1:
                found[one.person] |= right
    return found
