"""The list that a folder should have by the plan, as near as can be to the one that it has.

Entries that give nobody more than the plan stay as they are, and so do those of services. What gives somebody more is
taken back to what the plan gives that holder; what somebody lacks is given to the holder whom the plan names, else to
groups all of whose members should have it, and only at last to people by name.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.access.differences import COMPARED
from neatledger.core.lists import nfs4, nt, role
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.descriptors import AceType
from neatledger.core.lists.doubt import judge
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.grants import set_holder, with_holder
from neatledger.core.steps.whom import Sort, Whom

__all__ = ["Meant", "wanted_item"]


@dataclass(frozen=True)
class Meant:
    """What the plan means on one folder, in the terms of its system.

    `people` are the principals of those whom the plan speaks of, and of others that are no service's; `rights` is
    what each person should have there; `grants` are the plan's holders as the system knows them, and what each is
    given; `groups` are the system's groups, by identifier, with the logins of all who are in them.
    """

    model: str
    people: Sequence[Principal]
    rights: Mapping[str, Right]
    grants: Sequence[tuple[Whom, Right]]
    groups: Mapping[str, tuple[str, frozenset[str]]]

    def of(self, whom: Whom) -> Right | None:
        """Return what the plan gives a holder by name; None where it does not name them."""
        found = [rights for one, rights in self.grants if (one.sort, one.ident) == (whom.sort, whom.ident)]
        united = Right.NONE
        for rights in found:
            united |= rights
        return united if found else None


def wanted_item(item: ItemState, meant: Meant, *, is_folder: bool = True) -> ItemState:
    """Return a folder (or a sort of files) as the plan means it; raises `StepError` where that cannot be done."""
    found = _Worked(item, meant, is_folder)
    found.take_back()
    found.give()
    return found.item


class _Worked:
    """A list while it is worked on."""

    def __init__(self, item: ItemState, meant: Meant, is_folder: bool) -> None:
        self.item, self.meant, self.is_folder = item, meant, is_folder
        # Two accounts of one person: either of them may give what the person should have.
        self._asked = COMPARED if is_folder else Right.READ | Right.CHANGE

    def _set(self, whom: Whom, rights: Right | None) -> None:
        if rights is not None and self.meant.model == "posix" and whom.sort is not Sort.OWNER:
            # There nobody but the owner manages; what is left of that a person must settle.
            rights &= ~(Right.MANAGE | Right.SHARE)
        if self.is_folder:
            self.item = with_holder(self.meant.model, self.item, whom, rights)
        else:
            body = set_holder(self.meant.model, self.item.body, whom, rights, is_folder=False)
            self.item = ItemState(self.item.owner, body)

    def _has(self, principal: Principal) -> Right:
        parsed = MODELS[self.meant.model].parse(self.item.body)
        return judge(parsed, ItemContext(self.item.owner, self.is_folder), principal.holder).rights & self._asked

    def _should(self, principal: Principal) -> Right:
        rights = self.meant.rights.get(principal.person, Right.NONE)
        if not self.is_folder and rights & Right.ADD:
            rights |= Right.CHANGE
        return rights & self._asked

    # Taking back ------------------------------------------------------------------------------------

    def take_back(self) -> None:
        """Take back what gives somebody more than the plan."""
        view = MODELS[self.meant.model].parse(self.item.body).view(is_folder=self.is_folder)
        sorts = [(Sort.USER, view.users), (Sort.GROUP, view.groups)]
        for ident, rights in view.either.items():
            sorts.append((Sort.GROUP if ident in self.meant.groups else Sort.USER, {ident: rights}))
        for sort, named in sorts:
            for ident, given in named.items():
                self._take_back_from(Whom(sort, ident), given)
        if any(self._is_over(one, view.everyone) and self._is_over(one, self._has(one)) for one in self.meant.people):
            everyone = Whom(Sort.EVERYONE)
            self._set(everyone, self.meant.of(everyone) or Right.NONE)

    def _is_over(self, principal: Principal, given: Right) -> bool:
        return bool(given & self._asked & ~Right.MANAGE & ~self._should(principal))

    def _take_back_from(self, whom: Whom, given: Right) -> None:
        them = [one for one in self.meant.people if _is(whom, one)]
        if not any(self._is_over(one, given) and self._is_over(one, self._has(one)) for one in them):
            return
        meant = self.meant.of(whom)
        # What the plan itself gives the holder is no matter of this list, but of who is in the group.
        if meant is None or given & self._asked & ~Right.MANAGE & ~meant & ~(
            Right.CHANGE if meant & Right.ADD else Right.NONE
        ):
            self._set(whom, meant)

    # Giving -----------------------------------------------------------------------------------------

    def give(self) -> None:
        """Give what somebody lacks."""
        if not self._lacking():
            return
        self._end_refusals()
        for whom, rights in self.meant.grants:
            if whom.sort is not Sort.EVERYONE and any(_is(whom, one) for one in self._lacking()):
                self._set(whom, rights | (self.meant.of(whom) or Right.NONE))
            elif whom.sort is Sort.EVERYONE and self._lacking():
                self._set(whom, rights)
        for one in self._lacking():
            # An entry for somebody alone decides alone on POSIX systems, and may give less than their group's.
            view = MODELS[self.meant.model].parse(self.item.body).view(is_folder=self.is_folder)
            if one.account.ident in view.users and self.item.owner != one.account.ident:
                self._set(Whom(Sort.USER, one.account.ident), None)
        self._cover()

    def _lacking(self) -> list[Principal]:
        has: dict[str, Right] = {}
        for one in self.meant.people:
            has[one.person] = has.get(one.person, Right.NONE) | self._has(one)
        wants = self._asked if self.meant.model != "posix" else self._asked & ~Right.MANAGE
        return [one for one in self.meant.people if self._should(one) & wants & ~has[one.person] and one.may_come_in]

    def _end_refusals(self) -> None:
        for ident in _refused(self.meant.model, self.item.body):
            sort = Sort.GROUP if ident in self.meant.groups else Sort.USER
            whom = Whom(sort, ident)
            if any(_is(whom, one) for one in self._lacking()):
                self._set(whom, self.meant.of(whom))

    def _cover(self) -> None:
        """Give what is still lacking to groups all of whose members should have it, then to people by name."""
        while lacking := self._lacking():
            need = self._should(lacking[0])
            alike = {one.account.login for one in lacking if self._should(one) == need}
            may = {one.account.login for one in self.meant.people if not need & ~self._should(one)}
            best = max(
                (ident for ident, (_, members) in self.meant.groups.items() if members & alike and members <= may),
                key=lambda ident: len(self.meant.groups[ident][1] & alike),
                default=None,
            )
            before = self.item
            rights = self.meant.rights[lacking[0].person]
            if best is not None and len(self.meant.groups[best][1] & alike) > 1:
                self._set(Whom(Sort.GROUP, best, self.meant.groups[best][0]), rights)
            else:
                self._set(Whom(Sort.USER, lacking[0].account.ident, lacking[0].account.login), rights)
            if self.item == before:
                # Something else than an entry keeps them out.
                return


def _is(whom: Whom, principal: Principal) -> bool:
    match whom.sort:
        case Sort.USER:
            return principal.holder.user == whom.ident
        case Sort.GROUP:
            return whom.ident in principal.holder.groups
        case Sort.EVERYONE:
            return True
        case Sort.OWNER:
            return False


def _refused(model: str, body: bytes) -> Iterable[str]:
    """Return the identifiers that entries refuse something to."""
    match model:
        case "nt":
            dacl = nt.unpack_body(body).dacl
            aces = () if dacl is None else dacl.aces
            return dict.fromkeys(ace.sid for ace in aces if ace.type == AceType.DENY and ace.raw is None)
        case "nfs4":
            entries = nfs4.Nfs4Model().parse(body).entries
            return dict.fromkeys(one.who for one in entries if one.type == nfs4.DENY and one.who not in nfs4.SPECIAL)
        case "role":
            return dict.fromkeys(
                one.ident for one in role.RoleModel().parse(body).entries if not one.allows and one.ident
            )
        case _:
            return ()
