"""Everyone's rights on every folder at once.

People are bits: every right is an array of 64-bit words, `words` a folder, holder number i being bit
i % 64 of word i // 64. Each distinct list is evaluated once for everyone, in two forms (nobody owns the
item; each as if owning it), and spread over the folders by index; the right to enter is carried down the
tree level by level. Rights themselves are worked out for a block of folders when asked.

The rules are those of `ways.py`; a property test compares the two cell by cell.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property, reduce
from operator import or_
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import (
    Bits,
    Block,
    FoldedBits,
    ItemRows,
    Layer,
    RowIndex,
    Spread,
    carry_doubt,
    carry_down,
    pack_sets,
)
from neatledger.core.access.locks import Locks, without
from neatledger.core.access.shares import WRITING, Share, SystemTerms
from neatledger.core.access.ways import TELLING, most_of
from neatledger.core.lists.contract import AccessList, ListView
from neatledger.core.lists.doubt import judge_all, judge_owners
from neatledger.core.lists.holders import Crowd
from neatledger.core.lists.privileges import is_override_doubtful
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import parse_list
from neatledger.core.people.principals import Principal
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["FILE_SPREAD", "Matrix"]

_FOLDER = (
    Right.ENTER,
    Right.LIST,
    Right.READ,
    Right.ADD,
    Right.MANAGE,
    Right.CLEAR,
    Right.CLEAR_OWN,
    Right.DELETE,
    Right.UNSAID,
    Right.CLEAR_UNSAID,
    Right.UNSURE,
    # Only lists of roles tell these of folders.
    Right.CHANGE,
    Right.SHARE,
    Right.VIEW,
)
_FILE = (Right.READ, Right.CHANGE)
FILE_SPREAD = (*_FILE, Right.VIEW, Right.DELETE, Right.UNSAID, Right.UNSURE)
_OWN = (Right.LIST, Right.READ, Right.ADD, Right.MANAGE)
_GATED = (Right.NONE, *_OWN, Right.VIEW, Right.ENTER, Right.CHANGE, Right.DELETE, Right.CLEAR, Right.CLEAR_OWN)
_CHUNK = 65536


class Matrix:
    """The rights of `principals` in a tree.

    Arguments: the tables of folders and file classes; the bodies of the lists and the
    identifiers that owners' numbers stand for; the terms of the system. Raises `FormatError` where a
    stored list is damaged.
    """

    ways: tuple[str, ...] = ("share",)

    def __init__(
        self,
        folders: Table,
        classes: Table,
        lists: Sequence[bytes],
        idents: Sequence[str],
        principals: Sequence[Principal],
        *,
        terms: SystemTerms,
    ) -> None:
        self.model = terms.model
        self.folders = folders
        self.classes = classes
        self.principals = tuple(principals)
        self.terms = terms
        self.crowd = Crowd([principal.holder for principal in principals])
        self.words = max(1, (len(self.principals) + 63) // 64)
        self._lists = lists
        self._idents = idents
        self._folder_lists = self._spread(self._lists_of_folders(), _FOLDER, is_folder=True)
        self._owned = pack_sets([self.owners(ident) for ident in idents], self.words)
        overrides = [self.model.overrides(principal.holder) for principal in principals]
        self._overrides = [(number, given.rights) for number, given in enumerate(overrides) if given]
        self.admins = sum(1 << number for number, _ in self._overrides)
        # Whoever cannot come in has no right anywhere: cut once here and not on every folder.
        self._usable = sum(1 << n for n, principal in enumerate(principals) if principal.may_come_in)
        self.admin_bits: Bits = pack_sets([self.admins & self._usable], self.words)[0]
        self._layers = self._make_layers()
        # Lists of roles alone tell looking from reading.
        self._shown = (*_OWN, Right.VIEW) if Right.VIEW in self._folder_lists else _OWN

    def _lists_of_folders(self) -> NDArray[np.int32]:
        return self.folders["list"]

    def owners(self, ident: str) -> int:
        """Return the bit set of the principals that count as an owner."""
        owners = self.crowd.by_user.get(ident, 0)
        return owners | self.crowd.by_group.get(ident, 0) if self.model.groups_may_own else owners

    def _admins_with(self, right: Right) -> int:
        """Return the bit set of those who have a right whatever lists say."""
        return sum(1 << number for number, given in self._overrides if given & right)

    def _make_layers(self) -> list[Layer]:
        rows = self.folders.rows
        top = np.zeros(rows, dtype=bool)
        top[:1] = True
        if self.terms.shares is None:
            return [self._layer(None, [None], top)]
        found: list[tuple[Share, int]] = []
        for share in self.terms.shares:
            row = self.find_row(share.parts)
            if row is not None:
                found.append((share, row))
        # Outer shares first, so that every share knows how many lie over it.
        found.sort(key=lambda one: len(one[0].parts))
        depths: dict[int, list[tuple[Share, int]]] = {}
        for place, (share, row) in enumerate(found):
            # Shares in shares: a folder in several is reached through each, so each depth is a layer of its own.
            over = sum(other.parts == share.parts[: len(other.parts)] for other, _ in found[:place])
            depths.setdefault(over, []).append((share, row))
        layers = []
        for shares in depths.values():
            number = np.zeros(rows, dtype=np.int32)
            number[[row for _, row in shares]] = np.arange(1, len(shares) + 1)
            roots = number > 0
            self.order.spread_down(number)
            layers.append(self._layer(number, [None, *(share for share, _ in shares)], roots))
        return layers or [self._layer(np.zeros(rows, dtype=np.int32), [None], top)]

    def find_row(self, parts: Sequence[bytes]) -> int | None:
        """Return the row of a folder by the names on the way down to it."""
        return self.order.find_row(parts)

    def _layer(self, number: RowIndex | None, shares: Sequence[Share | None], roots: NDArray[np.bool_]) -> Layer:
        gates: dict[Right, list[int]] = {right: [] for right in _GATED}
        unsure: list[int] = []
        for share in shares:
            if share is not None:
                sets = share.decide_all(self.crowd)
            else:
                # Where there are shares, what lies in none of them is reached by nobody over the network.
                everyone = self.crowd.all if number is None else 0
                sets = dict.fromkeys(_GATED, everyone)
            unsure.append(sets.get(Right.UNSURE, 0) & self._usable)
            for right in _GATED:
                # A system mounted read-only takes writing from everybody, whatever shares and lists say.
                is_cut = self.terms.read_only and not self.terms.mounts and right & WRITING
                gates[right].append(0 if is_cut else sets[right] & self._usable)
        admin: dict[Right, Bits] = {}
        for right in _GATED[1:]:
            has = self._admins_with(right)
            admin[right] = pack_sets([each & has for each in gates[right]], self.words)
        packed = {right: pack_sets(each, self.words) for right, each in gates.items()}
        return Layer(number, packed, pack_sets(unsure, self.words), admin, roots)

    @cached_property
    def _file_lists(self) -> dict[Right, Spread]:
        return self._spread(self.classes["list"], FILE_SPREAD, is_folder=False)

    def _spread(self, used: NDArray[np.int32], rights: Sequence[Right], *, is_folder: bool) -> dict[Right, Spread]:
        sets = {right: ([0] * len(self._lists), [0] * len(self._lists)) for right in rights}
        # Only lists that some item has: a ledger keeps those of files and folders together.
        for number in np.flatnonzero(np.bincount(used)).tolist():
            for which, form in enumerate(judge_all(self._parse(number), self.crowd, is_folder=is_folder)):
                for right, who in form.items():
                    if right in sets:
                        sets[right][which][number] = who
        spreads: dict[Right, Spread] = {}
        for right, (other, owner) in sets.items():
            # Reading a folder is often listing it, and most lists say nothing of owners: packed once.
            twin = next((done for done in spreads if sets[done] == (other, owner)), None)
            if twin is not None:
                spreads[right] = spreads[twin]
            elif any(other) or any(owner):
                packed = pack_sets(other, self.words) if any(other) else None
                same = packed is not None and other == owner
                spreads[right] = Spread(packed, packed if same else pack_sets(owner, self.words))
        return spreads

    def _parse(self, number: int) -> AccessList:
        return parse_list(self.model.name, self._lists[number])

    def _items_at(self, rows: RowIndex) -> ItemRows:
        return ItemRows(self.folders["list"][rows], self._owned[self.folders["owner"][rows]])

    def _own(self, right: Right, items: ItemRows) -> Bits:
        spread = self._folder_lists.get(right)
        if spread is None:
            return np.zeros((len(items.lists), self.words), dtype=np.uint64)
        return spread.at(items.lists, items.owned)

    def own(self, right: Right, rows: RowIndex) -> Bits:
        """Return what the own lists of some folders say of a right."""
        return self._own(right, self._items_at(rows))

    @cached_property
    def order(self) -> TreeOrder:
        """The order of the folders."""
        return TreeOrder(self.folders)

    @property
    def levels(self) -> list[tuple[int, int]]:
        """The rows of each level, as first and end."""
        return self.order.levels

    @cached_property
    def _passing(self) -> list[FoldedBits]:
        """By layer, who gets inside each folder by its lists: may reach it, and enter it."""
        parent = self.folders["parent"]
        found = []
        for layer in self._layers:
            inside = FoldedBits(self.folders.rows, self.words)
            for level, (first, last) in enumerate(self.levels):
                for start in range(first, last, _CHUNK):
                    rows = np.arange(start, min(start + _CHUNK, last))
                    block = self.own(Right.ENTER, rows)
                    # Chunks of one level: all that they need of the level above is done.
                    block &= self._reach_of(layer, rows, inside[parent[rows]] if level else None)
                    inside.put(start, block)
            found.append(inside)
        return found

    @staticmethod
    def _reach_of(layer: Layer, rows: RowIndex, above: Bits | None) -> Bits:
        """Return who comes as far as some folders: whoever is inside the one above, or connects to a share here."""
        if above is None:
            above = np.zeros((len(rows), layer.unsure.shape[1]), dtype=np.uint64)
        roots = layer.roots[rows]
        # A share begins anew: whoever connects stands at its root, whatever lies above it on the disk.
        if roots.any():
            connects = layer.gate(Right.NONE, rows)
            above[roots] |= connects[roots] if len(connects) == len(rows) else connects
        return above

    def _reach(self, number: int, layer: Layer, rows: RowIndex, parent: RowIndex) -> Bits:
        if not self.terms.asks_enter:
            return layer.gate(Right.NONE, rows)
        return self._reach_of(layer, rows, self._passing[number][parent])

    def _inside(self, number: int, layer: Layer, rows: RowIndex) -> Bits:
        """Return who gets at the files of some folders."""
        return self._passing[number][rows] if self.terms.asks_enter else layer.gate(Right.NONE, rows)

    def _carried_down(self, own: NDArray[Any]) -> list[NDArray[Any]]:
        """Return a mark of folders carried down to those for which it matters, by layer."""
        parent, levels, is_whole_way = self.folders["parent"], self.levels, self.terms.asks_enter
        return [carry_down(own, layer, parent, levels, is_whole_way) for layer in self._layers]

    @cached_property
    def doubtful(self) -> NDArray[np.bool_]:
        """Folders whose own list, or one above them that matters, was not seen."""
        own = self.folders["state"] == SeenState.LIST_UNKNOWN
        found: NDArray[np.bool_] = np.logical_or.reduce(self._carried_down(own) if own.any() else [own])
        return found

    @cached_property
    def _doubts(self) -> list[Bits] | None:
        """By layer, for whom a folder's list is not known, or one above that matters; None where all are."""
        unseen = self.folders["state"] == SeenState.LIST_UNKNOWN
        if Right.UNSURE not in self._folder_lists and not self._doubtful_owners and not unseen.any():
            return None
        own = self.own(Right.UNSURE, np.arange(self.folders.rows))
        own = own | self._doubt_of_owners(self.folders["list"], self.folders["owner"], is_folder=True)
        own[unseen] = pack_sets([self.crowd.all], self.words)[0]
        if not self.terms.asks_enter:
            return [
                carry_down(own, layer, self.folders["parent"], self.levels, self.terms.asks_enter)
                for layer in self._layers
            ]
        stops = ~(own | self.own(Right.ENTER, np.arange(self.folders.rows)))
        return [carry_doubt(own, stops, layer, self.folders["parent"], self.levels) for layer in self._layers]

    @cached_property
    def _doubtful_owners(self) -> dict[int, str]:
        """The numbers of owners that are groups of which not all members were told."""
        if not self.model.groups_may_own or not self.crowd.maybe:
            return {}
        return {number: ident for number, ident in enumerate(self._idents) if ident in self.crowd.maybe}

    def _doubt_of_owners(self, lists: RowIndex, owner: RowIndex, *, is_folder: bool) -> Bits:
        """Return who may own items or not, by being in the group that does, where that changes what they have."""
        found = np.zeros((len(lists), self.words), dtype=np.uint64)
        for number, group in self._doubtful_owners.items():
            rows = np.flatnonzero(owner == number)
            used, place = np.unique(lists[rows], return_inverse=True)
            sets = [judge_owners(self._parse(one), self.crowd, group, is_folder=is_folder) for one in used.tolist()]
            found[rows] = pack_sets(sets, self.words)[place]
        return found

    @cached_property
    def roots(self) -> NDArray[np.bool_]:
        """Mark the folders that a share begins with, or the root where there are no shares."""
        marked = np.zeros(self.folders.rows, dtype=bool)
        for layer in self._layers:
            marked |= layer.roots
        return marked

    def _unknown(self, rows: RowIndex) -> Bits:
        found = np.zeros((len(rows), self.words), dtype=np.uint64)
        for number, layer in enumerate(self._layers):
            if layer.unsure.any():
                found |= layer.unsure_at(rows)
            if self._doubts is not None:
                # Unknown only for those whom the gates before the lists let as far as this.
                found |= self._doubts[number][rows] & layer.gate(Right.NONE, rows)
        return found

    @cached_property
    def most(self) -> Right:
        """What the whole system lets anybody have."""
        return most_of(self.terms)

    @cached_property
    def _doubtful_row(self) -> Bits | None:
        """The accounts of which nobody knows whether they are open; None where there are none."""
        found = sum(1 << n for n, principal in enumerate(self.principals) if principal.is_doubtful)
        return pack_sets([found], self.words)[0] if found else None

    @cached_property
    def _doubtful_admins(self) -> Bits | None:
        """The administrators of whom nobody knows whether their account is open, or whether they are one."""
        found = sum(
            1 << n
            for n, principal in enumerate(self.principals)
            if principal.is_doubtful or is_override_doubtful(self.model, principal.holder)
        )
        return pack_sets([found & self.admins], self.words)[0] if found & self.admins else None

    def with_doubt(self, rights: Mapping[Right, Bits], unknown: Bits) -> Bits:
        """Return what is unknown, with all that accounts would give of which nobody knows whether they are open."""
        if self._doubtful_row is None:
            return unknown
        given = [bits for right, bits in rights.items() if right & TELLING]
        return unknown | reduce(or_, given) & self._doubtful_row

    @cached_property
    def _locks(self) -> Locks | None:
        """What is kept from everybody; None where nothing is."""
        locking = [number for number, body in enumerate(self._lists) if self.model.may_lock(body)]
        if not locking and not self.terms.mounts:
            return None
        of_folders, of_files = (
            {number: self._parse(number).locked(is_folder=is_folder) for number in locking}
            for is_folder in (True, False)
        )
        return Locks(self.folders, self.order, self.terms, of_folders, of_files, len(self._lists))

    def block(self, rows: RowIndex) -> Block:
        """Return the rights of the way ``share`` on the folders `rows`."""
        parent = np.maximum(self.folders["parent"][rows], 0)
        here, over = self._items_at(rows), self._items_at(parent)
        rights: dict[Right, Bits] = {}
        for number, layer in enumerate(self._layers):
            reach = self._reach(number, layer, rows, parent)
            found: dict[Right, Bits] = {}
            found[Right.ENTER] = self._inside(number, layer, rows) & layer.gate(Right.ENTER, rows)
            if not self.terms.asks_enter:
                found[Right.ENTER] = found[Right.ENTER] & self._own(Right.ENTER, here)
            for right in self._shown:
                found[right] = self._own(right, here)
                found[right] &= layer.gate(right, rows)
                found[right] &= reach
            delete = self._removal(layer, rows, here, over, self._own(Right.DELETE, here), self._unsaid(here))
            delete &= reach
            # What a share begins with cannot be removed through it; by another share over it perhaps.
            delete[layer.roots[rows]] = 0
            found[Right.DELETE] = delete
            for right, bits in found.items():
                rights[right] = rights[right] | bits if number else bits
        if self._locks is not None:
            kept = self._locks.of_folders(rows)
            rights = {right: without(bits, right, kept) for right, bits in rights.items()}
        return Block(rights, self.with_doubt(rights, self._unknown(rows)))

    def _unsaid(self, items: ItemRows) -> Bits | None:
        return self._own(Right.UNSAID, items) if Right.CLEAR_UNSAID in self._folder_lists else None

    def _removal(
        self, layer: Layer, rows: RowIndex, here: ItemRows, over: ItemRows, own: Bits, unsaid: Bits | None
    ) -> Bits:
        """Return who may remove items: by their own lists (`own`), or by the folder they lie in (`over`)."""
        delete = own | self._own(Right.CLEAR, over) & layer.gate(Right.CLEAR, rows)
        if Right.CLEAR_OWN in self._folder_lists:
            # Sticky: the folder lets its owner remove all, and others what is theirs.
            delete |= self._own(Right.CLEAR_OWN, over) & here.owned & layer.gate(Right.CLEAR_OWN, rows)
        if unsaid is not None:
            delete |= self._own(Right.CLEAR_UNSAID, over) & unsaid & layer.gate(Right.ADD, rows)
        delete &= layer.gate(Right.DELETE, rows)
        return delete

    def blocks(self, rows: RowIndex) -> list[Block]:
        """Return the rights by each of `ways`: here there is one."""
        return [self.block(rows)]

    @property
    def marks(self) -> NDArray[np.bool_] | None:
        """The folders where rights may change though list and owner do not; here nothing else changes rights."""
        return None

    def file_blocks(self, folder: RowIndex, lists: RowIndex, owner: RowIndex) -> list[dict[Right, Bits]]:
        """Return what `file_bits` says by each of `ways`."""
        return [self.file_bits(folder, lists, owner)]

    def admin_block(self, right: Right, rows: RowIndex) -> Bits:
        """Return who has a right by the way ``admin``; nobody may remove what a share begins with."""
        found = np.zeros((len(rows), self.words), dtype=np.uint64)
        for layer in self._layers:
            bits = np.broadcast_to(layer.admin_at(right, rows), found.shape)
            if right is Right.DELETE:
                bits = np.where(layer.roots[rows][:, None], np.uint64(0), bits)
            found |= bits
        return found if self._locks is None else without(found, right, self._locks.of_folders(rows))

    def admin_files(self, right: Right, folder: RowIndex, lists: RowIndex) -> Bits:
        """Return who has a right on files by the way ``admin``, by their folder and list (a row each)."""
        # An administrator removes a file by the folder it lies in, and changes it whatever keeps that folder's items.
        asked = Right.CLEAR if right is Right.DELETE else right
        found = np.zeros((len(folder), self.words), dtype=np.uint64)
        for layer in self._layers:
            found |= np.broadcast_to(layer.admin_at(asked, folder), found.shape)
        return found if self._locks is None else without(found, right, self._locks.of_files(folder, lists))

    def admin_unknown(self, rows: RowIndex) -> Bits | None:
        """Return for whom it is not known what an administrator's way gives; None where that is told of all."""
        if self._doubtful_admins is None:
            return None
        return reduce(or_, [self.admin_block(right, rows) for right in _GATED[1:]]) & self._doubtful_admins

    def opened(self, rows: RowIndex) -> Bits:
        """Return to which administrators some folders are open whatever is not known of any other way."""
        found = np.broadcast_to(self.admin_bits, (len(rows), self.words))
        if self._doubtful_admins is not None:
            found = found & ~self._doubtful_admins
        for right in self.most:
            found = found & self.admin_block(right, rows)
        return found

    def file_bits(self, folder: RowIndex, lists: RowIndex, owner: RowIndex) -> dict[Right, Bits]:
        """Return who may read, change and delete files, by their folder, list and owner (a row each).

        Under `Right.UNSURE`, where there is any, for whom a file's list cannot be evaluated.
        """
        here, over = ItemRows(lists, self._owned[owner]), self._items_at(folder)
        found: dict[Right, Bits] = {}

        def own(right: Right) -> Bits:
            spread = self._file_lists.get(right)
            if spread is None:
                return np.zeros((len(lists), self.words), dtype=np.uint64)
            return spread.at(lists, here.owned)

        for number, layer in enumerate(self._layers):
            inside = self._inside(number, layer, folder)
            bits = {right: own(right) & inside & layer.gate(right, folder) for right in _FILE}
            if Right.VIEW in self._file_lists:
                bits[Right.VIEW] = own(Right.VIEW) & inside & layer.gate(Right.VIEW, folder)
            unsaid = own(Right.UNSAID) if Right.CLEAR_UNSAID in self._folder_lists else None
            bits[Right.DELETE] = self._removal(layer, folder, here, over, own(Right.DELETE), unsaid) & inside
            if Right.UNSURE in self._file_lists or self._doubtful_owners:
                doubt = self._doubt_of_owners(lists, owner, is_folder=False)
                bits[Right.UNSURE] = (own(Right.UNSURE) | doubt) & inside
            for right, each in bits.items():
                found[right] = found[right] | each if number else each
        if self._locks is not None:
            kept = self._locks.of_files(folder, lists)
            # No lock speaks of `Right.UNSURE`, which is no right.
            found = {right: without(bits, right, kept) for right, bits in found.items()}
        return found

    def view(self, number: int, *, is_folder: bool) -> ListView:
        """Return what the checks want to know of a list."""
        return self._parse(number).view(is_folder=is_folder)

    @property
    def idents(self) -> Sequence[str]:
        """The identifiers that owners' numbers stand for."""
        return self._idents
