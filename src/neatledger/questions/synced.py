"""What a synced device would hold for a person, after the rules of syncing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.people.principals import Principal
from neatledger.core.plan.space import SyncRules
from neatledger.core.space.synced import SyncedSystem, find_synced
from neatledger.core.tree.address import Address
from neatledger.core.tree.patterns import match_folders
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office
from neatledger.questions.views import load_views

__all__ = ["SyncedDevice", "SyncedFolder", "ask"]


@dataclass(frozen=True, slots=True)
class SyncedFolder:
    """What stays of one folder right below a system's root."""

    address: Address
    files: int
    bytes: int


@dataclass(frozen=True, slots=True)
class SyncedDevice:
    """What a device of a person holds: system by system, and by the first folder on the way.

    `rules` is None where the plan has none.
    """

    person: str
    systems: dict[str, SyncedSystem]
    folders: list[SyncedFolder]
    rules: SyncRules | None


def ask(office: Office, name: str) -> SyncedDevice:
    """Add up what a person reads, and take off what the rules leave out; raises `UnknownNameError`."""
    person = office.find_person(name)
    rules = office.plan.space.sync
    views = load_views(office)
    systems = {
        system: _of_system(office, views[system], mine, rules or SyncRules())
        for system, mine in person.principals.items()
    }
    folders = [
        SyncedFolder(views[system].path(row), files, size)
        for system, one in systems.items()
        for row, (files, size) in one.tops.items()
        if files or size
    ]
    return SyncedDevice(person.id, systems, folders, rules)


def _of_system(office: Office, view: SpaceView, principals: Sequence[Principal], rules: SyncRules) -> SyncedSystem:
    everyone = office.systems.everyone(view.name, principals)
    order = everyone.matrix.order
    left_out = np.zeros(order.rows, dtype=bool)
    for folder in rules.folders:
        if folder.system == view.name:
            for row in match_folders(folder.path, everyone.matrix.folders):
                left_out[order.below(row)] = True
    for again in view.again:
        # What another folder shows too need not be held twice.
        left_out[order.below(again.row)] = True
    if view.sorts is not None:
        left_out |= view.sorts > 0
    kinds = [number for number, word in enumerate(view.kind_words) if word in rules.kinds]
    classes, large = view.reader.table("classes"), view.reader.table("large")
    return find_synced(everyone, classes, large, left_out, kinds, rules.largest)
