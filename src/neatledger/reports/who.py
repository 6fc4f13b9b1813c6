"""Who can reach one folder: a row a person and way, those with the most first."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date
from typing import Any, Protocol

from neatledger.core.access.differences import Difference
from neatledger.core.access.ways import Access
from neatledger.core.checks.finding import ANYONE, Finding
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_text
from neatledger.formats.shelllines import quoted_text
from neatledger.reports.access import ACCESS_COLUMNS, access_row, rows_of_level
from neatledger.reports.assurances import Said, assured
from neatledger.reports.report import Aside, Cell, Column, Pointer, Report, Row, Show, count_of, hide

__all__ = ["below_notes", "of_level", "who_report", "with_last_use", "with_since"]

_ORDER = [
    Level.MANAGE,
    Level.WRITE,
    Level.MIXED,
    Level.ADD_ONLY,
    Level.READ,
    Level.VIEW,
    Level.LIST,
    Level.UNKNOWN,
    Level.NONE,
]
_FEW = 3


def _rank(row: Row) -> tuple[bool, int, str]:
    # Administrators open everything everywhere; the people whom the lists let in come first.
    return row["way"] == "admin", _ORDER.index(Level(str(row["level"]))), str(row["person"])


def who_report(
    address: Address,
    asked: Sequence[Access],
    names: Names,
    when: str,
    *,
    is_all: bool,
    single_files: int = 0,
    is_supposed: bool = False,
    differences: Sequence[Difference] = (),
    planned: Mapping[str, Right] | None = None,
    below: str = "",
) -> Report:
    """Make the report of all people's access to one folder or file; `is_supposed` is a file that no count names.

    `differences` are those of plan and found here, `planned` what the plan gives each (None: it does not speak of the
    place), and `below` says what the folder holds with all below it.

    Every person has a row for each way and one for their union. For people, what an administrator's account has by
    lists is left out beside what it has by its role, service accounts with the same rights share a row, and
    those with no rights are counted.
    """
    rows = [row for access in asked for row in _all_rows(address, access, names)]
    shown: list[Row] = []
    hidden = 0
    reaching = [access for access in asked if _reaches(access)]
    unsure = sum(not _reaches(access) and not access.is_known for access in asked)
    for access in asked:
        mine = _telling_rows(address, access, names, is_all=is_all)
        shown += [{**row, "planned": _planned_word(access.person, planned)} for row in mine]
        hidden += not mine
    rows.sort(key=_rank)
    shown.sort(key=_rank)
    files = next((access.counts.files for access in asked if access.counts), None)
    folded = _fold(shown, {each.principal.person: each.principal for access in asked for each in access.ways})
    said = _headline(address, asked, len(reaching), unsure, when)
    headline = f"If there is such a file: {said.text}" if is_supposed else said.text
    if not said.is_assured:
        if planned is not None and reaching:
            headline = f"{headline[:-1]}; {_by_plan(reaching, differences)}."
        headline += f" All {len(asked)} are listed." if is_all else ""
    report = Report("who", headline, [], rows, [below] if below else [], "nobody has any right here", folded)
    report.is_assured = said.is_assured
    report.columns = _columns(folded, has_files=bool(files))
    report.notes += _single_files(single_files, address)
    where = quoted_text(show_address(address))
    if hidden:
        message = "person has" if hidden == 1 else "people have"
        report.pointers = [Pointer(f"The other {hidden} {message} no access", f"who {where} -a")]
    if reaching:
        first = (
            str(folded[0]["person"])
            if folded and "accounts (" not in str(folded[0]["person"])
            else reaching[0].person
        )
        way_in = Pointer("How one of them gets in", f"why {quoted_text(first)} {where}")
        report.pointers = [*report.pointers, way_in]
    return report


def of_level(report: Report, level: str) -> Report:
    """Return the report with the rows of a level and above, and the unknown ones; its headline says so."""
    (shown, unsure), (rows, unsure_rows) = (rows_of_level(some, level) for some in (report.shown, report.rows))
    headline = f"{len({row['person'] for row in shown}):,} with {level} or more"
    headline += f"; of {len({row['person'] for row in unsure}):,} it is unknown" if unsure else ""
    return replace(
        report,
        headline=f"{headline}. {report.headline}",
        rows=[*rows, *unsure_rows],
        folded=[*shown, *unsure],
        empty=f"nobody has {level} here",
        is_assured=False,
    )


def _planned_word(person: str, planned: Mapping[str, Right] | None) -> str:
    if planned is None:
        return ""
    level = level_of(planned.get(person, Right.NONE))
    return "-" if level is Level.NONE else level.value


def _by_plan(reaching: Sequence[Access], differences: Sequence[Difference]) -> str:
    """Say how many of those who reach a place have what is planned, more or less, or open it as administrators."""
    by_person = {one.person: one for one in differences}
    admins = [one for one in reaching if any(way.name == "admin" and way.rights for way in one.ways)]
    others = [one for one in reaching if one not in admins]
    found = [by_person.get(one.person) for one in others]
    more = sum(one is None or one.is_more for one in found)
    less = sum(one is not None and one.is_less and not one.is_more for one in found)
    unsure = sum(one is not None and not one and not one.is_known for one in found)
    parts = [
        (len(others) - more - less - unsure, "as planned"),
        (more, "with more than planned"),
        (less, "with less than planned"),
        (unsure, "not wholly known"),
        (len(admins), "as administrator" if len(admins) == 1 else "as administrators"),
    ]
    return ", ".join(f"{number:,} {words}" for number, words in parts if number)


def below_notes(address: Address, found: Sequence[Finding] | None, *, is_large: bool = False) -> list[str]:
    """Say what is wider below a folder than is meant; `found` are the findings there (None: not looked for).

    `is_large` says that there is too much of them to be looked through.
    """
    shown = quoted_text(show_address(address))
    if is_large:
        return [Aside(f"Who has more than planned below it (takes a while): neatledger check {shown}")]
    if found is None:
        return [
            Aside(f"Whether anything below is open to more people was not looked at yet (neatledger check {shown}).")
        ]
    wider = [one for one in found if one.rights]
    if not wider:
        return []
    wider.sort(key=lambda one: (ANYONE not in one.people, -one.rights.bit_count()))
    places = list(dict.fromkeys(str(one.place) for one in wider))
    are = "is" if len(places) == 1 else "are"
    notes = [f"Below it {count_of(len(places), 'folder')} {are} open to more people than planned:"]
    for place in places[:_FEW]:
        mine = next(one for one in wider if str(one.place) == place)
        notes.append(f"  {show_text(place)}: {mine.evidence}")
    notes.append(Aside(f"neatledger check {shown} shows all of it."))
    return notes


class Came(Protocol):
    """Since when somebody has what they have."""

    @property
    def not_before(self) -> date | None: ...
    @property
    def day(self) -> date: ...


def with_since(report: Report, since: Mapping[Any, Came], key: str = "person") -> Report:
    """Return the report with a column more: since when each has what they have by all ways together.

    `since` is by the cells of a column, `key`.
    """

    def told(row: Row) -> str:
        one = since.get(row[key])
        if one is None:
            return ""
        if one.not_before is None:
            return f"the first count, {one.day}"
        return str(one.day) if one.not_before == one.day else f"after {one.not_before}, by {one.day}"

    columns = [*report.columns, Column("since", "SINCE", wraps=True)]
    folded = None if report.folded is None else [{**row, "since": told(row)} for row in report.folded]
    return replace(report, columns=columns, rows=[{**row, "since": told(row)} for row in report.rows], folded=folded)


def with_last_use(report: Report, days: Mapping[Any, date], keys: Sequence[str], notes: Sequence[str]) -> Report:
    """Return the report with a column more: when each last used what the row gives.

    `days` is by the cells of the columns `keys`: a tuple of them where they are several.
    """

    def told(row: Row) -> str:
        cells = tuple(row[key] for key in keys)
        day = days.get(cells if len(cells) > 1 else cells[0])
        return "" if day is None else day.isoformat()

    columns = [*report.columns, Column("last_used", "LAST USED", spare=True)]
    shown = [{**row, "last_used": told(row) or "-"} for row in report.shown]
    rows = [{**row, "last_used": told(row)} for row in report.rows]
    return replace(report, columns=columns, rows=rows, folded=shown, notes=[*report.notes, *notes])


def _all_rows(address: Address, access: Access, names: Names) -> Iterator[Row]:
    for way in (*access.ways, None):
        yield access_row(address, way, access, names)


def _telling_rows(address: Address, access: Access, names: Names, *, is_all: bool) -> list[Row]:
    """Return the rows of one person that people need."""
    admins = {way.principal.account.login for way in access.ways if way.name == "admin"}
    shown = [way for way in access.ways if way.name == "admin" or way.principal.account.login not in admins]
    telling = [way for way in shown if is_all or way.rights or not way.is_known]
    rows = [access_row(address, way, access, names) for way in telling]
    is_covered = any(way.rights == access.rights and way.counts == access.counts for way in telling)
    if len(telling) > 1 and not is_covered:
        rows.append(access_row(address, None, access, names))
    return rows


def _reaches(access: Access) -> bool:
    """Tell whether somebody can do anything with a place, or with a file in it."""
    counts = access.counts
    return bool(access.rights or (counts is not None and (counts.read or counts.change or counts.delete)))


def _headline(address: Address, asked: Sequence[Access], reach: int, unsure: int, when: str) -> Said:
    people, where = count_of(len(asked), "person"), show_address(address)
    headline = f"{reach} of {people} can reach {where}."
    headline = f"{headline[:-1]}, and of {unsure} it is unknown." if unsure else headline
    said = assured("nobody", not (reach or unsure), headline, people=people, where=where, when=when)
    return Said(f"{said.text}.", True) if said.is_assured else said


def _single_files(number: int, address: Address) -> list[str]:
    """Say how many links and hand-outs open single files of a folder, and not the folder."""
    if not number:
        return []
    message = "link or hand-out opens a single file" if number == 1 else "links and hand-outs open single files"
    return [f"{number} {message} in it (links {quoted_text(show_address(address))} --only live)."]


def _columns(rows: Sequence[Row], *, has_files: bool) -> list[Column]:
    hidden = {"folder", "files"}
    accounts = {(row["person"], row["account"]) for row in rows if row["way"] != "any"}
    has_several = len({person for person, _ in accounts}) != len(accounts)
    if not has_files:
        hidden |= {"files_read", "files_change", "files_delete"}
    columns = [*hide(ACCESS_COLUMNS, *hidden), Column("planned", "PLANNED", Show.PEOPLE)]
    at = next(number for number, column in enumerate(columns) if column.key == "way")
    columns.insert(at, columns.pop())
    return [
        replace(column, show=Show.ALWAYS) if has_several and column.key == "account" else column for column in columns
    ]


def _fold(rows: Sequence[Row], principals: Mapping[str, Principal]) -> list[Row]:
    """Fold service accounts that stand for themselves and have the same rights into one row."""
    alike: dict[tuple[Cell, ...], list[Row]] = {}
    for row in rows:
        principal = principals[str(row["person"])]
        same: tuple[Cell, ...] = (str(row["person"]),)
        if principal.kind is Kind.SERVICE and not principal.is_planned:
            apart = ("person", "account", "system", "folder")
            same = ("", *(cell for key, cell in row.items() if key not in apart))
        alike.setdefault(same, []).append(row)
    folded: list[Row] = []
    for same, group in alike.items():
        if same[0] or len(group) <= _FEW:
            folded += group
        else:
            shown = ", ".join(str(row["person"]) for row in group[:_FEW])
            folded.append({**group[0], "person": f"{len(group)} service accounts ({shown}, …)"})
    return folded
