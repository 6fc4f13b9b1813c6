"""Steps as text for the systems' own tools: what somebody types, or hands to a program, who makes them by hand.

POSIX lists: setfacl(1), chown(1), chmod(1), mkdir(1) lines for a shell (POSIX.1-2024 XCU 2), whatever is in a
name; a line for each step, which first tests that what it changes is as it was counted, and else says so and stops.
NT lists: SDDL (MS-DTYP 2.5.1). Accounts, groups and limits: the lines of `accountlines` and `limitlines`.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Callable
from dataclasses import dataclass, replace

from neatledger.core.lists import posix
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.shares import ShareStep
from neatledger.errors import FormatError
from neatledger.formats.accountlines import account_lines, smb_account_lines
from neatledger.formats.limitlines import limit_lines
from neatledger.formats.listtexts import text_of_body
from neatledger.formats.shelllines import guarded, quoted

__all__ = ["Ground", "text_of_step"]

_HEAD = struct.Struct("<HI")


@dataclass(frozen=True, slots=True)
class Ground:
    """Where a step's text is to be run: what must be known of a system for it.

    `root` is where its tree lies on its machine (empty: not known), `is_btrfs` whether that keeps quota groups. Who
    may sign in an SMB server's own database of passwords says (`is_smb`), or the machine's files (`is_machine`).
    `ident` tells the number of a login there.
    """

    root: bytes = b""
    is_btrfs: bool = False
    is_smb: bool = False
    is_machine: bool = False
    ident: Callable[[str], str] = str


def text_of_step(step: Step, ground: Ground = Ground()) -> list[str]:
    """Return a step as lines of its system's own language; nothing where none says it."""
    match step:
        case ListStep() | FolderStep() | FilesStep() if step.model == "posix":
            return _tree_lines(ground.root + step.path, step)
        case ListStep() if step.model == "nt":
            return [f"{_shown(step.path)}: {_sddl(step.after)}"]
        case FilesStep() if step.model == "nt":
            return [f"{_shown(step.path)}, {_files(step)}: {_sddl(ItemState(step.after.owner, step.after.body))}"]
        case FolderStep() if step.model == "nt":
            return [f"{_shown(step.path)}: {_sddl(step.item) if step.made else 'remove'}"]
        case ShareStep() if replace(step.before, body=step.after.body) == step.after:
            return [f"share {json.dumps(step.target)}: {_sddl(ItemState('', step.after.body))}"]
        case LimitStep() if ground.root:
            return limit_lines(step, ground.root, is_btrfs=ground.is_btrfs)
        case _ if ground.is_smb:
            return smb_account_lines(step)
        case _ if ground.is_machine:
            return account_lines(step, ground.ident(step.login) if isinstance(step, AccountStep) else "")
        case _:
            return []


def _files(step: FilesStep) -> str:
    """Say which of a folder's files a step is of: a count keeps no names of them."""
    before = _sddl(ItemState(step.before.owner, step.before.body))
    return f"its one file with {before}" if step.files == 1 else f"its {step.files} files with {before}"


def _shown(path: bytes) -> str:
    return json.dumps(path.decode("utf-8", "surrogateescape"))


def _sddl(item: ItemState) -> str:
    try:
        # Full access as a number (MS-DTYP 2.5.1.1): an SMB server's own tools read its word FA as less.
        return text_of_body("nt", item.body, item.owner).replace(";FA;", ";0x1f01ff;")
    except FormatError as error:
        return f"(no text: {error})"


# POSIX ----------------------------------------------------------------------------------------------------


def _entries(body: bytes) -> str:
    return text_of_body("posix", body)


def _posix_commands(name: str, before: ItemState, after: ItemState) -> list[str]:
    """Return the commands that make what decides about an item another; `name` is the word for it."""
    old_mode, old_gid = _HEAD.unpack_from(before.body)
    mode, gid = _HEAD.unpack_from(after.body)
    found = []
    if after.default != before.default:
        # The default list first: what is made meanwhile gets the old one or the new one, and never neither.
        found.append(
            f"setfacl -k -- {name}"
            if after.default is None
            else f"setfacl -d --set {_entries(after.default)} -- {name}"
        )
    if (after.owner, gid) != (before.owner, old_gid):
        found.append(f"chown -h {after.owner}:{gid} -- {name}")
    if after.body != before.body:
        found.append(f"setfacl --set {_entries(after.body)} -- {name}")
        if (mode ^ old_mode) & 0o7000:
            special = "".join(
                f",{who}{'+' if mode & bit else '-'}{letter}"
                for bit, who, letter in ((0o4000, "u", "s"), (0o2000, "g", "s"), (0o1000, "", "t"))
                if (mode ^ old_mode) & bit
            )
            found.append(f"chmod {special[1:]} -- {name}")
    return found


def _told(owner: str, body: bytes, default: bytes | None = None) -> str:
    """Return what stat(1) and getfacl(1) tell of an item: owner, group, mode, and the entries of its lists."""
    mode, gid = _HEAD.unpack_from(body)
    entries = _entries(body).split(",")
    entries += [f"default:{one}" for one in _entries(default).split(",")] if default is not None else []
    return f"{owner}:{gid}:{mode & 0o7777:o} {','.join(entries)},"


# getfacl(1) ends what it tells of an item with an empty line.
_ASKED = '"$(stat -c %u:%g:%a -- {name}) $(getfacl -cpnE -- {name} | grep . | tr "\\n" ,)"'


def _stands(name: str, told: str) -> str:
    return f"test {_ASKED.format(name=name)} = '{told}'"


def _posix_lines(path: bytes, before: ItemState, after: ItemState) -> list[str]:
    name = quoted(path)
    commands = _posix_commands(name, before, after)
    told = _told(before.owner, before.body, before.default)
    return [guarded(_stands(name, told), commands, name)] if commands else []


def _tree_lines(path: bytes, step: ListStep | FolderStep | FilesStep) -> list[str]:
    match step:
        case ListStep():
            return _posix_lines(path, step.before, step.after)
        case FolderStep():
            return _folder_lines(path, step)
        case FilesStep():
            return _file_lines(path, step)


def _folder_lines(path: bytes, step: FolderStep) -> list[str]:
    name = quoted(path)
    if not step.made:
        told = _told(step.item.owner, step.item.body, step.item.default)
        return [guarded(_stands(name, told), [f"rmdir -- {name}"], name)]
    # Known by its name only when its list is in place.
    above, _, last = path.rpartition(b"/")
    first = above + b"/.new-" + last
    # A folder takes setgid and a default list on from the one that it is made in: all of it is said anew.
    mode = ~_HEAD.unpack_from(step.item.body)[0] & 0o7000
    empty = ItemState("", posix.pack_body(mode | 0o700, 0xFFFFFFFF), None if step.item.default else b"")
    commands = [
        f"mkdir -m 700 -- {quoted(first)}",
        *_posix_commands(quoted(first), empty, step.item),
        f"mv -nT -- {quoted(first)} {name}",
    ]
    return [guarded(f"test ! -e {name}", commands, name)]


def _file_lines(path: bytes, step: FilesStep) -> list[str]:
    """Return a line that changes all files of a folder that look as the step says, where they are as many."""
    if step.beside[0]:
        return [f"# no line can tell these {step.files} files from {step.beside[0]} others that look the same"]
    mode, gid = _HEAD.unpack_from(step.before.body)
    here = quoted(path if path else b"/")
    # In a shell of their own the file is $2, and what it must look like $1.
    is_of_it = f'test {_ASKED.format(name=chr(34) + "$2" + chr(34))} = "$1"'
    told = f"'{_told(step.before.owner, step.before.body)}'"
    looks = f"-uid {step.before.owner} -gid {gid} -perm {mode & 0o7777:04o}"
    found = f"find {here} -maxdepth 1 -type f {looks} -exec sh -c"
    before, after = (ItemState(sort.owner, sort.body) for sort in (step.before, step.after))
    make = " && ".join([is_of_it, *_posix_commands('"$2"', before, after)])
    count = f"test \"$({found} '{is_of_it} && echo' sh {told} {{}} \\; | wc -l)\" -eq {step.files}"
    return [guarded(count, [f"{found} '{make}' sh {told} {{}} \\;"], here)]
