"""Findings by their causes as a report: what to do first, and one cause whole."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Sequence
from typing import Protocol

from neatledger.core.checks.causes import CLOSED, SENSITIVE, Cause
from neatledger.core.checks.contract import ANYONE, Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.lists.contract import Names
from neatledger.core.tree.address import Address
from neatledger.formats.names import encode_address
from neatledger.reports.assurances import Said
from neatledger.reports.findings import (
    COLUMNS,
    Came,
    Graded,
    SinceOf,
    alike,
    clean,
    finding_row,
    since_words,
    told_together,
)
from neatledger.reports.mend import Item
from neatledger.reports.report import Aside, Column, Portion, Report, Row, Show, count_of

__all__ = ["GROUPS", "cause_report", "cause_words", "causes_paper_report", "causes_report", "grouped_report"]

_MOST = 10
_COLUMNS = (
    Column("number", "", Show.PEOPLE, number=True),
    Column("points", "EXPOSURE", Show.PEOPLE, number=True),
    Column("since_words", "SINCE", Show.PEOPLE),
    Column("where", "WHERE", Show.PEOPLE, wraps=True),
    Column("what", "WHAT, FOR WHOM", Show.PEOPLE, wraps=True),
)
_FEW, _SAID = 4, 2
_LONGEST_WORD = 160  # characters of a step in one line
_WEIGHT_WORDS = {1: "seeing names", 2: "reading", 3: "changing", 5: "letting others in"}


def _machine(columns: Sequence[Column]) -> list[Column]:
    return [Column(one.key, one.head, Show.MACHINE) for one in columns]


def causes_report(
    findings: Sequence[Graded],
    causes: Sequence[Cause],
    when: str,
    since: SinceOf,
    *,
    first: int = _MOST,
    headline: str = "",
    scope: str = "",
    checks: int = len(CHECKS),
) -> Report:
    """Show the causes, the gravest first; machines are given the findings, each with its cause and its exposure.

    `since` tells since when a finding is told; `scope` says what was asked for, where that is not everything.
    """
    rows = _rows(findings, causes, since)
    shown = [_cause_row(number, one, since) for number, one in enumerate(causes[:first], start=1)]
    rest = causes[first:]
    notes: list[str] = []
    if rest:
        grades = Counter(one.severity for one in rest)
        parts = ", ".join(f"{grades[one]} {one.value}" for one in reversed(Severity) if grades[one])
        notes.append(Aside(f"And {_more(len(rest))}: {parts} (--top {len(causes)} shows them, --all each finding)."))
    if causes:
        notes.append(
            Aside("check --cause 1 shows the first whole: why it ranks there, what looks closer, what mends it.")
        )
    accepted = sum(one.acceptance is not None for one in findings)
    if accepted:
        notes.append(Aside(f"{accepted} accepted in the plan and not shown (--all shows them)."))
    said = Said(headline, False) if headline else clean(not causes, _headline(causes, when), scope, checks, when)
    columns = [*_COLUMNS, *_machine(COLUMNS)]
    return Report("check", said.text, columns, rows, notes, "no findings", shown, said.is_assured)


def _more(number: int) -> str:
    return f"{number} more {'cause' if number == 1 else 'causes'}"


def causes_paper_report(causes: Sequence[Cause], since: SinceOf, first: int) -> Report:
    """Show the first causes for a paper: without commands, with what helps in words."""
    columns = (
        Column("number", "", number=True),
        Column("where", "WHERE", wraps=True),
        Column("severity", "SEVERITY"),
        Column("exposure", "EXPOSURE", number=True),
        Column("bar", ""),
        Column("since", "SINCE"),
        Column("what", "WHAT", wraps=True),
        Column("people", "WHOM IT CONCERNS", wraps=True),
        Column("advice", "WHAT TO DO", wraps=True),
    )
    most = max((one.exposure.points for one in causes), default=1) or 1
    rows: list[Row] = []
    for number, one in enumerate(causes[:first], start=1):
        advice = list(dict.fromkeys(each.advice or CHECKS[each.check].advice for each in one.findings))
        checks = list(dict.fromkeys(each.check for each in one.findings))
        row = _cause_row(number, one, since)
        rows.append(
            {
                "number": number,
                "where": row["where"],
                "severity": one.severity.value,
                "exposure": one.exposure.points,
                "bar": Portion(one.exposure.points, most),
                "since": row["since_words"],
                "what": "; ".join(CHECKS[name].summary for name in checks[:_SAID]),
                "people": _who(one.people),
                "advice": "; or ".join(advice[:_SAID]),
            }
        )
    rest = len(causes) - len(rows)
    notes = ["Exposure: people with more than is meant, times what they can do, times how sensitive the place is."]
    notes += [f"{count_of(rest, 'cause')} more weigh less."] if rest > 0 else []
    headline = f"{count_of(len(causes), 'cause')}, the gravest first."
    return Report("causes", headline, columns, rows, notes, "no cause to tell")


def _rows(findings: Sequence[Graded], causes: Sequence[Cause], since: SinceOf) -> list[Row]:
    cause_of = {id(finding): one for one in causes for finding in one.findings}
    return [finding_row(each, since(each.finding), cause_of.get(id(each.finding))) for each in findings]


def _headline(causes: Sequence[Cause], when: str) -> str:
    findings = sum(len(one.findings) for one in causes)
    grades = Counter(one.severity for one in causes)
    parts = ", ".join(f"{grades[one]} {one.value}" for one in reversed(Severity) if grades[one])
    return f"{count_of(findings, 'finding')} in the count of {when} have {count_of(len(causes), 'cause')}: {parts}."


def _cause_row(number: int, one: Cause, since: SinceOf) -> Row:
    where = f"{one.key}, {one.place}" if _is_offer(one) else one.key
    # Of what somebody did the day is told; else since when the oldest of it stands.
    gravest = one.findings[0]
    standing = [each for each in one.findings if each.happened is None]
    told = [gravest] if gravest.happened is not None or not standing else standing
    first = min(map(since, told), key=lambda each: each.first)
    row: Row = {"number": number, "points": one.exposure.points, "where": where, "what": cause_words(one)}
    return {**row, "since_words": since_words(first)}


def _is_offer(one: Cause) -> bool:
    return one.key.startswith(("link:", "hand-out:"))


def cause_words(one: Cause) -> str:
    """Say in one line what a cause comes to, and whom it concerns."""
    checks = list(dict.fromkeys(finding.check for finding in one.findings))
    first = CHECKS[checks[0]]
    text = f"{one.severity.value}: {first.summary}"
    if len(checks) > 1:
        text += f"; {', '.join(checks[1:3])}" + (f" and {len(checks) - 3} more" if len(checks) > 3 else "")
    return f"{text} — {_who(one.people)}" if one.people else text


def _who(people: Sequence[str]) -> str:
    named = sorted(people, key=lambda person: person != ANYONE)
    more = f" and {len(named) - _FEW} more" if len(named) > _FEW else ""
    return ", ".join(named[:_FEW]) + more


class Mending(Protocol):
    """What ends a cause: steps, the findings that they end, and why others of its differences would stay."""

    @property
    def items(self) -> Sequence[Item]: ...
    @property
    def ended(self) -> Sequence[Finding]: ...
    @property
    def reasons(self) -> Sequence[str]: ...


def cause_report(
    number: int,
    one: Cause,
    causes: int,
    came: Came,
    mending: Mending,
    names: Callable[[str], Names],
    systems: Collection[str],
) -> Report:
    """Show one cause whole: its findings, why it ranks where it does, what looks closer, and what mends it."""
    columns = (
        Column("severity", "SEVERITY"),
        Column("check", "CHECK"),
        Column("place", "PLACE", wraps=True),
        Column("evidence", "WHAT WAS FOUND", wraps=True),
    )
    rows = _folded(one.findings)
    exposure = one.exposure
    parts = [f"{exposure.severities} for the severities of its checks"]
    if exposure.people:
        sensitive = {SENSITIVE: " (sensitive by the plan)", CLOSED: " (closed by the plan)"}.get(
            exposure.sensitivity, ""
        )
        parts.append(
            f"{count_of(exposure.people, 'person')} with more than is meant × {exposure.weight} "
            f"({_WEIGHT_WORDS[exposure.weight]}) × {exposure.sensitivity}{sensitive}"
        )
    notes = [f"Exposure {exposure.points}: {'; and '.join(parts)}."]
    if exposure.months:
        notes[0] = f"{notes[0][:-1]}; and {exposure.months} for as many months that it is known to stand."
    notes += _when(one, came)
    notes += [Aside(f"Look closer: neatledger {_closer(one)}")]
    notes += [Aside(text) for text in _what_to_do(number, one, mending, names, systems)]
    headline = (
        f"Cause {number} of {causes}: {one.key}, {count_of(len(one.findings), 'finding')}, {one.severity.value}."
    )
    return Report("cause", headline, columns, rows, notes)


def _when(one: Cause, came: Came) -> list[str]:
    """Say on which days something was done, and since when the rest of it stands: two things that are not one."""
    days = sorted({each.happened for each in one.findings if each.happened is not None})
    notes = []
    if days:
        shown = ", ".join(map(str, days[:_FEW])) + (f" and {len(days) - _FEW} more days" if len(days) > _FEW else "")
        notes.append(f"Done on {shown}.")
        if all(each.happened is not None for each in one.findings):
            return notes
    subject = "What stands there" if days else "It"
    if came.before is None:
        notes.append(f"{subject} was there at the first count, of {came.first}.")
    elif came.before == came.first:
        notes.append(f"{subject} came between two counts of {came.first}.")
    else:
        notes.append(f"{subject} came after {came.before} and by {came.first}.")
    return notes


def _folded(findings: Sequence[Finding]) -> list[Row]:
    """Return a row for each finding; those that say the same of several people are one."""
    rows: list[Row] = []
    for some in ([findings[number] for number in numbers] for numbers in alike(findings)):
        first, severity = some[0], CHECKS[some[0].check].severity.value
        row = {"severity": severity, "check": first.check, "place": first.place}
        rows.append({**row, "evidence": told_together(some)})
    return rows


def _quoted(address: Address) -> str:
    text = encode_address(address)
    return f"'{text}'" if set(text) & set(" &();$'\"") else text


def _closer(one: Cause) -> str:
    if _is_offer(one):
        return f"links {_quoted(one.place)}" if isinstance(one.place, Address) else "links"
    if isinstance(one.place, Address) and one.place.path != b"/" and not one.findings[0].cause:
        return f"who {_quoted(one.place)}"
    named = [person for person in one.people if person != ANYONE]
    if named:
        return f"reach {named[0]}"
    if isinstance(one.place, Address):
        return f"who {_quoted(one.place)}"
    return f"check --only {one.findings[0].check}"


def _what_to_do(
    number: int, one: Cause, mending: Mending, names: Callable[[str], Names], systems: Collection[str]
) -> list[str]:
    """Say what ends a cause: steps of the tool, what a person does in which order and where, and how that shows."""
    notes: list[str] = []
    if any(finding.check == "account-apart" for finding in one.findings):
        notes.append("First: neatledger match --write, which says in the plan whose accounts these are")
    ended = {finding.subject for finding in mending.ended}
    if mending.items:
        by_hand = sum(bool(item.by_hand or item.refused) for item in mending.items)
        first = mending.items[0].step
        who = f"; a person makes {by_hand} of them" if by_hand and len(mending.items) > 1 else ""
        who = "; a person makes it" if by_hand == len(mending.items) == 1 else who
        notes.append(f"Mend: neatledger mend --cause {number}: {count_of(len(mending.items), 'step')}{who}")
        notes.append(f"  the first, on {first.where}: {_shortened(first.word(names(first.system)))}")
    rest = [finding for finding in one.findings if finding.subject not in ended]
    advice: dict[tuple[str, str], None] = {}
    for finding in rest:
        where = finding.place.system if isinstance(finding.place, Address) else str(finding.place)
        is_of_system = where.partition(":")[0] in systems
        key = where if is_of_system else f"{where} (office.yaml)", finding.advice or CHECKS[finding.check].advice
        advice[key] = None
    if not advice:
        return notes
    rest_of_it = "What no step of the tool ends, a person does"
    head = rest_of_it if mending.items else "No step of the tool ends it. A person does"
    notes.append(f"{head}, in this order:")
    for place, (where, text) in enumerate(advice, start=1):
        notes.append(f"  {place}. {where}: {text}")
    notes += [f"  mend leaves it, for {why}" for why in mending.reasons[:_SAID]]
    return notes + _how_it_shows(rest, [where.partition(":")[0] for where, _ in advice], systems)


def _how_it_shows(findings: Sequence[Finding], places: Sequence[str], systems: Collection[str]) -> list[str]:
    """Say how it is seen that what a person does is done: what stands goes, what was done does not."""
    standing = list(dict.fromkeys(each.check for each in findings if each.happened is None))
    notes = []
    if standing:
        named = [place for place in dict.fromkeys(places) if place in systems]
        after = f", after neatledger gather {' '.join(named)}," if named else ""
        checks = " ".join(f"--only {name}" for name in standing[:_FEW])
        notes.append(f"It is done when{after} this names it no more:")
        notes.append(f"  neatledger check {checks}")
    if len(standing) < len({each.check for each in findings}):
        notes.append(
            "What somebody did stays told for as long as its records are looked at; accept says it is settled."
        )
    return notes


def _shortened(text: str) -> str:
    return text if len(text) <= _LONGEST_WORD else f"{text[:_LONGEST_WORD].rstrip()} …"


GROUPS: dict[str, tuple[str, Callable[[Finding], Sequence[str]]]] = {
    "place": ("PLACE", lambda one: [str(one.place)]),
    "person": ("PERSON", lambda one: one.people),
    "check": ("CHECK", lambda one: [one.check]),
}
"""By what findings may be counted: the heading, and what one stands under (a person under each whom it names)."""


def grouped_report(findings: Sequence[Graded], causes: Sequence[Cause], by: str, when: str, since: SinceOf) -> Report:
    """Count the findings by place, person or check; the gravest and most first."""
    head, keys = GROUPS[by]
    groups: dict[str, list[Finding]] = {}
    for one in findings:
        if one.acceptance is None:
            for key in keys(one.finding) or (["nobody in particular"] if by == "person" else []):
                groups.setdefault(key, []).append(one.finding)

    def rank(item: tuple[str, list[Finding]]) -> tuple[int, int]:
        return -max(CHECKS[one.check].severity.rank for one in item[1]), -len(item[1])

    columns = (
        Column("group", head, Show.PEOPLE, wraps=True),
        Column("severity_of", "GRAVEST", Show.PEOPLE),
        Column("findings", "FINDINGS", Show.PEOPLE, number=True),
        Column("checks", "CHECKS", Show.PEOPLE, wraps=True),
    )
    shown: list[Row] = []
    for key, some in sorted(groups.items(), key=rank):
        names = Counter(one.check for one in some)
        gravest = max((CHECKS[one.check].severity for one in some), key=lambda one: one.rank)
        words = ", ".join(name if number == 1 else f"{name} ×{number}" for name, number in names.most_common(_MOST))
        words += f" and {len(names) - _MOST} more" if len(names) > _MOST else ""
        if by == "check":
            words = CHECKS[key].summary
        shown.append({"group": key, "severity_of": gravest.value, "findings": len(some), "checks": words})
    rows = _rows(findings, causes, since)
    return Report("check", _headline(causes, when), [*columns, *_machine(COLUMNS)], rows, [], "no findings", shown)
