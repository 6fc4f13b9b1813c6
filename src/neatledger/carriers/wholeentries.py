"""Entries of a directory that are added or deleted as a whole: groups and accounts."""

from __future__ import annotations

from collections.abc import Mapping

from neatledger.carriers.accountentries import account_entry, look_for_account, new_account_entry
from neatledger.carriers.contract import Looked
from neatledger.carriers.entrychanges import WholeEntry, encoded, group_entry
from neatledger.carriers.groupentries import look_for_group, new_group_entry
from neatledger.core.steps.accounts import WholeAccountStep
from neatledger.core.steps.groups import GroupStep
from neatledger.errors import StepError
from neatledger.formats.directory import Entry, Places

__all__ = [
    "WholeStep",
    "details_of_entry",
    "is_made",
    "look_for_entry",
    "new_entry",
    "standing_entries",
    "whole_change",
]

WholeStep = GroupStep | WholeAccountStep
_BY_SERVER = frozenset({
    "creatorsname", "createtimestamp", "entrycsn", "entrydn", "entryuuid", "hassubordinates", "memberof",
    "modifiersname", "modifytimestamp", "structuralobjectclass", "subschemasubentry",
    "objectsid", "objectguid", "whencreated", "whenchanged", "usncreated", "usnchanged",
})  # fmt: skip
"""What the server gives an entry, which nobody may set (RFC 4512 section 3.4, MS-ADTS 3.1.1.1.1)."""


def is_made(step: WholeStep) -> bool:
    """Tell whether a step adds an entry, and does not delete one."""
    return step.made if isinstance(step, GroupStep) else step.after is not None


def look_for_entry(step: WholeStep, places: Places) -> Looked:
    """Tell how the entry of a step stands."""
    return look_for_group(step, places) if isinstance(step, GroupStep) else look_for_account(step, places)


def _entry_of(step: WholeStep, places: Places) -> Entry:
    entry = group_entry(step, places) if isinstance(step, GroupStep) else account_entry(step, places)
    if entry is None:
        raise StepError("the directory has no such entry any more", step.where)
    return entry


def standing_entries(step: WholeStep, places: Places) -> list[str]:
    """Return the names of the entries that stand where a step's would, or that have its name or its number."""
    if isinstance(step, GroupStep):
        return [entry.name for key, entry in places.groups.items() if step.name == key[1] or step.group == key[0]]
    entry = account_entry(step, places)
    return [] if entry is None else [entry.name]


def new_entry(step: WholeStep, places: Places, was: Mapping[str, object]) -> WholeEntry:
    """Return the entry that a step adds; `was` are the details of the step that it takes back; raises `StepError`."""
    entry = was.get("entry")
    if isinstance(entry, Mapping):
        kept = {str(key): tuple(encoded(str(one)) for one in some) for key, some in entry.items() if key != "dn"}
        return WholeEntry(str(entry["dn"]), kept)
    return new_group_entry(step, places) if isinstance(step, GroupStep) else new_account_entry(step, places)


def whole_change(step: WholeStep, places: Places) -> WholeEntry:
    """Return what a step comes to, without making it."""
    return new_entry(step, places, {}) if is_made(step) else WholeEntry(_entry_of(step, places).name)


def details_of_entry(step: WholeStep, places: Places) -> dict[str, object]:
    """Return the whole entry that goes, as details from which it can come again; a password is not among them."""
    entry = _entry_of(step, places)
    kept = {
        name: [value.decode("utf-8", "surrogateescape") for value in values]
        for name, values in entry.attributes.items()
        if name not in _BY_SERVER and "password" not in name and name not in ("unicodepwd", "sambantpassword")
    }
    return {"entry": {"dn": entry.name, **kept}}
