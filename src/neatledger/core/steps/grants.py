"""Giving a holder something on a folder and all below it, or taking it away, as steps."""

from __future__ import annotations

from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.steps import grant_nfs4, grant_nt, grant_posix, grant_role
from neatledger.core.steps.contract import FileSort, ItemState, State, folders_from
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["grant_steps", "passed_on", "set_holder", "with_holder"]

_OTHERS = {"nt": grant_nt.set_holder, "nfs4": grant_nfs4.set_holder, "role": grant_role.set_holder}


def set_holder(model: str, body: bytes, whom: Whom, rights: Right | None, *, is_folder: bool) -> bytes:
    """Return a list that gives a holder by name these rights and no others; None: it does not name them.

    Raises `StepError` where that cannot be done to this list.
    """
    if model == "posix":
        if rights is not None and rights & Right.MANAGE and whom.sort is not Sort.OWNER:
            raise StepError("here only its owner may manage a folder: give it another owner")
        return grant_posix.set_holder(body, whom, rights, is_folder=is_folder)
    return _OTHERS[model](body, whom, rights, is_folder=is_folder)


def with_holder(model: str, item: ItemState, whom: Whom, rights: Right | None) -> ItemState:
    """Return a folder with a holder's rights set in its list, and in what it passes on to what is made in it."""
    whom = Whom(Sort.OWNER, whom.ident, whom.name) if model == "posix" and _owns(item, whom) else whom
    body = set_holder(model, item.body, whom, rights, is_folder=True)
    if item.default is None or whom.sort is Sort.OWNER:
        return ItemState(item.owner, body, item.default)
    default = grant_posix.set_holder(item.default, whom, rights, is_folder=True, is_default=True)
    return ItemState(item.owner, body, default)


def _owns(item: ItemState | FileSort, whom: Whom) -> bool:
    return whom.sort is Sort.USER and whom.ident == item.owner


def grant_steps(
    state: State, path: bytes, model: str, whom: Whom, rights: Right | None
) -> list[ListStep | FilesStep]:
    """Return the steps that set a holder's rights on a folder and all below it, each folder before what lies in it.

    POSIX lists and the entries of others that stand below are each changed by themselves; where entries come from
    above, what is passed on is passed on anew. Raises `StepError`.
    """
    top = state.folder_state(path)
    if top is None:
        raise StepError("the folder is not there", f"{state.system}: {path.decode('utf-8', 'surrogateescape')}")
    if MODELS[model].has_defaults:
        return _each(state, path, model, whom, rights)
    found: list[ListStep | FilesStep] = []
    after = with_holder(model, top, whom, rights)
    if after != top:
        found.append(ListStep(state.system, path, model, top, after))
        found += passed_on(state, path, model, after)
    return found


def _each(state: State, top: bytes, model: str, whom: Whom, rights: Right | None) -> list[ListStep | FilesStep]:
    found: list[ListStep | FilesStep] = []
    for path, here in folders_from(state, top):
        after = with_holder(model, here, whom, rights)
        if after != here:
            found.append(ListStep(state.system, path, model, here, after))
        sorts = state.file_sorts(path)
        then = {}
        for sort in sorts:
            them = Whom(Sort.OWNER) if _owns(sort, whom) else whom
            then[sort] = FileSort(sort.owner, set_holder(model, sort.body, them, rights, is_folder=False))
        found += files_steps(state.system, path, model, sorts, then)
    return found


def passed_on(state: State, path: bytes, model: str, top: ItemState) -> list[ListStep | FilesStep]:
    """Return the steps that pass a changed list on to all that has its entries from above; own entries stay."""
    found: list[ListStep | FilesStep] = []
    was, followed = state.folder_state(path), MODELS[model].followed
    waiting = [(path, top if was is None else was, top)]
    while waiting:
        path, old, here = waiting.pop()
        sorts = state.file_sorts(path)
        then = {
            one: FileSort(one.owner, followed(old.body, here.body, one.body, one.owner, is_folder=False))
            for one in sorts
        }
        found += files_steps(state.system, path, model, sorts, then)
        for below in state.subfolders(path):
            item = state.folder_state(below)
            if item is None:
                continue
            body = followed(old.body, here.body, item.body, item.owner, is_folder=True)
            # Where nothing arrives anew, nothing is passed on further either.
            if body != item.body:
                after = ItemState(item.owner, body, item.default)
                found.append(ListStep(state.system, below, model, item, after))
                waiting.append((below, item, after))
    return found
