"""The worklist, what was made of it, the journal, and what is proved afterwards."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.differences import Difference
from neatledger.core.checks.contract import Finding
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import spell_rights
from neatledger.core.steps.contract import Step
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_text
from neatledger.reports.assurances import assured
from neatledger.reports.change_words import change_cells, file_words, what_changes
from neatledger.reports.report import Aside, Cell, Column, Pointer, Report, Row, Show, count_of, moment_cell
from neatledger.reports.supposed import Changed

__all__ = [
    "LATER",
    "PERSON",
    "PLAN_LINES",
    "REFUSED",
    "TOOL",
    "Item",
    "LeftOver",
    "carried_report",
    "journal_report",
    "makes",
    "mend_report",
    "stays_report",
    "texts_report",
    "undo_report",
    "who_makes",
    "without_plan",
]

_COLUMNS = (
    Column("number", "STEP", number=True),
    Column("system", "SYSTEM"),
    Column("where", "WHERE", cuts=True),
    Column("what", "WHAT TO DO", wraps=True),
    Column("effect", "WHO GAINS AND LOSES", wraps=True),
    Column("ends", "", Show.MACHINE),
    Column("who", "BY"),
    Column("kind", "", Show.MACHINE),
    Column("text", "", Show.MACHINE),
    Column("warning", "", Show.MACHINE),
)
PLAN_LINES = {
    "the plan does not say that the tool may change this system": "may-change: true",
    "the plan names no shadow file of its accounts": "accounts: {shadow: FILE}",
}
"""Why a person must make steps that the tool could make, if the plan said so → the line of the plan that says it."""
TOOL, LATER, PERSON, REFUSED = "the tool", "the tool, later", "a person", "nobody"
"""Who makes a step."""
_MOST_LEFT = 8
_MOST_CHANGES = 5


class Item(Protocol):
    """One step of a worklist with what it does."""

    @property
    def step(self) -> Step: ...
    @property
    def effects(self) -> Sequence[Changed]: ...
    @property
    def harm(self) -> str: ...
    @property
    def refused(self) -> str: ...
    @property
    def by_hand(self) -> str: ...
    @property
    def waits(self) -> bool: ...


def makes(steps: int) -> str:
    """Return the verb of so many steps."""
    return "makes" if steps == 1 else "make"


def without_plan(report: Report) -> Report:
    """Return the report of an office of which the plan says nothing yet: nothing can be held against it."""
    headline = "The plan says nothing of people, groups or folders yet: there is nothing to make it match."
    report.headline, report.is_assured, report.pointers = headline, False, [Pointer("A first plan", "draft")]
    return report


class LeftOver(Protocol):
    """A difference that no step ends, and why."""

    @property
    def difference(self) -> Difference: ...
    @property
    def why(self) -> str: ...


def mend_report(
    items: Sequence[Item],
    ends: Sequence[Sequence[Finding]],
    left: Sequence[LeftOver],
    names: Callable[[str], Names],
    text: Callable[[Step], Sequence[str]],
    when: str,
    scope: str = "",
    source: str = "",
) -> Report:
    """Show the steps in their order; `ends` are the findings that each ends, `left` what none does.

    `scope` says of what they are, where that is not everything; `source` from where, where they were chosen: these
    are not all that the plan asks for.
    """
    rows: list[Row] = []
    for number, (item, findings) in enumerate(zip(items, ends, strict=True), start=1):
        step = item.step
        warning = item.refused or "; ".join(one for one in (item.harm, item.by_hand) if one)
        rows.append(
            {
                "number": number,
                "system": step.system,
                "where": step.target,
                "what": step.word(names(step.system)),
                "effect": _effect_words(item.effects, step.place),
                "ends": _ends(findings),
                "who": who_makes(item),
                "kind": step.kind,
                "text": "\n".join(text(step)),
                "warning": warning,
            }
        )
    folded = _folded(items, rows, ends, names)
    made = sum(who_makes(item) == TOOL for item in items)
    match = source or f" {makes(len(items))} the systems match the plan{scope}"
    headline = f"{count_of(len(items), 'step')}{match} (count of {when})"
    if items:
        headline += f"; the tool can make {made:,}." if made else "; all by hand." if items[1:] else "; by hand."
    if left and not items:
        headline = f"No step ends what differs{scope} by the count of {when}: {count_of(len(left), 'difference')}."
    said = assured("mend", not items and not left, headline.rstrip("."), scope=scope, when=when)
    empty = "no step" if left else "nothing to do"
    notes = _notes(items, left, made)
    return Report("mend", f"{said.text}.", _COLUMNS, rows, notes, empty, folded, said.is_assured)


def who_makes(item: Item) -> str:
    """Say who makes a step."""
    if item.refused:
        return REFUSED
    return PERSON if item.by_hand else LATER if item.waits else TOOL


def _text(cell: Cell) -> str:
    return cell if isinstance(cell, str) else str(cell) if isinstance(cell, int) else ""


def _short_words(step: Step, names: Names) -> str:
    """Say what to do as people see it in a table: of a list of which much changes, what comes first."""
    changes = step.changes(names) if isinstance(step, ListStep) else []
    if len(changes) <= _MOST_CHANGES:
        return step.word(names)
    more = len(changes) - _MOST_CHANGES + 1
    return f"{'; '.join(changes[: _MOST_CHANGES - 1])}; and {more} changes more (mend --script has all)"


def _folded(
    items: Sequence[Item], rows: Sequence[Row], ends: Sequence[Sequence[Finding]], names: Callable[[str], Names]
) -> Sequence[Row]:
    """Return rows as people see them: what only passes a list on stands with the folder it comes from."""
    found: list[dict[str, Cell]] = []
    top: tuple[str, bytes] | None = None
    files = folders = 0
    effects: list[Changed] = []
    ended: list[Finding] = []
    harms: list[str] = []
    here: Address | None = None

    def finish() -> None:
        if found and (files or folders):
            parts = [f"{count_of(folders, 'folder')} below"] if folders else []
            parts += [count_of(files, "file")] if files else []
            found[-1]["what"] = f"{_text(found[-1]['what'])}; and so on {' and '.join(parts)}"
        if found:
            done = f" Ends: {_ends(ended)}." if ended else ""
            beware = "".join(f" Beware: {one}." for one in dict.fromkeys(harms))
            found[-1]["effect"] = f"{_effect_words(effects, here)}.{done}{beware}"

    for item, row, findings in zip(items, rows, ends, strict=True):
        step, path = item.step, item.step.place.path if item.step.place else b""
        is_alike = top is not None and step.system == top[0] and _is_passed_on(step, top[1])
        if is_alike and found and row["who"] == found[-1]["who"]:
            files += step.files if isinstance(step, FilesStep) else 0
            folders += 0 if isinstance(step, FilesStep) else 1
            effects += item.effects
            ended += findings
            harms += [item.harm] if item.harm else []
            first = _text(found[-1]["number"]).partition("–")[0]
            found[-1]["number"] = f"{first}–{_text(row['number'])}"
            continue
        finish()
        found.append({**row, "what": _short_words(step, names(step.system))})
        files, folders, here = 0, 0, step.place
        effects, ended = list(item.effects), list(findings)
        harms = [item.harm] if item.harm else []
        top = (step.system, path) if isinstance(step, ListStep) else None
    finish()
    return found


def _is_passed_on(step: Step, top: bytes) -> bool:
    """Tell whether a step only does to what lies in a folder what another one does to the folder."""
    if isinstance(step, FilesStep) and step.path == top:
        return True
    is_below = step.place is not None and step.place.path.startswith(top.rstrip(b"/") + b"/")
    return isinstance(step, (ListStep, FilesStep)) and is_below and step.model != "posix"


def _notes(items: Sequence[Item], left: Sequence[LeftOver], made: int) -> list[str]:
    notes = []
    for item in items:
        if item.refused:
            notes.append(f"Not to be made: {item.step.system}: {item.step.target}: {item.refused}.")
    by_hand = Counter((item.step.system, item.by_hand) for item in items if item.by_hand)
    for (system, why), number in by_hand.items():
        line = PLAN_LINES.get(why, "")
        could = f" The tool could with this line under {system} in office.yaml: {line}" if line else ""
        notes.append(f"{system}: a person must make {count_of(number, 'step')} there: {why}.{could}")
    if any(item.waits for item in items):
        notes.append("Do the steps by hand first: later steps would lock somebody out otherwise.")
    if left:
        notes.append(f"{count_of(len(left), 'difference')} would stay:")
        reasons = _by_reason(left)
        for why, people, places in reasons[:_MOST_LEFT]:
            notes.append(f"  {why}: {_few(people)} on {_few(places)}")
        if len(reasons) > _MOST_LEFT:
            notes.append(f"  and {count_of(len(reasons) - _MOST_LEFT, 'reason')} more")
    if made:
        notes.append(Aside("mend --carry-out makes them, after asking; mend --script prints them as text."))
    notes.append("Nothing was changed.")
    return notes


def _by_reason(left: Sequence[LeftOver]) -> list[tuple[str, Sequence[str], Sequence[str]]]:
    """Return every reason with the people and the places it holds for, each once."""
    reasons: dict[str, tuple[dict[str, None], dict[str, None]]] = {}
    for one in left:
        people, places = reasons.setdefault(one.why, ({}, {}))
        people[one.difference.person] = None
        places[str(one.difference.address)] = None
    return [(why, list(people), list(places)) for why, (people, places) in reasons.items()]


def stays_report(left: Sequence[LeftOver]) -> Report:
    """Show what no step ends, each reason with all whom and all places it holds for."""
    columns = (
        Column("why", "WHY", wraps=True),
        Column("who", "WHO", wraps=True),
        Column("where", "WHERE", wraps=True),
    )
    rows = [
        {"why": why, "who": ", ".join(people), "where": ", ".join(places)} for why, people, places in _by_reason(left)
    ]
    return Report(
        "stays", f"{count_of(len(left), 'difference')} would stay.", columns, rows, [], "nothing would stay"
    )


def _few(names: Sequence[str]) -> str:
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more


def _words_of(change: AccessChange, cells: Mapping[str, Cell]) -> str:
    """Say what changes: the level, else with how many files, else the rights that make no other level."""
    if cells["before"] != cells["after"]:
        return f"{_text(cells['before'])} → {_text(cells['after'])}"
    rights = [
        f"{word} {spell_rights(some)}"
        for word, some in (("to", change.gained), ("no longer to", change.lost))
        if some
    ]
    return file_words(change) or "; ".join(rights)


def _effect_words(effects: Sequence[Changed], here: Address | None = None) -> str:
    """Say who gains and loses what on which folders; first what the plan does not ask for. `here` is the step's."""
    people: dict[tuple[str, str, str, Address], dict[str, None]] = {}
    for one in effects:
        verb = what_changes(one.change)
        key = one.unasked, verb, _words_of(one.change, change_cells(one.change)), one.address
        people.setdefault(key, {})[one.person] = None
    places: dict[tuple[str, str, str, tuple[str, ...]], list[str]] = {}
    for (unasked, verb, words, address), who in people.items():
        place = "here" if address == here else str(address)
        places.setdefault((unasked, verb, words, tuple(who)), []).append(place)
    parts = []
    for (unasked, verb, words, some), where in sorted(places.items(), key=lambda one: not one[0][0]):
        single, many = _VERBS[verb]
        doing = (single if len(some) == 1 else many).format(_few(some))
        said = f"{doing} ({words}) {_on(where)}"
        parts.append(f"NOT ASKED FOR: {said}, {unasked}" if unasked else said)
    return "; ".join(parts) or "nobody"


def _on(places: Sequence[str]) -> str:
    others = [place for place in places if place != "here"]
    parts = ["here"] * ("here" in places) + ([f"on {_few(others)}"] if others else [])
    return " and ".join(parts)


_VERBS = {
    "gains": ("{} gains", "{} gain"),
    "loses": ("{} loses", "{} lose"),
    "gains and loses": ("{} changes", "{} change"),
    "not known": ("what {} has is then not known", "what {} have is then not known"),
    "known now": ("what {} has is then known", "what {} have is then known"),
}


def _ends(findings: Sequence[Finding]) -> str:
    counts: dict[str, int] = {}
    for one in findings:
        counts[one.check] = counts.get(one.check, 0) + 1
    return ", ".join(name if number == 1 else f"{name} ×{number}" for name, number in counts.items())


def texts_report(steps: Sequence[Step], text: Callable[[Step], Sequence[str]], note: Callable[[Step], str]) -> str:
    """Return the steps as texts for the systems' own tools, each with a comment of what it does."""
    lines: list[str] = []
    system = ""
    for number, step in enumerate(steps, start=1):
        if step.system != system:
            lines += ["", f"# {step.system}"] if lines else [f"# {step.system}"]
            system = step.system
        comment = show_text(note(step))
        lines += [f"# {number}. {step.kind} {step.target!r}: {comment}", *text(step)]
    return "\n".join(lines) + "\n" if lines else ""


# What was made --------------------------------------------------------------------------------------------

_MADE_COLUMNS = (
    Column("number", "", number=True),
    Column("system", "SYSTEM"),
    Column("where", "WHERE", cuts=True),
    Column("what", "WHAT", wraps=True),
    Column("state", "STATE", wraps=True),
)


class CarriedOut(Protocol):
    """How a run ended."""

    @property
    def run(self) -> int: ...
    @property
    def made(self) -> Sequence[Step]: ...
    @property
    def left(self) -> Sequence[tuple[Step, str]]: ...
    @property
    def stopped(self) -> str: ...
    @property
    def waiting(self) -> Sequence[Step]: ...
    @property
    def begun(self) -> Sequence[Step]: ...
    @property
    def is_over(self) -> bool: ...
    @property
    def otherwise(self) -> Sequence[CameOut]: ...


class CameOut(Protocol):
    """A step that its system made otherwise than it was asked for."""

    @property
    def asked(self) -> Step: ...
    @property
    def changes(self) -> Sequence[Placed]: ...
    @property
    def unclear(self) -> str: ...
    @property
    def means_the_same(self) -> bool: ...


class Placed(Protocol):
    """What changes for one person from a folder on down."""

    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...


def _notes_of_otherwise(otherwise: Sequence[CameOut]) -> list[str]:
    """Say of what systems made something else of what that means."""
    notes = []
    for one in otherwise:
        if one.unclear:
            notes.append(f"{one.asked.where} came out otherwise; what that means is not known before: {one.unclear}.")
        elif one.changes:
            words = []
            for each in one.changes[:_MOST_CHANGES]:
                said = f"({_words_of(each.change, change_cells(each.change))}) on {each.address}"
                words.append(f"{each.change.person} {what_changes(each.change)} {said}")
            more = f" and {len(one.changes) - len(words)} more" if len(one.changes) > len(words) else ""
            notes.append(f"NOT AS ASKED: {one.asked.where} came out otherwise: {'; '.join(words)}{more}.")
    alike = sum(one.means_the_same for one in otherwise)
    if alike:
        number = count_of(alike, "list")
        notes.append(f"{number} came out in another form: nobody who was counted has more or less by that.")
    return notes


def carried_report(
    done: CarriedOut, names: Callable[[str], Names], proof: Sequence[str], *, is_undone: bool
) -> Report:
    """Show what was made, what was left, and what looking again proved."""
    verb = "taken back" if is_undone else "made"
    states = [(step, verb) for step in done.made]
    states += [(step, f"left: {why}") for step, why in done.left]
    states += [(step, f"begun: not known whether it is {verb}") for step in done.begun]
    states += [(step, f"not {verb}") for step in done.waiting]
    rows = [_made_row(number, step, state, names) for number, (step, state) in enumerate(states, start=1)]
    total = f" of {len(states):,}" if done.stopped else ""
    number = f"{len(done.made):,}{total} steps" if total else count_of(len(done.made), "step")
    headline = f"{number} {'was' if len(done.made) == 1 else 'were'} {verb} (run {done.run})"
    headline += f"; it stopped: {done.stopped}." if done.stopped else "."
    notes = [*_notes_of_otherwise(done.otherwise), *proof]
    if done.stopped and not done.is_over:
        undo = "; mend --undo takes back what was made" if not is_undone and (done.made or done.begun) else ""
        notes.append(Aside(f"mend --go-on finishes it{undo}."))
    elif done.stopped and not done.made:
        notes.append("Nothing was changed.")
    return Report("mend", headline, _MADE_COLUMNS, rows, notes, "nothing was changed")


def undo_report(run: int, steps: Sequence[Step], names: Callable[[str], Names]) -> Report:
    """Show what taking a run back would do, before it is asked for."""
    rows = [_made_row(number, step, "", names) for number, step in enumerate(steps, start=1)]
    number = f"{count_of(len(rows), 'step')} of run {run}"
    notes = ["What somebody has changed since is told, and left as it is."]
    columns = [one for one in _MADE_COLUMNS if one.key != "state"]
    return Report("undo", f"{number} would be taken back, the last first.", columns, rows, notes, "nothing")


def _made_row(number: int, step: Step, state: str, names: Callable[[str], Names]) -> Row:
    where: Cell = step.place if isinstance(step.place, Address) else step.target
    return {
        "number": number,
        "system": step.system,
        "where": where,
        "what": step.word(names(step.system)),
        "state": state,
    }


_JOURNAL_COLUMNS = (
    Column("run", "RUN", number=True),
    Column("moment", "WHEN"),
    Column("event", "EVENT"),
    Column("step", "STEP", number=True),
    Column("system", "SYSTEM"),
    Column("where", "WHERE", cuts=True),
    Column("what", "WHAT", wraps=True),
)


class Entry(Protocol):
    """One line of the journal."""

    @property
    def run(self) -> int: ...
    @property
    def step(self) -> int | None: ...
    @property
    def moment(self) -> datetime: ...


def journal_report(entries: Sequence[tuple[Entry, str, Step | None, str]], names: Callable[[str], Names]) -> Report:
    """Show the journal: each line with its event, the step that it is of, and what else it says."""
    rows: list[Row] = []
    for entry, event, step, message in entries:
        rows.append(
            {
                "run": entry.run,
                "moment": moment_cell(entry.moment, "%Y-%m-%d %H:%M:%S"),
                "event": event,
                "step": "" if entry.step is None else entry.step + 1,
                "system": step.system if step else "",
                "where": step.target if step else "",
                "what": message or (step.word(names(step.system)) if step else ""),
            }
        )
    headline = f"{count_of(len(rows), 'line')} in the log of runs; nothing in it is ever altered."
    return Report("journal", headline, _JOURNAL_COLUMNS, rows, [], "nothing was ever carried out")
