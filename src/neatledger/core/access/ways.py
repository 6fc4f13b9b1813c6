"""Effective access of one account to one folder or file: ways, gates, and the reasons of each gate.

The answer is the explanation: `Way.rights` is what passes all its gates, and nothing else computes it.
`matrix.py` asks the same rules for everyone and everything at once and must agree.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.shares import WRITING, Share, SystemTerms
from neatledger.core.access.tree_gates import (
    Gate,
    Item,
    entry_gates,
    lock_gates,
    mount_gate,
    pass_all,
    role_gate,
    share_gate,
)
from neatledger.core.lists.contract import AccessList, Decision, Effect, ItemContext, Reason
from neatledger.core.lists.doubt import judge
from neatledger.core.lists.rights import ALL_RIGHTS, EVERY_RIGHT, Level, Right, level_of, level_of_file
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import SeenState

__all__ = [
    "EVERYTHING",
    "TELLING",
    "Access",
    "FileClass",
    "FileCounts",
    "Way",
    "access_to",
    "access_to_file",
    "admin_way",
    "count_files",
    "doubted",
    "given_by",
    "is_opened",
    "is_union_known",
    "most_of",
    "told_by",
]


EVERYTHING = ALL_RIGHTS & ~(Right.DELETE | Right.SHARE)
"""What an administrator has who may do everything: whether an item may go hangs on where it stands, and few share."""


TELLING = EVERYTHING & ~(Right.CLEAR | Right.CLEAR_OWN) | Right.DELETE | Right.VIEW
"""The rights that are told of a folder; others only decide on what lies in it, or on handing it on."""


@dataclass(frozen=True, slots=True)
class FileClass:
    """Files of one folder that share a list and an owner."""

    access_list: AccessList
    owner: str
    files: int


@dataclass(frozen=True, slots=True)
class FileCounts:
    """How many of a folder's files can be read, changed, and removed or renamed."""

    files: int
    read: int
    change: int
    delete: int


@dataclass(frozen=True, slots=True)
class Way:
    """One way to an item, with its gates in order; `is_known` is false where a list was not seen."""

    name: str
    principal: Principal
    gates: tuple[Gate, ...]
    rights: Right
    is_known: bool = True
    counts: FileCounts | None = None
    through: str = ""  # the share it goes through, where a system has shares
    file_rights: tuple[Right, ...] | None = None  # what it gives on each class of files; None where that is unknown

    @property
    def first_stop(self) -> Gate | None:
        """Return the first gate that lets nothing through, as far as is known."""
        return next((gate for gate in self.gates if gate.stops and not gate.is_unsure), None)

    @property
    def decided_by(self) -> tuple[Gate, Reason | None]:
        """Return the gate that decided, the first that stops or else the last, and its telling entry."""
        unsure = next((gate for gate in self.gates if gate.is_unsure), None)
        gate = self.first_stop or (None if self.is_known else unsure) or self.gates[-1]
        said = [reason for reason in gate.reasons if reason.effect is not Effect.LIMITS or gate.is_unsure]
        # Of several entries the one that gives the most decided.
        reason = max(said, key=lambda each: (each.effect is Effect.GRANTS, each.rights.bit_count()), default=None)
        return gate, reason


# What gives: a role, or a service's word, before a list that perhaps lets everything through.
_GIVING = ("role", "member", "given", "carries", "list")


def given_by(way: Way, rights: Right) -> Reason | None:
    """Return the entry of a way that gives most of some rights, or what decided the way."""
    gates = [gate for name in _GIVING for gate in way.gates if gate.name == name]
    reasons = [reason for gate in gates[:1] for reason in gate.reasons if reason.rights & rights]
    reason = max(reasons, key=lambda one: (one.rights & rights).bit_count(), default=None)
    return reason or way.decided_by[1]


def told_by(ways: Iterable[Way]) -> tuple[Way, Gate, Reason] | None:
    """Return the way that gives the most and has an entry that decided it, with the gate and the entry."""
    for way in sorted(ways, key=lambda way: -way.rights.bit_count()):
        gate, reason = way.decided_by
        if reason is not None:
            return way, gate, reason
    return None


@dataclass(frozen=True, slots=True)
class Access:
    """Every way of one person to one item, and their union; `most` is what the whole system lets anybody have."""

    person: str
    ways: tuple[Way, ...]
    counts: FileCounts | None
    is_folder: bool = True
    file_rights: tuple[Right, ...] | None = None  # what all ways give on each class of files
    most: Right = EVERYTHING
    files: tuple[int, ...] | None = None  # how many files there are of each class

    @property
    def rights(self) -> Right:
        """Return the rights that any way gives."""
        rights = Right.NONE
        for way in self.ways:
            rights |= way.rights
        return rights

    @property
    def is_known(self) -> bool:
        """Tell whether what all ways give together is known."""
        return is_union_known(self.ways, self.most)

    def level_of(self, way: Way | None) -> Level:
        """Return the name of what one way gives, or (None) all of them together."""
        is_known = self.is_known if way is None else way.is_known
        if not is_known:
            return Level.UNKNOWN
        rights = self.rights if way is None else way.rights
        return level_of(rights) if self.is_folder else level_of_file(rights)


def most_of(terms: SystemTerms) -> Right:
    """Return what a whole system lets anybody have."""
    return EVERYTHING & ~(WRITING if terms.read_only and not terms.mounts else Right.NONE)


def is_union_known(ways: Sequence[Way], most: Right) -> bool:
    """Tell whether the union of some ways is known: all are, or an administrator's opens everything anyway."""
    return all(way.is_known for way in ways) or is_opened(ways, most)


def is_opened(ways: Sequence[Way], most: Right) -> bool:
    """Tell whether an administrator's way opens everything, whatever is not known of lists."""
    return any(way.name == "admin" and way.is_known and not most & ~way.rights for way in ways)


def doubted(way: Way) -> Way:
    """Return a way as it is for an account of which nobody knows whether it is open: what it gives is unknown."""
    return replace(way, is_known=False) if way.principal.is_doubtful and way.rights & TELLING else way


@dataclass(frozen=True, slots=True)
class _Route:
    """One way through a share, or (None) straight to the system's root: the items from there down."""

    share: Share | None
    chain: Sequence[Item]


def _routes(terms: SystemTerms, chain: Sequence[Item]) -> list[_Route]:
    if terms.shares is None:
        return [_Route(None, chain)]
    # Only shares that the folder lies in lead to it; by each it is a chain of its own from the share's root.
    parts = parts_of(chain[-1].path)
    return [_Route(share, chain[len(share.parts) :]) for share in terms.covering(parts)]


def _removal(
    above: Decision | None, here: Decision, owner: str, principal: Principal, lets: Right
) -> tuple[Right, tuple[Reason, ...]]:
    """Judge removal or renaming of an item: by its own right, or by the folder it lies in."""
    if above is None:
        return Right.NONE, (
            Reason(Effect.STOPS, "root", Right.NONE, "the root of a share cannot be removed through it"),
        )
    # An item goes by its own list, or by the folder's; either is enough.
    own = here.rights & Right.DELETE
    if above.rights & lets & Right.CLEAR:
        return Right.DELETE, (Reason(Effect.GRANTS, "folder above", Right.DELETE, "its items may be removed"),)
    if above.rights & lets & Right.CLEAR_OWN and owner == principal.holder.user:
        return Right.DELETE, (
            Reason(Effect.GRANTS, "folder above", Right.DELETE, "sticky, and this item is one's own"),
        )
    if above.rights & Right.CLEAR_UNSAID and here.rights & Right.UNSAID and lets & Right.ADD:
        message = "neither list speaks of removal, and they may add to it"
        return Right.DELETE, (Reason(Effect.GRANTS, "folder above", Right.DELETE, message),)
    return own, ()


@dataclass(frozen=True, slots=True)
class _Judged:
    """The gates of the lists on one route, the decision on its last item, and whether all was seen."""

    gates: list[Gate]
    last: Decision
    is_inside: bool
    is_known: bool


def admin_way(way: Way) -> Way:
    """Return an administrator's way; unknown where it gives something and the role is only perhaps theirs."""
    is_doubtful = any(gate.name == "role" and gate.is_unsure for gate in way.gates)
    return replace(way, is_known=not (way.rights and is_doubtful))


def _by_lists(
    terms: SystemTerms, chain: Sequence[Item], principal: Principal, lets: Right, is_folder: bool
) -> _Judged:
    gates: list[Gate] = []
    above: Decision | None = None
    is_inside = is_known = True
    is_stopped = False
    # Where entering is not asked for, only the folder right above matters: for removal.
    for item in chain[:-1] if terms.asks_enter else chain[-2:-1]:
        above = judge(item.access_list, ItemContext(item.owner, True), principal.holder)
        is_sure = item.state is not SeenState.LIST_UNKNOWN and not above.is_unsure
        is_known &= is_sure
        if terms.asks_enter:
            enters = bool(above.rights & Right.ENTER)
            is_inside &= enters
            # Who is stopped here for certain gets no further, whatever was not seen before or after.
            is_stopped |= is_sure and not enters
            gates.append(Gate("enter", item.path, EVERY_RIGHT if enters else Right.NONE, above.reasons, not is_sure))
    last = chain[-1]
    decision = judge(last.access_list, ItemContext(last.owner, is_folder), principal.holder)
    removal, reasons = _removal(above, decision, last.owner, principal, lets)
    # What the list itself says of removal is in `removal` by now, beside what the folder above adds.
    rights = decision.rights & EVERY_RIGHT & ~Right.DELETE | removal
    is_known &= last.state is not SeenState.LIST_UNKNOWN and not decision.is_unsure
    gates.append(Gate("list", last.path, rights, decision.reasons + reasons, decision.is_unsure))
    if terms.asks_enter and is_folder:
        is_inside &= bool(decision.rights & Right.ENTER)
    return _Judged(gates, decision, is_inside, is_known or is_stopped)


@dataclass(frozen=True, slots=True)
class _Passage:
    """A way with what the files of its folder need: who is inside, and what the folder's list said.

    `lets` is what the gates before the lists let through, an administrator's role among them; `kept` is what the
    folder keeps of its files from everybody.
    """

    way: Way
    is_inside: bool
    lets: Right
    last: Decision | None
    kept: Right = Right.NONE


def _passages(terms: SystemTerms, chain: Sequence[Item], principal: Principal, *, is_folder: bool) -> list[_Passage]:
    start = entry_gates(principal)
    found: list[_Passage] = []
    admin: list[_Passage] = []
    override = terms.model.overrides(principal.holder)
    routes = _routes(terms, chain)
    for route in routes:
        before = list(start)
        if route.share is not None:
            before.append(share_gate(route.share, principal))
        before.append(mount_gate(terms, chain[-1].path))
        # What the gates before the lists let through caps all that lists could give.
        lets = pass_all(before)
        judged = _by_lists(terms, route.chain, principal, lets, is_folder)
        locks = lock_gates(terms, chain, is_folder=is_folder)
        gates = (*before, *judged.gates, *locks)
        # Of an account that may be closed, only what it would give is unknown (see `doubted`).
        is_unsure = any(gate.is_unsure for gate in before if gate.name != "account")
        is_stopped = any(gate.stops and not gate.is_unsure for gate in before)
        # Whoever is stopped for certain has nothing, whatever could not be seen further on.
        is_known = is_stopped or not (is_unsure or (lets and not judged.is_known))
        through = "" if route.share is None else route.share.name
        way = Way("share", principal, gates, pass_all(gates), is_known, None, through)
        # A flag that lets nothing go from a folder is one on its files too.
        kept = Right.DELETE if chain[-1].access_list.locked(is_folder=True) & Right.CLEAR else Right.NONE
        found.append(_Passage(doubted(way), judged.is_inside, lets, judged.last, kept))
        if override:
            gates = (*before, role_gate(terms, principal, override), *locks)
            # The root of a share stays, even to those who may do everything in it.
            rights = pass_all(gates) & ~(Right.DELETE if len(route.chain) == 1 else Right.NONE)
            way = admin_way(Way("admin", principal, gates, rights, True, None, through))
            admin.append(_Passage(doubted(way), True, lets & override.rights, None))
    if not routes:
        reason = Reason(Effect.STOPS, "no share", Right.NONE, "no share publishes this folder")
        gates = (*start, Gate("share", chain[-1].path, Right.NONE, (reason,)))
        found.append(_Passage(Way("share", principal, gates, Right.NONE), False, Right.NONE, None))
        if override:
            admin.append(_Passage(Way("admin", principal, gates, Right.NONE), False, Right.NONE, None))
    return found + admin


def _judge_files(files: Sequence[FileClass], passage: _Passage) -> list[Right]:
    """Return for each class of files what the way gives on each of its files; UNSURE where that is unknown."""
    way, folder = passage.way, passage.last
    if folder is None:
        # By a role no list is asked, and no file either, but for what flags keep from everybody.
        given = passage.lets & (Right.READ | Right.CHANGE)
        given |= Right.DELETE if way.rights & Right.CLEAR else Right.NONE
        return [given & ~each.access_list.locked(is_folder=False) for each in files]
    if not passage.is_inside or not passage.lets:
        return [Right.NONE] * len(files)
    judged = []
    for each in files:
        decision = judge(each.access_list, ItemContext(each.owner, False), way.principal.holder)
        removal, _ = _removal(folder, decision, each.owner, way.principal, passage.lets)
        rights = (decision.rights & (Right.READ | Right.VIEW | Right.CHANGE) | removal) & passage.lets
        rights &= ~(each.access_list.locked(is_folder=False) | passage.kept)
        judged.append(rights | (Right.UNSURE if decision.is_unsure else Right.NONE))
    return judged


def count_files(files: Sequence[FileClass], judged: Sequence[Right]) -> FileCounts | None:
    """Count the files by what may be done with them; None where that is unknown of any."""

    def having(right: Right) -> int:
        return sum(each.files for each, rights in zip(files, judged, strict=True) if rights & right)

    read = Right.READ | Right.VIEW

    if any(rights & Right.UNSURE for rights in judged):
        return None
    return FileCounts(sum(each.files for each in files), having(read), having(Right.CHANGE), having(Right.DELETE))


def access_to(
    chain: Sequence[Item],
    principals: Sequence[Principal],
    files: Sequence[FileClass] | None,
    *,
    terms: SystemTerms,
) -> Access:
    """Judge a person's access to a folder.

    Arguments: the folders from the root down to the one in question; the person's principals on
    this system; its files by list and owner, or None where they were not seen; the system's terms.
    """
    ways: list[Way] = []
    united = [Right.NONE] * len(files or ())
    for principal in principals:
        for passage in _passages(terms, chain, principal, is_folder=True):
            counts, judged = None, None
            way = passage.way
            if files is not None and way.is_known:
                judged = _judge_files(files, passage)
                united = [rights | more for rights, more in zip(united, judged, strict=True)]
                counts = count_files(files, judged)
            ways.append(replace(way, counts=counts, file_rights=None if judged is None else tuple(judged)))
    most = most_of(terms)
    all_known = files is not None and is_union_known(ways, most)
    if is_opened(ways, most):
        united = [rights & ~Right.UNSURE for rights in united]
    counts = count_files(files or (), united) if all_known else None
    person = principals[0].person if principals else ""
    numbers = None if files is None else tuple(each.files for each in files)
    return Access(person, tuple(ways), counts, True, tuple(united) if all_known else None, most, numbers)


def access_to_file(chain: Sequence[Item], principals: Sequence[Principal], *, terms: SystemTerms) -> Access:
    """Judge a person's access to one file, the last of `chain`; arguments as for `access_to`."""
    ways = [
        passage.way for principal in principals for passage in _passages(terms, chain, principal, is_folder=False)
    ]
    person = principals[0].person if principals else ""
    return Access(person, tuple(ways), None, is_folder=False, most=most_of(terms))
