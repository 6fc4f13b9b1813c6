"""Giving a folder and all below it to another group, as steps.

On POSIX systems that is the owning group, whose entry then speaks of others; where groups may own items, the owner.
"""

from __future__ import annotations

import struct

from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, State, folders_from
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.errors import StepError

__all__ = ["owner_steps"]

_POSIX_HEAD = struct.Struct("<HI")


def owner_steps(state: State, path: bytes, model: str, group: str) -> list[ListStep | FilesStep]:
    """Return the steps that give a folder and all below it to a group; raises `StepError` where none can own."""
    if model != "posix" and not MODELS[model].groups_may_own:
        raise StepError("on this system nothing belongs to a group", state.system)
    if state.folder_state(path) is None:
        raise StepError("the folder is not there", f"{state.system}: {path.decode('utf-8', 'surrogateescape')}")
    found: list[ListStep | FilesStep] = []
    for each, here in folders_from(state, path):
        owner, body = _given(model, here.owner, here.body, group)
        after = ItemState(owner, body, here.default)
        if after != here:
            found.append(ListStep(state.system, each, model, here, after))
        sorts = state.file_sorts(each)
        then = {sort: FileSort(*_given(model, sort.owner, sort.body, group)) for sort in sorts}
        found += files_steps(state.system, each, model, sorts, then)
    return found


def _given(model: str, owner: str, body: bytes, group: str) -> tuple[str, bytes]:
    if model != "posix":
        return group, body
    mode, _ = _POSIX_HEAD.unpack_from(body)
    return owner, _POSIX_HEAD.pack(mode, int(group)) + body[_POSIX_HEAD.size :]
