"""A directory tree on this machine, or mounted on it, with POSIX lists; and the accounts beside it."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from neatledger.core.survey.survey import Facts, Survey
from neatledger.core.tree.columns import HARD_COLUMNS, SeenState
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table
from neatledger.errors import SourceError
from neatledger.sources.accounts import read_accounts, settle
from neatledger.sources.assemble import Assembled, assemble, make_survey
from neatledger.sources.btrfs import read_quota_groups, settle_figures
from neatledger.sources.contract import SourceContext
from neatledger.sources.mounts import mounts_below
from neatledger.sources.walk import FOLDER_ROW, Bounds, Folder, Part, Walker, open_below, why_not

__all__ = ["read"]

_ENOUGH_JOBS = 96  # folders of one level that are worth sharing out among workers
_SHARES = 96  # of the jobs, for the workers of a cluster
_FOLDER_WIDTH, _DEVICE = len(FOLDER_ROW) + 2, FOLDER_ROW.index("device")
_HARD_WIDTH, _HARD_DEVICE = len(HARD_COLUMNS), list(HARD_COLUMNS).index("device")
_DEEPEST_SHARED = 6  # and how far down the first pass looks for such a level
_DIED = "the process that read a part of the tree died"

Step = tuple[bytes, ...]


def read(context: SourceContext) -> Survey:
    """Read a tree and its accounts; settings: path, accounts, one-file-system."""
    path = context.office_dir / str(context.settings["path"])
    if not hasattr(os, "fchdir"):
        hint = "let the machine that holds it list it: source: listing"
        raise SourceError(
            "a tree is read where its access lists are, and this system has none of them", str(path), hint
        )
    found = read_accounts(context)
    stay = bool(context.settings.get("one-file-system", True))
    with _here_again(), _open_root(path) as root:
        settle_figures(root)
        points = mounts_below(path)
        bounds = Bounds(os.fstat(root).st_dev, points) if stay else Bounds()
        if context.workers is None:
            parts = _read_parts(root, bounds, context.progress)
        else:
            parts = _read_elsewhere(path, root, bounds, context)
        tree: Assembled = assemble(parts)
        limits = read_quota_groups(root, tree.folders)
        mounted = _read_mounts(root, points or frozenset(), tree.folders)
        space = os.fstatvfs(root)
    facts: Facts = {
        "machine": _machine(),
        "entries": sum(part.entries for part in parts) + 1,
        "read_only": int(bool(space.f_flag & os.ST_RDONLY)),
        **{f"pool_{name}": number for name, number in _figures(space).items()},
    }
    if mounted.sizes:
        facts["mounts"] = mounted.sizes
    if mounted.points:
        facts["mount_points"] = mounted.points
    if limits is not None:
        facts["limits"] = [limit.to_facts() for limit in limits]
    settle(facts, found, context)
    return make_survey(context.system, "tree", tree, (found.accounts, found.groups, found.not_seen), facts)


def _machine() -> str:
    """Return what numbers of devices and inodes are good for: this start of this machine; empty where not told.

    Devices may have other numbers after the next start (random(4), /proc/sys/kernel/random/boot_id).
    """
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except OSError:
        return ""


@contextmanager
def _here_again() -> Iterator[None]:
    here = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield
    finally:
        os.fchdir(here)
        os.close(here)


@dataclass(frozen=True, slots=True)
class _Mounted:
    """What is mounted at folders of the tree, and the sizes of other file systems that were entered."""

    points: list[Facts]
    sizes: list[Facts]


def _read_mounts(root: int, points: frozenset[Step], folders: Table) -> _Mounted:
    """Ask what is mounted at folders of the tree (statvfs(3)): whether it is read-only, its bytes, and bytes free."""
    found = _Mounted([], [])
    order = TreeOrder(folders)
    device, parent = folders["device"], folders["parent"]
    for names in sorted(points):
        row = order.find_row(names)
        try:
            # Something may be mounted at a file too, or have gone since.
            here = open_below(root, names) if row is not None else -1
        except OSError:
            continue
        if row is None:
            continue
        space = os.fstatvfs(here)
        os.close(here)
        path = os.fsdecode(b"/" + b"/".join(names))
        found.points.append({"path": path, "read_only": int(bool(space.f_flag & os.ST_RDONLY))})
        is_entered = folders["state"][row] != SeenState.OTHER_FILE_SYSTEM
        if is_entered and device[row] != device[parent[row]]:
            found.sizes.append({"path": path, **_figures(space)})
    return found


def _figures(space: os.statvfs_result) -> Facts:
    """Return the bytes of a file system, those free to all, and the number of its files where that is bounded."""
    found: Facts = {"bytes": space.f_blocks * space.f_frsize, "free_bytes": space.f_bavail * space.f_frsize}
    if space.f_files:
        # Some kinds (Btrfs) make inodes as they are needed, and tell 0.
        found |= {"items": space.f_files, "items_used": space.f_files - space.f_favail}
    return found


@contextmanager
def _open_root(path: Path) -> Iterator[int]:
    try:
        # The root itself may be a link: the plan names it on purpose.
        root = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fchdir(root)
        except OSError:
            os.close(root)
            raise
    except OSError as error:
        raise SourceError(
            f"cannot open the tree: {error.strerror}", str(path), "see its path in office.yaml"
        ) from None
    try:
        yield root
    finally:
        os.close(root)


def _read_parts(root: int, bounds: Bounds, progress: Callable[[int], None]) -> list[Part]:
    top = Walker(root, bounds, progress)
    jobs = _read_top(top)
    top.tell()
    workers = min(len(os.sched_getaffinity(0)), 4) if hasattr(os, "sched_getaffinity") else 1
    if workers < 2 or len(jobs) < _ENOUGH_JOBS:
        return [top.part, *(_read_below(root, bounds, job, progress) for job in jobs)]
    return [top.part, *_read_side_by_side(root, bounds, jobs, workers, progress)]


@dataclass(frozen=True, slots=True)
class _Job:
    """A folder that the first pass left: its path, and its parent's row in the first part."""

    path: Step
    parent: int


def _read_top(walker: Walker) -> list[_Job]:
    """Read the tree level by level until a level is broad enough to share; return that level unread.

    The first part then holds all folders above that level, and every job a folder of it, in order.
    """
    os.fchdir(walker.root)
    row = walker.add_folder(walker.look(b""), -1, 0)
    level: list[tuple[Step, int, int]] = [((), row, os.dup(walker.root))]
    for depth in range(1, _DEEPEST_SHARED + 1):
        below: list[tuple[Step, int, Folder]] = []
        for path, row, fd in level:
            below += [((*path, folder[0]), row, folder) for folder in walker.read_folder(row, fd)]
            os.close(fd)
        if len(below) >= _ENOUGH_JOBS or depth == _DEEPEST_SHARED:
            return [_Job(path, parent) for path, parent, _ in below]
        level = []
        for path, parent, folder in below:
            row = walker.add_folder(folder, parent, depth)
            opened = walker.open_folder(row, folder, -1, path[:-1])
            if opened is not None:
                level.append((path, row, opened))
    return []


def _read_below(root: int, bounds: Bounds, job: _Job, progress: Callable[[int], None]) -> Part:
    walker = Walker(root, bounds, progress)
    walker.part.parent_row = job.parent
    path = b"/" + b"/".join(job.path)
    above = -1
    try:
        above = open_below(root, job.path[:-1])
        os.fchdir(above)
        folder = walker.look(job.path[-1])
        row = walker.add_folder(folder, -1, len(job.path))
        opened = walker.open_folder(row, folder, above, job.path[:-1])
    except OSError as error:
        walker.part.not_seen.append((-1, path, why_not(error)))
        return walker.part
    finally:
        if above >= 0:
            os.close(above)
    if opened is not None:
        walker.walk(row, job.path, opened, len(job.path))
    walker.tell()
    return walker.part


def _read_side_by_side(
    root: int, bounds: Bounds, jobs: list[_Job], workers: int, progress: Callable[[int], None]
) -> Iterator[Part]:
    """Share jobs among processes; the parts come back in the order of the jobs."""
    batch = max(1, len(jobs) // (workers * 24))
    batches = [jobs[start : start + batch] for start in range(0, len(jobs), batch)]
    context = multiprocessing.get_context("fork")
    lifeline = os.pipe()
    try:
        with ProcessPoolExecutor(workers, context, initializer=_start_worker, initargs=lifeline) as pool:
            try:
                for parts in pool.map(_run_batch, [(root, bounds, batch) for batch in batches]):
                    progress(sum(part.entries for part in parts))
                    yield from parts
            except BrokenProcessPool:
                raise SourceError(_DIED, hint="count again; nothing was stored") from None
            except BaseException:
                # The pool's own thread will find its processes gone: that is our doing, and nothing to tell.
                threading.excepthook = lambda _: None
                pool.shutdown(wait=False, cancel_futures=True)
                for process in multiprocessing.active_children():
                    process.terminate()
                raise
    finally:
        for end in lifeline:
            os.close(end)


@dataclass(frozen=True, slots=True)
class _Share:
    """Subtrees for a worker of a cluster, which has the tree under the same path; `device` is its number here."""

    path: str
    device: int
    stays: bool
    jobs: tuple[_Job, ...]


def _read_elsewhere(path: Path, root: int, bounds: Bounds, context: SourceContext) -> list[Part]:
    """Read the top here, and have workers read what is below; the parts come back in the order of the jobs."""
    assert context.workers is not None
    top = Walker(root, bounds, context.progress)
    jobs = _read_top(top)
    top.tell()
    batch, whole = max(1, len(jobs) // _SHARES), str(path.absolute())
    device, stays = os.fstat(root).st_dev, bounds.device is not None
    shares = [
        _Share(whole, device, stays, tuple(jobs[start : start + batch])) for start in range(0, len(jobs), batch)
    ]
    found = [top.part]
    for parts in context.workers.each(_read_share, shares):
        context.progress(sum(part.entries for part in parts))
        found += parts
    return found


def _read_share(share: _Share) -> list[Part]:
    path = Path(share.path)
    with _here_again(), _open_root(path) as root:
        settle_figures(root)
        device = os.fstat(root).st_dev
        bounds = Bounds(device, mounts_below(path)) if share.stays else Bounds()
        parts = [_read_below(root, bounds, job, _no_progress) for job in share.jobs]
    if device != share.device:
        # One tree over the network has another number on each machine; what is its own is told by the first one's.
        for part in parts:
            both = (part.folders, _FOLDER_WIDTH, _DEVICE), (part.hard, _HARD_WIDTH, _HARD_DEVICE)
            for rows, width, place in both:
                for at in range(place, len(rows), width):
                    rows[at] = share.device if rows[at] == device else rows[at]
    return parts


def _start_worker(reading: int, writing: int) -> None:
    # Ctrl-C reaches the whole process group; the parent alone decides what it means.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # The parent alone keeps the writing end: when it is gone, however it died, there is nothing left to do.
    os.close(writing)
    threading.Thread(target=_end_with_parent, args=(reading,), daemon=True).start()


def _end_with_parent(reading: int) -> None:
    os.read(reading, 1)
    os._exit(1)


def _run_batch(work: tuple[int, Bounds, list[_Job]]) -> list[Part]:
    root, bounds, jobs = work
    return [_read_below(root, bounds, job, _no_progress) for job in jobs]


def _no_progress(_entries: int) -> None:
    return None
