"""Somebody leaves: all that hangs on them over all systems, who takes it over, what is due when, and the steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.posts.clocks import Clocks, clocks_of
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.office.addresses import parse_address
from neatledger.office.edit_people import put_last_day
from neatledger.questions.hanging import Hanging, hanging_on
from neatledger.questions.joining import office_with, own_steps
from neatledger.questions.office import Office
from neatledger.questions.worklist import Worklist, ask_for_steps

__all__ = ["Leaving", "ask"]


@dataclass(frozen=True, slots=True)
class Leaving:
    """All of it: what hangs on them with who takes it over (empty: nobody yet), the days, and the steps that are due.

    `then` is the office with the plan as it would read, on the day after.
    """

    person: str
    name: str
    last_day: date
    clocks: Clocks
    hanging: Sequence[tuple[Hanging, str]]
    then: Office
    work: Worklist
    notes: Sequence[str]

    @property
    def without_successor(self) -> list[Hanging]:
        """What nobody takes over yet."""
        return [one for one, who in self.hanging if one.needs_successor and not who]


def ask(
    office: Office, name: str, last_day: date | None, to: str = "", successors: Mapping[str, str] | None = None
) -> Leaving:
    """Return what it comes to that somebody leaves; raises `UsageError`, `UnknownNameError`, or `PlanError`."""
    person = office.find_planned(name)
    known = office.plan.people[person]
    last_day = last_day or known.end
    if last_day is None:
        raise UsageError(f"nothing says when {person} leaves", hint="--last-day DATE")
    if known.start and last_day < known.start:
        raise UsageError(f"the last day, {last_day}, is before the first, {known.start}")
    heir = office.find_planned(to) if to else known.successor
    by_folder = {parse_address(key): office.find_planned(who) for key, who in (successors or {}).items()}
    by_folder = {**known.successors, **by_folder}
    texts = {_text(address): who for address, who in by_folder.items()}
    plan = put_last_day(office.folder, person, last_day, heir, texts, only_try=True)
    then = office_with(office, plan, max(last_day + timedelta(days=1), office.today))
    steps, _ = own_steps(then, person)
    found = [
        (one, _heir_of(one, heir, by_folder) if one.needs_successor else "") for one in hanging_on(office, person)
    ]
    notes = []
    if last_day < office.today:
        notes.append(f"their last day, {last_day}, has passed: the steps are due now")
    for who in sorted({heir, *by_folder.values()} - {""}):
        end = plan.people[who].end
        if end is not None:
            notes.append(f"{who}, who takes over, leaves on {end}")
    return Leaving(
        person, known.name, last_day, clocks_of(plan, last_day), found, then, ask_for_steps(then, steps), notes
    )


def _text(address: Address) -> str:
    return f"{address.system}:{address.path.decode('utf-8', 'surrogateescape')}"


def _heir_of(one: Hanging, heir: str, by_folder: Mapping[Address, str]) -> str:
    """Return who takes a thing over: who is named for the nearest folder around it, else who takes over the rest."""
    if isinstance(one.place, Address):
        around = [address for address in by_folder if one.place.is_within(address)]
        if around:
            return by_folder[max(around, key=lambda address: len(address.parts))]
    return heir
