"""Why someone can, or cannot: the chain of gates, which is the computation itself."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from neatledger.core.access.tree_gates import Gate, Item
from neatledger.core.access.ways import Access, Way
from neatledger.core.lists.contract import Names, word_entry
from neatledger.core.lists.rights import EVERY_RIGHT, Right, level_of, spell_rights
from neatledger.core.people.names import EntryNames
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.reports.access import spell_files
from neatledger.reports.report import Column, Report, Row, Show

__all__ = ["Explained", "no_account_report", "plan_lines", "why_report"]

_COLUMNS = (
    Column("way", "WAY"),
    Column("gate", "GATE", number=True),
    Column("asks", "ASKS", wraps=True),
    Column("result", "RESULT", wraps=True),
    Column("entry", "ENTRY", wraps=True),
    Column("because", "BECAUSE", wraps=True),
    Column("passes", "PASSES", Show.MACHINE),
)
_ASKS = {
    "account": "is the account open?",
    "system": "may the system be written to?",
    "role": "an administrator's role",
    "service": "is the service on for it?",
    "running": "is the service running?",
    "entitlement": "do they have the licence for it?",
    "published": "is it switched on as a team folder?",
    "download": "may contents be taken away?",
    "receiver": "is it for them?",
    "giver": "what the giver has here today",
    "given": "what was handed out",
    "until": "is it still on?",
    "accepted": "was it accepted?",
    "live": "is the link live?",
    "carries": "what the link gives",
    "rules": "the rules for sharing",
}


def plan_lines(plan: Plan, person: str, address: Address) -> list[str]:
    """Say what the plan means the person to have, where it speaks of the folder."""
    rights, grants = plan.rights_at(address, person)
    if grants:
        by = "; ".join(
            f"{holder} has {level.value} on {folder.address.system}:{folder.address.path.decode(errors='replace')}"
            for folder, holder, level in grants
        )
        return [f"The plan gives {person} {level_of(rights).value} here: {by}."]
    if plan.grants_at(address):
        return [f"The plan gives {person} nothing here."]
    return []


def no_account_report(person: str, address: Address, planned: Sequence[str]) -> Report:
    """Say that there is no account to judge."""
    headline = f"{person} has no account on {address.system}: there is no way in."
    return Report("why", headline, _COLUMNS, [], list(planned), empty="")


def _asks(gate: Gate, through: str, names: Names) -> str:
    place = gate.place.decode("utf-8", "surrogateescape")
    match gate.name:
        case "enter":
            return f"may enter {place}"
        case "share":
            return f"the permission of the share {through}" if through else "does a share lead here?"
        case "list":
            return f"the list of {place}"
        case "member":
            return f"the members of {through}"
        case "beneath":
            return f"what the share beneath lets through at {word_entry(gate.reasons[0].entry, names)}"
        case _:
            return _ASKS.get(gate.name, gate.name)


def _result(gate: Gate) -> str:
    if gate.is_unsure:
        return f"not known{f', at least {spell_rights(gate.passes)}' if gate.passes else ''}"
    if gate.stops:
        return "stops"
    if gate.passes | Right.SHARE | Right.VIEW == EVERY_RIGHT:
        return "passes"
    if gate.name == "system":
        return "limits"
    if gate.name == "download":
        return "contents may only be looked at"
    lets = gate.name in ("share", "beneath", "rules")
    return f"{'lets through' if lets else 'gives'} {spell_rights(gate.passes)}"


def _gate_rows(number: int, way: Way, gate: Gate, names: Names, is_first_stop: bool) -> list[Row]:
    rows: list[Row] = []
    before = ""
    result = _result(gate) + (" — here it ends" if is_first_stop else "")
    for place, reason in enumerate(gate.reasons or (None,)):
        first = place == 0
        entry = "" if reason is None else word_entry(reason.entry, names)
        because = "" if reason is None or reason.because == before else reason.because
        before = before if reason is None else reason.because
        rows.append(
            {
                "way": way.name if first and number == 1 else "",
                "gate": number if first else "",
                "asks": _asks(gate, way.through, names) if first else "",
                "result": result if first else "",
                "entry": entry,
                "because": because,
                "passes": spell_rights(gate.passes) if first else "",
            }
        )
    return rows


def _say_answer(way_rights: Right, access: Access) -> str:
    if not access.is_known and not way_rights:
        return "it is not known (see which gate says so: what it asks was not seen, or cannot be evaluated)"
    if not way_rights & ~(Right.CLEAR | Right.CLEAR_OWN):
        return "nothing"
    words = spell_rights(way_rights)
    return f"{access.level_of(None).value} ({words})"


class Advised(Protocol):
    """What would let an account in, each tried before."""

    @property
    def login(self) -> str: ...
    @property
    def first(self) -> Sequence[str]: ...
    @property
    def groups(self) -> Sequence[str]: ...
    @property
    def entries(self) -> Sequence[tuple[bytes, str]]: ...
    @property
    def own(self) -> str: ...
    @property
    def refusal(self) -> str: ...
    @property
    def is_enough(self) -> bool: ...


class Explained(Protocol):
    """One person's access to one place, with its reasons, and what rests on what was not seen (`note`)."""

    @property
    def address(self) -> Address: ...
    @property
    def chain(self) -> Sequence[Item]: ...
    @property
    def access(self) -> Access: ...
    @property
    def names(self) -> EntryNames: ...
    @property
    def note(self) -> str: ...
    @property
    def advice(self) -> Sequence[Advised]: ...


def why_report(found: Explained, planned: Sequence[str] = ()) -> Report:
    """Explain a person's access to a folder or file, way by way; `planned` are the plan's words on it."""
    access, names, address = found.access, found.names, found.address
    rows: list[Row] = []
    notes = [found.note] if found.note else []
    for way in access.ways:
        stop = way.first_stop
        for number, gate in enumerate(way.gates, start=1):
            rows += _gate_rows(number, way, gate, names, gate is stop)
    notes += [line for one in found.advice for line in _say_missing(access.person, one, names)]
    if access.counts is not None and access.counts.files:
        notes.append(f"Of the files in it: {spell_files(access.counts)}.")
    admin = [way for way in access.ways if way.name == "admin"]
    if admin:
        notes.append("The way `admin` is an administrator's own: it opens this whatever the lists say.")
    place = f"{address.system}:{address.path.decode('utf-8', 'surrogateescape')}"
    headline = f"{access.person} on {place}: {_say_answer(access.rights, access)}."
    return Report("why", headline, _COLUMNS, rows, [*notes, *planned])


def _say_missing(person: str, found: Advised, names: EntryNames) -> list[str]:
    """Say in words of an office what would let somebody in; what is said was tried."""
    lines = [f"Missing: {one}{'' if found.is_enough else ' first'}." for one in found.first]
    if found.is_enough:
        return lines
    where = [f"{what} {place.decode('utf-8', 'surrogateescape')}" for place, what in found.entries]
    groups = [f"the group {names.numbered_group(ident)}" for ident in found.groups]
    by_groups = f"be in {_or(groups)}" if groups else ""
    by_entry = f"be given an entry of their own, to {' and to '.join(where)}" if where else ""
    if by_groups or by_entry:
        way = " — or ".join(each for each in (by_groups, by_entry) if each)
        lines.append(f"Missing: {person} must {way}.")
        if not found.groups:
            lines[-1] += " No group that is named there would do alone."
    if found.own:
        lines.append(f"Their own entry decides there, whatever their groups have: {found.own}.")
    if found.refusal:
        lines.append(f"What refuses must go first: {found.refusal}.")
    if not lines:
        lines.append("Nothing that was tried lets them in: neither a group named there nor an entry of their own.")
    return lines


def _or(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " or " + words[-1]
