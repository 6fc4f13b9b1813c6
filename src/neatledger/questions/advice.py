"""What would let somebody in who is kept out: each piece of advice is tried before it is given."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.tree_gates import Gate, Item
from neatledger.core.access.ways import Access, Way
from neatledger.core.lists.contract import Effect, word_entry
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.membership import outer_groups
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.grants import with_holder
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import AccountState
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import Location
from neatledger.questions.office import Office

__all__ = ["Advice", "advise"]

_WANTS = LEVEL_RIGHTS[Level.READ]


@dataclass(frozen=True, slots=True)
class Advice:
    """What would let an account read a place: all of `first`, and then one of `groups`, or all of `entries`.

    `first` are what keeps the account out whatever lists say. `groups` are identifiers: to be in one is enough.
    `entries` are folders with what an entry for the account itself must give there (enter, read); `own` the entry of
    theirs that decides alone by now, and `refusal` one that no entry of theirs would overcome. Where none of these
    is there, nothing that was tried helps.
    """

    login: str
    first: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    entries: tuple[tuple[bytes, str], ...] = ()
    own: str = ""
    refusal: str = ""
    is_enough: bool = False


def advise(office: Office, location: Location, principal: Principal) -> Advice:
    """Return what would let an account read a folder or file of a system of lists, tried step by step."""
    first = _first(principal)
    opened = _opened(principal)
    trial = _Trial(office, location, opened)
    if trial.helps(opened):
        return Advice(principal.account.login, first, is_enough=True)
    stop = trial.stop(opened)
    if stop is not None and stop.name in ("share", "system"):
        share = next((way.through for way in trial.access(opened).ways if way.name == "share"), "")
        what = f"the permission of the share {share} must let them in" if share else "no share leads there"
        return Advice(principal.account.login, (*first, what))
    groups = tuple(ident for ident in trial.groups() if trial.helps(trial.in_group(opened, ident)))
    entries, refusal = trial.entries(opened)
    return Advice(principal.account.login, first, groups, entries, trial.own(opened), refusal)


def _first(principal: Principal) -> tuple[str, ...]:
    account = principal.account
    found = []
    if not principal.is_open:
        found.append(f"the account {account.login} is {account.state.value}: open it again")
    if not account.may_use:
        found.append(f"the service is not switched on for the account {account.login}")
    if not account.is_entitled:
        found.append(f"the account {account.login} is not entitled to the service")
    return tuple(found)


def _opened(principal: Principal) -> Principal:
    return replace(
        principal,
        account=replace(principal.account, state=AccountState.OPEN, may_use=True, is_entitled=True),
    )


class _Trial:
    """Tries what would help, on one location."""

    def __init__(self, office: Office, location: Location, principal: Principal) -> None:
        self._office, self._location = office, location
        self._system = location.address.system
        self._reader = office.reader(self._system)
        self._wants = _WANTS if location.is_folder else Right.READ

    def access(self, principal: Principal, chain: Sequence[Item] | None = None) -> Access:
        location = self._location if chain is None else replace(self._location, chain=tuple(chain))
        return self._office.systems.access(location, [principal])

    def helps(self, principal: Principal, chain: Sequence[Item] | None = None) -> bool:
        """Tell whether the account could read the place."""
        return not self._wants & ~self.access(principal, chain).rights

    def stop(self, principal: Principal, chain: Sequence[Item] | None = None) -> Gate | None:
        """Return the first gate that keeps the account from reading."""
        way = self._share_way(principal, chain)
        if way is None:
            return None
        return next(
            (gate for gate in way.gates if (self._wants & ~gate.passes and gate.name != "enter") or gate.stops), None
        )

    def _share_way(self, principal: Principal, chain: Sequence[Item] | None) -> Way | None:
        return next((way for way in self.access(principal, chain).ways if way.name == "share"), None)

    def groups(self) -> list[str]:
        """Return the groups that the lists on the way name, and those in them, by identifier."""
        groups = self._reader.groups
        named = {ident for item in self._location.chain for ident in item.access_list.named}
        return sorted({one.ident for one in groups if named & {one.ident, *outer_groups(groups, one.ident)}})

    def in_group(self, principal: Principal, ident: str) -> Principal:
        """Return an account as it would be in a group, and so in those that this one lies in."""
        groups = principal.holder.groups | {ident, *outer_groups(self._reader.groups, ident)}
        return replace(principal, holder=replace(principal.holder, groups=groups))

    def own(self, principal: Principal) -> str:
        """Return the entry for the account itself that decides alone where it is stopped; empty where none does."""
        stop = self.stop(principal)
        if stop is None or self._reader.terms.model.name != "posix":
            return ""
        mine = [one for one in stop.reasons if "user entry" in one.because or "owner's bits" in one.because]
        return word_entry(mine[0].entry, self._office.names(self._system)) if mine else ""

    def entries(self, principal: Principal) -> tuple[tuple[tuple[bytes, str], ...], str]:
        """Return where the account needs entries of its own, the upper folders first; or what no entry overcomes."""
        chain, found = list(self._location.chain), list[tuple[bytes, str]]()
        model = self._reader.terms.model.name
        state = ImaginedReader(self._reader)
        whom = Whom(Sort.USER, principal.holder.user, principal.account.login)
        for _ in range(len(chain) + 1):
            if self.helps(principal, chain):
                return tuple(found), ""
            stop = self.stop(principal, chain)
            at = next((n for n, item in enumerate(chain) if stop is not None and item.path == stop.place), None)
            if stop is None or at is None:
                return (), ""
            path, needs_entry = chain[at].path, stop.name == "enter"
            item = state.folder_state(path)
            if item is None or any(place == path for place, _ in found):
                return (), self._refusal(stop)
            try:
                after = with_holder(model, item, whom, Right.ENTER if needs_entry else _WANTS)
            except StepError:
                return (), self._refusal(stop)
            chain[at] = self._with(chain[at], after)
            found.append((path, "enter" if needs_entry else "read"))
        return (), ""

    def _refusal(self, stop: Gate) -> str:
        """Return the entry that refuses at a gate; empty where none does."""
        mine = [one for one in stop.reasons if one.effect is Effect.STOPS]
        return word_entry(mine[0].entry, self._office.names(self._system)) if mine else ""

    def _with(self, item: Item, state: ItemState) -> Item:
        return replace(item, access_list=MODELS[self._reader.terms.model.name].parse(state.body))
