"""A folder on this machine: its file system, whose it is, where homes seem to lie, what is kept beside the files."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from stat import S_ISDIR

from neatledger.errors import SourceError
from neatledger.probes.contract import Hints, Proposal
from neatledger.probes.directory import account_setting, is_directory
from neatledger.sources.contract import SourceContext
from neatledger.sources.mounts import mounts_below
from neatledger.sources.passwdaccounts import read_passwd_accounts

__all__ = ["probe"]

_DEPTH, _MOST = 2, 5_000
_LEAST_HOMES = 3
_NO_DAY = date.min  # no expiry is judged
_FIRST_OF_PEOPLE = 1000
_OVER_NETWORK = frozenset({"nfs", "nfs4", "cifs", "smb3", "fuse.sshfs"})


@dataclass(frozen=True, slots=True)
class _Entry:
    """What lies in a folder: the folder below the root, its own name, its owner's id, whether it is a folder."""

    folder: str
    name: str
    uid: int
    is_folder: bool


_BESIDE = {
    "snapshots": re.compile(r"^(\.snapshots?|\.zfs|snapshots?)$", re.IGNORECASE),
    "bin": re.compile(r"^(\.bin|\.recycle|\.trash(-\d+)?|#recycle)$", re.IGNORECASE),
    "versions": re.compile(r"^(\.versions?|\.revisions?)$", re.IGNORECASE),
}


def probe(address: str, hints: Hints) -> Proposal:
    """Look at a folder two levels down; nothing is opened in it."""
    path = Path(address).expanduser()
    path = path if path.is_absolute() else Path.cwd() / path
    if not path.is_dir():
        raise SourceError("there is no folder", str(path), "name one that is on this machine or mounted here")
    found = Proposal({"source": "tree"})
    real = os.path.realpath(path)
    found.put("path", real)
    kind = _file_system(real)
    if kind in _OVER_NETWORK:
        found.notes.append(f"It is mounted over the network ({kind}): its server may check more than is seen here.")
    elif kind == "btrfs":
        found.notes.append("Its file system may keep quotas (btrfs): they are read with it, as root.")
    inside = [b"/" + b"/".join(parts) for parts in sorted(mounts_below(path) or ())]
    if inside:
        some = ", ".join(map(os.fsdecode, inside[:3]))
        found.notes.append(f"Other file systems are mounted in it ({some}): one-file-system: false reads them too.")
    entries = list(_entries(real))
    _accounts(found, hints, entries)
    _beside(found, entries)
    return found


def _file_system(path: str) -> str:
    """Return the kind of file system that a path lies on (proc(5), /proc/PID/mountinfo); empty where not told."""
    best = ("", "")
    try:
        lines = Path("/proc/self/mountinfo").read_text(errors="surrogateescape").splitlines()
    except OSError:
        return ""
    for line in lines:
        before, _, after = line.partition(" - ")
        point = before.split(" ")[4]
        inside = path == point or path.startswith(point.rstrip("/") + "/")
        if inside and len(point) >= len(best[0]) and after:
            best = point, after.split(" ")[0]
    return best[1]


def _accounts(found: Proposal, hints: Hints, entries: Sequence[_Entry]) -> None:
    elsewhere = str(hints.said.get("accounts") or "")
    if is_directory(elsewhere):
        setting, notes, lacking = account_setting(elsewhere, hints)
        found.put("accounts", setting, "of a directory")
        found.notes += notes
        found.lacking += lacking
        return
    files = {one: str(Path(hints.said[one]).resolve()) for one in ("passwd", "group") if hints.said.get(one)}
    found.put("accounts", files or "machine", "" if files else "this machine's own")
    context = SourceContext(
        hints.system, hints.office_dir, found.settings, _NO_DAY, lambda _: None, hints.credentials
    )
    accounts, _, _ = read_passwd_accounts(context)
    known = {one.ident for one in accounts}
    logins = {one.login for one in accounts if one.ident.isdecimal() and int(one.ident) >= _FIRST_OF_PEOPLE}
    people = len(logins)
    found.notes.append(f"{people} accounts of people there." if people else "No account of a person is told there.")
    strangers: set[int] = set()
    homes = list(hints.said.get("homes") or ())
    inside: dict[str, list[str]] = {}
    for entry in entries:
        if str(entry.uid) not in known:
            strangers.add(entry.uid)
        if entry.is_folder:
            inside.setdefault(entry.folder, []).append(entry.name)
    if strangers:
        some = ", ".join(map(str, sorted(strangers)[:3]))
        found.lacking.append(
            f"who has the {len(strangers)} user ids without an account ({some} …): --passwd and --group of its server"
        )
    for folder, names in inside.items():
        fitting = sum(name in logins for name in names)
        if not homes and fitting >= _LEAST_HOMES and 2 * fitting >= len(names):
            homes.append(folder or "/")
    if homes:
        found.put("homes", homes, "its subfolders are called as accounts are")


def _entries(path: str) -> Iterator[_Entry]:
    """Yield what lies in a folder two levels down; bounded, and other file systems are not entered."""
    waiting, count = [("", 0)], 0
    device = os.stat(path).st_dev
    while waiting:
        folder, depth = waiting.pop(0)
        try:
            entries = sorted(os.scandir(path.rstrip("/") + folder + "/"), key=lambda one: one.name)
        except OSError:
            continue
        for entry in entries:
            try:
                stat = entry.stat(follow_symlinks=False)
            except OSError:
                # It went away since its folder was listed.
                continue
            count += 1
            if count > _MOST:
                return
            is_folder = S_ISDIR(stat.st_mode)
            yield _Entry(folder, entry.name, stat.st_uid, is_folder)
            if depth + 1 < _DEPTH and is_folder and stat.st_dev == device:
                waiting.append((f"{folder}/{entry.name}", depth + 1))


def _beside(found: Proposal, entries: Sequence[_Entry]) -> None:
    space: dict[str, list[str]] = {}
    for entry in entries:
        for word, pattern in _BESIDE.items():
            if entry.is_folder and pattern.match(entry.name):
                space.setdefault(word, []).append(f"{entry.folder}/{entry.name}")
    if space:
        found.put("space", space, "what is kept beside the files, by the names of its folders")
