"""The list that a folder should have by the plan, as near as can be to the one that it has.

Entries that give nobody more than the plan stay as they are, and so do those of services. What gives somebody more is
taken back to what the plan gives that holder; what somebody lacks is given to the holder whom the plan names, else to
groups all of whose members should have it, and only at last to people by name.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from neatledger.core.access.differences import COMPARED
from neatledger.core.lists import nfs4, nt, role
from neatledger.core.lists.descriptors import AceType, is_sid
from neatledger.core.lists.doubt import judge_item
from neatledger.core.lists.holders import Crowd
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.grants import set_holder, with_holder
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["Meant", "wanted_item"]


@dataclass(frozen=True)
class Meant:
    """What the plan means on one folder, in the terms of its system.

    `people` are the principals of those whom the plan speaks of; `rights` is what each person should have there;
    `grants` are the plan's holders as the system knows them, and what each is given; `groups` are the system's
    groups, by identifier, with their names and the logins of all who are in them.
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

    @cached_property
    def crowd(self) -> Crowd:
        """All the people at once; person number i is bit i of every set."""
        return Crowd([one.holder for one in self.people])

    @cached_property
    def should(self) -> dict[Right, int]:
        """Who should have each right; who may add to a folder may change what is in it."""
        found = dict.fromkeys((*_OF_FOLDERS, Right.CHANGE), 0)
        for number, one in enumerate(self.people):
            rights = self.rights.get(one.person, Right.NONE)
            for right in found:
                if rights & right or (right is Right.CHANGE and rights & Right.ADD):
                    found[right] |= 1 << number
        return found

    @cached_property
    def may_come_in(self) -> int:
        """Whose accounts are open and let them come in: others lack nothing that a list could give."""
        return sum(1 << number for number, one in enumerate(self.people) if one.may_come_in)

    @cached_property
    def twins(self) -> list[int]:
        """The accounts of people who have several: what one of them has they have."""
        mine: dict[str, int] = {}
        for number, one in enumerate(self.people):
            mine[one.person] = mine.get(one.person, 0) | 1 << number
        return [bits for bits in mine.values() if bits & (bits - 1)]

    def among(self, whom: Whom) -> int:
        """Return which of the people a holder stands for."""
        match whom.sort:
            case Sort.USER:
                return self.crowd.by_user.get(whom.ident, 0)
            case Sort.GROUP:
                return self.crowd.by_group.get(whom.ident, 0)
            case Sort.EVERYONE:
                return self.crowd.all
            case Sort.OWNER:
                return 0


_OF_FOLDERS = tuple(COMPARED)
_MOST_TURNS = 4
_OF_FILES = (Right.READ, Right.CHANGE)


def wanted_item(item: ItemState, meant: Meant, *, is_folder: bool = True) -> ItemState:
    """Return a folder (or a sort of files) as the plan means it; raises `StepError` where that cannot be done."""
    found = _Worked(item, meant, is_folder)
    had = found.has()
    for _ in range(_MOST_TURNS):
        # What one entry refused another one may give now: until nothing more is to be done.
        before = found.item
        found.take_back()
        found.give()
        if found.item == before:
            break
    if found.is_worse_than(had):
        raise StepError("its entries hang together: a person must look at what one refuses and another gives")
    return found.item


class _Worked:
    """A list while it is worked on; people are bits of sets."""

    def __init__(self, item: ItemState, meant: Meant, is_folder: bool) -> None:
        self.item, self.meant, self.is_folder = item, meant, is_folder
        self._asked = _OF_FOLDERS if is_folder else _OF_FILES

    def _set(self, whom: Whom, rights: Right | None) -> None:
        if rights is not None and self.meant.model == "posix" and whom.sort is not Sort.OWNER:
            # There nobody but the owner manages; what is left of that a person must settle.
            rights &= ~(Right.MANAGE | Right.SHARE)
        if self.is_folder:
            self.item = with_holder(self.meant.model, self.item, whom, rights)
        else:
            body = set_holder(self.meant.model, self.item.body, whom, rights, is_folder=False)
            self.item = ItemState(self.item.owner, body)

    def is_worse_than(self, had: Mapping[Right, int]) -> bool:
        """Tell whether somebody now has more beyond the plan than before, or less of what it gives them.

        What the plan itself gives a holder is no matter of the list, but of who is in the group.
        """
        for right, has in self.has().items():
            covered = 0
            for whom, rights in self.meant.grants:
                is_given = rights & right or (right is Right.CHANGE and rights & Right.ADD)
                covered |= self.meant.among(whom) if is_given else 0
            should = self.meant.should[right]
            for twins in self.meant.twins:
                has |= twins if has & twins & should else 0
            if has & ~had[right] & ~should & ~covered:
                return True
            if had[right] & ~has & should & self.meant.may_come_in and right is not Right.MANAGE:
                return True
        return False

    def has(self) -> dict[Right, int]:
        """Return who has each right that is asked about."""
        meant, item = self.meant, self.item
        found = judge_item(MODELS[meant.model], item.owner, item.body, meant.crowd, is_folder=self.is_folder)
        return {right: found.get(right, 0) for right in self._asked}

    # Taking back ------------------------------------------------------------------------------------

    def take_back(self) -> None:
        """Take back what gives somebody more than the plan."""
        view = MODELS[self.meant.model].parse(self.item.body).view(is_folder=self.is_folder)
        sorts = [(Sort.USER, view.users), (Sort.GROUP, view.groups)]
        for ident, rights in view.either.items():
            sorts.append((self._sort_of(ident), {ident: rights}))
        for sort, named in sorts:
            for ident, given in named.items():
                self._take_back_from(Whom(sort, ident), given)
        if self._over(view.everyone):
            everyone = Whom(Sort.EVERYONE)
            self._set(everyone, self.meant.of(everyone) or Right.NONE)

    def _sort_of(self, ident: str) -> Sort:
        """Tell whether whom a list names is a group: one that everybody is in is none that the system tells."""
        crowd = self.meant.crowd
        is_group = ident in self.meant.groups or (ident in crowd.by_group and ident not in crowd.by_user)
        return Sort.GROUP if is_group else Sort.USER

    def _over(self, given: Right) -> int:
        """Return who has something of some rights, and should not."""
        bits = 0
        for right, has in self.has().items():
            if given & right and right is not Right.MANAGE:
                bits |= has & ~self.meant.should[right]
        return bits

    def _take_back_from(self, whom: Whom, given: Right) -> None:
        if not self._over(given) & self.meant.among(whom):
            return
        meant = self.meant.of(whom)
        # What the plan itself gives the holder is no matter of this list, but of who is in the group.
        covered = Right.NONE if meant is None else meant | (Right.CHANGE if meant & Right.ADD else Right.NONE)
        asked = Right.NONE
        for right in self._asked:
            asked |= right
        if meant is None or given & asked & ~Right.MANAGE & ~covered:
            self._set(whom, meant)

    # Giving -----------------------------------------------------------------------------------------

    def give(self) -> None:
        """Give what somebody lacks."""
        if not self._lacking():
            return
        self._end_refusals()
        for whom, rights in self.meant.grants:
            if self._lacking() & self.meant.among(whom):
                self._set(whom, rights | (self.meant.of(whom) or Right.NONE))
        view = MODELS[self.meant.model].parse(self.item.body).view(is_folder=self.is_folder)
        for one in self._people(self._lacking()):
            # An entry for somebody alone decides alone on POSIX systems, and may give less than their group's.
            is_alone = self.meant.model == "posix" and one.account.ident in view.users
            if is_alone and self.item.owner != one.account.ident:
                self._set(Whom(Sort.USER, one.account.ident), None)
        self._cover()

    def _lacking(self) -> int:
        """Return who lacks anything that they should have and that a list could give."""
        bits = 0
        for right, has in self.has().items():
            if right is Right.MANAGE and self.meant.model == "posix":
                continue
            for twins in self.meant.twins:
                has |= twins if has & twins else 0
            bits |= self.meant.should[right] & ~has
        return bits & self.meant.may_come_in

    def _people(self, bits: int) -> list[Principal]:
        return [one for number, one in enumerate(self.meant.people) if bits >> number & 1]

    def _end_refusals(self) -> None:
        for ident in _refused(self.meant.model, self.item.body):
            whom = Whom(self._sort_of(ident), ident)
            if self._lacking() & self.meant.among(whom):
                self._set(whom, self.meant.of(whom))

    def _cover(self) -> None:
        """Give what is still lacking to groups all of whose members should have it, then to people by name."""
        hopeless = 0
        # As many tries as there are people and groups: what one entry gives another one might take again.
        for _ in range(len(self.meant.people) + len(self.meant.groups)):
            lacking = self._people(self._lacking() & ~hopeless)
            if not lacking:
                return
            rights = self.meant.rights[lacking[0].person]
            need = rights & COMPARED
            alike = {one.account.login for one in lacking if self.meant.rights[one.person] & COMPARED == need}
            may = {
                one.account.login
                for one in self.meant.people
                if not need & ~self.meant.rights.get(one.person, Right.NONE)
            }
            best = max(
                (ident for ident, (_, members) in self.meant.groups.items() if members & alike and members <= may),
                # Of groups that serve as many the same one each time, in whatever order they were told.
                key=lambda ident: (len(self.meant.groups[ident][1] & alike), ident),
                default=None,
            )
            number = self.meant.people.index(lacking[0])
            by_name = Whom(Sort.USER, lacking[0].account.ident, lacking[0].account.login)
            tried = [by_name]
            if best is not None and len(self.meant.groups[best][1] & alike) > 1:
                tried.insert(0, Whom(Sort.GROUP, best, self.meant.groups[best][0]))
            if not any(self._helps(whom, rights, number) for whom in tried):
                # Something else than an entry keeps them out.
                hopeless |= 1 << number

    def _helps(self, whom: Whom, rights: Right, number: int) -> bool:
        """Give a holder rights, and tell whether one of the people lacks less by that; else it is as before."""
        before, had = self.item, self.has()
        if self.meant.model == "nt" and not is_sid(whom.ident):
            # An account that is only to be made has no identifier yet: no entry can name it.
            return False
        self._set(whom, rights)
        has, should = self.has(), self.meant.should
        if any((has[one] & ~had[one] & should[one]) >> number & 1 for one in has):
            return True
        self.item = before
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
