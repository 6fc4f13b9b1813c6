"""Effective access of one account to one folder or file: ways, gates, and the reasons of each gate.

The answer is the explanation: `Way.rights` is what passes all its gates, and nothing else computes it.
`matrix.py` asks the same rules for everyone and everything at once and must agree.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.core.columns import SeenState
from neatledger.core.lists.contract import Decision, Effect, ListModel, Reason, Standing
from neatledger.core.people import Seat
from neatledger.core.rights import EVERY_RIGHT, Level, Right, level_of, level_of_file

__all__ = ["Access", "FileClass", "FileCounts", "Gate", "Item", "Way", "access_to", "access_to_file"]


@dataclass(frozen=True, slots=True)
class Item:
    """A folder on the way, or the last item itself: its path, its parsed list and its owner."""

    path: bytes
    parsed: object
    owner: str
    state: SeenState = SeenState.WHOLE


@dataclass(frozen=True, slots=True)
class FileClass:
    """Files of one folder that share a list and an owner."""

    parsed: object
    owner: str
    files: int


@dataclass(frozen=True, slots=True)
class Gate:
    """One gate: what it asks, where it stands, the rights that it lets through, and why."""

    name: str
    place: bytes
    passes: Right
    reasons: tuple[Reason, ...]

    @property
    def stops(self) -> bool:
        """Tell whether nothing passes."""
        return not self.passes


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
    seat: Seat
    gates: tuple[Gate, ...]
    rights: Right
    is_known: bool = True
    counts: FileCounts | None = None

    @property
    def first_stop(self) -> Gate | None:
        """Return the first gate that lets nothing through."""
        return next((gate for gate in self.gates if gate.stops), None)

    @property
    def decided_by(self) -> tuple[Gate, Reason | None]:
        """Return the gate that decided, the first that stops or else the last, and its telling entry."""
        gate = self.first_stop or self.gates[-1]
        said = [reason for reason in gate.reasons if reason.effect is not Effect.LIMITS]
        # Of several entries the one that gives the most decided.
        reason = max(said, key=lambda each: (each.effect is Effect.GRANTS, each.rights.bit_count()), default=None)
        return gate, reason


@dataclass(frozen=True, slots=True)
class Access:
    """Every way of one person to one item, and their union."""

    person: str
    ways: tuple[Way, ...]
    counts: FileCounts | None
    is_folder: bool = True

    @property
    def rights(self) -> Right:
        """Return the rights that any way gives."""
        rights = Right.NONE
        for way in self.ways:
            rights |= way.rights
        return rights

    @property
    def is_known(self) -> bool:
        """Tell whether every way could be judged."""
        return all(way.is_known for way in self.ways)

    def level_of(self, way: Way | None) -> Level:
        """Return the name of what one way gives, or (None) all of them together."""
        is_known = self.is_known if way is None else way.is_known
        if not is_known:
            return Level.UNKNOWN
        rights = self.rights if way is None else way.rights
        return level_of(rights) if self.is_folder else level_of_file(rights)


def _account_gate(seat: Seat) -> Gate:
    state = seat.account.state.value
    if seat.is_open:
        return Gate("account", b"", EVERY_RIGHT, (Reason(Effect.GRANTS, seat.account.login, EVERY_RIGHT, state),))
    return Gate("account", b"", Right.NONE, (Reason(Effect.STOPS, seat.account.login, Right.NONE, state),))


_WRITING = Right.ADD | Right.CHANGE | Right.DELETE | Right.CLEAR | Right.CLEAR_OWN | Right.MANAGE


def _system_gate(read_only: bool) -> Gate:
    if read_only:
        reason = Reason(Effect.LIMITS, "read-only", _WRITING, "the whole system is mounted read-only")
        return Gate("system", b"", EVERY_RIGHT & ~_WRITING, (reason,))
    return Gate("system", b"", EVERY_RIGHT, ())


def _removal(above: Decision | None, owner: str, seat: Seat) -> tuple[Right, tuple[Reason, ...]]:
    """Judge removal or renaming of an item, by the folder it lies in."""
    if above is None:
        return Right.NONE, (
            Reason(Effect.STOPS, "root", Right.NONE, "the root of a share cannot be removed through it"),
        )
    if above.rights & Right.CLEAR:
        return Right.DELETE, (Reason(Effect.GRANTS, "folder above", Right.DELETE, "its items may be removed"),)
    if above.rights & Right.CLEAR_OWN and owner == seat.holder.user:
        return Right.DELETE, (
            Reason(Effect.GRANTS, "folder above", Right.DELETE, "sticky, and this item is one's own"),
        )
    return Right.NONE, ()


def _by_lists(model: ListModel, chain: Sequence[Item], seat: Seat, *, is_folder: bool) -> tuple[list[Gate], bool]:
    """Return the gates of the lists on the way down and of the item itself, and whether all were seen."""
    gates: list[Gate] = []
    above: Decision | None = None
    for item in chain[:-1]:
        above = model.decide(item.parsed, Standing(item.owner, True), seat.holder)
        enters = bool(above.rights & Right.ENTER)
        gates.append(Gate("enter", item.path, EVERY_RIGHT if enters else Right.NONE, above.reasons))
    last = chain[-1]
    decision = model.decide(last.parsed, Standing(last.owner, is_folder), seat.holder)
    removal, reasons = _removal(above, last.owner, seat)
    gates.append(Gate("list", last.path, decision.rights | removal, decision.reasons + reasons))
    return gates, all(item.state is not SeenState.LIST_UNKNOWN for item in chain)


def _pass_all(gates: Sequence[Gate]) -> Right:
    rights = EVERY_RIGHT
    for gate in gates:
        rights &= gate.passes
    return rights


def _ways(model: ListModel, chain: Sequence[Item], seat: Seat, read_only: bool, *, is_folder: bool) -> list[Way]:
    before = [_account_gate(seat), _system_gate(read_only)]
    lists, known = _by_lists(model, chain, seat, is_folder=is_folder)
    gates = (*before, *lists)
    rights = _pass_all(gates)
    is_stopped_before = not _pass_all(before)
    ways = [Way("share", seat, gates, rights, known or is_stopped_before)]
    override = model.overrides(seat.holder)
    if override:
        reason = Reason(Effect.GRANTS, f"uid {seat.holder.user}", override, "the superuser, whatever the lists say")
        gates = (*before, Gate("role", b"", override, (reason,)))
        rights = _pass_all(gates)
        if len(chain) == 1:
            rights &= ~Right.DELETE
        ways.append(Way("admin", seat, gates, rights))
    return ways


def _judge_files(model: ListModel, files: Sequence[FileClass], way: Way) -> list[Right]:
    """Return for each class of files what the way gives on each of its files."""
    if way.name == "admin":
        given = way.rights & (Right.READ | Right.CHANGE)
        return [given | (Right.DELETE if way.rights & Right.CLEAR else Right.NONE)] * len(files)
    if not way.rights & Right.ENTER:
        return [Right.NONE] * len(files)
    before = _pass_all([gate for gate in way.gates if gate.name != "list"])
    judged = []
    for each in files:
        rights = model.decide(each.parsed, Standing(each.owner, False), way.seat.holder).rights & before
        clears = way.rights & Right.CLEAR or (way.rights & Right.CLEAR_OWN and each.owner == way.seat.holder.user)
        judged.append(rights & (Right.READ | Right.CHANGE) | (Right.DELETE if clears else Right.NONE))
    return judged


def _count(files: Sequence[FileClass], judged: Sequence[Right]) -> FileCounts:
    def having(right: Right) -> int:
        return sum(each.files for each, rights in zip(files, judged, strict=True) if rights & right)

    return FileCounts(
        sum(each.files for each in files), having(Right.READ), having(Right.CHANGE), having(Right.DELETE)
    )


def access_to(
    model: ListModel,
    chain: Sequence[Item],
    seats: Sequence[Seat],
    files: Sequence[FileClass] | None,
    *,
    read_only: bool = False,
) -> Access:
    """Judge a person's access to a folder.

    Arguments: the list model; the folders from the root down to the one in question; the person's seats on
    this system; its files by list and owner, or None where they were not seen; a system mounted read-only.
    """
    ways: list[Way] = []
    united = [Right.NONE] * len(files or ())
    for seat in seats:
        for way in _ways(model, chain, seat, read_only, is_folder=True):
            counts = None
            if files is not None and way.is_known:
                judged = _judge_files(model, files, way)
                united = [rights | more for rights, more in zip(united, judged, strict=True)]
                counts = _count(files, judged)
            ways.append(Way(way.name, way.seat, way.gates, way.rights, way.is_known, counts))
    all_known = files is not None and all(way.is_known for way in ways)
    return Access(seats[0].person if seats else "", tuple(ways), _count(files or (), united) if all_known else None)


def access_to_file(
    model: ListModel, chain: Sequence[Item], seats: Sequence[Seat], *, read_only: bool = False
) -> Access:
    """Judge a person's access to one file, the last of `chain`; arguments as for `access_to`."""
    ways = [way for seat in seats for way in _ways(model, chain, seat, read_only, is_folder=False)]
    return Access(seats[0].person if seats else "", tuple(ways), None, is_folder=False)
