"""The worklist at a glance: steps of one sort on one system as a group, the one that ends the worst finding first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from string import ascii_uppercase

from neatledger.core.checks.contract import Finding
from neatledger.core.checks.finding import Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.plan.limits import On
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.accounts import AccountState
from neatledger.formats.names import show_bytes
from neatledger.reports.mend import LATER, PERSON, REFUSED, Item, makes, who_makes
from neatledger.reports.report import Aside, Column, Report, Row, count_of

__all__ = ["StepGroup", "groups_report", "step_groups"]

_COLUMNS = (
    Column("letter", ""),
    Column("worst", "WORST"),
    Column("steps", "STEPS", number=True),
    Column("ends", "ENDS", number=True),
    Column("what", "WHAT", wraps=True),
    Column("who", "BY"),
)
_MOST_NAMED = 2
PersonOf = Callable[[str, str], str]
"""Returns whose a login of a system is; the login itself where the plan has nobody for it."""


@dataclass(frozen=True, slots=True)
class StepGroup:
    """Steps of one sort: their places in the worklist, what they are, the worst finding that they end, how many."""

    letter: str
    places: tuple[int, ...]
    words: str
    worst: Severity | None
    ends: int
    makers: frozenset[str]


def step_groups(items: Sequence[Item], ends: Sequence[Sequence[Finding]], person_of: PersonOf) -> list[StepGroup]:
    """Return the groups of a worklist: by the worst finding that they end, then by how many; new accounts last."""
    fresh = {(one.step.system, one.step.target) for one in items if _is_made(one.step)}
    places: dict[tuple[str, str], list[int]] = {}
    for place, item in enumerate(items):
        places.setdefault(_key(item.step, fresh), []).append(place)
    found = []
    for key, some in places.items():
        findings = [finding for place in some for finding in ends[place]]
        worst = max((CHECKS[one.check].severity for one in findings), key=lambda one: one.rank, default=None)
        words = _words(key, [items[place].step for place in some], person_of)
        makers = frozenset(who_makes(items[place]) for place in some)
        found.append(StepGroup("", tuple(some), words, worst, len(findings), makers))
    found.sort(key=lambda one: (-1 if one.worst is None else one.worst.rank, one.ends), reverse=True)
    return [replace(one, letter=_letter(number)) for number, one in enumerate(found)]


def _letter(number: int) -> str:
    return ascii_uppercase[number] if number < 26 else _letter(number // 26 - 1) + ascii_uppercase[number % 26]


def _is_made(step: Step) -> bool:
    return isinstance(step, WholeAccountStep) and step.after is not None


def _key(step: Step, fresh: set[tuple[str, str]]) -> tuple[str, str]:
    """Return the sort of a step, and its system where the group is of one."""
    match step:
        case WholeAccountStep() if step.after is not None:
            return "new", step.system
        case MemberStep() if (step.system, step.member) in fresh:
            return "new", step.system
        case FolderStep() if step.made and any(
            step.system == system and show_bytes(step.path).endswith(f"/{login}") for system, login in fresh
        ):
            return "new", step.system
        case GroupStep() if step.made and (step.system, step.name) in fresh:
            return "new", step.system
        case AccountStep():
            return ("open" if step.after is AccountState.OPEN else "close"), ""
        case MemberStep():
            return "member", ""
        case ListStep() | FilesStep():
            return "list", step.system
        case _:
            return step.kind, step.system


def _words(key: tuple[str, str], steps: Sequence[Step], person_of: PersonOf) -> str:
    sort, system = key
    on = f"{system}: " if system else ""
    match sort:
        case "new":
            return f"{on}{_new(steps, person_of)}"
        case "close" | "open":
            people = dict.fromkeys(person_of(one.system, one.target) for one in steps)
            return f"{sort} the accounts of {_few(list(people), 'person')}"
        case "member":
            return _members(steps, person_of)
        case "list":
            return f"{on}{_lists(steps)}"
        case LimitStep.kind:
            return f"{on}limits of {_limited(steps)}"
        case TeamStep.kind:
            return f"{on}members of {count_of(len(steps), 'team folder')}"
        case LinkStep.kind | HandOutStep.kind:
            return f"{on}{_shared(sort, steps)}"
        case ShareStep.kind:
            return f"{on}permissions of {count_of(len(steps), 'share')}"
        case FolderStep.kind:
            return f"{on}make or remove {count_of(len(steps), 'folder')}"
        case GroupStep.kind:
            return f"{on}make or remove {count_of(len(steps), 'group')}"
    return f"{on}{count_of(len(steps), f'{sort} step')}"


def _few(names: Sequence[str], noun: str) -> str:
    return " and ".join(names) if len(names) <= _MOST_NAMED else count_of(len(names), noun)


def _new(steps: Sequence[Step], person_of: PersonOf) -> str:
    people = [person_of(one.system, one.target) for one in steps if isinstance(one, WholeAccountStep)]
    has_home = any(isinstance(one, FolderStep) for one in steps)
    words = ("account and home" if has_home else "account") if len(people) == 1 else "accounts"
    return f"{words} of {_few(people, 'new person')}" if len(people) <= _MOST_NAMED else f"{len(people)} new accounts"


def _members(steps: Sequence[Step], person_of: PersonOf) -> str:
    moves: dict[tuple[str, bool, str], list[str]] = {}
    for one in steps:
        assert isinstance(one, MemberStep), "only memberships are here"
        who = one.member_name or one.member if one.is_group else person_of(one.system, one.member)
        moves.setdefault((who, one.after, one.name), []).append(one.system)
    if len(moves) > _MOST_NAMED:
        return f"members of {count_of(len({group for _, _, group in moves}), 'group')}"
    return "; ".join(
        f"{who} {'into' if is_in else 'out of'} the group {group} ({', '.join(systems)})"
        for (who, is_in, group), systems in moves.items()
    )


def _lists(steps: Sequence[Step]) -> str:
    paths = dict.fromkeys(one.path for one in steps if isinstance(one, ListStep | FilesStep))
    tops = dict.fromkeys(path.strip(b"/").split(b"/")[0] for path in paths)
    files = any(isinstance(one, FilesStep) for one in steps)
    if len(paths) == 1:
        return f"list of {show_bytes(next(iter(paths)).strip(b'/') or b'/')}" + (" and its files" if files else "")
    if len(tops) <= _MOST_NAMED:
        return f"lists of {' and '.join(show_bytes(one) or '/' for one in tops)}"
    return f"lists of {count_of(len(paths), 'folder')}" + (" and their files" if files else "")


def _limited(steps: Sequence[Step]) -> str:
    sorts = Counter(one.on for one in steps if isinstance(one, LimitStep))
    nouns = {On.FOLDER: "folder", On.PERSON: "person", On.GROUP: "group", On.POOL: "disk"}
    return ", ".join(count_of(number, nouns[on]) for on, number in sorts.items())


def _shared(sort: str, steps: Sequence[Step]) -> str:
    verbs = Counter(_verb(one) for one in steps)
    noun = sort
    parts: list[str] = []
    for verb, number in verbs.items():
        said = verb.format(count_of(number, noun) if not parts else f"{number:,}")
        parts.append(said)
    return ", ".join(parts)


def _verb(step: Step) -> str:
    assert isinstance(step, LinkStep | HandOutStep), "only what is shared is here"
    before, after = step.before, step.after
    if after is None:
        return "end {}"
    if isinstance(step, LinkStep) and before is not None and before.is_on and not after.is_on:
        return "turn off {}"
    if before is not None and getattr(after, "password", False) and not getattr(before, "password", False):
        return "put a password on {}"
    if before is not None and before.expires != after.expires:
        return "give {} an end date"
    return "change {}"


def groups_report(
    items: Sequence[Item],
    groups: Sequence[StepGroup],
    left: int,
    whole: Report,
    when: str,
) -> Report:
    """Show the groups; `whole` is the report of all steps, and `left` is how many differences have none."""
    makers = Counter(who_makes(one) for one in items)
    ends = sum(one.ends for one in groups)
    tool = len(items) - makers[PERSON] - makers[LATER] - makers[REFUSED]
    later = f" and {makers[LATER]} later" if makers[LATER] else ""
    parts = [f"the tool can make {tool} now{later}"]
    parts += [f"{makers[PERSON]} {'is' if makers[PERSON] == 1 else 'are'} by hand"] if makers[PERSON] else []
    parts += [f"{makers[REFUSED]} must not be made"] if makers[REFUSED] else []
    ended = f" and end {count_of(ends, 'finding')}" if ends else ""
    match = f"{makes(len(items))} the systems match the plan{ended} (count of {when})"
    headline = f"{count_of(len(items), 'step')} {match}: "
    rows: list[Row] = [
        {
            "letter": one.letter,
            "worst": "-" if one.worst is None else one.worst.value,
            "steps": len(one.places),
            "ends": one.ends,
            "what": one.words,
            "who": _by(one.makers),
        }
        for one in groups
    ]
    notes = [*_marked(items, groups)]
    if makers[LATER]:
        waiting = [one.letter for one in groups if LATER in one.makers]
        verb = "waits" if makers[LATER] == 1 else "wait"
        steps = count_of(makers[LATER], "step")
        notes.append(f"{steps} of {', '.join(waiting)} {verb} for steps by hand: sooner, somebody would lose access.")
    notes += [note for note in whole.notes if note.startswith("Not to be made")]
    unended = f"; mend --left: {left:,} without one" if left else ""
    notes.append(Aside(f"mend A: group A, in safe order; mend -a: every step{unended}."))
    if tool:
        notes.append(Aside(f"mend --carry-out makes the {count_of(tool, 'step')} of the tool, after asking."))
    notes.append("Nothing was changed.")
    people = [column for column in _COLUMNS if column.key != "ends" or ends]
    return Report("mend", f"{headline}{'; '.join(parts)}.", people, rows, notes, "no step")


def _marked(items: Sequence[Item], groups: Sequence[StepGroup]) -> Iterator[str]:
    """Yield in which groups steps do what the plan does not ask for, and in which they harm somebody on the way."""
    unasked = _counted(items, groups, lambda item: any(one.unasked for one in item.effects))
    harms = _counted(items, groups, lambda item: bool(item.harm))
    if unasked:
        steps = f"{count_of(sum(unasked.values()), 'step')} of {', '.join(unasked)}"
        yield f"NOT ASKED FOR: {steps}, more or less than planned: look first."
    if harms:
        yield f"Beware: {count_of(sum(harms.values()), 'step')} of {', '.join(harms)}: each says of what."


def _counted(items: Sequence[Item], groups: Sequence[StepGroup], is_so: Callable[[Item], bool]) -> dict[str, int]:
    """Return by the letters of groups of how many of their steps something is so, where it is of any."""
    found = {one.letter: sum(is_so(items[place]) for place in one.places) for one in groups}
    return {letter: number for letter, number in found.items() if number}


def _by(makers: frozenset[str]) -> str:
    words = {PERSON: "hand", REFUSED: "nobody"}
    found = {words.get(one, "tool") for one in makers}
    return found.pop() if len(found) == 1 else "both"
