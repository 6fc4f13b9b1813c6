"""Why someone can, or cannot: the chain of gates, which is the computation itself."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from neatledger.core.access.differences import Difference
from neatledger.core.access.tree_gates import Gate, Item
from neatledger.core.access.ways import Access, Way
from neatledger.core.lists.contract import Names, word_entry
from neatledger.core.lists.rights import EVERY_RIGHT, Level, Right, level_of, spell_rights
from neatledger.core.people.names import EntryNames
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text
from neatledger.formats.ways import WAY_WORDS
from neatledger.reports.access import can_words, short_rights, spell_files
from neatledger.reports.report import Column, Pointer, Report, Row, Show, section

__all__ = ["Explained", "no_account_report", "plan_lines", "why_report"]

_COLUMNS = (
    Column("number", "", Show.PEOPLE, number=True),
    Column("condition", "CONDITION", Show.PEOPLE, wraps=True),
    Column("answer", "RESULT", Show.PEOPLE, wraps=True),
    Column("decided", "DECIDED BY", Show.PEOPLE, wraps=True),
    Column("because_words", "BECAUSE", Show.PEOPLE, wraps=True, spare=True),
    Column("way", "WAY", Show.MACHINE),
    Column("gate", "GATE", Show.MACHINE, number=True),
    Column("asks", "ASKS", Show.MACHINE),
    Column("result", "RESULT", Show.MACHINE),
    Column("entry", "ENTRY", Show.MACHINE),
    Column("because", "BECAUSE", Show.MACHINE),
    Column("passes", "PASSES", Show.MACHINE),
)


class _Said(NamedTuple):
    """How a gate is spoken of: what must be so, the question, and what is so where it stops somebody."""

    condition: str
    asks: str
    stop: str = ""


_GATES = {
    "account": _Said("the account is open", "is the account open?", "The account {entry} is not open: {because}."),
    "system": _Said(
        "the system can be written to", "may the system be written to?", "{system} cannot be written to."
    ),
    "role": _Said("administrator's role", "an administrator's role"),
    "service": _Said(
        "the service is on for the account",
        "is the service on for it?",
        "The service of {system} is off for the account.",
    ),
    "running": _Said("the service is running", "is the service running?", "The service of {system} is not running."),
    "entitlement": _Said(
        "they have the licence", "do they have the licence for it?", "They have no licence for {system}."
    ),
    "published": _Said(
        "it is switched on as a team folder",
        "is it switched on as a team folder?",
        "It is not switched on as a team folder.",
    ),
    "download": _Said("contents can be taken away", "may contents be taken away?"),
    "receiver": _Said("it is for them", "is it for them?"),
    "giver": _Said("what the giver has here today", "what the giver has here today"),
    "given": _Said("what was handed out", "what was handed out"),
    "until": _Said("it is still on", "is it still on?"),
    "accepted": _Said("it was accepted", "was it accepted?"),
    "live": _Said("the link is live", "is the link live?"),
    "carries": _Said("what the link gives", "what the link gives"),
    "rules": _Said("the rules for sharing", "the rules for sharing"),
    "enter": _Said("enter {place}", "may enter {place}", "They cannot get through {place}: {entry}."),
    "list": _Said("the list of {place}", "the list of {place}", "The list of {place} gives them nothing: {entry}."),
    "share": _Said("share {through}", "the permission of the share {through}", "No share lets them in: {entry}."),
    "member": _Said(
        "member of {through}",
        "the members of {through}",
        "They are not a member of the team folder {through}.",
    ),
    "beneath": _Said(
        "what the share beneath lets through at {entry}", "what the share beneath lets through at {entry}"
    ),
}
_NO_SHARE = _Said("a share leads here", "does a share lead here?", _GATES["share"].stop)


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
    headline = f"No: {person} has no account on {address.system}."
    return Report("why", headline, _COLUMNS, [], list(planned), empty="")


def _gate_rows(number: int, way: Way, gate: Gate, names: Names, system: str) -> list[Row]:
    rows: list[Row] = []
    before = ""
    said = _spoken(gate, way, names, system)
    answer, result = _results(gate)
    result += " — here it ends" if gate is way.first_stop else ""
    for place, reason in enumerate(gate.reasons or (None,)):
        first = place == 0
        entry = "" if reason is None else word_entry(reason.entry, names)
        because = "" if reason is None or reason.because == before else reason.because
        before = before if reason is None else reason.because
        rows.append(
            {
                "number": number if first else "",
                "condition": said.condition if first else "",
                "answer": answer if first else "",
                "decided": entry or because,
                "because_words": because if entry else "",
                "way": way.name if first and number == 1 else "",
                "gate": number if first else "",
                "asks": said.asks if first else "",
                "result": result if first else "",
                "entry": entry,
                "because": because,
                "passes": spell_rights(gate.passes) if first else "",
            }
        )
    return rows


def _spoken(gate: Gate, way: Way, names: Names, system: str) -> _Said:
    """Return how a gate on a way is spoken of, with its places and names."""
    said = _NO_SHARE if gate.name == "share" and not way.through else _GATES.get(gate.name)
    if said is None:
        return _Said(gate.name, gate.name)
    reason = gate.reasons[0] if gate.reasons else None
    words = {
        "place": gate.place.decode("utf-8", "surrogateescape"),
        "entry": "" if reason is None else word_entry(reason.entry, names),
        "because": "" if reason is None else reason.because,
        "through": way.through,
        "system": system,
    }
    return _Said(*(pattern.format(**words) for pattern in said))


def _results(gate: Gate) -> tuple[str, str]:
    """Return what a gate answers: the word of the table, and the machine's."""
    passes = spell_rights(gate.passes)
    if gate.is_unsure:
        least = f", at least {passes}" if gate.passes else ""
        return f"?{least}", f"not known{least}"
    if gate.stops:
        return "NO", "stops"
    if gate.passes | Right.SHARE | Right.VIEW == EVERY_RIGHT:
        return "yes", "passes"
    if gate.name == "system":
        return "read only", "limits"
    if gate.name == "download":
        return "look only", "contents may only be looked at"
    level = level_of(gate.passes)
    word = passes if level in (Level.MIXED, Level.NONE) else level.value
    return word, f"{'lets through' if gate.name in ('share', 'beneath', 'rules') else 'gives'} {passes}"


def _say_answer(access: Access, place: str) -> str:
    """Begin with the answer: yes, no, or that it is unknown, and what they can do."""
    rights, person = access.rights, access.person
    can = can_words(access.level_of(None).value, short_rights(rights) if access.is_folder else spell_rights(rights))
    if not access.is_known and not rights:
        return f"Unknown: what {person} has on {place} depends on what was not seen (see the rows with ?)."
    if not access.is_known:
        return (
            f"Yes: {person} has at least {can} on {place}; more may hang on what was not seen (see the rows with ?)."
        )
    if not rights & ~(Right.CLEAR | Right.CLEAR_OWN):
        return f"No: {person} cannot open {place}."
    if not rights & ~(Right.CLEAR | Right.CLEAR_OWN | Right.ENTER):
        return f"No: {person} can only pass through {place}."
    return f"Yes: {person} has {can} on {place}."


def _say_stop(access: Access, address: Address, names: Names) -> str:
    """Say what stops somebody on the way that goes furthest."""
    stopped = [(way, way.first_stop) for way in access.ways if way.first_stop is not None]
    if not stopped:
        return ""
    way, gate = max(stopped, key=lambda each: len(each[0].gates))
    assert gate is not None
    said = _spoken(gate, way, names, address.system)
    return said.stop or f"{said.condition[:1].upper()}{said.condition[1:]}: no."


def _say_plan(difference: Difference | None, planned: Sequence[str], *, is_admin: bool) -> str:
    """Say whether that is what the plan says; nothing where the plan does not speak of the place."""
    if difference is None or not planned:
        return "The plan says nothing of this folder." if difference is None else ""
    # What an administrator opens by their role is no matter of the plan of folders.
    if is_admin or (not difference.is_known and not difference):
        return planned[0]
    return planned[0] if difference else f"As planned: {planned[0][:1].lower()}{planned[0][1:]}"


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


def why_report(found: Explained, planned: Sequence[str] = (), difference: Difference | None = None) -> Report:
    """Explain a person's access to a folder or file, way by way.

    `planned` are the plan's words on it; `difference` tells whether that was found (None: it does not speak of it).
    """
    access, names, address = found.access, found.names, found.address
    rows: list[Row] = []
    shown: list[Row] = []
    for way in access.ways:
        if len(access.ways) > 1:
            login = way.principal.account.login
            shown.append(section(f"THROUGH {WAY_WORDS[way.name].upper()}, as {login}"))
        for number, gate in enumerate(way.gates, start=1):
            some = _gate_rows(number, way, gate, names, address.system)
            rows += some
            shown += some
    place = show_address(address)
    is_open = bool(access.rights & ~(Right.CLEAR | Right.CLEAR_OWN | Right.ENTER))
    words = [_say_answer(access, place)]
    words += [] if is_open or not access.is_known else [_say_stop(access, address, names)]
    is_admin = any(way.name == "admin" and way.rights for way in access.ways)
    words.append(_say_plan(difference, planned, is_admin=is_admin))
    notes = [found.note] if found.note else []
    notes += [line for one in found.advice for line in _say_missing(access.person, one, names)]
    if access.counts is not None and access.counts.files:
        notes.append(f"Of the files in it: {spell_files(access.counts)}.")
    if any(way.name == "admin" for way in access.ways):
        notes.append("An administrator opens this whatever the lists say.")
    report = Report("why", " ".join(filter(None, words)), _COLUMNS, rows, notes, folded=shown)
    report.most = len(shown)
    groups = [names.group(ident) for one in found.advice for ident in one.groups]
    if groups and not is_open:
        change = quoted_text(f"{groups[0]}={access.person}")
        report.pointers = [Pointer("What adding them would change", f"suppose --member {change}")]
    return report


def _say_missing(person: str, found: Advised, names: EntryNames) -> list[str]:
    """Say in words of an office what would let somebody in; what is said was tried."""
    lines = [f"To let {person} in{'' if found.is_enough else ', first'}: {one}." for one in found.first]
    if found.is_enough:
        return lines
    where = [f"{what} {place.decode('utf-8', 'surrogateescape')}" for place, what in found.entries]
    groups = [f"group {names.group(ident)}" for ident in found.groups]
    by_groups = f"add them to {_or(groups)}" if groups else ""
    by_entry = f"name them in the list, to {' and to '.join(where)}" if where else ""
    if by_groups or by_entry:
        way = ", or ".join(each for each in (by_groups, by_entry) if each)
        lines.append(f"To let {person} in: {way}.")
        if not found.groups:
            lines[-1] += " No group that the list names is enough."
    if found.own:
        lines.append(f"Their own entry decides there, whatever their groups have: {found.own}.")
    if found.refusal:
        lines.append(f"What refuses must go first: {found.refusal}.")
    if not lines:
        lines.append("Nothing that was tried lets them in: neither a group named there nor an entry of their own.")
    return lines


def _or(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " or " + words[-1]
