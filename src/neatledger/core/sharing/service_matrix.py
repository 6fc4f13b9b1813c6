"""Everyone's rights on every folder of a service at once, by the ways `share`, `team`, `handed`, `link`.

Rights change only at marked folders: where a team folder begins, a list changes, a hand-out or link leads, or a rule
stands. Hand-outs need the giver's own rights, which lists and shares make differ from folder to folder: so for
each distinct pair of (nearest marked folder, own rights of the givers there) they are settled once.

The rules are those of `ways.py`; a property test compares the two cell by cell.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property, reduce
from operator import or_
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, Block, RowIndex, pack_sets
from neatledger.core.access.matrix import FILE_SPREAD, Matrix
from neatledger.core.access.shares import WRITING, SystemTerms
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.plan.rules import RuleOn
from neatledger.core.sharing.backing import BackingShares, BackingSystem
from neatledger.core.sharing.chains import ResolvedHandOut, file_cap
from neatledger.core.sharing.hand_out_table import HandOutTable, scatter
from neatledger.core.sharing.holders import is_account
from neatledger.core.sharing.service import Parts, Service
from neatledger.core.survey.shared import HandOut, Link, Member, Reply, TeamFolder
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import Table, folder_paths

__all__ = ["ServiceMatrix"]

_FOLDER = (
    Right.ENTER,
    Right.LIST,
    Right.READ,
    Right.VIEW,
    Right.ADD,
    Right.CHANGE,
    Right.DELETE,
    Right.SHARE,
    Right.MANAGE,
    Right.CLEAR,
)
_FILE = (Right.READ, Right.VIEW, Right.CHANGE, Right.DELETE)
_WAYS = ("share", "team", "handed", "link")


class ServiceMatrix(Matrix):
    """The rights of a service's principals in its tree.

    Further arguments: the service, and the systems beneath its team folders by name (one that is not there makes
    what lies over it unknown). With `is_narrow` all ways but an administrator's are one, as checks want them.
    """

    def __init__(
        self,
        folders: Table,
        classes: Table,
        lists: Sequence[bytes],
        idents: Sequence[str],
        *,
        terms: SystemTerms,
        service: Service,
        backing: Mapping[str, BackingSystem],
        is_narrow: bool,
    ) -> None:
        super().__init__(folders, classes, lists, idents, service.principals, terms=terms)
        self.service = service
        self.ways = ("share",) if is_narrow else _WAYS
        self._backing_systems = backing
        accounts = sum(1 << n for n, principal in enumerate(self.principals) if is_account(principal))
        # A service that is switched off gives nothing to anybody.
        running = accounts if service.shared.is_running else 0
        self._own_mask = pack_sets([running & self._usable], self.words)[0]
        is_open = sum(1 << n for n, principal in enumerate(self.principals) if principal.is_open)
        # An administrator needs neither licence nor the service for themselves; but it must run.
        runs = service.shared.is_running
        self._admin_row = pack_sets([self.admins & is_open if runs else 0], self.words)[0]
        self._own_classes = classes
        self.classes = self._backing.with_classes(classes)
        self.folders = self._backing.with_states(folders)

    @cached_property
    def _file_lists(self) -> dict[Right, Any]:
        # Of the service's own files alone: what lies beneath has lists of the share.
        return self._spread(self._own_classes["list"], FILE_SPREAD, is_folder=False)

    @cached_property
    def _locks(self) -> None:
        # Lists of roles know no flags, and a service has nothing mounted in it.
        return None

    # Where what begins ------------------------------------------------------------------------------

    @cached_property
    def _rows_known(self) -> dict[Parts, int | None]:
        """The rows of all folders that anything of the service begins with."""
        shared = self.service.shared
        found = [team.parts for team in shared.teams]
        found += [parts_of(rule.path) for rule in shared.rules if rule.on is RuleOn.FOLDER]
        for each in (shared.hand_outs, shared.links):
            found += [parts_of(one.path) for one in each if not one.is_file]
        return self.order.find_many(found)

    def _row_of(self, parts: Parts) -> int | None:
        return self._rows_known.get(parts)

    def _spread_down(self, at: Mapping[int, int]) -> RowIndex:
        """Give every folder the number of the nearest marked folder at or above it, 0 where there is none."""
        number = np.zeros(self.folders.rows, dtype=np.int32)
        if at:
            number[list(at)] = list(at.values())
            self.order.spread_down(number)
        return number

    @cached_property
    def _teams(self) -> tuple[RowIndex, list[TeamFolder]]:
        """By folder the number of its team folder (from 1), and the team folders."""
        at: dict[int, int] = {}
        teams = []
        for team in self.service.shared.teams:
            row = self._row_of(team.parts)
            if row is not None:
                teams.append(team)
                at[row] = len(teams)
        return self._spread_down(at), teams

    @cached_property
    def _role_bits(self) -> dict[Right, Bits]:
        """By right and number of team folder, who has it as a member; the gates before lists are in it."""
        return self._pack_roles(self.service.member_numbers)

    @cached_property
    def _most_role_bits(self) -> dict[Right, Bits] | None:
        """The same if all are in the groups of which nobody told whether they are; None where that is no question."""
        service = self.service
        if not any(service.perhaps_numbers(member) for team in self._teams[1] for member in team.members):
            return None
        return self._pack_roles(lambda member: {*service.member_numbers(member), *service.perhaps_numbers(member)})

    def _pack_roles(self, numbers_of: Callable[[Member], Iterable[int]]) -> dict[Right, Bits]:
        _, teams = self._teams
        # Number 0 is no team folder, and gives nobody anything.
        sets: dict[Right, list[int]] = {right: [0] for right in _FOLDER}
        day = self.service.day
        for team in teams:
            mine = dict.fromkeys(_FOLDER, 0)
            if not team.why_closed(day):
                for member in team.members:
                    # Invited is not yet a member: the role counts from the day it is accepted.
                    if member.reply is not Reply.ACCEPTED:
                        continue
                    who = sum(1 << number for number in numbers_of(member))
                    for right in _FOLDER:
                        mine[right] |= who if member.rights & right else 0
            for right in _FOLDER:
                is_cut = self.terms.read_only and right & WRITING
                sets[right].append(0 if is_cut else mine[right])
        return {right: pack_sets(each, self.words) & self._own_mask for right, each in sets.items()}

    @cached_property
    def _backing(self) -> BackingShares:
        return BackingShares(
            self,
            *self._teams,
            {team.path: self._row_of(team.parts) for team in self._teams[1]},
            self._backing_systems,
        )

    # Own rights: lists and roles ---------------------------------------------------------------------

    def _own_blocks(self, rows: RowIndex) -> tuple[dict[Right, Bits], dict[Right, Bits], Bits]:
        """Return what the ways `share` and `team` give on some folders, and for whom that is unknown."""
        share, team, unknown = self._blocks_by_roles(rows, self._role_bits)
        if self._most_role_bits is not None:
            _, most, doubts = self._blocks_by_roles(rows, self._most_role_bits)
            unknown = reduce(or_, (most[right] ^ team[right] for right in _FOLDER), unknown | doubts)
        return share, team, unknown

    def _blocks_by_roles(
        self, rows: RowIndex, role_bits: Mapping[Right, Bits]
    ) -> tuple[dict[Right, Bits], dict[Right, Bits], Bits]:
        number = self._teams[0][rows]
        is_in = (number > 0)[:, None]
        by_list = super().block(rows)
        nothing = np.zeros((len(rows), self.words), dtype=np.uint64)
        share: dict[Right, Bits] = {}
        team: dict[Right, Bits] = {}
        roles, opens = nothing.copy(), nothing.copy()
        parent = np.maximum(self.folders["parent"][rows], 0)
        # Inside a team folder the folder above decides what goes; over its top nobody is asked.
        is_inside = is_in & (self._teams[0][parent] == number)[:, None] & (self.folders["parent"][rows] >= 0)[:, None]
        for right in _FOLDER:
            lists = by_list.rights.get(right)
            if lists is None:
                lists = self.own(right, rows)
                lists = nothing if self.terms.read_only and right & WRITING else lists
            # Inside a team folder roles decide, and the way by lists alone is closed.
            share[right] = np.where(is_in, nothing, lists & self._own_mask)
            role = role_bits[right][number]
            # Whoever has any role in it is let in; only then can a list that was not seen matter to them.
            roles |= role
            says = self.own(right, rows)
            if right is Right.DELETE:
                above = self.own(Right.CLEAR, parent)
                says = np.where(is_inside, above, says | self.own(Right.CLEAR, rows))
            team[right] = role & says
            opens |= says
        # In a team folder the folder's own list counts, and the one above it for what goes.
        doubts = self._own_doubts(rows) | np.where(is_inside, self._own_doubts(parent), np.uint64(0))
        unknown = np.where(is_in, doubts & roles, by_list.unknown & self._own_mask)
        beneath_unknown, is_closed = self._backing.cut(rows, team, roles)
        # Where the list or the share beneath lets nothing through for certain, what others do not tell is no matter.
        stopped = ~opens & ~doubts | is_closed
        unknown = (unknown | beneath_unknown) & ~np.where(is_in, stopped, np.uint64(0))
        no_download = self._no_download[number]
        if no_download.any():
            team[Right.READ][no_download] = 0
        return share, team, unknown

    def _own_doubts(self, rows: RowIndex) -> Bits:
        """Return for whom the own lists of some folders are not known."""
        unseen = np.where(self.folders["state"][rows] == SeenState.LIST_UNKNOWN, ~np.uint64(0), np.uint64(0))
        return self.own(Right.UNSURE, rows) | unseen[:, None]

    @cached_property
    def _no_download(self) -> NDArray[np.bool_]:
        return np.array([False, *(not team.download for team in self._teams[1])])

    def _own_files(
        self, folder: RowIndex, lists: RowIndex, owner: RowIndex
    ) -> tuple[dict[Right, Bits], dict[Right, Bits], Bits]:
        """Return the same for files, by their folder, list and owner."""
        share, team, unsure = self._files_by_roles(folder, lists, owner, self._role_bits)
        if self._most_role_bits is not None:
            _, most, doubts = self._files_by_roles(folder, lists, owner, self._most_role_bits)
            unsure = reduce(or_, (most[right] ^ team[right] for right in _FILE), unsure | doubts)
        return share, team, unsure

    def _files_by_roles(
        self, folder: RowIndex, lists: RowIndex, owner: RowIndex, role_bits: Mapping[Right, Bits]
    ) -> tuple[dict[Right, Bits], dict[Right, Bits], Bits]:
        number = self._teams[0][folder]
        nothing = np.zeros((len(folder), self.words), dtype=np.uint64)
        share, team = ({right: nothing.copy() for right in _FILE} for _ in range(2))
        unsure = nothing.copy()
        roles = {right: role_bits[_on_folder(right)][number] for right in _FILE}
        # Files over a share have the share's lists, which the systems beneath judge.
        native = np.flatnonzero(self._backing.over[folder] == 0)
        if len(native):
            bits = super().file_bits(folder[native], lists[native], owner[native])
            is_in = (number[native] > 0)[:, None]
            for right, given in bits.items():
                if right is not Right.UNSURE:
                    share[right][native] = np.where(is_in, np.uint64(0), given & self._own_mask)
                    team[right][native] = given & roles[right][native]
            if Right.UNSURE in bits:
                some = np.where(is_in, reduce(or_, roles.values())[native], self._own_mask)
                unsure[native] = bits[Right.UNSURE] & some
        let_in = nothing.copy()
        for here, bits in self._backing.files(folder, lists, owner):
            for right in _FILE:
                lists_say = self.own(_on_folder(right), folder[here]) & roles[right][here]
                team[right][here] |= bits[Right.READ if right is Right.VIEW else right] & lists_say
                let_in[here] |= lists_say
            if Right.UNSURE in bits:
                unsure[here] |= bits[Right.UNSURE] & let_in[here]
        team[Right.READ][self._no_download[number]] = 0
        return share, team, unsure

    # Hand-outs ---------------------------------------------------------------------------------------

    @cached_property
    def _marks(self) -> tuple[RowIndex, list[int], list[list[ResolvedHandOut]], list[list[Link]]]:
        """By folder the number of its nearest marked folder; by mark its row, its hand-outs and its links."""
        starts: dict[int, tuple[list[HandOut], list[Link]]] = {}
        day = self.service.day
        for one in self.service.shared.hand_outs:
            row = self._row_of(parts_of(one.path)) if not one.is_file and one.is_live(day) else None
            if row is not None:
                starts.setdefault(row, ([], []))[0].append(one)
        for link in self.service.shared.links:
            row = self._row_of(parts_of(link.path)) if not link.is_file and not link.why_dead(day) else None
            if row is not None:
                starts.setdefault(row, ([], []))[1].append(link)
        for rule in self.service.shared.rules:
            row = self._row_of(parts_of(rule.path)) if rule.on is RuleOn.FOLDER else None
            if row is not None:
                starts.setdefault(row, ([], []))
        parent = self.folders["parent"]
        order = sorted(starts)
        number = {row: place for place, row in enumerate(order, start=1)}
        handed: list[list[HandOut]] = [[]]
        links: list[list[Link]] = [[]]
        mark_above = self._spread_down(number)
        ready: list[list[ResolvedHandOut]] = [[]]
        # Rules of folders make a hand-out count differently from one folder to the next.
        has_rules = any(rule.on is RuleOn.FOLDER for rule in self.service.shared.rules)
        for row in order:
            above = int(mark_above[parent[row]]) if row else 0
            # What was handed out above counts here too, whatever was handed out in between.
            handed.append([*handed[above], *starts[row][0]])
            links.append([*links[above], *starts[row][1]])
            if has_rules:
                ready.append(self.service.resolve(handed[-1], self._path_of(row)))
            else:
                ready.append([*ready[above], *self.service.resolve(starts[row][0], self._path_of(row))])
        return mark_above, order, ready, links

    @cached_property
    def _path_of(self) -> Callable[[int], bytes]:
        return folder_paths(self.folders)

    @cached_property
    def _handed(self) -> HandOutTable:
        return HandOutTable(self._marks[2], self.words)

    # Links -------------------------------------------------------------------------------------------

    @cached_property
    def _link_bits(self) -> tuple[dict[Right, Bits], dict[Right, Bits]]:
        """By mark, who has which right by links: on folders, and on their files."""
        _, order, _, links = self._marks
        on_folders: list[dict[int, int]] = [{}]
        on_files: list[dict[int, int]] = [{}]
        for row, here in zip(order, links[1:], strict=True):
            folders: dict[int, int] = {}
            files: dict[int, int] = {}
            for link in here:
                for number in self.service.link_principals(link):
                    given = self.service.link_rights(link, self._path_of(row), number) & EVERY_RIGHT
                    given |= Right.UNSURE if link.is_doubtful and given else Right.NONE
                    folders[number] = folders.get(number, 0) | given
                    files[number] = files.get(number, 0) | file_cap(given)
            on_folders.append(folders)
            on_files.append(files)
        rights = (*_FOLDER, Right.UNSURE)
        return scatter(on_folders, rights, self.words), scatter(on_files, _FILE, self.words)

    # All together ------------------------------------------------------------------------------------

    def blocks(self, rows: RowIndex) -> list[Block]:
        """Return the rights by each of `ways`."""
        found = self._all_blocks(rows)
        return found if len(self.ways) > 1 else [_unite(found)]

    def block(self, rows: RowIndex) -> Block:
        """Return the rights by any way but an administrator's."""
        return _unite(self._all_blocks(rows))

    def _all_blocks(self, rows: RowIndex) -> list[Block]:
        share, team, unknown = self._own_blocks(rows)
        unknown = self.with_doubt(_unite_rights([share, team]), unknown)
        marks = self._marks[0][rows]
        # Givers give of what they have by lists and roles; links are nobody's own and cannot be handed on.
        own = {right: share[right] | team[right] for right in _FOLDER} | {Right.UNSURE: unknown}
        handed = self._handed.bits(marks, own, (*_FOLDER, Right.UNSURE), of_files=False)
        links = {right: bits[marks] for right, bits in self._link_bits[0].items()}
        nothing = np.zeros_like(unknown)
        is_in = (self._teams[0][rows] > 0)[:, None]
        return [
            Block(share, np.where(is_in, nothing, unknown)),
            Block(team, np.where(is_in, unknown, nothing)),
            Block(handed, self.with_doubt(handed, handed.pop(Right.UNSURE))),
            Block(links, self.with_doubt(links, links.pop(Right.UNSURE))),
        ]

    def file_blocks(self, folder: RowIndex, lists: RowIndex, owner: RowIndex) -> list[dict[Right, Bits]]:
        """Return who may read, look at, change and remove files, by each of `ways`."""
        found = self._all_files(folder, lists, owner)
        if len(self.ways) > 1:
            return found
        return [_unite_rights(found)]

    def _all_files(self, folder: RowIndex, lists: RowIndex, owner: RowIndex) -> list[dict[Right, Bits]]:
        share, team, unsure = self._own_files(folder, lists, owner)
        marks = self._marks[0][folder]
        own = {right: share[right] | team[right] for right in _FILE} | {Right.UNSURE: unsure}
        handed = self._handed.bits(marks, own, (*_FILE, Right.UNSURE), of_files=True)
        links = {right: bits[marks] for right, bits in self._link_bits[1].items()}
        # What is not known is so by the way that is open there: in a team folder by its roles, else by lists alone.
        is_in = (self._teams[0][folder] > 0)[:, None]
        return [
            share | {Right.UNSURE: np.where(is_in, np.uint64(0), unsure)},
            team | {Right.UNSURE: np.where(is_in, unsure, np.uint64(0))},
            handed,
            links,
        ]

    def file_bits(self, folder: RowIndex, lists: RowIndex, owner: RowIndex) -> dict[Right, Bits]:
        """Return the same by any way but an administrator's."""
        return _unite_rights(self._all_files(folder, lists, owner))

    def admin_block(self, right: Right, rows: RowIndex) -> Bits:
        """Return who has a right by the way ``admin``."""
        has = self._admins_with(right)
        row = pack_sets([0 if self.terms.read_only and right & WRITING else has], self.words)[0] & self._admin_row
        return np.broadcast_to(row, (len(rows), self.words))

    def admin_files(self, right: Right, folder: RowIndex, lists: RowIndex) -> Bits:
        """Return who has a right on files by the way ``admin``."""
        return self.admin_block(_on_folder(right), folder)

    def admin_unknown(self, rows: RowIndex) -> Bits | None:
        """Return for whom it is not known what an administrator's way gives; None where that is told of all."""
        if self._doubtful_admins is None:
            return None
        return np.broadcast_to(self._admin_row & self._doubtful_admins, (len(rows), self.words))

    def opened(self, rows: RowIndex) -> Bits:
        """Return to which administrators everything is open whatever is not known of any other way."""
        found = self.admin_block(Right.LIST, rows)
        if self._doubtful_admins is not None:
            found = found & ~self._doubtful_admins
        for right in self.most:
            found = found & self.admin_block(right, rows)
        return found

    @property
    def marks(self) -> NDArray[np.bool_]:
        """The folders where rights may change though list and owner do not."""
        rows = self.folders.rows
        marked = np.zeros(rows, dtype=bool)
        marked[self._marks[1]] = True
        number, _ = self._teams
        parent = self.folders["parent"]
        marked[1:] |= number[1:] != number[parent[1:]]
        return marked | self._backing.may_differ()


def _on_folder(right: Right) -> Right:
    """Return the right on a folder that stands for one on its files."""
    return Right.CLEAR if right is Right.DELETE else right


def _unite_rights(found: Iterable[Mapping[Right, Bits]]) -> dict[Right, Bits]:
    united: dict[Right, Bits] = {}
    for bits in found:
        for right, each in bits.items():
            united[right] = united[right] | each if right in united else each
    return united


def _unite(blocks: Sequence[Block]) -> Block:
    unknown = reduce(or_, [block.unknown for block in blocks])
    return Block(_unite_rights(block.rights for block in blocks), unknown)
