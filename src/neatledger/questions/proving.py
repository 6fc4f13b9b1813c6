"""Whether somebody has just what the plan says, everywhere: accounts, groups, folders, and nothing beside."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from neatledger.core.access.differences import Difference
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.rights import level_of
from neatledger.core.people.matching import propose
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.ledger.locations import locate
from neatledger.questions import differences
from neatledger.questions.office import Office
from neatledger.questions.starting import home_of

__all__ = ["Proof", "Verdict", "ask"]


class Verdict(Enum):
    """How one thing stands to the plan."""

    AS_PLANNED = "as planned"
    MISSING = "missing"
    BEYOND = "beyond the plan"
    UNKNOWN = "not known"


@dataclass(frozen=True, slots=True)
class Proof:
    """One thing that somebody has or should have: what the plan says, what was found, and by what that is so."""

    what: str
    place: Address | str
    planned: str
    found: str
    verdict: Verdict
    because: str = ""


def ask(office: Office, name: str) -> list[Proof]:
    """Return all that is planned for a person of the plan or found of them; raises `UnknownNameError`."""
    prover = _Prover(office, office.find_planned(name))
    return [*prover.accounts(), *prover.groups(), *prover.home(), *prover.folders()]


class _Prover:
    def __init__(self, office: Office, person: str) -> None:
        self.office, self.plan, self.id = office, office.plan, person
        self.person = office.plan.people[person]
        self.is_here = self.person.is_here(office.today)
        self.mine = {
            system: [one for one in some if one.person == person] for system, some in office.principals.items()
        }

    def accounts(self) -> Iterator[Proof]:
        """Yield each planned login, and accounts that may be theirs beside."""
        for system, logins in self.person.accounts.items():
            for login in logins:
                yield self._account(system, login)
        for one in propose(self.plan, self.office.principals):
            if self.id in one.candidates:
                place = f"{one.system}:{one.account.login}"
                yield Proof(
                    "account", place, "none", one.account.state.value, Verdict.BEYOND, f"may be theirs: {one.because}"
                )

    def _account(self, system: str, login: str) -> Proof:
        place = f"{system}:{login}"
        planned = "open" if self.is_here else "closed, or gone"
        if system not in self.mine:
            return Proof("account", place, planned, "not counted", Verdict.UNKNOWN, f"count {system}")
        found = next((one for one in self.mine[system] if login in (one.account.login, one.account.ident)), None)
        if found is None:
            verdict = Verdict.MISSING if self.is_here else Verdict.AS_PLANNED
            return Proof("account", place, planned, "not there", verdict)
        state, because = _state(found)
        if found.is_doubtful:
            return Proof("account", place, planned, state, Verdict.UNKNOWN, because)
        if self.is_here:
            verdict = Verdict.AS_PLANNED if found.may_come_in else Verdict.MISSING
        else:
            verdict = Verdict.BEYOND if found.is_live else Verdict.AS_PLANNED
        return Proof("account", place, planned, state, verdict, because)

    def groups(self) -> Iterator[Proof]:
        """Yield the groups that they are meant to be in, or are in, where systems have them."""
        for system, principals in self.mine.items():
            # What a closed account of somebody who is not here is in gives nothing.
            if not self.is_here and not any(one.is_live for one in principals):
                continue
            for name, group in self.plan.groups.items():
                called = group.names.get(system, name)
                there = next((one for one in self.office.readers[system].groups if one.name == called), None)
                if there is None or not principals:
                    continue
                is_meant = self.id in self.plan.members[name] and self.is_here
                is_in = any(there.ident in one.holder.groups for one in principals)
                perhaps = any(there.ident in one.holder.maybe for one in principals)
                if not (is_meant or is_in or perhaps):
                    continue
                if perhaps and not is_in:
                    verdict = Verdict.UNKNOWN
                elif is_meant == is_in:
                    verdict = Verdict.AS_PLANNED
                else:
                    verdict = Verdict.MISSING if is_meant else Verdict.BEYOND
                because = self.plan.why_given(self.id, name) if is_meant else ""
                found = "in it" if is_in else "perhaps" if perhaps else "not in it"
                yield Proof("group", f"{system}:{called}", "in it" if is_meant else "-", found, verdict, because)

    def home(self) -> Iterator[Proof]:
        """Yield whether the home that their post says is there."""
        address = home_of(self.plan, self.person)
        if address is None or address.system not in self.office.readers:
            return
        reader = self.office.readers[address.system]
        others = [one.account.ident for one in self.mine.get(address.system, ())]
        above = address.path.rpartition(b"/")[0]
        names = [address.path, *(above + b"/" + one.encode() for one in others)]
        found = next((path for path in names if reader.find_row(path) is not None), None)
        if found is None:
            yield Proof("home", address, "there", "not there", Verdict.MISSING)
            return
        owner = reader.find_path(found)[0][-1].owner
        is_theirs = owner in others
        verdict = Verdict.AS_PLANNED if is_theirs else Verdict.MISSING
        word = "there" if is_theirs else f"there, and {self.office.names(address.system).owner(owner)}'s"
        yield Proof("home", Address(address.system, found), "there", word, verdict)

    def folders(self) -> Iterator[Proof]:
        """Yield what the plan gives them on each folder beside what was found."""
        if not any(self.mine.values()):
            for folder in self.plan.folders:
                rights, _ = self.plan.rights_at(folder.address, self.id)
                if rights and folder.address.system in self.person.accounts:
                    yield Proof(
                        "access", folder.address, level_of(rights).value, "none", Verdict.MISSING, "no account"
                    )
            return
        for one in differences.ask(self.office, [self.id]):
            if not (one.planned or one.found or one):
                continue
            yield self._access(one)

    def _access(self, one: Difference) -> Proof:
        planned, found = level_of(one.planned).value, level_of(one.found).value
        if not one.is_there:
            verdict = Verdict.MISSING if one.is_known else Verdict.UNKNOWN
            return Proof("access", one.address, planned, found if one.is_known else "unknown", verdict, one.spell())
        if not one.is_known:
            return Proof("access", one.address, planned, found, Verdict.UNKNOWN, "not all of it could be judged")
        if not one:
            return Proof("access", one.address, planned, found, Verdict.AS_PLANNED)
        if one.missing:
            return Proof("access", one.address, planned, found, Verdict.MISSING, self._gate(one))
        return Proof("access", one.address, planned, found, Verdict.BEYOND, one.spell())

    def _gate(self, one: Difference) -> str:
        """Return the first gate that keeps them from what they should have."""
        principals = self.office.people_on(one.address.system).get(self.id, [])
        if not principals:
            return "no account there"
        system = one.address.system
        access = self.office.systems.access(locate(self.office.reader(system), one.address), principals)
        for way in access.ways:
            for gate in way.gates:
                if one.missing & ~gate.passes:
                    entry = next(
                        (word_entry(each.entry, self.office.names(one.address.system)) for each in gate.reasons), ""
                    )
                    return f"{way.name}: {gate.name}{f': {entry}' if entry else ''}"
        return "no way leads there"


def _state(one: Principal) -> tuple[str, str]:
    if not one.is_open:
        return one.account.state.value, ""
    if not one.account.may_use:
        return "open", "the service is not switched on for it"
    if not one.account.is_entitled:
        return "open", "it has not the entitlement that the service asks for"
    return one.account.state.value, ""
