"""Files that have names in several folders: what is done to one by one name is done to it by all."""

from __future__ import annotations

import numpy as np

from neatledger.core.steps.contract import FileSort, Step
from neatledger.core.steps.lists import FilesStep
from neatledger.core.tree.address import Address, parts_of
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.formats.names import show_address
from neatledger.questions.office import Office

__all__ = ["why_of_several_names"]

_FEW = 3


def why_of_several_names(office: Office, step: Step) -> str:
    """Say where files of a step have other names, by which they would change too; nothing where they have none.

    A count knows of such files in which folders they stand, and not by which names.
    """
    reader = office.readers.get(step.system)
    if not isinstance(step, FilesStep) or reader is None:
        return ""
    hard = reader.table("hard")
    row = TreeOrder(reader.table("folders")).find_row(parts_of(step.path)) if hard.rows else None
    if row is None:
        return ""
    # Of other things than files, what is a link of its own has the kind −1.
    here = [
        place
        for place in np.flatnonzero((hard["folder"] == row) & (hard["kind"] >= 0)).tolist()
        if step.before
        == FileSort(reader.ident(int(hard["owner"][place])), reader.list_body(int(hard["list"][place])))
    ]
    keys = {(int(hard["inode"][place]), int(hard["device"][place])) for place in here}
    if not keys:
        return ""
    path_of = folder_paths(reader.table("folders"))
    of_inode = np.isin(hard["inode"], [inode for inode, _ in keys])
    others = dict.fromkeys(
        int(hard["folder"][place])
        for place in np.flatnonzero(of_inode).tolist()
        if (int(hard["inode"][place]), int(hard["device"][place])) in keys and place not in here
    )
    files = "one of them is a file that" if len(keys) == 1 else f"{len(keys):,} of them are files that"
    verb = "has" if len(keys) == 1 else "have"
    if not others:
        return f"{files} {verb} other names outside of what was counted, and would change there too"
    where = ", ".join(show_address(Address(step.system, path_of(row))) for row in list(others)[:_FEW])
    more = f" and {len(others) - _FEW} more folders" if len(others) > _FEW else ""
    return f"{files} {verb} other names in {where}{more}, and would change there too"
