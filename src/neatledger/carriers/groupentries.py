"""The entry of a group in a directory, made like those that are there, and found again.

Which classes hold groups and what an entry of each must have: RFC 2307 (posixGroup), RFC 4519 sections 3.5 and 3.6
(groupOfNames, groupOfUniqueNames: never empty), MS-ADTS 2.2.12 and MS-ADSC (group).
"""

from __future__ import annotations

from collections import Counter

from neatledger.carriers.accountentries import escaped
from neatledger.carriers.contract import Looked, Standing
from neatledger.carriers.entrychanges import WholeEntry, encoded, group_entry
from neatledger.core.steps.groups import GroupStep
from neatledger.errors import StepError
from neatledger.formats.directory import Entry, Places, normal_name

__all__ = ["look_for_group", "new_group_entry"]

_KNOWN = ("top", "posixGroup", "groupOfNames", "groupOfUniqueNames", "groupOfMembers", "group")
_BY_NAME = {
    "groupofnames": "member",
    "groupofmembers": "member",
    "groupofuniquenames": "uniqueMember",
    "group": "member",
}
_GLOBAL_SECURITY = str(0x80000002 - (1 << 32))  # GROUP_TYPE_ACCOUNT_GROUP | GROUP_TYPE_SECURITY_ENABLED


def look_for_group(step: GroupStep, places: Places) -> Looked:
    """Tell how a group stands in a directory."""
    alike = [entry for key, entry in places.groups.items() if step.name == key[1] or (step.group == key[0])]
    if not alike:
        return Looked(Standing.BEFORE if step.made else Standing.AFTER)
    if len(alike) > 1 or group_entry(step, places) is not alike[0]:
        return Looked(Standing.OTHER, "its name or its number is another group's")
    if _inside(alike[0], places) != ({step.first} if step.first else set()):
        return Looked(Standing.OTHER, "others are in it")
    return Looked(Standing.AFTER if step.made else Standing.BEFORE)


def _inside(entry: Entry, places: Places) -> set[str]:
    """Return who is in a group, by login; those who are nobody here by what stands there."""
    logins = {normal_name(one.name): login for login, one in places.people.items()}
    named = entry.texts("member", "uniquemember")
    return {logins.get(normal_name(one), one) for one in named} | set(entry.texts("memberuid"))


def new_group_entry(step: GroupStep, places: Places) -> WholeEntry:
    """Return the entry of a group that is to be made.

    It stands beside most of the groups that are there, and is of their classes. Raises `StepError` where the
    directory has none that could be its pattern, or where it cannot be empty and nobody is in it.
    """
    found = Counter(
        (one.name.partition(",")[2], frozenset(one.classes & set(map(str.lower, _KNOWN)) - {"top"}))
        for (ident, _), one in places.groups.items()
        # A domain's own groups stand where no others may.
        if ident.isdecimal() == step.group.isdecimal() and not ident.startswith("S-1-5-32-")
    )
    found.pop(next((key for key in found if not key[1]), ("", frozenset())), 0)
    if not found:
        raise StepError("the directory has no group that this one could be made like", step.where, "make it there")
    parent, classes = min(found, key=lambda key: (-found[key], key[0], sorted(key[1])))
    attributes: dict[str, tuple[bytes, ...]] = {
        "objectClass": tuple(one.encode() for one in _KNOWN if one.lower() in classes or one == "top"),
        "cn": (encoded(step.name),),
    }
    if "posixgroup" in classes:
        attributes["gidNumber"] = (step.group.encode(),)
    if "group" in classes:
        attributes |= {"sAMAccountName": (encoded(step.name),), "groupType": (_GLOBAL_SECURITY.encode(),)}
    by_name = next((_BY_NAME[one] for one in sorted(classes) if one in _BY_NAME), "")
    if step.first:
        person = places.people.get(step.first)
        if person is None:
            raise StepError(f"the directory has no account {step.first}", step.where, "count, and ask again")
        value = encoded(person.name if by_name else step.first)
        attributes[by_name or "memberUid"] = (value,)
    elif classes & {"groupofnames", "groupofuniquenames"}:
        raise StepError("a group of this directory cannot be empty", step.where, "say who is its first member")
    return WholeEntry(f"cn={escaped(step.name)},{parent}", attributes)
