"""The paper on access: maps of who can do what where, what is open to all, and what is beyond the plan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from neatledger.core.access.everyone import Everyone
from neatledger.core.access.map import map_of
from neatledger.core.checks.contract import ANYONE
from neatledger.core.checks.table import CHECKS
from neatledger.core.lists.rights import Level, Right
from neatledger.core.people.principals import only_in, principals_by_person
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.questions import check, deciders, most, told
from neatledger.questions.office import Office
from neatledger.questions.told import GradedFinding
from neatledger.reports.compare import most_report
from neatledger.reports.findings import since_words
from neatledger.reports.paper import LETTERS, Grid, Paper, Part, numbered
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["legend", "make", "sensitive_part"]

_MOST_ROWS, _DEPTH, _MOST_COLUMNS = 60, 3, 60
_SENTENCES = 5
"""How many decisions stand on top; of what is more the number is said."""
_WORDS = {
    Level.LIST: "sees names",
    Level.VIEW: "views without keeping",
    Level.ADD_ONLY: "may only put in",
    Level.MIXED: "something of its own",
    Level.READ: "reads",
    Level.WRITE: "changes",
    Level.MANAGE: "manages: may let others in",
    Level.UNKNOWN: "not known",
}


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    when = office.count.when
    findings = [one for one in check.ask(office) if one.acceptance is None]
    beyond, open_ = _beyond_part(office, findings), _open_part(office, findings)
    sensitive = sensitive_part(office, findings)
    parts = [sensitive, open_, beyond]
    for system in office.readers:
        parts += _maps(office, system)
    shares = most.ask(office, Right.CHANGE)
    parts.append(
        Part("Who can change the most", most_report(shares, Right.CHANGE, when, len(shares)), keys=("person",))
    )
    causes = [
        cause
        for cause in check.ask_for_causes(office, findings)
        if any(finding.check in deciders.OF_ACCESS for finding in cause.findings)
    ]
    decisions = deciders.ask(office, causes, [])
    lead = numbered([decision.sentence for decision in decisions], _SENTENCES)
    rest = len(decisions) - _SENTENCES
    lead += [f"{count_of(rest, 'more decision')} of this kind, below."] if rest > 0 else []
    lead += [sensitive.report.headline, open_.report.headline, beyond.report.headline]
    lead += filter(None, [_no_people(office), deciders.not_known(office)])
    title = f"{office.plan.office}: who can do what, {deciders.date_words(office)}"
    return Paper(title, f"As counted on {when}.", lead, parts)


def _no_people(office: Office) -> str:
    """Say who has access and is no person: service accounts and audiences of links."""
    people = {(one.person, one.kind) for holders in office.systems.holders.values() for one in holders}
    kinds = Counter(kind for _, kind in people)
    parts = [(kinds[Kind.SERVICE], "service account"), (kinds[Kind.ANYONE], "link audience")]
    words = [count_of(number, word) for number, word in parts if number]
    return f"Not counted as people: {' and '.join(words)}." if words else ""


def legend() -> str:
    """Say what the letters of a map stand for."""
    said = ", ".join(f"{LETTERS[level]} {words}" for level, words in _WORDS.items())
    return f"{said}; an empty cell: nothing. A folder that is not here is as the one above it."


def _maps(office: Office, system: str) -> list[Part]:
    """Return the maps of a system: by group where it has lists, and by person where they are not too many."""
    principals = office.systems.holders[system]
    if not principals:
        return []
    parts = []
    reader = office.readers[system]
    people = [
        person
        for person, mine in principals_by_person(principals).items()
        if any(one.kind is not Kind.SERVICE for one in mine)
    ]
    if office.systems.service(system) is None:
        groups = {one.name: one.ident for one in reader.groups if one.members or one.nested}
        alone = [only_in(name, system, [ident], login=name) for name, ident in groups.items()]
        if 0 < len(alone) <= _MOST_COLUMNS:
            everyone = office.systems.everyone(system, alone, is_narrow=True)
            parts.append(_map_part(office, system, everyone, list(groups), "group", "what being in it alone gives"))
    if len(people) <= _MOST_COLUMNS:
        everyone = office.systems.everyone(system, principals, is_narrow=True)
        parts.append(_map_part(office, system, everyone, people, "person", "by all their ways together"))
    elif not parts:
        report = Report("map", f"{len(people)} people are too many for a map: access lists them.", (), [], [], "")
        parts.append(Part(f"Map of {system}", report))
    return parts


def _map_part(office: Office, system: str, everyone: Everyone, names: Sequence[str], by: str, what: str) -> Part:
    path_of = folder_paths(everyone.matrix.folders)
    wanted = [*(one.address for one in office.plan.folders), *office.plan.sharing.sensitive]
    rows = [everyone.matrix.find_row(one.parts) for one in wanted if one.system == system]
    found = map_of(everyone, names, (row for row in rows if row is not None), _MOST_ROWS, _DEPTH)
    used = [n for n in range(len(names)) if any(line[n] is not Level.NONE for line in found.levels)]
    grid = Grid(
        [Address(system, path_of(row)) for row in found.rows],
        [names[number] for number in used],
        [[LETTERS[line[number]] for number in used] for line in found.levels],
    )
    headline = f"{count_of(len(grid.rows), 'folder')} of {system} by {count_of(len(used), by)}: {what}."
    notes = [legend()]
    if found.left_out:
        notes.append(f"{count_of(found.left_out, 'folder')} more differ from the one above: access lists them all.")
    if len(used) < len(names):
        notes.append(f"{count_of(len(names) - len(used), by)} with nothing in these folders left out.")
    return Part(f"Map of {system} by {by}", Report("map", headline, (), [], notes, ""), grid=grid)


def sensitive_part(office: Office, findings: Sequence[GradedFinding]) -> Part:
    """Return who can read and change what the plan calls sensitive, or closes to what lies above."""
    plan = office.plan
    rows: list[Row] = []
    unseen = 0
    for address in plan.guarded:
        if address.system not in office.readers:
            unseen += 1
            continue
        principals = office.systems.holders[address.system]
        everyone = office.systems.everyone(address.system, principals, is_narrow=True)
        row = everyone.matrix.find_row(address.parts)
        if row is None:
            unseen += 1
            continue
        people = list(principals_by_person(principals))
        levels = map_of(everyone, people, [row], 1, 0)
        of = dict(zip(people, levels.levels[levels.rows.index(row)], strict=True))
        beyond = _beyond(findings, address)
        rows.append(
            {
                "folder": address,
                "word": "sensitive" if address in plan.sharing.sensitive else "closed",
                "changes": tuple(one for one, level in of.items() if level in (Level.WRITE, Level.MANAGE)),
                "reads": tuple(one for one, level in of.items() if level is Level.READ),
                "else": tuple(one for one, level in of.items() if level in (Level.MIXED, Level.VIEW, Level.ADD_ONLY)),
                "unknown": tuple(one for one, level in of.items() if level is Level.UNKNOWN),
                "beyond": tuple(beyond),
            }
        )
    rows.sort(key=lambda row: (-len(row["beyond"]) if isinstance(row["beyond"], tuple) else 0, str(row["folder"])))
    columns = (
        Column("folder", "FOLDER", cuts=True),
        Column("word", "THE PLAN CALLS IT"),
        Column("beyond", "MORE THAN PLANNED THERE OR BELOW", wraps=True),
        Column("changes", "CAN CHANGE", wraps=True),
        Column("reads", "CAN READ", wraps=True),
        Column("else", "SOMETHING ELSE", wraps=True),
        Column("unknown", "NOT KNOWN", wraps=True),
    )
    faulty = sum(bool(row["beyond"]) for row in rows)
    where = "somebody has more than planned there, or below"
    headline = f"{faulty} of {count_of(len(rows), 'folder')} that the plan guards: {where}."
    notes = [f"{count_of(unseen, 'folder')} of the plan could not be looked at."] if unseen else []
    empty = "the plan calls no folder sensitive, and closes none"
    return Part("Sensitive folders", Report("sensitive", headline, columns, rows, notes, empty), keys=("folder",))


def _beyond(findings: Sequence[GradedFinding], address: Address) -> list[str]:
    found: dict[str, None] = {}
    for each in findings:
        one = each.finding
        if one.rights and isinstance(one.place, Address) and one.place.is_within(address):
            found |= dict.fromkeys("anyone" if person == ANYONE else person for person in one.people)
    return sorted(found, key=lambda person: (person != "anyone", person))


def _open_part(office: Office, findings: Sequence[GradedFinding]) -> Part:
    """Return what is open to anyone, or to everybody who signs in."""
    since = told.History(office).since
    rows: list[Row] = []
    for each in findings:
        one = each.finding
        if ANYONE in one.people and one.rights:
            rows.append(
                {
                    "place": one.place,
                    "severity": CHECKS[one.check].severity.value,
                    "what": CHECKS[one.check].summary,
                    "evidence": one.evidence,
                    "since": since_words(since(one)),
                    "advice": one.advice or CHECKS[one.check].advice,
                }
            )
    columns = (
        Column("place", "WHERE", cuts=True),
        Column("severity", "SEVERITY"),
        Column("what", "WHAT", wraps=True),
        Column("evidence", "WHAT WAS FOUND", wraps=True),
        Column("since", "SINCE"),
        Column("advice", "WHAT TO DO", wraps=True),
    )
    places = len({str(row["place"]) for row in rows})
    headline = f"{count_of(places, 'place')} {'is' if places == 1 else 'are'} open to anyone, or to everybody."
    report = Report("open", headline, columns, rows, [], "nothing is open to everybody")
    return Part("Open to everybody", report, keys=("place", "what", "evidence"))


def _beyond_part(office: Office, findings: Sequence[GradedFinding]) -> Part:
    """Return what people have beyond the plan, folded by place and what they have."""
    since = told.History(office).since
    groups: dict[tuple[Address | str, str, str, Right], list[GradedFinding]] = {}
    for each in findings:
        one = each.finding
        if one.rights and one.people and ANYONE not in one.people:
            words = (
                one.evidence.partition(" ")[2] if one.people == (one.evidence.partition(" ")[0],) else one.evidence
            )
            groups.setdefault((one.place, one.check, words, one.rights), []).append(each)
    rows: list[Row] = []
    for (place, name, words, _), some in groups.items():
        people = tuple(dict.fromkeys(person for each in some for person in each.finding.people))
        first = min((since(each.finding) for each in some), key=lambda came: came.first)
        rows.append(
            {
                "place": place,
                "people": people,
                "what": CHECKS[name].summary,
                "evidence": words,
                "since": since_words(first),
            }
        )
    columns = (
        Column("place", "WHERE", cuts=True),
        Column("people", "WHO", wraps=True),
        Column("what", "WHAT", wraps=True),
        Column("evidence", "WHAT WAS FOUND", wraps=True),
        Column("since", "SINCE"),
    )
    named = {person for some in groups.values() for each in some for person in each.finding.people}
    have = "has" if len(named) == 1 else "have"
    headline = f"{count_of(len(named), 'person')} {have} more than planned, in {count_of(len(rows), 'row')} below."
    report = Report("beyond", headline, columns, rows, [], "nobody has more than planned")
    return Part("More than planned", report, keys=("place", "what", "evidence", "people"))
