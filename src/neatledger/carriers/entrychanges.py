"""What a step changes in a directory: one attribute of one entry, worked out from the entries as they are.

Members stand by their distinguished names (RFC 4519: member, uniqueMember) or by login (RFC 2307: memberUid). An
account of a domain is closed by a bit of userAccountControl (MS-ADTS 2.2.16), one of other directories by the switch
that its entry has.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date

from neatledger.carriers.contract import Standing
from neatledger.carriers.passwdfile import has_passed
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import AccountState
from neatledger.errors import StepError
from neatledger.formats.directory import LOCKED_FOR_EVER, Entry, Places, normal_name, state_of
from neatledger.formats.directoryswitch import Switch, switch_of

__all__ = [
    "EntryChange",
    "WholeEntry",
    "change_of",
    "closing_by_hand",
    "encoded",
    "group_entry",
    "kept_of",
    "standing_of",
]

_DISABLED = 0x2
_BY_DN = {
    "group": "member",
    "groupofnames": "member",
    "groupofmembers": "member",
    "groupofuniquenames": "uniqueMember",
}


@dataclass(frozen=True, slots=True)
class EntryChange:
    """One change of one entry: what is done to an attribute (``add``, ``delete``, ``replace``), with which values."""

    name: str
    operation: str
    attribute: str
    values: tuple[bytes, ...]


def _entry_of(step: Step, places: Places) -> Entry:
    match step:
        case MemberStep():
            entry = group_entry(step, places)
        case AccountStep():
            entry = places.people.get(step.login)
        case _:
            raise StepError("a person must make this step in the directory", step.where)
    if entry is None:
        raise StepError("the directory has no such entry any more", step.where)
    return entry


@dataclass(frozen=True, slots=True)
class WholeEntry:
    """An entry to be added with all values of its attributes; or, without any, to be deleted."""

    name: str
    attributes: Mapping[str, tuple[bytes, ...]] = field(default_factory=dict)

    def as_entry(self) -> Entry:
        """Return the entry as a directory would tell it."""
        return Entry(self.name, {key.lower(): list(values) for key, values in self.attributes.items()})


def group_entry(step: MemberStep | GroupStep, places: Places) -> Entry | None:
    """Return the entry of a step's group.

    A group made by steps has its name for an identifier, and may have got another one from the directory since.
    """
    if step.group != step.name:
        return places.groups.get((step.group, step.name))
    return next((entry for (_, name), entry in places.groups.items() if name == step.name), None)


def _member(step: MemberStep, places: Places) -> Entry:
    if step.is_group:
        found = [entry for (ident, _), entry in places.groups.items() if ident == step.member]
    else:
        found = [places.people[step.member]] if step.member in places.people else []
    if len(found) != 1:
        raise StepError("the directory has no such member, or more than one", step.where)
    return found[0]


def _values(entry: Entry, attribute: str) -> tuple[bytes, ...]:
    return tuple(entry.attributes.get(attribute.lower(), ()))


def _standing_values(step: MemberStep, places: Places) -> dict[str, tuple[bytes, ...]]:
    """Return by attribute the values by which the member stands in the group."""
    group, member = _entry_of(step, places), normal_name(_member(step, places).name)
    found: dict[str, tuple[bytes, ...]] = {}
    for attribute in ("member", "uniqueMember"):
        same = [one for one in _values(group, attribute) if normal_name(_text(one)) == member]
        if same:
            found[attribute] = tuple(same)
    if not step.is_group:
        logins = tuple(one for one in _values(group, "memberUid") if _text(one) == step.member)
        if logins:
            found["memberUid"] = logins
    return found


def _text(value: bytes) -> str:
    return value.decode("utf-8", "surrogateescape")


def encoded(text: str) -> bytes:
    """Return a value as a directory has it: what could not be decoded once is as it was."""
    return text.encode("utf-8", "surrogateescape")


def standing_of(step: Step, places: Places, today: date) -> Standing:
    """Tell whether the directory stands as before a step, as after it, or otherwise."""
    match step:
        case MemberStep():
            return Standing.AFTER if bool(_standing_values(step, places)) == step.after else Standing.BEFORE
        case AccountStep():
            found = state_of(_entry_of(step, places), today)
            # An account whose last day has passed is as closed as one that is disabled.
            is_closed = step.after is AccountState.DISABLED and found is AccountState.EXPIRED
            if found is step.after or is_closed:
                return Standing.AFTER
            if step.before is AccountState.DISABLED and found is AccountState.EXPIRED:
                return Standing.BEFORE
            return Standing.BEFORE if found is step.before else Standing.OTHER
    raise StepError("a person must make this step in the directory", step.where)


def change_of(step: Step, places: Places, was: Mapping[str, object] | None = None) -> list[EntryChange]:
    """Return what makes a step; `was` are the details of the step that it takes back, whose values come again.

    Raises `StepError` where the directory has no switch for it.
    """
    entry = _entry_of(step, places)
    match step:
        case MemberStep():
            return _member_changes(step, entry, places, was or {})
        case AccountStep():
            return [_account_change(step, entry, places, was or {})]
    raise StepError("a person must make this step in the directory", step.where)


def kept_of(step: AccountStep, places: Places) -> dict[str, str]:
    """Return what an account's entry says that a step closes it by, and that is to come back: a day, a moment."""
    entry = _entry_of(step, places)
    names = {"expires": "shadowexpire", "locked": "pwdaccountlockedtime"}
    return {key: entry.text(name) for key, name in names.items() if entry.text(name)}


def closing_by_hand(step: Step, places: Places) -> list[EntryChange]:
    """Return what closes an account by hand whose entry has no switch for it: its password goes; nothing for others.

    Without a password nobody signs in by one (RFC 4513 section 5.1). The tool does not do that, for nobody could
    take it back: a password is written down nowhere.
    """
    if not isinstance(step, AccountStep) or step.after is AccountState.OPEN:
        return []
    entry = _entry_of(step, places)
    is_without = switch_of(entry, places.lockouts) is None
    return [EntryChange(entry.name, "replace", "userPassword", ())] if is_without else []


def _member_changes(step: MemberStep, entry: Entry, places: Places, was: Mapping[str, object]) -> list[EntryChange]:
    if not step.after:
        standing = _standing_values(step, places)
        return [EntryChange(entry.name, "delete", attribute, values) for attribute, values in standing.items()]
    kept = was.get("values")
    if isinstance(kept, dict) and kept:
        return [
            EntryChange(entry.name, "add", attribute, tuple(encoded(str(one)) for one in some))
            for attribute, some in kept.items()
        ]
    attribute = next((name for kind, name in _BY_DN.items() if kind in entry.classes), "memberUid")
    if attribute == "memberUid" and step.is_group:
        raise StepError("this group can hold no groups", step.where)
    member = _member(step, places)
    value = step.member if attribute == "memberUid" else member.name
    return [EntryChange(entry.name, "add", attribute, (encoded(value),))]


def _account_change(step: AccountStep, entry: Entry, places: Places, was: Mapping[str, object]) -> EntryChange:
    if {step.before, step.after} != {AccountState.OPEN, AccountState.DISABLED}:
        raise StepError("a person must make this step in the directory", step.where)
    switch = switch_of(entry, places.lockouts)
    if switch is None:
        raise StepError("nothing in its entry closes it", step.where, "take its password away (mend --script)")
    values = _switched(switch, entry, was, opens=step.after is AccountState.OPEN)
    return EntryChange(entry.name, "replace", switch.value, tuple(one.encode() for one in values))


def _switched(switch: Switch, entry: Entry, was: Mapping[str, object], *, opens: bool) -> list[str]:
    """Return the values of a switch that open or close an account."""
    match switch:
        case Switch.CONTROL:
            control = int(entry.text("useraccountcontrol"))
            return [str(control & ~_DISABLED if opens else control | _DISABLED)]
        case Switch.FLAGS:
            # Between the brackets it has always as many places, blanks at the end: so it comes back as it was.
            flags = entry.text("sambaacctflags").strip("[]")
            inner = ("" if opens else "D") + flags.replace("D", "").rstrip()
            return [f"[{inner.ljust(len(flags))}]"]
        case Switch.LOCK | Switch.LOGIN:
            return ["FALSE" if opens else "TRUE"]
        case Switch.POLICY:
            kept = str(was.get("locked", ""))
            return [LOCKED_FOR_EVER] if not opens else [kept] if kept and kept != LOCKED_FOR_EVER else []
        case Switch.EXPIRE:
            # Its last day as days since 1970 (RFC 2307 section 4): one that has passed closes it.
            kept = str(was.get("expires", ""))
            day = "1" if not opens else "" if has_passed(kept) else kept
            return [day] if day else []
