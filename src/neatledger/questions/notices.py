"""What is to be told to whom: by the plan's rules, once for each thing, and again only after it had ended."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from functools import cached_property

from neatledger.core.people.homes import match_homes
from neatledger.core.plan.limits import On
from neatledger.core.plan.notices import About, NoticeRule
from neatledger.core.plan.plan import CLASSES
from neatledger.core.sharing.judging import offers_of
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.tree.address import Address
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.formats.names import show_address
from neatledger.ledger.homes import find_homes
from neatledger.ledger.notices import Event, Told
from neatledger.questions import check, limits, review
from neatledger.questions.office import Office
from neatledger.questions.told import place_of
from neatledger.questions.views import load_views

__all__ = ["Item", "Notice", "Standing", "ask"]

_MOST_LARGEST = 10


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that is told: by a name that stays (`key`), in words; `covers` are what it says as well."""

    key: str
    text: str
    covers: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Notice:
    """One mail: about what, to which person at which address (empty: none is known), the items, why, and figures.

    `largest` are a home's largest files, each with its bytes; `state` is what became of it by now.
    """

    about: About
    person: str
    name: str
    address: str
    items: tuple[Item, ...]
    why: str
    largest: tuple[tuple[str, int], ...] = ()
    state: Told | None = None

    @property
    def keys(self) -> list[str]:
        """The names of all that it tells."""
        return [key for one in self.items for key in (one.key, *one.covers)]


@dataclass
class Standing:
    """Notices that are due, those that were told already or may have been, those without an address; what has ended.

    `ended` are keys of things that were told and are not so any more: told again when they come again.
    """

    due: list[Notice] = field(default_factory=list)
    told: list[Notice] = field(default_factory=list)
    unreached: list[Notice] = field(default_factory=list)
    ended: list[str] = field(default_factory=list)


def ask(office: Office, *, again: bool = False) -> Standing:
    """Return how it stands with every notice; `again` takes also those that were refused, or may not have arrived."""
    teller = _Teller(office)
    known = office.ledger.notices.standing()
    found = Standing()
    holding: set[str] = set()
    for notice in teller.notices():
        holding |= set(notice.keys)
        fresh = tuple(one for one in notice.items if _is_due(known.get(one.key), again))
        old = tuple(one for one in notice.items if one not in fresh)
        if old:
            found.told.append(_with(notice, old, known[old[0].key]))
        if fresh:
            due = _with(notice, fresh, known.get(fresh[0].key))
            (found.due if notice.address else found.unreached).append(due)
    # A week's brief does not end: it is over.
    found.ended = sorted(key for key in known.keys() - holding if not key.startswith((_BRIEF, _REPORT)))
    return found


def _is_due(state: Told | None, again: bool) -> bool:
    if state is None or state.event is Event.DEFERRED:
        return True
    return again and state.event in (Event.REFUSED, Event.BEGUN)


def _with(notice: Notice, items: tuple[Item, ...], state: Told | None) -> Notice:
    return Notice(notice.about, notice.person, notice.name, notice.address, items, notice.why, notice.largest, state)


_BRIEF, _REPORT = "brief|", "report|"


class _Teller:
    def __init__(self, office: Office) -> None:
        self.office, self.plan = office, office.plan

    def notices(self) -> Iterator[Notice]:
        """Yield what holds now by every rule, one mail for each person and rule."""
        of = {
            About.OWN_HOME: self._homes, About.LIMIT: self._limits, About.LINK: self._links,
            About.REVIEW: self._reviews, About.STARTER: self._starters, About.LEAVER: self._leavers,
            About.FINDING: self._findings,
            About.BRIEF: self._brief, About.REPORT: self._brief,
        }  # fmt: skip
        for rule in self.plan.notices.rules:
            items: dict[str, list[Item]] = {}
            largest: dict[str, tuple[tuple[str, int], ...]] = {}
            for who, item, files in of[rule.about](rule):
                for person in self._people(rule.who or who):
                    own = Item(f"{item.key}|{person}", item.text, tuple(f"{one}|{person}" for one in item.covers))
                    items.setdefault(person, []).append(own)
                    largest.setdefault(person, files)
            for person, some in items.items():
                known = self.plan.people[person]
                why = f"office.yaml, line {rule.line}"
                yield Notice(rule.about, person, known.name, known.email, tuple(some), why, largest[person])

    def _people(self, who: Sequence[str]) -> Iterator[str]:
        """Yield those of the plan who are here and whom some names stand for, each once."""
        for ident in self.plan.people:
            if self.plan.is_here(ident) and any(
                self.plan.is_holder(name, ident) for name in who if name in CLASSES or name
            ):
                yield ident

    # Each kind --------------------------------------------------------------------------------------

    @cached_property
    def _statuses(self) -> list[LimitStatus]:
        return limits.ask(self.office, load_views(self.office))

    @cached_property
    def _owners(self) -> Mapping[Address, str]:
        """Return whose each home is, where it is one person's."""
        found = {}
        for system, reader in self.office.readers.items():
            planned = self.plan.systems.get(system)
            persons = {one.account.login: one.person for one in self.office.principals.get(system, ())}
            for match in match_homes(find_homes(reader, planned), reader.accounts) if planned else ():
                whose = {persons.get(account.login, "") for account in match.accounts}
                if len(whose) == 1 and (person := whose.pop()) in self.plan.people:
                    found[match.address] = person
        return found

    def _homes(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[tuple[str, int], ...]]]:
        for status in self._statuses:
            owner = self._owners.get(status.target.address) if status.target.on is On.FOLDER else None
            if owner is None or status.fullness < 0:
                continue
            reached = [level for level in rule.at if status.fullness * 100 >= level]
            if not reached:
                continue
            place, limit = show_address(status.target.address), show_limit(status.settings.limit)
            text = f"{place} is {status.fullness * 100:.0f} % full: {show_size(status.amount)} of {limit}"
            keys = [f"{About.OWN_HOME.value}|{status.target.key}|{level}" for level in reached]
            yield [owner], Item(keys[-1], text, tuple(keys[:-1])), self._largest(status.target.address)

    def _largest(self, address: Address) -> tuple[tuple[str, int], ...]:
        reader = self.office.readers[address.system]
        top = reader.find_row(address.path)
        if top is None:
            return ()
        table, large = reader.table("folders"), reader.table("large")
        below = set(TreeOrder(table).below(top).tolist())
        path_of, names = folder_paths(table), large.texts("name")
        found = [
            (
                f"{path_of(row).decode('utf-8', 'replace').rstrip('/')}/{names[number].decode('utf-8', 'replace')}",
                size,
            )
            for number, (row, size) in enumerate(zip(large["folder"].tolist(), large["bytes"].tolist(), strict=True))
            if row in below
        ]
        return tuple(sorted(found, key=lambda one: (-one[1], one[0]))[:_MOST_LARGEST])

    def _limits(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        for status in self._statuses:
            warn = status.settings.warn
            if status.warned is None:
                continue
            reached = [level for level, _ in warn if level <= status.warned]
            who = next(names for level, names in warn if level == status.warned)
            limit = show_limit(status.settings.limit)
            text = f"{status.target.key} is {status.fullness * 100:.0f} % full: {show_size(status.amount)} of {limit}"
            keys = [f"{About.LIMIT.value}|{status.target.key}|{level}" for level in reached]
            yield who, Item(keys[-1], text, tuple(keys[:-1])), ()

    def _links(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        day, until = self.office.day, self.office.day + timedelta(days=rule.within_days)
        for system in self.office.readers:
            service = self.office.systems.service(system)
            for offer in offers_of(service, {}) if service is not None else ():
                ends = offer.item.expires
                assert service is not None
                if ends is None or not day <= ends <= until or offer.why_dead(day):
                    continue
                maker = service.person_of(offer.maker)
                # By its id, never by its address: that is a secret.
                text = f"{offer.name} on {show_address(offer.address)} ends on {ends}"
                yield [maker], Item(f"{About.LINK.value}|{system}|{offer.name}|{ends}", text), ()

    def _reviews(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        until = self.office.today + timedelta(days=rule.within_days)
        for one in review.status(self.office):
            is_due = one.due is not None and one.due <= until
            if is_due or "due" in one.state or "wait" in one.state:
                since = one.due or (one.pack.made if one.pack else "first")
                places = ", ".join(map(show_address, one.folders))
                yield [one.decider], Item(f"{About.REVIEW.value}|{one.decider}|{since}", f"{places}: {one.state}"), ()

    def _starters(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        today, until = self.office.today, self.office.today + timedelta(days=rule.within_days)
        for person in self.plan.people.values():
            for held in person.posts:
                start, post = held.start or person.start, self.plan.posts[held.post]
                if start is not None and today <= start <= until:
                    text = f"{person.name} starts as {post.name} on {start}"
                    yield post.tell, Item(f"{About.STARTER.value}|{person.id}|{held.post}|{start}", text), ()

    def _leavers(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        today, until = self.office.today, self.office.today + timedelta(days=rule.within_days)
        for person in self.plan.people.values():
            if person.end is None or not today - timedelta(days=rule.within_days) <= person.end <= until:
                continue
            heirs = list(dict.fromkeys(one for one in (person.successor, *person.successors.values()) if one))
            heirs += [who for held in person.posts for who in self.plan.posts[held.post].tell]
            text = f"{person.name}'s last day is {person.end}"
            text += f"; {person.successor} takes over" if person.successor else "; nobody takes over yet"
            yield heirs, Item(f"{About.LEAVER.value}|{person.id}|{person.end}", text), ()

    def _findings(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        # A plan is read where no check is loaded: whether each is one is seen here.
        for one in check.ask(self.office, [check.check_called(name) for name in rule.checks]):
            if one.acceptance is None:
                finding = one.finding
                place = place_of(finding)
                text = f"{finding.check}: {place}: {finding.evidence}"
                who = ",".join(finding.people)
                yield [], Item(f"{About.FINDING.value}|{finding.check}|{place}|{who}", text), ()

    def _brief(self, rule: NoticeRule) -> Iterator[tuple[Sequence[str], Item, tuple[()]]]:
        today = self.office.today
        if rule.every is None:
            yield [], Item(f"{rule.about.value}|{today:%Y-%m}", f"{today:%B %Y}"), ()
        elif today.weekday() >= rule.every:
            year, week, _ = today.isocalendar()
            yield [], Item(f"{rule.about.value}|{year}-W{week:02d}", f"week {week} of {year}"), ()
