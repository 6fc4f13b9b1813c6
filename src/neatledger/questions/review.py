"""Reviews: packs of questions for those who decide, their answers taken, and what is due, waiting and answered."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import numpy as np

from neatledger.core.access.everyone import flag_rights
from neatledger.core.access.people_flags import PeopleFlags, level_of_flags
from neatledger.core.access.ways import told_by
from neatledger.core.lists.rights import Level, Right, level_of, with_view
from neatledger.core.people.principals import Principal, principals_by_person
from neatledger.core.plan.plan import Kind, PlanFolder
from neatledger.core.reviews.outcome import Outcome, outcome_of
from neatledger.core.reviews.pack import AS_PLANNED, LESS, MORE, Answer, Choice, Decision, Pack, PackRow, faults_of
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import Fault, PlanError, UnknownNameError, UsageError
from neatledger.formats.ways import may_words, through_words
from neatledger.ledger.locations import find_location
from neatledger.ledger.reviews import Taken
from neatledger.questions import history, last_use
from neatledger.questions.beside import changes_between
from neatledger.questions.deciders import name_of_place
from neatledger.questions.deciding import steps_for
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office

__all__ = ["Made", "Standing", "TakenAnswer", "level_now", "make", "status", "take"]

_MOST_ROWS = 2_000
Cells = Callable[[PackRow], Mapping[str, str]]


@dataclass(frozen=True, slots=True)
class Made:
    """A pack that was made; `left_out` are folders below that differ too, and are not in it any more."""

    pack: Pack
    left_out: int


def make(office: Office, deciders: Sequence[str], moment: datetime) -> list[Made]:
    """Make the packs of some who decide, or of all, and write them down; raises `UnknownNameError`, `UsageError`."""
    named = _folders_by_decider(office)
    if not named:
        hint = "name who decides on a folder in the plan: folders: {'barn:/Payroll': {decides: PERSON}}"
        raise UsageError("nobody decides on anything yet", hint=hint)
    wanted = [office.find_planned(name) for name in deciders] or list(named)
    for person in wanted:
        if person not in named:
            raise UnknownNameError(f"{person} decides on no folder", hint=f"there are: {', '.join(named)}")
    made = [_make_one(office, person, named[person]) for person in wanted]
    office.ledger.reviews.add_packs([one.pack for one in made], moment)
    return made


def _folders_by_decider(office: Office) -> dict[str, list[PlanFolder]]:
    found: dict[str, list[PlanFolder]] = {}
    for folder in office.plan.folders:
        if folder.decides or folder.owner:
            found.setdefault(folder.decides or folder.owner, []).append(folder)
    return found


def _make_one(office: Office, decider: str, folders: Sequence[PlanFolder]) -> Made:
    rows: list[PackRow] = []
    asked: list[Address] = []
    left_out = 0
    for folder in folders:
        if folder.address.system not in office.readers:
            continue
        found, more = _rows_of(office, decider, folder.address, _MOST_ROWS - len(rows))
        if found is None:
            continue
        asked.append(folder.address)
        rows += found
        left_out += more
    order = (MORE, LESS, AS_PLANNED)
    rows.sort(key=lambda row: order.index(row.beside))
    pack = Pack(secrets.token_hex(6), decider, office.count.id, office.today, tuple(asked), tuple(rows))
    return Made(pack, left_out)


def _rows_of(office: Office, decider: str, top: Address, room: int) -> tuple[list[PackRow] | None, int]:
    """Return the questions on a folder and what lies below, as far as the same person decides."""
    principals = office.systems.holders[top.system]
    everyone = office.systems.everyone(top.system, principals, is_narrow=True)
    row = everyone.matrix.find_row(top.parts)
    if row is None:
        return None, 0
    people = principals_by_person(principals)
    administrators = {one.person for number, one in enumerate(principals) if everyone.matrix.admins >> number & 1}
    rows = everyone.rows_below(row)
    parent = np.maximum(everyone.matrix.folders["parent"].astype(np.int64), 0)
    flags = PeopleFlags(everyone, list(people))
    own, above = flags.flags(rows), flags.flags(parent[rows])
    removal = ~(1 << 4)
    differs = (own ^ above) & removal != 0
    differs[0] = True
    path_of = folder_paths(everyone.matrix.folders)
    found: list[PackRow] = []
    left_out = 0
    for at in np.flatnonzero(differs.any(axis=1)).tolist():
        address = Address(top.system, path_of(int(rows[at])))
        if office.plan.decider_of(address) != decider:
            continue
        if len(found) >= room:
            left_out += 1
            continue
        came = history.ask_since(office, address)
        used = last_use.days_of_folder(office, address)
        location = find_location(office.readers[top.system], address)
        for number, (person, mine) in enumerate(people.items()):
            level = level_of_flags(int(own[at, number]))
            if level is Level.NONE or not differs[at, number] or person in administrators:
                continue
            told = told_by(office.systems.access(location, mine).ways)
            by = through_words(told[0], office.names(top.system), top.system) if told else ""
            by = by.replace("Authenticated Users", "everybody who signs in")
            rights, planned = flag_rights(int(own[at, number])), office.plan.rights_at(address, person)[0]
            seen = [one.account.last_seen for one in mine if one.account.last_seen]
            since = came.get(person)
            found.append(
                PackRow(
                    secrets.token_hex(5),
                    address,
                    person,
                    _name(office, person, mine),
                    level,
                    by,
                    ""
                    if since is None
                    else (f"{since.day} or before" if since.not_before is None else since.day.isoformat()),
                    max(seen).isoformat() if seen else "",
                    level_of(planned),
                    used[person].isoformat() if person in used else "",
                    place=_place(office, address),
                    may=may_words(rights),
                    may_planned=may_words(planned),
                    beside=_beside_plan(rights, planned),
                )
            )
    return found, left_out


_COMPARED = Right.LIST | Right.READ | Right.ADD | Right.MANAGE | Right.VIEW


def _beside_plan(rights: Right, planned: Right) -> str:
    """Say how what somebody has compares with the plan; who has more in anything has more."""
    has, meant = with_view(rights) & _COMPARED, with_view(planned) & _COMPARED
    return MORE if has & ~meant else LESS if meant & ~has else AS_PLANNED


def _place(office: Office, address: Address) -> str:
    """Return a folder as those call it who decide on it: by its title, or its names, and that of its system."""
    system = name_of_place(office, address.system)
    names = office.plan.title_of(address) or " / ".join(
        part.decode("utf-8", "surrogateescape") for part in address.parts
    )
    return f"{names} ({system})" if names else system


def _name(office: Office, person: str, principals: Sequence[Principal]) -> str:
    """Return somebody's name; with the account and that nobody knows them where the plan does not."""
    planned = office.plan.people.get(person)
    if planned is None:
        logins = ", ".join(dict.fromkeys(principal.account.login for principal in principals))
        return f"{principals[0].name or person} (account {logins}, not in the plan)"
    return f"{planned.name} ({_KINDS[planned.kind]})" if planned.kind in _KINDS else planned.name


_KINDS = {Kind.GUEST: "guest", Kind.SERVICE: "no person"}


@dataclass(frozen=True)
class TakenAnswer:
    """An answer that fits: its decisions (new ones apart), what they mean for the plan, and the steps that follow.

    `changed` are decisions on somebody who has other rights now than when they were asked about: these are not taken.
    Of decisions that no step here brings about `by_hand` says why; `beside` is what the steps do to anybody else.
    """

    pack: Pack
    by: str
    day: date
    decisions: tuple[Decision, ...]
    known: int
    waiting: int
    changed: tuple[tuple[Decision, Level], ...]
    outcome: Outcome
    steps: tuple[Step, ...]
    by_hand: tuple[tuple[Decision, str], ...]
    beside: tuple[Beside, ...]


def take(office: Office, answer: Answer, cells: Cells) -> TakenAnswer:
    """Judge an answer against its pack and the count of today; raises `PlanError` with all that does not fit.

    `cells` gives what was written of a row. Nothing is kept yet.
    """
    packs, taken = office.ledger.reviews.read()
    pack = next((one for one in packs if one.id == answer.pack), None)
    if pack is None:
        raise UsageError(f"no pack {answer.pack[:40]!r} was made here", hint="review lists those that were")
    newer = [one for one in packs if packs.index(one) > packs.index(pack) and set(one.folders) & set(pack.folders)]
    if newer:
        last = newer[-1]
        raise UsageError(
            f"the pack {pack.id} was made on {pack.made}, and {last.decider} was asked anew on {last.made}",
            hint=f"the pack {last.id} is the one to answer",
        )
    others = (row.token for one in packs if one is not pack for row in one.rows)
    faults = faults_of(answer, pack, {row.token: cells(row) for row in pack.rows}, others)
    before = {one.row.token: one for each in taken if each.pack == pack.id for one in each.decisions}
    if faults:
        raise PlanError([Fault(pack.id, one, "the pack as it was given out") for one in faults])
    day = date.fromisoformat(answer.day)
    if not pack.made <= day <= office.today:
        raise UsageError(f"the date {day} is not between {pack.made}, when it was made, and today")
    rows = {row.token: row for row in pack.rows}
    decisions, known, changed = [], 0, []
    for one in answer.rows:
        if not one.choice:
            continue
        level = Level(one.level) if one.level else None
        decision = Decision(rows[one.token], Choice(one.choice), level, answer.by, day, one.remark)
        earlier = before.get(one.token)
        if earlier is not None:
            if (earlier.choice, earlier.level) != (decision.choice, decision.level):
                raise UsageError(
                    f"{decision.row.person} on {decision.row.folder}: {earlier.by} decided {earlier.choice.value} on "
                    f"{earlier.day}, and this says {decision.choice.value}",
                    hint="what was decided stays; to decide anew, make a new pack",
                )
            known += 1
            continue
        now = level_now(office, decision.row)
        if decision.choice is Choice.KEEP and now is not decision.row.level and now is not Level.NONE:
            changed.append((decision, now))
            continue
        decisions.append(decision)
    waiting = len(pack.rows) - known - len(decisions)
    outcome = outcome_of(office.plan, decisions)
    made = steps_for(office, decisions, pack.rows)
    return TakenAnswer(
        pack=pack,
        by=answer.by,
        day=day,
        decisions=tuple(decisions),
        known=known,
        waiting=waiting,
        changed=tuple(changed),
        outcome=outcome,
        steps=made.steps,
        by_hand=made.by_hand,
        beside=_beside(office, made.steps, decisions),
    )


def level_now(office: Office, row: PackRow) -> Level:
    """Return what somebody has in the newest count; nothing where the folder or the account is gone."""
    reader = office.readers.get(row.folder.system)
    mine = [one for one in office.systems.holders.get(row.folder.system, ()) if one.person == row.person]
    if reader is None or not mine:
        return Level.NONE
    try:
        access = office.systems.access(find_location(reader, row.folder), mine)
    except UnknownNameError:
        return Level.NONE
    return level_of(access.rights) if access.is_known else Level.UNKNOWN


def _beside(office: Office, steps: Sequence[Step], decided: Sequence[Decision]) -> tuple[Beside, ...]:
    """Return what steps do beside what was decided: to whom, where, what they had and would have."""
    if not steps:
        return ()
    then = imagined_office(office, list(steps))
    going = [one for one in decided if one.choice is not Choice.KEEP]
    found = []
    for one in changes_between(office, then):
        meant = any(one.address.is_within(each.row.folder) and each.row.person == one.change.person for each in going)
        before, after = level_of_flags(one.change.before), level_of_flags(one.change.after)
        if not meant and before is not after:
            found.append(Beside(one.change.person, one.address, before, after))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class Beside:
    """What somebody would have else than now, of whom that was not decided."""

    person: str
    folder: Address
    before: Level
    after: Level


@dataclass(frozen=True, slots=True)
class Standing:
    """How it stands with one who decides: their folders, the last pack and its answer, when the next is due."""

    decider: str
    folders: tuple[Address, ...]
    pack: Pack | None
    decided: int
    answered: date | None
    by: str
    due: date | None
    state: str


def status(office: Office) -> list[Standing]:
    """Return how it stands with everybody who decides; raises `LedgerError` where the record was altered."""
    packs, taken = office.ledger.reviews.read()
    days = office.plan.settings.get("review-days")
    found = []
    for decider, folders in _folders_by_decider(office).items():
        addresses = tuple(one.address for one in folders)
        mine = [one for one in packs if one.decider == decider]
        pack = mine[-1] if mine else None
        answers: list[Taken] = [one for one in taken if any(one.pack == each.id for each in mine)]
        last = answers[-1] if answers else None
        decided = sum(len(one.decisions) for one in answers if pack is not None and one.pack == pack.id)
        due = last.day + timedelta(days=days) if last and days else None
        state = _state(office.today, pack, decided, last, due, days)
        found.append(
            Standing(
                decider, addresses, pack, decided, last.day if last else None, last.by if last else "", due, state
            )
        )
    return found


def _state(
    today: date, pack: Pack | None, decided: int, last: Taken | None, due: date | None, days: int | None
) -> str:
    if pack is not None and decided < len(pack.rows):
        waits = f"{len(pack.rows) - decided} of {len(pack.rows)} rows wait since {pack.made}"
        return waits if decided or last is None or pack.made >= last.day else "answered"
    if last is None:
        return "never asked" + (", and due" if days else "")
    if due is not None and today > due:
        return f"overdue since {due}"
    return "answered"
