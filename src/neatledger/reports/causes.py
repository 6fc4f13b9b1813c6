"""Findings by their causes, as problems: what to do first, and one problem whole."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Sequence
from typing import Protocol

from neatledger.core.checks.causes import CLOSED, SENSITIVE, Cause
from neatledger.core.checks.contract import ANYONE, Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.lists.contract import Names
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text
from neatledger.reports.assurances import Said
from neatledger.reports.facts import fact_of, facts_of, filled, offer_of
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
from neatledger.reports.report import Column, Pointer, Portion, Report, Row, Show, count_of

__all__ = ["GROUPS", "cause_report", "causes_paper_report", "causes_report", "grouped_report", "where_of"]

_MOST = 10
_COLUMNS = (
    Column("number", "#", Show.PEOPLE, number=True),
    Column("points", "SCORE", Show.PEOPLE, number=True),
    Column("severity_words", "SEVERITY", Show.PEOPLE),
    Column("where", "WHERE", Show.PEOPLE, cuts=True),
    Column("facts", "WHAT IS WRONG", Show.PEOPLE, wraps=True),
    Column("since_words", "SINCE", Show.PEOPLE, spare=True),
    Column("who", "WHO", Show.PEOPLE, wraps=True, spare=True),
)
_FEW, _SAID, _ADVICE = 4, 2, 3
_LIMIT_WORDS = re.compile(r" \(told from [\d,]+ on\)")
_LONGEST_WORD = 160  # characters of a step in one line
_WEIGHT_WORDS = {1: "can see names", 2: "can read", 3: "can change", 5: "can let others in"}


def _machine(columns: Sequence[Column]) -> list[Column]:
    return [Column(one.key, one.head, Show.MACHINE) for one in columns]


def causes_report(
    findings: Sequence[Graded],
    causes: Sequence[Cause],
    numbered: Sequence[tuple[int, Cause]],
    when: str,
    since: SinceOf,
    *,
    headline: str = "",
    scope: str = "",
    checks: int = len(CHECKS),
) -> Report:
    """Show the problems, the most serious first; machines are given the findings, each with its cause and its score.

    `numbered` are those of `causes` that are asked for, with their numbers among all. `since` tells since when a
    finding is told; `scope` says what was asked for, where that is not everything.
    """
    rows = _rows(findings, causes, since)
    shown = [_cause_row(number, one, since) for number, one in numbered]
    said = (
        Said(headline, False)
        if headline
        else clean(not numbered, _headline([cause for _, cause in numbered], scope), scope, checks, when)
    )
    pointers = []
    if numbered:
        pointers.append(Pointer("Explain the first, and how to end it", f"check {numbered[0][0]}"))
    accepted = sum(one.acceptance is not None for one in findings)
    if accepted:
        pointers.append(Pointer(f"{count_of(accepted, 'finding')} accepted and hidden", "check --accepted"))
    columns = [*_COLUMNS, *_machine(COLUMNS)]
    report = Report("check", said.text, columns, rows, [], "no findings", shown, said.is_assured)
    report.pointers, report.most = pointers, _MOST
    report.more = _more
    return report


def _more(left: Sequence[Row]) -> str:
    """Say how many problems there are more, and how serious they are."""
    return f"{len(left)} more: {_grades([row['severity_words'] for row in left])}"


def _grades(severities: Sequence[object]) -> str:
    """Return how many there are of each severity, the most serious first."""
    grades = Counter(map(str, severities))
    return ", ".join(f"{grades[one.value]:,} {one.value}" for one in reversed(Severity) if grades[one.value])


def causes_paper_report(causes: Sequence[Cause], since: SinceOf, first: int) -> Report:
    """Show the first causes for a paper: what they are, and what helps, filled in for the place or person."""
    columns = (
        Column("number", "", number=True),
        Column("where", "WHERE", wraps=True),
        Column("severity", "SEVERITY"),
        Column("exposure", "SCORE", number=True),
        Column("bar", ""),
        Column("since", "SINCE"),
        Column("what", "WHAT", wraps=True),
        Column("people", "WHOM IT CONCERNS", wraps=True),
        Column("advice", "WHAT TO DO", wraps=True),
    )
    most = max((one.exposure.points for one in causes), default=1) or 1
    rows: list[Row] = []
    for number, one in enumerate(causes[:first], start=1):
        said = (filled(each.advice or CHECKS[each.check].advice, each) for each in one.findings)
        advice = list(dict.fromkeys(said))
        row = _cause_row(number, one, since)
        rows.append(
            {
                "number": number,
                "where": row["where"],
                "severity": one.severity.value,
                "exposure": one.exposure.points,
                "bar": Portion(one.exposure.points, most),
                "since": row["since_words"],
                "what": facts_of(one.key, one.findings),
                "people": _who(one.people),
                "advice": "; or ".join(advice[:_SAID]),
            }
        )
    rest = len(causes) - len(rows)
    notes = ["Score: people with more than planned, times what they can do, times how sensitive the place is."]
    notes += [f"{count_of(rest, 'problem')} more have a lower score."] if rest > 0 else []
    headline = f"{count_of(len(causes), 'problem')}, the most serious first."
    return Report("causes", headline, columns, rows, notes, "no problem to tell")


def _rows(findings: Sequence[Graded], causes: Sequence[Cause], since: SinceOf) -> list[Row]:
    cause_of = {id(finding): one for one in causes for finding in one.findings}
    return [finding_row(each, since(each.finding), cause_of.get(id(each.finding))) for each in findings]


def _headline(causes: Sequence[Cause], scope: str = "") -> str:
    grades = _grades([cause.severity.value for cause in causes])
    return f"{count_of(len(causes), 'problem')}{scope}: {grades}."


def where_of(one: Cause) -> Address | str:
    """Return where a problem is, as people look for it."""
    return one.place if _is_offer(one) or one.key == str(one.place) else one.key


def _cause_row(number: int, one: Cause, since: SinceOf) -> Row:
    # Of what somebody did the day is told; else since when the oldest of it stands.
    gravest = one.findings[0]
    standing = [each for each in one.findings if each.happened is None]
    told = [gravest] if gravest.happened is not None or not standing else standing
    first = min(map(since, told), key=lambda each: each.first)
    return {
        "number": number,
        "points": one.exposure.points,
        "severity_words": one.severity.value,
        "where": where_of(one),
        "facts": facts_of(one.key, one.findings),
        "since_words": since_words(first),
        "who": _who(one.people),
    }


def _is_offer(one: Cause) -> bool:
    return bool(offer_of(one.key))


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
    *,
    is_all: bool = False,
) -> Report:
    """Show one cause whole: its findings, why it ranks where it does, what looks closer, and what mends it."""
    columns = (
        Column("severity", "SEVERITY"),
        Column("check", "CHECK"),
        Column("place", "PLACE", Show.MACHINE),
        Column("place_words", "PLACE", Show.PEOPLE, cuts=True),
        Column("fact", "FOUND", Show.PEOPLE, wraps=True),
        Column("evidence", "EVIDENCE", Show.MACHINE),
        Column("times", "FINDINGS", Show.PEOPLE, number=True),
    )
    rows, shown = _folded(one.findings), _merged(one)
    exposure = one.exposure
    parts = [f"{exposure.severities} (severity)"]
    if exposure.people:
        sensitive = {SENSITIVE: " (sensitive)", CLOSED: " (closed)"}.get(exposure.sensitivity, "")
        parts.append(
            f"{count_of(exposure.people, 'person')} with more than planned × {exposure.weight} "
            f"({_WEIGHT_WORDS[exposure.weight]}) × {exposure.sensitivity}{sensitive}"
        )
    if exposure.months:
        parts.append(f"{exposure.months} (months that it has lasted)")
    notes = [f"Score {exposure.points} = {' + '.join(parts)}.".replace(" × 1.", ".")]
    notes += _when(one, came)
    where = where_of(one)
    place = show_address(where) if isinstance(where, Address) else where
    headline = f"Problem {number} of {causes}, {one.severity.value}: {place}: {facts_of(one.key, one.findings)}."
    report = Report("cause", headline, columns, rows, notes, folded=shown)
    report.lead = _what_to_do(number, one, mending, names, systems, is_all=is_all)
    report.most, report.more, report.whole = _ROWS, _more_checks, f"check {number} -a"
    has_deed = any(finding.happened is not None for finding in one.findings)
    report.pointers = (
        []
        if has_deed
        else [Pointer("Who can reach it" if _closer(one).startswith("who") else "Look closer", _closer(one))]
    )
    return report


_ROWS = 5


def _more_checks(left: Sequence[Row]) -> str:
    return f"{count_of(len(left), 'more check')}: {_grades([row['severity'] for row in left])}"


def _merged(one: Cause) -> list[Row]:
    """Return a row for each check of a problem, with what its first finding says and how many there are."""
    by_check: dict[str, list[Finding]] = {}
    for finding in one.findings:
        by_check.setdefault(finding.check, []).append(finding)
    where = where_of(one)
    is_brief = len(by_check) > _FEW
    rows: list[Row] = []
    for name, some in by_check.items():
        first = some[0]
        place: Address | str = "" if all(each.place == where for each in some) else first.place
        severity = CHECKS[name].severity.value
        words = told_together([some[number] for number in alike(some)[0]])
        words = _LIMIT_WORDS.sub("", words.partition(" — ")[0].partition("; ")[0])
        rows.append(
            {
                "severity": severity, "check": name, "place": first.place, "place_words": place,
                # Many are told in a line each; -w has the evidence of all.
                "fact": fact_of(first) if is_brief else words, "evidence": words, "times": len(some),
            }
        )  # fmt: skip
    return rows


def _when(one: Cause, came: Came) -> list[str]:
    """Say on which days something was done, and since when the rest of it stands: two things that are not one."""
    days = sorted({each.happened for each in one.findings if each.happened is not None})
    notes = []
    if days:
        shown = ", ".join(map(str, days[:_FEW])) + (f" and {len(days) - _FEW} more days" if len(days) > _FEW else "")
        notes.append(f"It was done on {shown}.")
        if all(each.happened is not None for each in one.findings):
            return notes
    subject = "The rest" if days else "It"
    if came.before is None:
        notes.append(f"{subject} was there at the first count, of {came.first}.")
    elif came.before == came.first:
        notes.append(f"{subject} came between two counts of {came.first}.")
    else:
        notes.append(f"{subject} came after {came.before} and by {came.first}.")
    return [" ".join(notes)]


def _folded(findings: Sequence[Finding]) -> list[Row]:
    """Return a row for each finding; those that say the same of several people are one."""
    rows: list[Row] = []
    for some in ([findings[number] for number in numbers] for numbers in alike(findings)):
        first, severity = some[0], CHECKS[some[0].check].severity.value
        row = {"severity": severity, "check": first.check, "place": first.place}
        rows.append({**row, "evidence": told_together(some)})
    return rows


def _closer(one: Cause) -> str:
    if _is_offer(one):
        return f"links {quoted_text(show_address(one.place))}" if isinstance(one.place, Address) else "links"
    if isinstance(one.place, Address) and one.place.path != b"/" and not one.findings[0].cause:
        return f"who {quoted_text(show_address(one.place))}"
    named = [person for person in one.people if person != ANYONE]
    if named:
        return f"reach {named[0]}"
    if isinstance(one.place, Address):
        return f"who {quoted_text(show_address(one.place))}"
    return f"check --only {one.findings[0].check}"


def _what_to_do(
    number: int,
    one: Cause,
    mending: Mending,
    names: Callable[[str], Names],
    systems: Collection[str],
    *,
    is_all: bool,
) -> list[str]:
    """Say what ends a problem: what is urgent, the tool's steps, what a person does and where, and how that shows."""
    ended = {finding.subject for finding in mending.ended}
    deeds: dict[str, None] = {}
    advice: dict[tuple[str, str], None] = {}
    rest = [finding for finding in one.findings if finding.subject not in ended]
    for finding in rest:
        text = filled(finding.advice or CHECKS[finding.check].advice, finding)
        if finding.happened is not None:
            deeds[text] = None
            continue
        where = finding.place.system if isinstance(finding.place, Address) else str(finding.place)
        is_of_system = where.partition(":")[0] in systems
        advice[where if is_of_system else f"{where} (office.yaml)", text] = None
    notes: list[str] = []
    place = 0
    if deeds:
        notes.append("DO NOW")
        for text in deeds:
            place += 1
            notes.append(f"{place:2}  {text[:1].upper()}{text[1:]}.")
    if any(finding.check == "account-apart" for finding in one.findings):
        notes.append("FIRST  people --match --write says in the plan whose accounts these are")
    if mending.items:
        by_hand = sum(bool(item.by_hand or item.refused) for item in mending.items)
        first = mending.items[0].step
        notes.append(f"{'THEN, by the tool' if deeds else 'BY THE TOOL'}: mend {number}")
        steps = f"{count_of(len(mending.items), 'step')}{f', {by_hand:,} of them by hand' if by_hand else ''}"
        word = first.word(names(first.system)).removeprefix(f"{first.where.partition(': ')[2]}: ")
        notes.append(f"    {steps}; the first, on {first.where}: {_shortened(word)}.")
    if advice:
        # One place of all is said once.
        only = next(iter(advice))[0] if len({where for where, _ in advice}) == 1 else ""
        on = f", on {only}" if only in systems else ""
        notes.append(f"THEN, by hand{on}" if notes else f"DO, by hand{on}: no step of the tool ends it")
        for where, text in list(advice)[: None if is_all else _ADVICE]:
            place += 1
            said = f"{text[:1].upper()}{text[1:]}" if on else f"{where}: {text}"
            notes.append(f"{place:2}  {said}.")
        rest_of = len(advice) - _ADVICE
        notes += [f"    {rest_of} more: check {number} -a"] if rest_of > 0 and not is_all else []
        notes += [f"    mend leaves it, for {why}." for why in mending.reasons[:_SAID]]
    return notes + _how_it_shows(number, rest, [where.partition(":")[0] for where, _ in advice], systems)


def _how_it_shows(
    number: int, findings: Sequence[Finding], places: Sequence[str], systems: Collection[str]
) -> list[str]:
    """Say how it is seen that what a person does is done: what stands goes, what was done does not."""
    named = "".join(f" {place}" for place in dict.fromkeys(places) if place in systems)
    stands = any(finding.happened is None for finding in findings)
    if any(finding.happened is not None for finding in findings):
        # What stands goes when it is mended; what was done does not go.
        after = f"After: count{named}. " if stands else ""
        return [f"{after}What was done stays listed until check {number} --accept WHY."]
    return [f"After: count{named}; then check does not list it any more."] if stands else []


def _shortened(text: str) -> str:
    return text if len(text) <= _LONGEST_WORD else f"{text[:_LONGEST_WORD].rstrip()} …"


GROUPS: dict[str, tuple[str, Callable[[Finding], Sequence[str]]]] = {
    "place": ("PLACE", lambda one: [str(one.place)]),
    "person": ("PERSON", lambda one: one.people),
    "check": ("CHECK", lambda one: [one.check]),
}
"""By what findings may be counted: the heading, and what one stands under (a person under each whom it names)."""


def grouped_report(findings: Sequence[Graded], causes: Sequence[Cause], by: str, since: SinceOf) -> Report:
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
        Column("severity_of", "MOST SERIOUS", Show.PEOPLE),
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
    return Report(
        "check",
        _headline(causes),
        [*columns, *_machine(COLUMNS)],
        rows,
        [],
        "no findings",
        shown,
    )
