"""One office as it is looked at: its plan, the count that questions are put to, and the day.

Whatever is read is read when a question first needs it, and once.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from neatledger.core.people.names import EntryNames
from neatledger.core.people.principals import Principal, find_principals, principals_by_person
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError, NoCountError, UnknownNameError, UsageError
from neatledger.formats.names import show_address
from neatledger.formats.nearest import find_named, one_of, or_else
from neatledger.ledger.locations import unknown_folder
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.store import CountInfo, Ledger
from neatledger.office.addresses import parse_address
from neatledger.questions.addresses import by_local_path, by_unique_end, forms_of, nearest_by_name, settled
from neatledger.questions.books import LEDGER_NAME, Answers, Books
from neatledger.questions.naming import people_called
from neatledger.questions.short_addresses import end_of, ending, shortened
from neatledger.questions.systems import Systems

if TYPE_CHECKING:
    # They bring NumPy along, which what reads one path does without.
    from neatledger.ledger.imagined import ImaginedReader
    from neatledger.sources.contract import Workers

__all__ = ["LEDGER_NAME", "FoundPerson", "Office", "names_of", "open_office"]


_LARGE = 200_000
"""From how many folders on an office is large."""


@dataclass(frozen=True, slots=True)
class FoundPerson:
    """A person who was asked for: their id, and their principals by system."""

    id: str
    principals: Mapping[str, list[Principal]]

    def on(self, system: str) -> list[Principal]:
        """Return their principals on one system."""
        return self.principals.get(system, [])


def _only(found: Sequence[Address], text: str) -> Address:
    """Return the only folder that was found; raises `UnknownNameError`."""
    if len(found) > 1:
        some = ", ".join(map(show_address, found[:4])) + (" and more" if len(found) > 4 else "")
        raise UnknownNameError(f"several folders end in {text!r}", hint=f"say which: {some}")
    return found[0]


def names_of(reader: SurveyReader) -> EntryNames:
    """Return the names of what stands in the lists of a system."""
    return EntryNames(reader.accounts, reader.groups, reader.terms.model)


@dataclass(frozen=True, eq=False)
class Office:
    """The office in a folder, as one value: nothing of it changes, and others are derived from it by `with_`.

    `today` is the day of the question, by which clocks and the plan are read; `as_of` the day of the count that it is
    put to (None: the newest); `day` the one for which links, hand-outs and devices are judged. What was given in
    place of what is read (`given_plan`, `given_count`, `imagined`) makes an office that nobody counted: of such a one
    nothing is kept in the ledger. Everything else is read when a question first needs it, and once.
    """

    folder: Path
    today: date
    as_of: date | None
    day: date
    books: Books
    """The plan's file, the ledger and older surveys, opened once: all offices derived from one another share them."""
    workers: Workers | None = None
    """What does parts of a question, where it is not done here alone."""
    given_plan: Plan | None = None
    given_count: CountInfo | None = None
    imagined: Mapping[str, ImaginedReader] = field(default_factory=dict)
    """Systems as they would be, in place of what was counted of them."""
    only: frozenset[str] | None = None
    """The systems that are asked about; None: all of the count."""
    counted: Mapping[str, SurveyReader] | None = field(default=None, repr=False)
    """What reads the count's systems, where another office of the same count has begun to."""
    answers: Answers = field(default_factory=Answers, repr=False)

    def with_(
        self,
        *,
        plan: Plan | None = None,
        day: date | None = None,
        count: CountInfo | None = None,
        imagined: Mapping[str, ImaginedReader] | None = None,
        only: Iterable[str] | None = None,
    ) -> Office:
        """Return this office with another plan, day, count or state, or of some of its systems only.

        What is not given stays: also the count, though a newer one is kept meanwhile. The day is that of the question
        and of what is shared alike. Raises `NoCountError` where there is no count.
        """
        return replace(
            self,
            today=day or self.today,
            day=day or self.day,
            given_plan=plan or self.given_plan,
            given_count=count or self.count,
            imagined=self.imagined if imagined is None else dict(imagined),
            only=self.only if only is None else frozenset(only),
            counted=None if count is not None else self._counted,
            answers=Answers(),
        )

    def with_workers(self, workers: Workers) -> Office:
        """Return this office with what does parts of its questions."""
        return replace(self, workers=workers)

    def newest(self) -> Office:
        """Return the office at its newest count, of now: what was gathered since is in it, nothing is imagined."""
        return replace(
            self, as_of=None, given_count=None, imagined={}, counted=None, day=self.today, answers=Answers()
        )

    def at(self, day: date) -> Office:
        """Return the office as the newest count of a day or before has it; raises `NoCountError`."""
        found = self.ledger.carried(self.ledger.find_count(day), self.plan.systems)
        return replace(self, as_of=day, day=day, given_count=found, imagined={}, counted=None, answers=Answers())

    @property
    def is_as_counted(self) -> bool:
        """Tell whether all of it was read: the plan from its file, every system from a count of the ledger."""
        return self.given_plan is None and not self.imagined and self.only is None

    @cached_property
    def plan(self) -> Plan:
        """The plan of the office, on the day of the question; raises `OfficeError` or `PlanError`."""
        return replace(self.given_plan or self.books.plan, today=self.today)

    @property
    def ledger(self) -> Ledger:
        """The office's ledger; raises `NoCountError` where there is none yet."""
        return self.books.ledger

    def note_plan(self, who: str, moment: datetime) -> None:
        """Tell others who share the ledger that this plan is used from now on, where it is new."""
        digest = self.books.plan_digest()
        if self.ledger.is_shared and not self.ledger.plans.is_known(digest):
            # Who may only ask tells nobody.
            with suppress(LedgerError):
                self.ledger.plans.note(digest, who, moment)

    @cached_property
    def count(self) -> CountInfo:
        """The count that questions are put to; raises `NoCountError`.

        Systems of the plan that it lacks, since they could not be reached then or were not asked for, are as the
        newest count before has them.
        """
        return self.given_count or self.ledger.carried(self.ledger.find_count(self.as_of), self.plan.systems)

    def counts_until(self) -> list[CountInfo]:
        """Return the counts up to the one that questions are put to, the oldest first."""
        newest = self.count
        return [one for one in self.ledger.counts() if (one.taken_at, one.id) <= (newest.taken_at, newest.id)]

    def count_before(self) -> CountInfo:
        """Return the count before the one that questions are put to; raises `NoCountError` where there is none."""
        older = [one for one in self.counts_until() if one.id != self.count.id]
        if not older:
            where = self.ledger.where
            raise NoCountError("there is no older count to compare with", where, "count again later")
        return older[-1]

    @property
    def has_count(self) -> bool:
        """Tell whether there is a count to ask."""
        try:
            return bool(self.count)
        except NoCountError:
            return False

    def readers_of(self, count: CountInfo) -> dict[str, SurveyReader]:
        """Return a reader for each system of a count; small ones are kept, for many questions look back as far."""
        return {info.system: self.books.reader_of(info) for info in count.surveys}

    @cached_property
    def _counted(self) -> Mapping[str, SurveyReader]:
        if self.counted is not None:
            return self.counted
        return {info.system: self.ledger.read_survey(info) for info in self.count.surveys}

    @cached_property
    def readers(self) -> dict[str, SurveyReader]:
        """A reader for each system: what else looks at the count tells nothing of what was read by these."""
        every = {**self._counted, **self.imagined}
        return every if self.only is None else {name: reader for name, reader in every.items() if name in self.only}

    def systems_read(self) -> set[str]:
        """Return the systems of the count that an answer rests on: whose trees were read; all, where an answer is."""
        read = {name for name, one in self._counted.items() if one.is_read}
        return set(self._counted) if self.answers.are_of_all else read

    def reader(self, system: str) -> SurveyReader:
        """Return the reader of one system; raises `UnknownNameError` where the count lacks it."""
        if system not in self.readers and system not in self.plan.systems:
            raise self._unknown_system(system)
        if system not in self.readers:
            raise UnknownNameError(f"the count does not hold the system {system!r}", hint="run: neatledger count")
        return self.readers[system]

    def _unknown_system(self, name: str) -> UnknownNameError:
        hint = or_else(name, self.plan.systems, f"there are: {', '.join(self.plan.systems)}")
        return UnknownNameError(f"no system is called {name!r}", hint=hint)

    def find_system(self, name: str) -> str:
        """Return the system of the plan that is meant, by its name or title; raises `UnknownNameError`."""
        systems = {key: (system.title,) for key, system in self.plan.systems.items()}
        return find_named(name, "system", systems)

    def find_post(self, name: str) -> str:
        """Return the id of the post of the plan that is meant, by its id or name; raises `UnknownNameError`."""
        none = "" if self.plan.posts else "the plan says none: posts: {NAME: {groups: […], accounts: {…}}}"
        return find_named(name, "post", {key: (post.name,) for key, post in self.plan.posts.items()}, none)

    def find_band(self, name: str) -> str:
        """Return the band of the plan that is meant; raises `UnknownNameError`."""
        return find_named(name, "band", dict.fromkeys(self.plan.space.bands, ()))

    def names(self, system: str) -> EntryNames:
        """Return the names of what stands in a system's lists."""
        names = self.answers.names
        if system not in names:
            names[system] = names_of(self.reader(system))
        return names[system]

    def principals_of(self, readers: Mapping[str, SurveyReader]) -> dict[str, list[Principal]]:
        """Return every system's accounts with the people who have them."""
        return find_principals(self.plan, {system: reader.found_accounts for system, reader in readers.items()})

    @cached_property
    def principals(self) -> dict[str, list[Principal]]:
        """Every system's accounts with the people who have them."""
        return self.principals_of(self.readers)

    def systems_of(self, readers: Mapping[str, SurveyReader], day: date) -> Systems:
        """Return the systems of a count with what is shared on them, judged for a day."""
        return Systems(self.plan, readers, self.principals_of(readers), day)

    @cached_property
    def systems(self) -> Systems:
        """The systems of the count with what is shared on them, judged for `day`."""
        return Systems(self.plan, self.readers, self.principals, self.day)

    def people_on(self, system: str) -> dict[str, list[Principal]]:
        """Return person → their principals on one system, in the order of its accounts."""
        return principals_by_person(self.systems.holders.get(system, []))

    @property
    def is_large(self) -> bool:
        """Tell whether there are so many folders that looking for all findings takes longer than people wait."""
        return sum(survey.folders for survey in self.count.surveys) > _LARGE

    def below(self, place: Address | str | None) -> Address | None:
        """Return the folder that an answer is narrowed to, as `address` parses it; None where it is not narrowed."""
        return None if place is None else self.address(place)

    def address(self, text: Address | str) -> Address:
        """Parse a folder's address as people write it; raises `UsageError` or `UnknownNameError`.

        Beside `system:/path`, in any case: the path of a tree on this machine, the end of a path where only one
        folder's ends so, and the short form in which tables show long ones.
        """
        if isinstance(text, Address):
            return text
        short = end_of(text)
        if short is not None:
            return self._address_of_end(text, *short)
        if ":" not in text:
            return self._address_without_system(text)
        address = parse_address(text)
        known = one_of(address.system, self.plan.systems)
        if known is None:
            raise self._unknown_system(address.system)
        return self._settled(Address(known, address.path))

    def find_folder(self, text: str, *, or_before: bool = False) -> Address:
        """Return the address of a folder as people, or machine formats, write it; raises `UnknownNameError`.

        It is one of the count, or one that the plan names; with `or_before` also one that an older count has.
        """
        address = self.address(text)
        reader = self.reader(address.system)
        for each in forms_of(address):
            if reader.find_row(each.path) is not None or any(one.address == each for one in self.plan.folders):
                return each
            if or_before and self._was_counted(each):
                return each
        raise unknown_folder(reader, address, "folder")

    def _was_counted(self, address: Address) -> bool:
        """Tell whether an older count has a folder."""
        for count in reversed(self.counts_until()):
            info = next((one for one in count.surveys if one.system == address.system), None)
            if info is not None and self.books.reader_of(info).find_row(address.path) is not None:
                return True
        return False

    def _settled(self, address: Address) -> Address:
        is_counted = self.has_count and address.system in self.readers
        return settled(self.readers[address.system], address) if is_counted else address

    def _address_of_end(self, text: str, system: str, parts: tuple[bytes, ...]) -> Address:
        """Return the folder or file that a short address means."""
        known = one_of(system, self.plan.systems) if system else ""
        if known is None:
            raise self._unknown_system(system)
        if known:
            # A folder may really be called as what stands for the names that are left out.
            whole = self._settled(parse_address(f"{known}:{text.partition(':')[2]}"))
            if self.has_count and known in self.readers and self.readers[known].find_row(whole.path) is not None:
                return whole
        found = ending({known: self.reader(known)} if known else self.readers, parts) if self.has_count else []
        if not found:
            hint = "write the whole address: neatledger folders lists them"
            raise UnknownNameError(f"no folder's address ends in {text!r}", hint=hint)
        return _only(found, text)

    def shortened(self, addresses: Iterable[Address]) -> Mapping[Address, str]:
        """Return for each address the shortest form that means it in the count."""
        return shortened(self._counted if self.has_count else {}, addresses)

    def _address_without_system(self, text: str) -> Address:
        local = by_local_path(self.plan, self.folder, text) if text.startswith(("/", "~")) else None
        if local is not None:
            return self._settled(local)
        if len(self.plan.systems) == 1:
            only = next(iter(self.plan.systems))
            address = self._settled(parse_address(f"{only}:{text}"))
            if not self.has_count or only not in self.readers:
                return address
            if self.readers[only].find_row(address.path) is not None:
                return address
        found = by_unique_end(self.readers, text) if self.has_count else []
        if found:
            return _only(found, text)
        if len(self.plan.systems) == 1:
            return address
        near = nearest_by_name(self.readers, text) if self.has_count else []
        hint = f"did you mean {' or '.join(near)}?" if near else "write system:/path, as in barn:/Records"
        raise UsageError(f"no folder is called {text!r}", hint=hint)

    def find_person(self, name: str) -> FoundPerson:
        """Find a person by id, login or name; raises `UnknownNameError`."""
        everyone = [principal for principals in self.systems.holders.values() for principal in principals]
        ids = {principal.person for principal in everyone} | set(self.plan.people)
        if name not in ids:
            name = self._match_name(name, everyone)
        found: dict[str, list[Principal]] = {}
        for principal in everyone:
            if principal.person == name:
                found.setdefault(principal.system, []).append(principal)
        return FoundPerson(name, found)

    def find_planned(self, name: str) -> str:
        """Return the id of a person of the plan by id or name; raises `UnknownNameError`."""
        people = self.plan.people
        principals = (one for some in self.principals.values() for one in some if one.person in people)
        found = people_called(name, principals, people.values())
        if len(found) > 1:
            raise _several(name, found)
        if not found:
            hint = or_else(name, [*people, *(one.name for one in people.values())], "people lists everyone")
            raise UnknownNameError(f"the plan has no person {name!r}", hint=hint)
        return found.pop()

    def _match_name(self, name: str, everyone: list[Principal]) -> str:
        found = people_called(name, everyone, self.plan.people.values())
        planned = found & self.plan.people.keys()
        if len(planned) == 1:
            # An account of the same name that nobody in the plan has is known by its login.
            return planned.pop()
        if len(found) > 1:
            raise _several(name, found)
        if not found:
            group = one_of(name, self.plan.groups)
            if group:
                hint = f"it is a group: neatledger groups {group}"
                raise UnknownNameError(f"nobody is called {name!r}", hint=hint)
            known = [word for one in everyone for word in (one.person, one.account.login, one.name)]
            hint = or_else(name, [*known, *self.plan.people], "people lists everyone")
            raise UnknownNameError(f"nobody is called {name!r}", hint=hint)
        return found.pop()


def _several(name: str, found: Iterable[str]) -> UnknownNameError:
    return UnknownNameError(f"several people are called {name!r}", hint=f"say which: {', '.join(sorted(found))}")


def open_office(
    folder: str | Path,
    *,
    as_of: date | None = None,
    today: date | None = None,
    ledger_at: str = "",
    workers: Workers | None = None,
) -> Office:
    """Return the office in a folder, as its newest count has it, or the newest of `as_of` or before.

    `ledger_at` is the address of a database that is its ledger, in place of what the plan says; `workers` do parts of
    the questions.

    Nothing is read yet; what is not there or has faults is raised by the question that first needs it.
    """
    asked, where = today or date.today(), Path(folder)
    return Office(where, asked, as_of, as_of or asked, Books(where, ledger_at), workers)
