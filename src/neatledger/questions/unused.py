"""Rights that nobody used, as far as the records reach: entries of lists, memberships, groups, accounts, links."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from enum import Enum

import numpy as np

from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.survey.shared import Reply, Towards
from neatledger.core.trail.entries import Entry, Named, find_entries, find_names, used_by_member
from neatledger.core.trail.records import Did
from neatledger.core.trail.uses import Use
from neatledger.core.tree.address import Address, parts_of
from neatledger.core.tree.table import folder_paths
from neatledger.counting import count_of
from neatledger.questions.covered import coverage_of
from neatledger.questions.office import Office
from neatledger.questions.uses import uses_in

__all__ = ["Kind", "Unknown", "Unused", "UnusedAnswer", "ask"]

_DEFAULT_DAYS = 180
_WRITES = Right.ADD | Right.CHANGE | Right.DELETE


class Kind(Enum):
    """What is unused."""

    GROUP = "group"
    ENTRY = "entry"
    MEMBER = "member"
    CHANGE = "change"
    ACCOUNT = "account"
    HAND_OUT = "hand-out"
    LINK = "link"


@dataclass(frozen=True, slots=True)
class Unused:
    """One right that nobody used: of whom, where, how much, for how many people, and since when it is there.

    `last` is the last use (None: never, in all the time that was seen), `seen_since` from when on nothing is missing
    in the records. `there_since` is the day of the count in which it was looked for; `is_older` says that no count is
    old enough to show that it was there all the time. `name` is whom to name to take it away.
    """

    kind: Kind
    system: str
    address: Address | None
    name: str
    level: Level | None
    people: int
    folders: int
    last: datetime | None
    last_by: str
    seen_since: datetime
    there_since: date
    is_older: bool
    person: str = ""


@dataclass(frozen=True, slots=True)
class Unknown:
    """A system of whose rights nothing is said, and why."""

    system: str
    why: str


@dataclass(frozen=True)
class UnusedAnswer:
    """What is unused for so many days, the longest first; what nothing is known of; and how many are too young."""

    days: int
    found: Sequence[Unused]
    unknown: Sequence[Unknown]
    young: int


def ask(
    office: Office,
    days: int | None = None,
    kinds: Collection[Kind] = (),
    person: str = "",
    below: Address | str | None = None,
    systems: Collection[str] = (),
) -> UnusedAnswer:
    """Return what nobody used for so many days, of the plan's setting where that is not said.

    `person` takes what is theirs alone, `below` what begins in a folder and below it; raises `UnknownNameError`.
    """
    below = office.below(below)
    person = person and office.find_person(person).id
    days = days or office.plan.settings.get("unused-right-days", _DEFAULT_DAYS)
    found: list[Unused] = []
    unknown: list[Unknown] = []
    young = 0
    for system in systems or office.readers:
        office.reader(system)
        if below is not None and below.system != system:
            continue
        one = _System(office, system, days)
        why = one.why_unknown()
        if why:
            unknown.append(Unknown(system, why))
        else:
            found += one.rows()
            young += one.young
        found += _links(office, system, days)
    wanted = [
        one
        for one in found
        if (not kinds or one.kind in kinds)
        and (below is None or (one.address is not None and one.address.is_within(below)))
        and (not person or one.person == person)
    ]
    order = list(Kind)
    wanted.sort(
        key=lambda one: (
            one.last or datetime.min.replace(tzinfo=UTC), order.index(one.kind), one.system,
            one.address.parts if one.address else (), one.name, one.person,
        )
    )  # fmt: skip
    return UnusedAnswer(days, wanted, unknown, young)


class _System:
    """One system: its lists beside the uses of them."""

    def __init__(self, office: Office, system: str, days: int) -> None:
        self.office, self.system, self.days = office, system, days
        self.coverage = coverage_of(office, system)
        self.young = 0

    def why_unknown(self) -> str:
        """Say why nothing can be said of use there; empty where it can."""
        planned = self.office.plan.systems.get(self.system)
        if planned is None or not planned.settings.get("logs"):
            return "the plan names no log of what is done there"
        if self.coverage is None:
            return "its log was not read yet, or told nothing: count --logs"
        seen = self.coverage.days_seen()
        if seen < self.days:
            cover = f"{count_of(seen, 'day')} without a gap, since {self.coverage.since.astimezone():%Y-%m-%d}"
            return f"its logs cover only {cover}; {self.days} are needed"
        if Did.OPEN not in self.coverage.dids:
            return "its log tells of no opening: whether something is read is not known"
        return ""

    def rows(self) -> Iterator[Unused]:
        """Yield what is unused."""
        assert self.coverage is not None, "it was asked why nothing is known before"
        principals = self.office.systems.holders[self.system]
        everyone = self.office.systems.everyone(self.system, principals, is_narrow=True)
        matrix = self.matrix = everyone.matrix
        self.table = self.office.ledger.trail.table(self.system)
        self.uses = uses_in(self.office, matrix, self.table)
        self.cut = int((self.coverage.until - timedelta(days=self.days)).timestamp())
        self.path_of = folder_paths(matrix.folders)
        self.then = _Then(self.office, self.system, self.days)
        accounts = list(self._accounts())
        # Whoever does nothing at all does nothing by their groups either: that is said once.
        self.idle = {one.name for one in accounts}
        names = self.names = find_names(matrix)
        entries: dict[tuple[str, str], list[Entry]] = {}
        for entry in find_entries(matrix, names, self.uses):
            entries.setdefault((entry.named.sort, entry.named.ident), []).append(entry)
        for named in names:
            some = entries.get((named.sort, named.ident), [])
            if named.sort == "everyone" or not len(named.members):
                # What is open to all is asked by who may see it, and nobody's entries by who is gone.
                continue
            old = [one for one in some if self._is_old(named, one)]
            if named.sort == "group":
                if some and len(old) == len(some) and all(self._is_unused(one.last_use) for one in some):
                    yield self._group(named, some)
                    continue
                yield from self._members(named, some)
            for entry in old:
                if self._is_unused(entry.last_use):
                    yield self._entry(Kind.ENTRY, named, entry)
                elif entry.rights & _WRITES and self._is_unused(_last_change(entry)):
                    yield self._entry(Kind.CHANGE, named, entry)
        yield from self._shared()
        yield from accounts

    def _is_unused(self, last: int | None) -> bool:
        return last is None or last < self.cut

    def _is_old(self, named: Named, entry: Entry) -> bool:
        is_old = self.then.names(self.path_of(entry.row), named.ident)
        self.young += not is_old
        return is_old

    def _name(self, named: Named) -> str:
        names = self.office.names(self.system)
        return names.group(named.ident) if named.sort == "group" else names.user(named.ident)

    def _row(
        self,
        kind: Kind,
        name: str,
        last: int | None,
        last_by: int,
        *,
        address: Address | None = None,
        level: Level | None = None,
        people: int = 1,
        folders: int = 0,
        person: str = "",
    ) -> Unused:
        assert self.coverage is not None, "it was asked why nothing is known before"
        by = self.matrix.principals[last_by].person if last_by >= 0 and last is not None else ""
        return Unused(
            kind, self.system, address, name, level, people, folders, _moment(last), by,
            self.coverage.since, self.then.day, not self.then.is_old_enough, person,
        )  # fmt: skip

    def _entry(self, kind: Kind, named: Named, entry: Entry) -> Unused:
        last = entry.last_use if kind is Kind.ENTRY else _last_change(entry)
        person = self.matrix.principals[int(named.members[0])].person if named.sort == "user" else ""
        return self._row(
            kind, self._name(named), last, entry.last_by if kind is Kind.ENTRY else -1,
            address=Address(self.system, self.path_of(entry.row)), level=level_of(entry.rights),
            people=self._people(named), folders=entry.folders, person=person,
        )  # fmt: skip

    def _group(self, named: Named, entries: Sequence[Entry]) -> Unused:
        last = max(entries, key=lambda one: one.last_use or -1)
        address = Address(self.system, self.path_of(entries[0].row)) if len(entries) == 1 else None
        return self._row(
            Kind.GROUP, self._name(named), last.last_use, last.last_by,
            address=address, people=self._people(named), folders=sum(one.folders for one in entries),
            level=max((level_of(one.rights) for one in entries), key=list(Level).index),
        )  # fmt: skip

    def _people(self, named: Named) -> int:
        return len({self.matrix.principals[one].person for one in named.members.tolist()})

    def _members(self, named: Named, entries: Sequence[Entry]) -> Iterator[Unused]:
        """Yield who of a group that others use never did."""
        if not entries:
            return
        outer = self._outer(named.ident)
        last = used_by_member(self.matrix, named, [one for one in self.names if one.ident in outer], self.uses)
        for member in named.members.tolist():
            principal = self.matrix.principals[member]
            if not self._is_unused(last.get(member)) or principal.account.login in self.idle:
                continue
            if not self.then.is_member(principal.account.login, named.ident):
                self.young += 1
                continue
            yield self._row(
                Kind.MEMBER, self._name(named), last.get(member), member, person=principal.person,
                folders=sum(one.folders for one in entries),
            )  # fmt: skip

    def _shared(self) -> Iterator[Unused]:
        """Yield who of a team folder, and who of those whom something was handed to, never used it."""
        service = self.office.systems.service(self.system)
        for team in service.shared.teams if service is not None else ():
            for member in team.members:
                assert service is not None, "what is shared is a service's"
                some = service.in_group.get(member.holder, ()) if member.is_group else self._numbers([member.holder])
                if team.why_closed(service.day) or member.reply is not Reply.ACCEPTED:
                    continue
                if self.then.is_in_team(team.path, member.holder):
                    yield from self._if_unused(Kind.ENTRY, team.path, member.holder, member.rights, some)
                else:
                    self.young += 1
        for one in service.shared.hand_outs if service is not None else ():
            assert service is not None, "what is shared is a service's"
            if not one.is_live(service.day) or one.towards is Towards.OUTSIDE:
                continue
            is_group = one.towards is Towards.GROUP
            some = service.in_group.get(one.receiver, ()) if is_group else self._numbers([one.receiver])
            if one.made is not None and self.cut < int(datetime.combine(one.made, time.min).timestamp()):
                self.young += 1
            else:
                yield from self._if_unused(Kind.HAND_OUT, one.path, one.receiver, one.rights, some)

    def _numbers(self, logins: Iterable[str]) -> tuple[int, ...]:
        wanted = set(logins)
        return tuple(n for n, one in enumerate(self.matrix.principals) if one.account.login in wanted)

    def _if_unused(
        self, kind: Kind, path: bytes, name: str, rights: Right, members: Sequence[int]
    ) -> Iterator[Unused]:
        """Yield a right on a folder and all below it that none of some accounts used."""
        row = self.matrix.order.find_row(parts_of(path))
        if row is None or not len(members):
            return
        mine = self.uses.of(
            np.isin(self.uses.account, members) & np.isin(self.uses.folder, self.matrix.order.below(row))
        )
        at = int(mine.last.argmax()) if len(mine) else -1
        last = int(mine.last[at]) if len(mine) else None
        if self._is_unused(last):
            people = {self.matrix.principals[one].person for one in members}
            yield self._row(
                kind, name, last, int(mine.account[at]) if len(mine) else -1, address=Address(self.system, path),
                level=level_of(rights), people=len(people), folders=int(self.matrix.order.size[row]),
                person=next(iter(people)) if len(people) == 1 else "",
            )  # fmt: skip

    def _outer(self, ident: str) -> set[str]:
        """Return the groups in which a group is, directly or by others."""
        groups = self.office.readers[self.system].groups
        names = {one.ident: one.name for one in groups}
        found, waiting = set[str](), [ident]
        while waiting:
            inner = waiting.pop()
            called = {inner, names.get(inner, inner)}
            above = {one.ident for one in groups if called & set(one.nested)} - found
            found |= above
            waiting += above
        return found

    def _accounts(self) -> Iterator[Unused]:
        """Yield who did nothing at all."""
        # Holders of links are nobody's account.
        real = {one.account.login for one in self.office.principals[self.system]}
        last = dict[int, int]()
        table = self.table
        newest = np.full(len(table.logins), -1, dtype=np.int64)
        done = table.is_done
        np.maximum.at(newest, table.who[done], table.moments[done])
        by_login = dict(zip((one.casefold() for one in table.logins), newest.tolist(), strict=True))
        for number, principal in enumerate(self.matrix.principals):
            moments = [by_login.get(one.casefold(), -1) for one in (principal.account.login, principal.account.ident)]
            if max(moments) >= 0:
                last[number] = max(moments)
            if not principal.may_come_in or self.matrix.admins >> number & 1 or principal.account.login not in real:
                continue
            if self._is_unused(last.get(number)):
                if not self.then.has_account(principal.account.login):
                    self.young += 1
                    continue
                yield self._row(
                    Kind.ACCOUNT, principal.account.login, last.get(number), number, person=principal.person
                )


class _Then:
    """A system in the count that lies so many days back, or in the oldest one where none does."""

    def __init__(self, office: Office, system: str, days: int) -> None:
        counts = [count for count in office.counts_until() if any(one.system == system for one in count.surveys)]
        cut = office.today - timedelta(days=days)
        old = [count for count in counts if count.day <= cut]
        self.is_old_enough = bool(old)
        count = old[-1] if old else counts[0]
        self.day = count.day
        systems = office.systems_of(office.readers_of(count), count.day)
        self._holders = {one.account.login: one.holder for one in systems.holders[system]}
        service = systems.service(system)
        self._teams = {} if service is None else {one.path: one for one in service.shared.teams}
        self._matrix = systems.everyone(system, systems.holders[system], is_narrow=True).matrix

    def names(self, path: bytes, ident: str) -> bool:
        """Tell whether a folder's list named a holder."""
        row = self._matrix.order.find_row(Address("", path).parts)
        if row is None:
            return False
        view = self._matrix.view(int(self._matrix.folders["list"][row]), is_folder=True)
        return ident in view.users or ident in view.groups or ident in view.either

    def is_in_team(self, path: bytes, holder: str) -> bool:
        """Tell whether somebody, or a group, was a member of a team folder."""
        return path in self._teams and any(one.holder == holder for one in self._teams[path].members)

    def has_account(self, login: str) -> bool:
        """Tell whether an account was there."""
        return login in self._holders

    def is_member(self, login: str, group: str) -> bool:
        """Tell whether an account was in a group."""
        return login in self._holders and group in self._holders[login].groups


def _last_change(entry: Entry) -> int | None:
    return max((last for use, last in entry.last.items() if use is not Use.READ), default=None)


def _moment(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)


def _links(office: Office, system: str, days: int) -> Iterator[Unused]:
    """Yield links that the service says nobody used: it counts that itself, whether or not a log is read."""
    service = office.systems.service(system)
    cut = office.today - timedelta(days=days)
    for link in service.shared.links if service is not None else ():
        since = link.made or office.day
        if link.why_dead(office.day) or since > cut or (link.last_used is not None and link.last_used > cut):
            continue
        if link.last_used is None and link.uses:
            continue
        last = None if link.last_used is None else datetime.combine(link.last_used, datetime.min.time(), UTC)
        seen = datetime.combine(since, datetime.min.time(), UTC)
        yield Unused(
            Kind.LINK, system, Address(system, link.path), f"link:{link.id}", level_of(link.rights), 0, 1, last, "",
            seen, since, False, person=link.maker,
        )  # fmt: skip
