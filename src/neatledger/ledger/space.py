"""What one system uses, as one count saw it: from the totals that the count keeps, or worked out anew.

A count keeps totals of all there is. Where the plan tells versions, bins and snapshots apart, or says that a
tree is counted elsewhere, figures are worked out from the count's items; both ways give the same where both
can be gone.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.shares import shares_within
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import On
from neatledger.core.plan.space import SameAs, Sort, SpaceRules
from neatledger.core.space.figures import FIGURES, NOTHING, Figures
from neatledger.core.space.limit_table import PoolFolders, held_by_sums
from neatledger.core.space.usage import FOLDERS, OTHERS, Again, Items, Usage
from neatledger.core.survey.accounts import Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import LARGE_BYTES
from neatledger.core.tree.patterns import match_folders
from neatledger.core.tree.table import Table, folder_paths
from neatledger.ledger.apart import ApartTrees
from neatledger.ledger.reader import SurveyReader

__all__ = ["SpaceView", "find_again"]

_KIND_WORDS = {OTHERS: "(links and others)", FOLDERS: "(folders)"}


def find_again(reader: SurveyReader, same: Sequence[SameAs]) -> list[Again]:
    """Return the folders of a system that are counted elsewhere: by the plan, or by where its shares lie."""
    found: dict[int, int] = {}
    pairs = [(one.folder, one.same_as) for one in same if one.folder.system == reader.system]
    pairs += _shares_within_shares(reader)
    for folder, same_as in pairs:
        row = reader.find_row(folder.path)
        if row is not None:
            there = reader.find_row(same_as.path) if same_as.system == reader.system else None
            found.setdefault(row, -1 if there is None else there)
    return [Again(row, there) for row, there in found.items()]


def _shares_within_shares(reader: SurveyReader) -> list[tuple[Address, Address]]:
    found: dict[Address, Address] = {}
    for share, other in shares_within(reader.terms.shares or ()):
        inside = share.place.replace("\\", "/").rstrip("/")[len(other.place.rstrip("/\\")) :]
        path = other.path.rstrip(b"/") + os.fsencode(inside)
        found.setdefault(Address(reader.system, share.path), Address(reader.system, path))
    return list(found.items())


class SpaceView:
    """One system of one count, with the plan's rules of counting."""

    def __init__(
        self,
        reader: SurveyReader,
        rules: SpaceRules,
        same: Sequence[SameAs] = (),
        principals: Sequence[Principal] = (),
    ) -> None:
        self.reader = reader
        self.name = reader.system
        self.rules = rules
        self.principals = principals
        self._same = same
        self.mates: Sequence[SpaceView] = (self,)
        """The systems that identities of objects can be compared with: itself, and those of the same machine."""

    @property
    def groups(self) -> Sequence[Group]:
        """The system's groups."""
        return self.reader.groups

    @cached_property
    def tells(self) -> frozenset[On]:
        """Of which sorts of limits the system tells, but for the sizes of its pools."""
        return frozenset(On(each["on"]) for each in self.reader.facts.get("limits", ())) - {On.POOL}

    @cached_property
    def found(self) -> Sequence[FoundLimit]:
        """The limits that the system tells, the sizes of its pool and of what is mounted in it among them."""
        facts = self.reader.facts
        parts = [FoundLimit.of_facts(each) for each in facts.get("limits", ())]
        mounts = facts.get("mounts", ())
        for each in mounts:
            size, free = each["bytes"], each["free_bytes"]
            parts.append(
                FoundLimit(
                    *(On.FOLDER, each["path"], size),
                    used=size - free,
                    by="the file system mounted there",
                    items=each.get("items"),
                    items_used=each.get("items_used"),
                )
            )
        size, free = facts.get("pool_bytes"), facts.get("pool_free_bytes")
        if size is not None and free is not None:
            inner = tuple(each["path"] for each in mounts)
            parts.append(
                FoundLimit(
                    *(On.POOL, "", size),
                    used=size - free,
                    leaves_out=inner,
                    by="the file system",
                    items=facts.get("pool_items"),
                    items_used=facts.get("pool_items_used"),
                )
            )
        return parts

    def used_in(self, path: bytes) -> int | None:
        """Return what a folder holds with all below it, in the measure of limits; None where there is none."""
        row = self.row_of(path)
        return None if row is None else self.at(row).measured(self.rules.measure)

    def held_in(self, path: bytes) -> int | None:
        """Return what a folder occupies with all below it, whatever counts against limits; None for no folder."""
        row = self.row_of(path)
        return None if row is None else self.all_at(row).occupied

    def held_of(self, folders: PoolFolders) -> int:
        """Return what lies in some folders, whatever has several names there once (occupied bytes)."""
        is_one_tree = not folders.without and len(folders.holds) == 1
        if is_one_tree or not (self.reader.facts.get("folders_again", 1) or self.reader.table("hard").rows):
            return held_by_sums(self.held_in, folders)
        return int(self._usage_in(folders).totals[0, 2])

    def seen_again(self, mine: PoolFolders, folders_of: Callable[[str], PoolFolders]) -> int:
        """Return what of some folders is counted in those of systems before this one already (occupied bytes)."""
        others = []
        for other in self.others:
            theirs = folders_of(other.name)
            if mine.holds and theirs.holds:
                others.append(other._usage_in(theirs))
        return int(self._usage_in(mine).seen_in(others).figures[:, 2].sum()) if others else 0

    def _usage_in(self, folders: PoolFolders) -> Usage:
        return Usage(*self._parts, again=self.again, kept=self.mask_of(folders))

    def mask_of(self, folders: PoolFolders) -> NDArray[np.bool_]:
        """Return a mark for each folder of the system that lies in some folders."""
        kept = np.zeros(self.folders.rows, dtype=bool)
        tops = [(top, True) for top in folders.holds] + [(top, False) for top in folders.without]
        # The inner ones speak last.
        for top, is_in in sorted(tops, key=lambda each: (len(each[0].parts), each[1])):
            row = self.row_of(top.path)
            if row is not None:
                kept[self.usage().tree.below(row)] = is_in
        return kept

    @property
    def machine(self) -> str:
        """What tells whether identities of two systems speak of the same objects; empty where nothing does."""
        return str(self.reader.facts.get("machine", ""))

    @cached_property
    def others(self) -> Sequence[SpaceView]:
        """Systems of the same machine that count before this one what both show.

        First come those whose roots lie in no other system's tree, and of several the one that the plan has first.
        """
        in_order = sorted(
            self.mates, key=lambda one: any(mate._shows_root_of(one) for mate in self.mates if mate is not one)
        )
        return in_order[: in_order.index(self)]

    def _shows_root_of(self, other: SpaceView) -> bool:
        """Tell whether a folder of this system is the other's root, by identity."""
        device, inode = (other.folders[name][0] for name in ("device", "inode"))
        return bool(np.any((self.folders["device"] == device) & (self.folders["inode"] == inode)))

    def counted_again(self) -> Items:
        """Return the items that count in systems before this one already."""
        return self.counted.seen_in([other.counted for other in self.others])

    def is_elsewhere(self, path: bytes) -> bool:
        """Tell whether a folder lies in a tree that is counted elsewhere."""
        row, tops = self.row_of(path) if self.again else None, {one.row for one in self.again}
        while row is not None and row >= 0 and row not in tops:
            row = int(self.folders["parent"][row])
        return row is not None and row >= 0

    def folders_like(self, pattern: bytes) -> list[bytes]:
        """Return the paths of the folders that fit a pattern."""
        return [self._path_of(row) for row in match_folders(pattern, self.folders)]

    def used_by_owner(self) -> Mapping[str, int]:
        """Return what each owner's files use, by identifier, in the measure of limits."""
        return self._used_by_owner

    def used_by_group(self) -> Mapping[str, int]:
        """Return what the files of each owning group use, by identifier, in the measure of limits."""
        return self._used_by_group

    @cached_property
    def _used_by_owner(self) -> Mapping[str, int]:
        return {ident: each.measured(self.rules.measure) for ident, each in self.by_owner().items()}

    @cached_property
    def _used_by_group(self) -> Mapping[str, int]:
        return {ident: each.measured(self.rules.measure) for ident, each in self.by_group().items()}

    @cached_property
    def again(self) -> list[Again]:
        """The folders that are counted elsewhere."""
        return find_again(self.reader, self._same)

    @cached_property
    def folders(self) -> Table:
        """The table of folders."""
        return self.reader.table("folders")

    def path(self, row: int) -> Address:
        """Return the address of a folder."""
        return Address(self.reader.system, self._path_of(row))

    @cached_property
    def _path_of(self) -> Callable[[int], bytes]:
        return folder_paths(self.folders)

    @cached_property
    def tops(self) -> dict[int, Sort]:
        """The top folders of what is kept beside the files, by row."""
        return {
            row: sort
            for sort, patterns in self.rules.patterns.items()
            for pattern in patterns
            for row in match_folders(pattern, self.folders)
        }

    @cached_property
    def sorts(self) -> NDArray[np.uint8] | None:
        """What each folder's contents are (`Sort`), None where nothing is kept beside the files."""
        if not self.tops:
            return None
        found = np.zeros(self.folders.rows, dtype=np.uint8)
        tree = self.usage().tree
        # The row of an inner one is the higher: it speaks for itself.
        for row in sorted(self.tops):
            found[tree.below(row)] = self.tops[row]
        return found

    @cached_property
    def _apart(self) -> ApartTrees | None:
        """The trees that do not count, where what they hold may simply be taken off the totals; else None."""
        if not self._has_totals or self.again:
            return None
        parent = self.folders["parent"]
        for row in self.tops:
            above = int(parent[row])
            while above >= 0:
                if above in self.tops:
                    return None
                above = int(parent[above])
        found = ApartTrees(
            self.reader, self.folders, [row for row in self.tops if self.tops[row] not in self.rules.counted]
        )
        return found if found.is_alone else None

    @cached_property
    def _parts(self) -> tuple[Table, Table, Table, Table]:
        classes, others, hard = (self.reader.table(name) for name in ("classes", "others", "hard"))
        return self.folders, classes, others, hard

    @cached_property
    def _usages(self) -> dict[frozenset[Sort], Usage]:
        return {}

    def usage(self, sorts: frozenset[Sort] = frozenset(Sort)) -> Usage:
        """Return what is used by some sorts of contents; all of them by default."""
        if sorts not in self._usages:
            kept = None
            if sorts != frozenset(Sort) and self.sorts is not None:
                kept = np.isin(self.sorts, [int(sort) for sort in sorts])
            self._usages[sorts] = Usage(*self._parts, again=self.again, kept=kept)
        return self._usages[sorts]

    @property
    def counted(self) -> Usage:
        """What counts against limits."""
        return self.usage(self.rules.counted if self.tops else frozenset(Sort))

    @cached_property
    def _has_totals(self) -> bool:
        return bool(self.reader.chunk_count("totals.bytes"))

    @cached_property
    def is_kept_whole(self) -> bool:
        """Tell whether the totals that the count keeps are those that count against limits."""
        return self._has_totals and not self.again and (not any(self.rules.patterns.values()) or not self.tops)

    def row_of(self, path: bytes) -> int | None:
        """Return a folder's row by its path."""
        return self.reader.find_row(path)

    def at(self, row: int) -> Figures:
        """Return what counts against a limit on a folder: all in it and below it."""
        if self.is_kept_whole:
            return self.reader.totals(row)
        if self._apart is not None:
            if self._apart.holds(row):
                return NOTHING
            return self.reader.totals(row) - self._apart.above.get(row, NOTHING)
        return Figures.of_row(self.counted.totals[row])

    def all_at(self, row: int) -> Figures:
        """Return all there is in a folder and below it, whatever counts."""
        if self._has_totals and not self.again:
            return self.reader.totals(row)
        return Figures.of_row(self.usage().totals[row])

    def own_at(self, row: int) -> Figures:
        """Return what counts of a folder itself and what is right in it, names of one object there counted once."""
        return Figures.of_row(self.counted.own_at(row))

    def seen_twice(self) -> list[tuple[Address, Address]]:
        """Return the tops of trees that are seen again, with what they show, unless the plan says so."""
        said = {one.folder for one in self._same}
        found = [(self.path(one.row), self.path(one.same_as)) for one in self.again if one.same_as >= 0]
        found += [(self.path(row), self.path(first)) for row, first in self.usage().folders_again()]
        return [(folder, other) for folder, other in found if folder not in said]

    @property
    def smallest_named(self) -> int:
        """From how many bytes on a file is kept by name."""
        return LARGE_BYTES

    def largest(self, row: int) -> Iterator[tuple[Address, Figures]]:
        """Yield the files below a folder that are kept by name."""
        table = self.reader.table("large")
        for number in np.flatnonzero(self.usage().tree.is_below(table["folder"], row)).tolist():
            folder = self.path(int(table["folder"][number]))
            path = folder.path.rstrip(b"/") + b"/" + table.texts("name")[number]
            size, occupied = int(table["bytes"][number]), int(table["occupied"][number])
            yield Address(folder.system, path), Figures(1, size, occupied)

    def _keyed(self, name: str, row: int) -> dict[int, Figures]:
        if row or not (self.is_kept_whole or self._apart is not None):
            usage = self.counted
            return {key: Figures.of_row(each) for key, each in usage.by(getattr(usage.items, name), row).items()}
        table = self.reader.table(f"{name}_totals")
        columns = [table["key"].tolist(), *(table[figure].tolist() for figure in FIGURES)]
        found = {key: Figures.of_row(rest) for key, *rest in zip(*columns, strict=True)}
        for key, figures in (self._apart.by(name) if not self.is_kept_whole and self._apart else {}).items():
            found[key] -= figures
        return {key: figures for key, figures in found.items() if figures}

    def every(
        self, row: int, by: str, name_of: Callable[[str], str] = str
    ) -> Iterator[tuple[Address, str, Figures, Figures]]:
        """Yield every folder below one (itself included) with what it holds with all below it, and by itself.

        With `by` ``owner``, ``kind`` or ``group`` a folder has a row for each,
        by the name that `name_of` gives their identifier.
        """
        usage = self.counted
        inside = np.zeros(usage.tree.rows, dtype=bool)
        inside[usage.tree.below(row)] = True
        if by == "folder":
            words, folder = [""], np.arange(usage.tree.rows)
            key, figures = np.zeros(usage.tree.rows, dtype=np.int64), usage.totals
            own = usage.own_by(np.zeros(len(usage.alone), dtype=np.int64), folder, key)
        else:
            words, of_key = self._words_of(by, name_of)
            column = "list" if by == "group" else by
            folder, key, figures = usage.roll_up_by(of_key[getattr(usage.items, column)])
            own = usage.own_by(of_key[getattr(usage.alone, column)], folder, key)
        kept = inside[folder]
        order = np.lexsort((key[kept], usage.tree.preorder[folder[kept]]))
        rows = (column[kept][order].tolist() for column in (folder, key, figures, own))
        for here, number, whole, mine in zip(*rows, strict=True):
            yield self.path(here), words[number], Figures.of_row(whole), Figures.of_row(mine)

    def by_of(self, items: Items, by: str, name_of: Callable[[str], str]) -> Iterator[tuple[str, Figures]]:
        """Yield what some items hold by ``owner``, ``kind`` or ``group``, named as `every` names them."""
        words, of_key = self._words_of(by, name_of)
        keys = of_key[getattr(items, "list" if by == "group" else by)]
        for key in np.unique(keys).tolist():
            if by != "group" or words[key] != name_of(""):
                yield words[key], Figures.of_row(items.figures[keys == key].sum(axis=0))

    def _words_of(self, by: str, name_of: Callable[[str], str]) -> tuple[list[str], NDArray[np.int64]]:
        """Return the words for owners, kinds or groups, and which of them each key of an item stands for."""
        if by == "kind":
            # Keys below zero count from the end.
            words = [*(word or "(none)" for word in self.kind_words), _KIND_WORDS[FOLDERS], _KIND_WORDS[OTHERS]]
            return words, np.arange(len(words))
        model = MODELS[self.reader.model]
        idents = self.reader.idents()
        if by == "group":
            idents = [model.group_of(body) for body in self.reader.strings("lists.body")]
        number_of: dict[str, int] = {}
        numbers = [number_of.setdefault(name_of(ident), len(number_of)) for ident in idents]
        return list(number_of), np.array(numbers, dtype=np.int64)

    def by_owner(self, row: int = 0) -> dict[str, Figures]:
        """Return what counts below a folder by the owner's identifier."""
        idents = self.reader.idents()
        return {idents[key]: each for key, each in self._keyed("owner", row).items()}

    @cached_property
    def kind_words(self) -> list[str]:
        """The words for kinds, by their numbers."""
        return [os.fsdecode(word) for word in self.reader.strings("kinds.word")]

    def changes_by_kind(self, since: float | None) -> dict[str, tuple[int, int, int, int]]:
        """Return by kind: files, their bytes, classes touched since a moment (Unix seconds), and the files in these.

        What is kept beside the files is left out; where `since` is None nothing counts as touched.
        """
        classes = self.reader.table("classes")
        mask = np.ones(classes.rows, dtype=bool) if self.sorts is None else self.sorts[classes["folder"]] == 0
        touched = mask & (classes["changed"] > (np.inf if since is None else since))
        words = self.kind_words
        found: dict[str, tuple[int, int, int, int]] = {}
        for kind in np.unique(classes["kind"][mask]).tolist():
            mine = mask & (classes["kind"] == kind)
            moved = touched & (classes["kind"] == kind)
            figures = (
                classes["files"][mine].sum(),
                classes["bytes"][mine].sum(),
                moved.sum(),
                classes["files"][moved].sum(),
            )
            files, size, number, several = (int(figure) for figure in figures)
            found[words[kind] or "(none)"] = files, size, number, several
        return found

    def kinds_of_sort(self, sort: Sort) -> dict[str, Figures]:
        """Return what one sort of contents holds, by kind, each sort for itself."""
        if self.sorts is None:
            return {}
        usage = self.usage(frozenset({sort}))
        words = self.kind_words
        return {
            words[key] or "(none)": Figures.of_row(each)
            for key, each in usage.by(usage.items.kind).items()
            if key >= 0
        }

    def files_of_kinds(self, path: bytes, kinds: frozenset[str]) -> Iterator[tuple[Address, str, str, int, int]]:
        """Yield files of some kinds below a folder, by folder and owner: address, kind, owner, files, bytes."""
        top = self.row_of(path)
        numbers = [number for number, word in enumerate(self.kind_words) if word in kinds]
        if top is None or not numbers:
            return
        classes, idents = self.reader.table("classes"), self.reader.idents()
        mask = self.usage().tree.is_below(classes["folder"], top) & np.isin(classes["kind"], numbers)
        if self.sorts is not None:
            mask &= self.sorts[classes["folder"]] == 0
        for row in np.flatnonzero(mask).tolist():
            folder, kind, owner = (int(classes[name][row]) for name in ("folder", "kind", "owner"))
            figures = int(classes["files"][row]), int(classes["bytes"][row])
            yield self.path(folder), self.kind_words[kind], idents[owner], *figures

    def by_kind(self, row: int = 0) -> dict[str, Figures]:
        """Return what counts below a folder by the kind of file; what is no file has a word in brackets."""
        words = self.kind_words
        found = self._keyed("kind", row).items()
        return {_KIND_WORDS[key] if key < 0 else words[key] or "(none)": each for key, each in found}

    def by_group(self, row: int = 0) -> dict[str, Figures]:
        """Return what counts below a folder by the identifier of the owning group, where the system keeps one."""
        model = MODELS[self.reader.model]
        found: dict[str, Figures] = {}
        for key, each in self._keyed("list", row).items():
            group = model.group_of(self.reader.list_body(key))
            found[group] = found.get(group, NOTHING) + each
        found.pop("", None)
        return found

    def by_sort(self, row: int = 0) -> Mapping[Sort, Figures]:
        """Return what each sort of contents adds below a folder, in the order of `Sort`; they add up to all."""
        if self.sorts is None:
            return {Sort.CURRENT: self.all_at(row)}
        found: dict[Sort, Figures] = {}
        before = NOTHING
        for last in Sort:
            here = Figures.of_row(self.usage(frozenset(sort for sort in Sort if sort <= last)).totals[row])
            found[last] = here - before
            before = here
        return found
