"""The carrier of a tree: lists, owners, groups, default lists and folders, on this machine's own file systems."""

from __future__ import annotations

import ctypes
import os
import secrets
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any

from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.carriers.posixitems import is_between, item_of, open_folder, set_item, why
from neatledger.core.plan.limits import On
from neatledger.core.space.sizes import show_limit
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.tree.address import parts_of
from neatledger.errors import FormatError, SourceError, StepError
from neatledger.sources.btrfs import own_limit, set_own_limit

__all__ = ["TreeCarrier", "by_hand"]

_LIBC = ctypes.CDLL(None, use_errno=True)
_ANOTHER = "its owner or its list is another one"
_ITEM = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where this carrier can."""
    match step:
        case ListStep() | FilesStep() | FolderStep():
            return ""
        case LimitStep() if step.on is not On.FOLDER or "limits-file" in settings:
            return "the system's own tools set this limit: a file alone tells it"
        case LimitStep():
            return ""
        case _:
            return "the system's own tools make it"


class TreeCarrier:
    """Makes steps on the folders and files of one tree."""

    def __init__(self, context: CarrierContext) -> None:
        self._system = context.system
        path = context.office_dir / str(context.settings["path"])
        try:
            self._root = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError as error:
            raise SourceError(f"cannot be opened: {error.strerror}", str(path)) from None

    def settle(self) -> None:
        """Write what was changed to the disk (syncfs(2))."""
        if _LIBC.syncfs(self._root):
            number = ctypes.get_errno()
            raise StepError(f"what was made may not outlast a power cut: {os.strerror(number)}", self._system)

    def close(self) -> None:
        """Let go of the tree."""
        os.close(self._root)

    def foresee(self, step: Step) -> str:
        """Say why the system would not let this process make a step, as far as that shows without making it."""
        if not isinstance(step, ListStep | FilesStep | FolderStep):
            return ""
        path = step.path.rpartition(b"/")[0] if isinstance(step, FolderStep) else step.path
        with suppress(FileNotFoundError), self._refusals(step), open_folder(self._root, parts_of(path)) as folder:
            if os.fstatvfs(folder).f_flag & os.ST_RDONLY:
                return "it is mounted read-only"
            is_other = os.fstat(folder).st_uid != os.geteuid()
            if isinstance(step, ListStep) and os.geteuid() and is_other:
                return "only root or its owner may change its list (chmod(2)): run this as root"
        return ""

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the thing anew."""
        with self._refusals(step):
            match step:
                case ListStep():
                    return self._look_folder(step)
                case FilesStep():
                    return self._look_files(step, details)
                case FolderStep():
                    return self._look_made(step)
                case LimitStep():
                    return self._look_limit(step)
        raise StepError("this carrier does not make such a step", step.where)

    def prepare(self, step: Step) -> Details:
        """Return what must be known to finish or undo the step: names of files, what a folder is called first."""
        with self._refusals(step):
            match step:
                case FilesStep():
                    with open_folder(self._root, parts_of(step.path)) as folder:
                        found = [name for name, sort, _ in _files(folder) if sort == step.before]
                    return {"names": [name.decode("utf-8", "surrogateescape") for name in found]}
                case FolderStep():
                    return {"first": f".neatledger-{secrets.token_hex(8)}"}
        return {}

    def make(self, step: Step, details: Details) -> None:
        """Make the step, or finish it."""
        with self._refusals(step):
            match step:
                case ListStep():
                    with open_folder(self._root, parts_of(step.path)) as folder:
                        set_item(folder, item_of(folder), step.after)
                case FilesStep():
                    self._make_files(step, details)
                case FolderStep():
                    self._make_folder(step, details)
                case LimitStep():
                    with self._limited(step) as folder:
                        set_own_limit(folder, step.after.limit, self._root)

    @contextmanager
    def _refusals(self, step: Step) -> Iterator[None]:
        where = step.where
        try:
            yield
        except OSError as error:
            raise StepError(why(error), where, "nothing else was changed by this step") from None
        except FormatError as error:
            raise StepError(error.what, where) from None

    # Folders ----------------------------------------------------------------------------------------

    def _look_folder(self, step: ListStep) -> Looked:
        with open_folder(self._root, parts_of(step.path)) as folder:
            found = item_of(folder)
        if found == step.after:
            return Looked(Standing.AFTER)
        if found == step.before:
            return Looked(Standing.BEFORE)
        if is_between(found, step.before, step.after):
            return Looked(Standing.BETWEEN, "its owner or its list is partly as the step makes it")
        return Looked(Standing.OTHER, "its owner or its list is another one than was counted")

    def _look_made(self, step: FolderStep) -> Looked:
        wanted, unwanted = (Standing.AFTER, Standing.BEFORE) if step.made else (Standing.BEFORE, Standing.AFTER)
        try:
            with open_folder(self._root, parts_of(step.path)) as folder:
                found = item_of(folder)
                is_empty = not os.listdir(folder)
        except FileNotFoundError:
            return Looked(unwanted)
        if found != step.item:
            return Looked(Standing.OTHER, "there is a folder of this name, with another owner or list")
        if not step.made and not is_empty:
            return Looked(Standing.OTHER, "the folder is not empty any more")
        return Looked(wanted)

    def _make_folder(self, step: FolderStep, details: Details) -> None:
        above, name = parts_of(step.path)[:-1], parts_of(step.path)[-1]
        with open_folder(self._root, above) as parent:
            first = os.fsencode(details["first"])
            with suppress(FileNotFoundError):
                # What a making that was stopped left behind.
                os.rmdir(first, dir_fd=parent)
            standing = self._look_made(step).standing
            if standing is not Standing.BEFORE:
                return
            if not step.made:
                os.rmdir(name, dir_fd=parent)
                return
            # Nobody but its maker can come in while it is made; it is known by its name when all is in place.
            os.mkdir(first, 0o700, dir_fd=parent)
            try:
                with open_folder(parent, [first]) as folder:
                    set_item(folder, item_of(folder), step.item)
                _rename_alone(first, name, parent)
            except BaseException:
                with suppress(OSError):
                    os.rmdir(first, dir_fd=parent)
                raise

    # Limits -----------------------------------------------------------------------------------------

    @contextmanager
    def _limited(self, step: LimitStep) -> Iterator[int]:
        with open_folder(self._root, parts_of(os.fsencode(step.name))) as folder:
            yield folder

    def _look_limit(self, step: LimitStep) -> Looked:
        with self._limited(step) as folder:
            found = own_limit(folder)
        if found == step.after.limit:
            return Looked(Standing.AFTER)
        if found == step.before.limit:
            return Looked(Standing.BEFORE)
        message = f"its own limit is {show_limit(found)}, and not {show_limit(step.before.limit)}"
        return Looked(Standing.OTHER, message)

    # Files ------------------------------------------------------------------------------------------

    def _look_files(self, step: FilesStep, details: Details | None) -> Looked:
        with open_folder(self._root, parts_of(step.path)) as folder:
            found = list(_files(folder))
        before = {name for name, sort, _ in found if sort == step.before}
        after = {name for name, sort, _ in found if sort == step.after}
        if details is not None and "names" in details:
            names = {os.fsencode(name) for name in details["names"]}
            if names <= after:
                return Looked(Standing.AFTER)
            if names <= before:
                return Looked(Standing.BEFORE)
            is_ours = names <= before | after
            return Looked(Standing.BETWEEN if is_ours else Standing.OTHER, "some of the files are others")
        own, others = step.beside
        if own:
            return Looked(Standing.OTHER, "which of the files are meant only the run knows that changed them")
        if len(before) == step.files and len(after) == others:
            shared = [name for name, sort, links in found if sort == step.before and links > 1]
            message = f"{os.fsdecode(shared[0])} has another name elsewhere, which would change too" if shared else ""
            return Looked(Standing.OTHER if shared else Standing.BEFORE, message)
        if len(after) == step.files + others and not before:
            return Looked(Standing.AFTER)
        return Looked(Standing.OTHER, f"{len(before)} files are as counted, and not {step.files}")

    def _make_files(self, step: FilesStep, details: Details) -> None:
        before, after = (ItemState(sort.owner, sort.body) for sort in (step.before, step.after))
        with open_folder(self._root, parts_of(step.path)) as folder:
            for text in details["names"]:
                with _open_item(folder, os.fsencode(text)) as file:
                    found = item_of(file)
                    if found == after:
                        continue
                    if found != before and not is_between(found, before, after):
                        raise StepError("its owner or its list is another one", f"{step.where}/{text}")
                    if os.fstat(file).st_nlink > 1:
                        message = "it has another name elsewhere, which would change too"
                        raise StepError(message, f"{step.where}/{text}", "a person must look at it")
                    set_item(file, found, after)


@contextmanager
def _open_item(folder: int, name: bytes) -> Iterator[int]:
    item = os.open(name, _ITEM, dir_fd=folder)
    try:
        if not stat.S_ISREG(os.fstat(item).st_mode):
            raise StepError("something else stands in the place of a file", os.fsdecode(name))
        yield item
    finally:
        os.close(item)


def _files(folder: int) -> Iterator[tuple[bytes, FileSort, int]]:
    """Yield the regular files right in an open folder, with what decides about each and how many names it has."""
    for name in sorted(map(os.fsencode, os.listdir(folder))):
        seen = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if stat.S_ISREG(seen.st_mode):
            with _open_item(folder, name) as file:
                found = item_of(file)
            yield name, FileSort(found.owner, found.body), seen.st_nlink


def _rename_alone(first: bytes, name: bytes, parent: int) -> None:
    """Rename a folder, but not over one that came meanwhile (renameat2(2), RENAME_NOREPLACE)."""
    if _LIBC.renameat2(parent, first, parent, name, 1):
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
