"""What undoes savings and deletions on each system, and the documents of which nothing does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from neatledger.core.plan.protection import SystemProtection
from neatledger.core.plan.space import Sort
from neatledger.core.protection.undoing import Undoing
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office
from neatledger.questions.views import view_of

__all__ = ["undoing_of", "unversioned"]

DOCUMENTS = frozenset(
    {"csv", "doc", "docx", "md", "odg", "odp", "ods", "odt", "ppt", "pptx", "rtf", "tex", "txt", "xls", "xlsx"}
)
"""Kinds of files that people write, and save over what was there."""


def undoing_of(office: Office) -> dict[str, Undoing]:
    """Return for every system of the count what undoes a saving or a deletion there."""
    found = {}
    for name, reader in office.readers.items():
        view, shared = view_of(office, reader, with_principals=False), reader.shared
        told = (None, None) if shared is None else (shared.versions, shared.bin_days)
        found[name] = Undoing.of(view.rules, *told, *(_seen(view, sort) for sort in (Sort.VERSIONS, Sort.BIN)))
    return found


def _seen(view: SpaceView, sort: Sort) -> int | None:
    """Return how many files of a sort there are; None where the plan does not say where they lie."""
    if not view.rules.patterns.get(sort):
        return None
    classes = view.reader.table("classes")
    return 0 if view.sorts is None else int(classes["files"][view.sorts[classes["folder"]] == sort].sum())


def unversioned(office: Office, undoing: Mapping[str, Undoing]) -> dict[str, int]:
    """Return by system how many documents have no old version and no snapshot, where the plan says that none is kept.

    Nothing of a system of which neither the plan nor the system itself says how many versions it keeps.
    """
    found = {}
    for name, reader in office.readers.items():
        kept = undoing[name].versions
        kinds = frozenset(kind for kind in DOCUMENTS if kept is not None and not kept.get(kind, kept.get("", 0)))
        if not kinds:
            continue
        snapped = [rule.of for rule in office.plan.protection.systems.get(name, SystemProtection()).snapshots]
        files = _count(view_of(office, reader, with_principals=False), kinds, snapped)
        if files:
            found[name] = files
    return found


def _count(view: SpaceView, kinds: frozenset[str], without: Sequence[bytes]) -> int:
    """Return how many files in use are of some kinds, those in or below some folders left out."""
    numbers = [number for number, word in enumerate(view.kind_words) if word in kinds]
    classes = view.reader.table("classes")
    mask = np.isin(classes["kind"], numbers)
    if view.sorts is not None:
        mask &= view.sorts[classes["folder"]] == 0
    for top in map(view.row_of, without):
        if top is not None and mask.any():
            mask &= ~view.usage().tree.is_below(classes["folder"], top)
    return int(classes["files"][mask].sum())
