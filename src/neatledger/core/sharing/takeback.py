"""Taking back: what is shared without a link, a hand-out, a membership or a person, and who then loses what."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from neatledger.core.access.bits import positions, rights_of_cell
from neatledger.core.access.everyone import Everyone
from neatledger.core.access.ways import Access
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.folder_ways import FolderWays
from neatledger.core.sharing.service import Service
from neatledger.core.survey.accounts import AccountState
from neatledger.core.survey.shared import HandOut, Link, Shared, TeamFolder
from neatledger.core.tree.address import parts_of
from neatledger.errors import UnknownNameError

__all__ = ["FileLoss", "Loss", "find_file_losses", "find_losses", "take_back", "without_principal"]

_ROWS = 8192


@dataclass(frozen=True, slots=True)
class Loss:
    """What one principal loses on one folder by one way, and what it keeps there by any."""

    folder: int
    principal: int
    way: str
    lost: Right
    kept: Right

    def is_like(self, other: Loss) -> bool:
        """Tell whether as much is lost and kept."""
        return (self.lost, self.kept) == (other.lost, other.kept)


@dataclass(frozen=True, slots=True)
class FileLoss:
    """What one principal loses by one way on a single file that is handed out or linked, and what they still have."""

    path: bytes
    principal: int
    way: str
    lost: Right
    kept: Right


def find_file_losses(path: bytes, before: FolderWays, after: FolderWays) -> Iterator[FileLoss]:
    """Yield what vanishes on one file for those to whom it is handed out or linked by itself."""
    people: dict[str, list[int]] = {}
    for number, principal in enumerate(before.service.principals):
        people.setdefault(principal.person, []).append(number)
    for number in sorted(before.of_file_alone):
        principal = before.service.principals[number]
        was, now = (_by_way(ways.access([number])) for ways in (before, after))
        for way, rights in was.items():
            lost = rights & ~now.get(way, Right.NONE)
            if lost:
                yield FileLoss(path, number, way, lost, after.access(people[principal.person]).rights)


def _by_way(access: Access) -> dict[str, Right]:
    found: dict[str, Right] = {}
    for way in access.ways:
        found[way.name] = found.get(way.name, Right.NONE) | way.rights
    return found


def take_back(service: Service, what: str) -> tuple[Service, str, bytes]:
    """Return a service without something, in words what that is, and the folder below which all of it counts.

    `what` is ``link:ID`` (or a fingerprint), ``hand-out:ID``, ``member:FOLDER=HOLDER`` or ``guest:LOGIN`` (any login,
    or the address of somebody outside); raises `UnknownNameError`.
    """
    sort, _, name = what.partition(":")
    shared = service.shared
    match sort:
        case "link":
            link = next((one for one in shared.links if name in (one.id, one.fingerprint)), None)
            if link is not None:
                links = tuple(one for one in shared.links if one is not link)
                return replace(service, shared=replace(shared, links=links)), f"the link {name}", _folder(link)
        case "hand-out":
            given = next((one for one in shared.hand_outs if one.id == name), None)
            if given is not None:
                hand_outs = tuple(one for one in shared.hand_outs if one is not given)
                after = replace(service, shared=replace(shared, hand_outs=hand_outs))
                return after, f"the hand-out {name}", _folder(given)
        case "member":
            path, _, holder = name.rpartition("=")
            team = _team_of(shared, path)
            if team is not None and any(one.holder == holder for one in team.members):
                members = tuple(one for one in team.members if one.holder != holder)
                teams = tuple(replace(one, members=members) if one is team else one for one in shared.teams)
                after = replace(service, shared=replace(shared, teams=teams))
                return after, f"the membership of {holder} in {path}", team.path
        case "guest":
            if name in service.numbers:
                return replace(service, principals=without_principal(service.principals, name)), f"{name}", b"/"
    raise UnknownNameError(f"{service.system} has no {what!r}", hint="links, guests and who show what there is")


def _folder(item: HandOut | Link) -> bytes:
    """Return the folder that something leads to; of a single file the one it lies in."""
    return (item.path.rpartition(b"/")[0] or b"/") if item.is_file else item.path


def _team_of(shared: Shared, name: str) -> TeamFolder | None:
    """Return a team folder by its path, or its name."""
    path = name.encode("utf-8", "surrogateescape").rstrip(b"/") or b"/"
    by_path = [team for team in shared.teams if team.path == path]
    return next(iter(by_path or [team for team in shared.teams if team.name == name]), None)


def without_principal(principals: Sequence[Principal], login: str) -> list[Principal]:
    """Return principals, that of a login closed for good."""
    closed = AccountState.DISABLED
    return [
        replace(principal, account=replace(principal.account, state=closed))
        if principal.account.login == login
        else principal
        for principal in principals
    ]


def find_losses(before: Everyone, after: Everyone, tops: Sequence[bytes] = (b"/",)) -> list[Loss]:
    """Return what vanishes from one table of access to another with the same columns, folders in reading order.

    Only some folders and those below them are looked at; those that are not there hold nothing.
    """
    found = []
    trees = before.matrix.order
    rows_of_tops = [trees.find_row(parts_of(path)) for path in tops]
    chosen = [trees.below(row) for row in rows_of_tops if row is not None]
    order = np.unique(trees.preorder[np.concatenate(chosen)]) if chosen else np.zeros(0, dtype=np.int64)
    order = trees.order[order]
    any_of = {column.principals[0]: place for place, column in enumerate(before.columns) if column.way == "any"}
    firsts = {
        principal: column.principals[0]
        for column in before.columns
        if column.way == "any"
        for principal in column.principals
    }
    for start in range(0, len(order), _ROWS):
        rows = order[start : start + _ROWS]
        was, _ = before.rights(rows)
        now, _ = after.rights(rows)
        lost = {right: bits & ~now[right] if right in now else bits for right, bits in was.items()}
        some = np.zeros_like(next(iter(lost.values())))
        for bits in lost.values():
            some |= bits
        places, columns = positions(some)
        for place, column in zip(places, columns, strict=True):
            way, principals = before.columns[column].way, before.columns[column].principals
            if way == "any":
                continue
            union = any_of[firsts[principals[0]]]
            found.append(
                Loss(
                    int(rows[place]),
                    principals[0],
                    way,
                    rights_of_cell(lost, place, column),
                    rights_of_cell(now, place, union),
                )
            )
    return found
