"""The carrier of an SMB server: security descriptors, and folders made with theirs (MS-SMB2, MS-DTYP 2.4.6).

A descriptor is set whole in one request, owner, group and list together. An item is opened by itself and never what a
reparse point leads to (FILE_OPEN_REPARSE_POINT, MS-SMB2 2.2.13).
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from typing import Any, TypeVar

from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.core.lists.descriptors import AUTO_INHERITED, AUTO_REQUESTED, pack_descriptor, unpack_descriptor
from neatledger.core.lists.nt import map_generic, pack_body, unpack_body
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.tree.address import parts_of
from neatledger.errors import FormatError, StepError
from neatledger.sources.smberrors import Refused
from neatledger.sources.smbsession import SmbTree, Terms
from neatledger.sources.smbsteady import SteadySession

__all__ = ["SmbCarrier", "by_hand"]

_OWNER, _GROUP, _DACL = 0x1, 0x2, 0x4
_WRITES = 0x2  # FILE_WRITE_DATA, FILE_ADD_FILE: MS-SMB2 2.2.13.1
T = TypeVar("T")


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where this carrier can."""
    match step:
        case ListStep() | FilesStep():
            return ""
        case FolderStep():
            return "" if len(parts_of(step.path)) > 1 else "a share is made on the server itself"
        case _:
            return "the server's own tools set its shares and limits"


class SmbCarrier:
    """Makes steps on the folders and files of one server, as the account that reads it."""

    def __init__(self, context: CarrierContext) -> None:
        settings = context.settings
        terms = Terms.of_settings(settings)
        self._session = SteadySession(terms, terms.credentials(str(settings.get("user", "")), context.credentials))
        self._user = str(settings.get("user", ""))

    def close(self) -> None:
        """Sign off."""
        self._session.__exit__()

    def settle(self) -> None:
        """Do nothing: a server has kept what it says that it has done."""

    def _on(self, step: Step, path: bytes, ask: Callable[[SmbTree, str], T]) -> T:
        """Ask something of an item by its path in the system: the share, and what lies below it."""
        parts = parts_of(path)
        if not parts:
            raise StepError("the root of a server is no folder of it", step.where)
        below = "\\".join(os.fsdecode(part) for part in parts[1:])
        return self._session.on(os.fsdecode(parts[0]), lambda tree: ask(tree, below))

    @contextmanager
    def _refusals(self, step: Step) -> Iterator[None]:
        try:
            yield
        except Refused as error:
            where = step.where
            raise StepError(f"the server refuses: {error}", where, "nothing else was changed by this step") from None
        except FormatError as error:
            raise StepError(error.what, step.where) from None

    # What every carrier does ------------------------------------------------------------------------

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the thing anew."""
        with self._refusals(step):
            match step:
                case ListStep():
                    return _stands(self._on(step, step.path, _item), step.before, step.after)
                case FilesStep():
                    return self._look_files(step, details)
                case FolderStep():
                    return self._look_made(step)
        raise StepError("this carrier does not make such a step", step.where)

    def prepare(self, step: Step) -> Details:
        """Return what must be known to finish or undo the step: the names of files."""
        if not isinstance(step, FilesStep):
            return {}
        with self._refusals(step):
            return {"names": [name for name, sort in self._files(step) if _plain(sort) == _plain(step.before)]}

    def make(self, step: Step, details: Details) -> None:
        """Make the step, or finish it."""
        with self._refusals(step):
            match step:
                case ListStep():
                    self._on(step, step.path, lambda tree, below: _set(tree, below, _item(tree, below), step.after))
                case FilesStep():
                    self._make_files(step, details)
                case FolderStep():
                    self._make_folder(step)

    def foresee(self, step: Step) -> str:
        """Say why the server would not let this account set a descriptor, as far as it tells without setting it.

        A share that is read-only tells it by the access that it gives at most (MS-SMB2 2.2.10).
        """

        def ask(tree: SmbTree, below: str) -> str:
            if not tree.maximal_access() & _WRITES:
                return f"the share lets {self._user or 'this account'} change nothing"
            tree.try_to_set(below, parts)
            return ""

        match step:
            case ListStep():
                path, parts = step.path, _parts(step.before, step.after)
            case FilesStep() | FolderStep():
                # Of files the folder is opened to read it: which one is refused shows when each is set.
                path, parts = step.path if isinstance(step, FilesStep) else step.path.rpartition(b"/")[0], 0
            case _:
                return ""
        with self._refusals(step):
            try:
                return self._on(step, path, ask)
            except Refused as error:
                return f"the server refuses: {error}" if parts else ""

    def made_of(self, step: Step, details: Details) -> Step | None:
        """Return a step as the server keeps it: some fold lists into those of the files below (MS-FSA 2.1.5.17)."""
        with self._refusals(step):
            match step:
                case ListStep():
                    found = self._on(step, step.path, _item)
                    return None if _plain(found) == _plain(step.before) else replace(step, after=found)
                case FolderStep() if step.made:
                    return replace(step, item=self._on(step, step.path, _item))
                case FilesStep():
                    sorts = {sort for name, sort in self._files(step) if name in details.get("names", ())}
                    is_kept = len(sorts) != 1 or any(_plain(sort) == _plain(step.before) for sort in sorts)
                    return None if is_kept else replace(step, after=next(iter(sorts)))
        return None

    # Folders and files ------------------------------------------------------------------------------

    def _look_made(self, step: FolderStep) -> Looked:
        wanted, unwanted = (Standing.AFTER, Standing.BEFORE) if step.made else (Standing.BEFORE, Standing.AFTER)
        try:
            found = self._on(step, step.path, _item)
        except Refused as error:
            if "not found" in str(error):
                return Looked(unwanted)
            raise
        if _plain(found) != _plain(step.item):
            return Looked(Standing.OTHER, "there is a folder of this name, with another owner or list")
        if not step.made and self._on(step, step.path, lambda tree, below: any(True for _ in tree.listing(below))):
            return Looked(Standing.OTHER, "the folder is not empty any more")
        return Looked(wanted)

    def _make_folder(self, step: FolderStep) -> None:
        if self._look_made(step).standing is not Standing.BEFORE:
            return
        if step.made:
            packed = _packed(step.item, _OWNER | _GROUP | _DACL)
            self._on(step, step.path, lambda tree, below: tree.make_folder(below, packed))
        else:
            self._on(step, step.path, lambda tree, below: tree.remove_folder(below))

    def _files(self, step: FilesStep) -> list[tuple[str, FileSort]]:
        """Return the files right in a folder, with what decides about each."""

        def read(tree: SmbTree, below: str) -> list[tuple[str, FileSort]]:
            above = f"{below}\\" if below else ""
            names = [entry.name for entry in tree.listing(below) if not entry.is_folder and not entry.is_link]
            items = [(name, _item(tree, above + name)) for name in names]
            return [(name, FileSort(item.owner, item.body)) for name, item in items]

        return self._on(step, step.path, read)

    def _look_files(self, step: FilesStep, details: Details | None) -> Looked:
        found = self._files(step)
        before = {name for name, sort in found if _plain(sort) == _plain(step.before)}
        after = {name for name, sort in found if _plain(sort) == _plain(step.after)}
        if details is not None and "names" in details:
            names = set(details["names"])
            if names <= after:
                return Looked(Standing.AFTER)
            if names <= before:
                return Looked(Standing.BEFORE)
            is_ours = names <= before | after
            return Looked(Standing.BETWEEN if is_ours else Standing.OTHER, "some of the files are others")
        own, others = step.beside
        if not own and len(before) == step.files and len(after) == others:
            return Looked(Standing.BEFORE)
        if not own and len(after) == step.files + others and not before:
            return Looked(Standing.AFTER)
        return Looked(Standing.OTHER, f"{len(before)} files are as counted, and not {step.files}")

    def _make_files(self, step: FilesStep, details: Details) -> None:
        before, after = (ItemState(sort.owner, sort.body) for sort in (step.before, step.after))

        def change(tree: SmbTree, below: str) -> None:
            above = f"{below}\\" if below else ""
            for name in details["names"]:
                found = _item(tree, above + name)
                if _plain(found) == _plain(after):
                    continue
                if _plain(found) != _plain(before):
                    raise StepError("its owner or its list is another one", f"{step.where}/{name}")
                _set(tree, above + name, before, after)

        self._on(step, step.path, change)


def _item(tree: SmbTree, below: str) -> ItemState:
    """Return what decides about an item now."""
    descriptor = unpack_descriptor(tree.descriptor(below))
    return ItemState(descriptor.owner, pack_body(descriptor))


def _plain(item: ItemState | FileSort) -> tuple[str, bytes]:
    """Return what decides as a server keeps it: it replaces generic rights by those of files (MS-DTYP 2.4.3)."""
    descriptor = unpack_body(item.body)
    if descriptor.dacl is None:
        return item.owner, item.body
    aces = tuple(
        ace if ace.raw is not None else replace(ace, mask=map_generic(ace.mask)) for ace in descriptor.dacl.aces
    )
    return item.owner, pack_body(replace(descriptor, dacl=replace(descriptor.dacl, aces=aces)))


def _stands(found: ItemState, before: ItemState, after: ItemState) -> Looked:
    if _plain(found) == _plain(after):
        return Looked(Standing.AFTER)
    if _plain(found) == _plain(before):
        return Looked(Standing.BEFORE)
    return Looked(Standing.OTHER, "its owner or its list is another one than was counted")


def _set(tree: SmbTree, below: str, before: ItemState, after: ItemState) -> None:
    """Set what differs of an item's descriptor in one request, and nothing else of it."""
    parts = _parts(before, after)
    if parts:
        tree.set_descriptor(below, _packed(after, parts), parts)


def _parts(before: ItemState, after: ItemState) -> int:
    """Return which parts of a descriptor differ."""
    old, new = unpack_body(before.body), unpack_body(after.body)
    parts = _DACL if (old.dacl, old.control) != (new.dacl, new.control) else 0
    parts |= _OWNER if before.owner != after.owner else 0
    return parts | (_GROUP if old.group != new.group else 0)


def _packed(item: ItemState, parts: int) -> bytes:
    """Return the parts of a descriptor that are set; others are left out."""
    descriptor = unpack_body(item.body)
    # A server keeps the mark of inheritance only where it is asked for with it (MS-DTYP 2.4.6).
    asked = AUTO_REQUESTED if descriptor.control & AUTO_INHERITED else 0
    return pack_descriptor(
        replace(
            descriptor,
            owner=item.owner if parts & _OWNER else "",
            group=descriptor.group if parts & _GROUP else "",
            control=descriptor.control | asked,
        )
    )
