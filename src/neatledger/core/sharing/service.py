"""One service made ready for questions: who its givers, members and receivers are, and which rules hold where."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property

from neatledger.core.access.shares import WRITING
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import PlacedRule, RuleOn, SharingRule, tightest
from neatledger.core.sharing.chains import ResolvedHandOut, file_cap
from neatledger.core.sharing.holders import AUDIENCES
from neatledger.core.survey.shared import Audience, HandOut, Link, Member, Shared, TeamFolder, Towards
from neatledger.core.tree.address import parts_of

__all__ = ["Parts", "Service"]

Parts = tuple[bytes, ...]


@dataclass(frozen=True)
class Service:
    """A service on a day: what it shares, and the principals on it (see `holders.seats_beside`).

    `group_idents` are the identifiers of its groups by name; `read_only` is the switch of the whole system.
    """

    system: str
    shared: Shared
    principals: Sequence[Principal]
    group_idents: Mapping[str, str]
    day: date
    read_only: bool = False
    _rules: dict[tuple[Parts, str], SharingRule] = field(default_factory=dict, init=False, compare=False)
    _ready: dict[tuple[str, Parts], ResolvedHandOut] = field(default_factory=dict, init=False, compare=False)

    @cached_property
    def numbers(self) -> dict[str, int]:
        """Login → the number of its principal."""
        return {principal.account.login: number for number, principal in enumerate(self.principals)}

    def person_of(self, login: str) -> str:
        """Return the person behind a login, or the login itself where nobody is."""
        number = self.numbers.get(login)
        return login if number is None else self.principals[number].person

    @cached_property
    def in_group(self) -> dict[str, tuple[int, ...]]:
        """Name of a group → the numbers of the principals in it, by the groups inside it too."""
        return self._by_group(one.holder.groups for one in self.principals)

    @cached_property
    def perhaps_in_group(self) -> dict[str, tuple[int, ...]]:
        """Name of a group → the principals of whom nobody told whether they are in it."""
        return self._by_group(one.holder.maybe for one in self.principals)

    def _by_group(self, groups: Iterable[frozenset[str]]) -> dict[str, tuple[int, ...]]:
        of_ident: dict[str, list[int]] = {}
        for number, idents in enumerate(groups):
            for ident in idents:
                of_ident.setdefault(ident, []).append(number)
        return {name: tuple(of_ident.get(ident, ())) for name, ident in self.group_idents.items()}

    # Team folders ----------------------------------------------------------------------------------

    @cached_property
    def _teams(self) -> dict[Parts, TeamFolder]:
        return {team.parts: team for team in self.shared.teams}

    def team_at(self, path: bytes) -> TeamFolder | None:
        """Return the innermost team folder that a folder lies in."""
        parts = parts_of(path)
        for depth in range(len(parts), -1, -1):
            if parts[:depth] in self._teams:
                return self._teams[parts[:depth]]
        return None

    def memberships(self, team: TeamFolder, number: int) -> Iterator[Member]:
        """Yield the memberships that a principal has in a team folder, its own and those of its groups."""
        login = self.principals[number].account.login
        for member in team.members:
            if number in self.in_group.get(member.holder, ()) if member.is_group else member.holder == login:
                yield member

    def perhaps_memberships(self, team: TeamFolder, number: int) -> Iterator[Member]:
        """Yield those that a principal has if it is in a group whose members were not all told."""
        return (member for member in team.members if number in self.perhaps_numbers(member))

    def perhaps_numbers(self, member: Member) -> tuple[int, ...]:
        """Return the principals that a membership stands for if they are in its group, which nobody told."""
        return self.perhaps_in_group.get(member.holder, ()) if member.is_group else ()

    def member_numbers(self, member: Member) -> tuple[int, ...]:
        """Return the principals that a membership stands for."""
        if member.is_group:
            return self.in_group.get(member.holder, ())
        return (self.numbers[member.holder],) if member.holder in self.numbers else ()

    # Rules -----------------------------------------------------------------------------------------

    @cached_property
    def _by_person(self) -> dict[str, list[PlacedRule]]:
        found: dict[str, list[PlacedRule]] = {}
        for one in self.shared.rules:
            if one.on is RuleOn.PERSON:
                found.setdefault(one.name, []).append(one)
        return found

    @cached_property
    def _by_folder(self) -> dict[Parts, list[PlacedRule]]:
        found: dict[Parts, list[PlacedRule]] = {}
        for one in self.shared.rules:
            if one.on is RuleOn.FOLDER:
                found.setdefault(parts_of(one.path), []).append(one)
        return found

    @cached_property
    def _everywhere(self) -> list[PlacedRule]:
        wide = (RuleOn.OFFICE, RuleOn.SYSTEM)
        return [one for one in self.shared.rules if one.on in wide and one.covers(self.system, (), b"/")]

    def rules_at(self, path: bytes, login: str) -> list[PlacedRule]:
        """Return the service's own rules for what someone shares of a folder: of all four levels."""
        parts = parts_of(path)
        found = [*self._everywhere, *self._by_person.get(login, ())]
        for depth in range(len(parts) + 1):
            # A folder's rule holds for all below it, and another further down only ever tightens it.
            found += self._by_folder.get(parts[:depth], ())
        return found

    def anchor(self, path: bytes) -> Parts:
        """Return the nearest folder at or above one for which there is a rule: all rules there are those here."""
        parts = parts_of(path)
        if self._by_folder:
            for depth in range(len(parts), 0, -1):
                if parts[:depth] in self._by_folder:
                    return parts[:depth]
        return ()

    def rule_at(self, path: bytes, login: str) -> SharingRule:
        """Return the tightest of `rules_at`."""
        # Few people and few folders have rules of their own: all the others share one answer.
        key = (self.anchor(path), login if login in self._by_person else "")
        if key not in self._rules:
            self._rules[key] = tightest(self.rules_at(path, login))
        return self._rules[key]

    def lets(self, rule: SharingRule, principal: Principal) -> bool:
        """Tell whether a rule lets something reach a receiver: it speaks of guests and those outside."""
        if principal.kind is not Kind.GUEST:
            return True
        return rule.lets_guest(principal.is_planned, principal.account.email or principal.account.login)

    # Hand-outs and links ---------------------------------------------------------------------------

    def receivers(self, hand_out: HandOut) -> tuple[int, ...]:
        """Return the principals that a hand-out is for, but its giver's own."""
        if hand_out.towards is Towards.GROUP:
            found = self.in_group.get(hand_out.receiver, ())
        else:
            number = self.numbers.get(hand_out.receiver)
            found = () if number is None else (number,)
        giver = self.numbers.get(hand_out.giver)
        # A hand-out to a group that its giver is in gives the giver nothing new.
        return tuple(number for number in found if number != giver)

    def perhaps_receivers(self, hand_out: HandOut) -> tuple[int, ...]:
        """Return the principals that a hand-out is for if they are in its group, which nobody told."""
        found = self.perhaps_in_group.get(hand_out.receiver, ()) if hand_out.towards is Towards.GROUP else ()
        giver = self.numbers.get(hand_out.giver)
        return tuple(number for number in found if number != giver)

    def reached_from(self, people: Iterable[str]) -> set[str]:
        """Return whom hand-outs of some people reach, and those that these hand on in their turn."""
        given: dict[str, set[str]] = {}
        for one in self.shared.hand_outs:
            numbers = (*self.receivers(one), *self.perhaps_receivers(one))
            given.setdefault(self.person_of(one.giver), set()).update(self.principals[n].person for n in numbers)
        found, left = set[str](), list(people)
        while left:
            new = given.pop(left.pop(), set()) - found
            found |= new
            left += new
        return found

    def resolve(self, hand_outs: Iterable[HandOut], path: bytes) -> list[ResolvedHandOut]:
        """Return live hand-outs as they count on one folder or file of theirs."""
        anchor = self.anchor(path)
        found = []
        for one in hand_outs:
            ready = self._ready.get((one.id, anchor))
            # What is supposed has the same id as what is there, and is another thing.
            if ready is None or ready.hand_out is not one:
                ready = self._ready[one.id, anchor] = self._resolve_one(one, path)
            found.append(ready)
        return found

    def _resolve_one(self, one: HandOut, path: bytes) -> ResolvedHandOut:
        rule = self.rule_at(path, one.giver)
        rights = one.rights & self.download_cap(one.download, rule)
        reached, perhaps = (
            tuple(
                number
                for number in numbers
                if self.principals[number].is_open and self.lets(rule, self.principals[number])
            )
            for numbers in (self.receivers(one), self.perhaps_receivers(one))
        )
        giver = self.numbers.get(one.giver)
        return ResolvedHandOut(one, giver, reached, int(rights), int(file_cap(rights)), perhaps)

    @staticmethod
    def download_cap(download: bool, rule: SharingRule) -> Right:
        """Return what is let through where contents may (not) be taken away."""
        return EVERY_RIGHT if download and rule.download is not False else EVERY_RIGHT & ~Right.READ

    def link_principals(self, link: Link) -> tuple[int, ...]:
        """Return the principals that a link is good for."""
        if link.audience is Audience.NAMED:
            return tuple(self.numbers[name] for name in link.named if name in self.numbers)
        name = AUDIENCES[link.audience][0]
        return (self.numbers[name],) if name in self.numbers else ()

    def link_rights(self, link: Link, path: bytes, number: int) -> Right:
        """Return what a link gives a principal on a folder or file of its own today."""
        principal = self.principals[number]
        if not self.shared.is_running or link.why_dead(self.day) or not principal.is_open:
            return Right.NONE
        rights = link.rights & self.link_cap(link, self.rule_at(path, link.maker), number)
        return rights & ~WRITING if self.read_only else rights

    def link_cap(self, link: Link, rule: SharingRule, number: int) -> Right:
        """Return what the rules let through a link for one of its audience."""
        cap = self.download_cap(link.download, rule)
        match link.audience:
            case Audience.ANYONE:
                return cap & rule.open_rights
            case Audience.OFFICE:
                return cap
            case Audience.GUESTS:
                return cap if rule.guests is None or rule.guests > 0 else Right.NONE
            case Audience.NAMED:
                return cap if self.lets(rule, self.principals[number]) else Right.NONE
