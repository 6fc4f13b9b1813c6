"""Make the sample office in a folder: for real on disk where that is allowed, else as a listing."""

from __future__ import annotations

import csv
import os
import shutil
from collections.abc import Iterable
from datetime import datetime
from importlib import resources
from pathlib import Path
from urllib.parse import quote_from_bytes

from neatledger.demo.backups import DEVICES, MOUNTS, mirror_text, nightly_text
from neatledger.demo.barn import Thing, group_text, passwd_text
from neatledger.demo.holdings import limits_text, things_at
from neatledger.demo.loft import SHARES, descriptor_of, ldif_text, published_things, share_permission, share_place
from neatledger.demo.loftlog import directory_text, log_text
from neatledger.demo.meadow import write_meadow_listing
from neatledger.demo.meadowlog import NEW_FILE, web_text
from neatledger.errors import NeatError, OfficeError
from neatledger.formats.posixacl import entries_from_text, entries_to_attribute
from neatledger.formats.sddl import descriptor_to_sddl

__all__ = [
    "LOFT_LISTING",
    "LOFT_LIVE",
    "MARK",
    "MEADOW_LISTING",
    "MEADOW_LIVE",
    "go_on",
    "make_office",
    "point_system",
    "take_out",
    "write_listing",
    "write_loft_listing",
    "write_tree",
]

MARK = ".pellowmere"
LOGS = {"loft.audit.log": log_text, "loft.directory.ldif": directory_text, "meadow.access.log": web_text}
LOFT_LISTING = """    source: listing
    lists: nt
    path: loft.csv
    shares: loft.shares.csv"""
LOFT_LIVE = """    source: smb
    may-change: true
    host: 127.0.0.1
    port: {port}
    user: {user}
    shares: [Accounts, Public, Questions$, Scans, Surgery]"""
MEADOW_LISTING = """    source: listing
    lists: role
    path: meadow.csv
    accounts: {people: meadow.people.csv, groups: meadow.groups.csv, members: meadow.members.csv}
    sharing: meadow.shared.json"""
MEADOW_LIVE = """    source: dav
    may-change: true
    url: {url}/dav/
    web: {{user: {user}, token-url: {url}/token}}
    accounts: {{scim: {url}/scim/v2}}
    sharing: {{url: {url}/sharing}}"""
_LISTING_HEAD = "path,type,owner,group,mode,list,default,bytes,occupied,changed"
_BLOCK = 4096


def make_office(target: Path, when: datetime, *, on_disk: bool) -> None:
    """Make the office as it was at a moment; an earlier one there is made anew, anything else is left alone."""
    if target.exists() and any(target.iterdir()) and not (target / MARK).exists():
        raise OfficeError("this folder is in use, and not by a sample office", str(target), "name another folder")
    try:
        if target.exists():
            shutil.rmtree(target)
        target.mkdir(parents=True)
        (target / MARK).write_text("The sample office is made anew by: neatledger demo\n")
        (target / "barn.passwd").write_text(passwd_text())
        (target / "barn.group").write_text(group_text())
        found = things_at(int(when.timestamp()))
        homes = [thing.path for thing in found if thing.size < 0 and thing.path.startswith("/Homes/")]
        (target / "barn.limits.csv").write_text(limits_text(homes))
        if on_disk:
            write_tree(target / "barn", found)
        else:
            write_listing(target / "barn.csv", found)
        (target / "loft.ldif").write_text(ldif_text())
        write_loft_listing(target)
        for name, text in LOGS.items():
            (target / name).write_text(text(None, when))
        _write_runs(target, when)
        # It was named in the plan, and nobody ever switched it on.
        (target / "barn.audit.log").touch()
        write_meadow_listing(target)
    except OSError as error:
        raise OfficeError(f"cannot make the sample office: {error.strerror}", str(error.filename or target)) from None
    plan = resources.files("neatledger.demo").joinpath("data/office.yaml").read_text("utf-8")
    system = "    source: tree\n    path: barn" if on_disk else "    source: listing\n    path: barn.csv"
    system += "\n    may-change: true # what mend --carry-out asks for"
    for mark, message in (("@BARN@", system), ("@LOFT@", LOFT_LISTING), ("@MEADOW@", MEADOW_LISTING)):
        plan = plan.replace(mark, message)
    (target / "office.yaml").write_text(plan, "utf-8")


def go_on(target: Path, before: datetime, when: datetime, *, on_disk: bool) -> None:
    """Let ``barn`` have what came to it between two moments, and the logs what was done."""
    found = things_at(int(when.timestamp()))
    try:
        _write_runs(target, when)
        for name, text in LOGS.items():
            is_new = name == "meadow.access.log" and before < NEW_FILE <= when
            with open(target / name, "w" if is_new else "a", encoding="utf-8") as log:
                log.write(text(max(before, NEW_FILE) if is_new else before, when))
        if on_disk:
            known = {thing.path for thing in things_at(int(before.timestamp()))}
            write_tree(target / "barn", [thing for thing in found if thing.path not in known])
        else:
            write_listing(target / "barn.csv", found)
    except OSError as error:
        raise OfficeError(f"cannot go on: {error.strerror}", str(error.filename or target)) from None


def _write_runs(target: Path, when: datetime) -> None:
    (target / "barn.backups.csv").write_text(nightly_text(when))
    (target / "barn.mirror.csv").write_text(mirror_text(when))
    (target / "barn.mounts.txt").write_text(MOUNTS)
    (target / "barn.devices.txt").write_text(DEVICES)


def point_system(office: Path, before: str, after: str) -> None:
    """Say in the plan that a system is read in another way."""
    path = office / "office.yaml"
    path.write_text(path.read_text("utf-8").replace(before, after), "utf-8")


def write_loft_listing(target: Path) -> None:
    """Write ``loft`` as a listing: its entries, and its shares."""
    with open(target / "loft.csv", "w", encoding="utf-8", newline="") as out:
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(("path", "type", "list", "bytes", "occupied", "changed"))
        # The server itself lists its shares, and is nobody's.
        writer.writerow(("/", "folder", "D:(A;;FR;;;WD)", 0, 0, 0))
        for thing in published_things():
            kind, size = ("folder", 0) if thing.size < 0 else ("file", thing.size)
            sddl = descriptor_to_sddl(descriptor_of(thing))
            name = quote_from_bytes(os.fsencode(thing.path), safe="/ ")
            writer.writerow((name, kind, sddl, size, -(-size // _BLOCK) * _BLOCK, thing.changed))
    with open(target / "loft.shares.csv", "w", encoding="utf-8", newline="") as out:
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(("name", "path", "list", "read-only", "place"))
        for name in SHARES:
            writer.writerow((name, f"/{name}", share_permission(name), "no", f"/srv/loft{share_place(name)}"))


def write_tree(root: Path, found: Iterable[Thing]) -> None:
    """Make folders and files with their owners, modes, lists and times; needs root."""
    made: list[tuple[str, Thing]] = []
    for thing in found:
        path = f"{root}{thing.path}"
        if thing.link:
            os.symlink(thing.link, path)
        elif thing.size < 0:
            os.mkdir(path)
        else:
            with open(path, "wb") as out:
                if thing.size:
                    os.posix_fallocate(out.fileno(), 0, thing.size)
        made.append((path, thing))
    for path, thing in reversed(made):
        os.chown(path, thing.uid, thing.gid, follow_symlinks=False)
        if not thing.link:
            os.chmod(path, thing.mode)
            for text, name in ((thing.access, "access"), (thing.default, "default")):
                if text:
                    os.setxattr(path, f"system.posix_acl_{name}", entries_to_attribute(entries_from_text(text)))
        os.utime(path, (thing.changed, thing.changed), follow_symlinks=False)


def _mode(thing: Thing) -> int:
    """Return the mode as a file system shows it: with a list, the group bits are the mask."""
    return (
        thing.mode & ~0o777 | 0o770 | (0o005 if "other::r-x" in thing.access else 0) if thing.access else thing.mode
    )


def write_listing(path: Path, found: Iterable[Thing]) -> None:
    """Write the same as a listing (see docs/listing.md)."""
    with open(path, "w", encoding="utf-8", newline="") as out:
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(_LISTING_HEAD.split(","))
        for thing in found:
            kind = "link" if thing.link else "folder" if thing.size < 0 else "file"
            size = len(thing.link) if thing.link else _BLOCK if thing.size < 0 else thing.size
            occupied = 0 if thing.link else -(-size // _BLOCK) * _BLOCK
            name = quote_from_bytes(os.fsencode(thing.path or "/"), safe="/ ")
            lists = (thing.access, thing.default)
            writer.writerow(
                (name, kind, thing.uid, thing.gid, f"{_mode(thing):04o}", *lists, size, occupied, thing.changed)
            )


def take_out(office: Path, group: str, login: str) -> None:
    """Take someone out of a group of ``barn``, as the administrator would."""
    path = office / "barn.group"
    lines = path.read_text("utf-8").splitlines()
    for place, line in enumerate(lines):
        name, mark, gid, members = line.split(":")
        if name == group:
            lines[place] = ":".join((name, mark, gid, ",".join(m for m in members.split(",") if m != login)))
            break
    else:
        raise NeatError(f"there is no group {group}", str(path))
    path.write_text("\n".join(lines) + "\n", "utf-8")
