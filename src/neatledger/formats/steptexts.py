"""Steps as text for the systems' own tools: what somebody types, or hands to a program, who makes them by hand.

POSIX lists: setfacl(1), chown(1), chmod(1), mkdir(1) lines for a shell, numeric, whatever is in a name. NT lists:
SDDL (MS-DTYP 2.5.1). Limits of a tree: btrfs-qgroup(8) lines. Groups and accounts of a POSIX system: groupadd(8),
gpasswd(1) and usermod(8) lines. All else: JSON, as `core.steps.table` writes it.
"""

from __future__ import annotations

import json
import struct
from dataclasses import replace

from neatledger.core.lists import posix
from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.table import step_to_facts
from neatledger.core.survey.accounts import AccountState
from neatledger.errors import FormatError
from neatledger.formats.listtexts import text_of_body

__all__ = ["quoted", "text_of_step"]

_HEAD = struct.Struct("<HI")
_SAFE = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:=,@+%")


def quoted(name: bytes) -> str:
    """Return a name as one word of a shell, whatever bytes are in it; unusual ones in octal (POSIX.1-2024 2.2.4)."""
    if name and set(name) <= _SAFE:
        return name.decode("ascii")
    if all(32 <= byte < 127 for byte in name):
        return "'" + name.decode("ascii").replace("'", "'\\''") + "'"
    parts = [chr(byte) if 32 <= byte < 127 and byte not in b"'\\" else f"\\{byte:03o}" for byte in name]
    return "$'" + "".join(parts) + "'"


def text_of_step(step: Step, root: bytes = b"") -> list[str]:
    """Return a step as lines of its system's own language; `root` is where the system's tree lies on its machine."""
    match step:
        case ListStep() if step.model == "posix":
            return _posix_lines(root + step.path, step.before, step.after)
        case FolderStep() if step.model == "posix":
            return _folder_lines(root + step.path, step)
        case FilesStep() if step.model == "posix":
            return _file_lines(root + step.path, step)
        case ListStep() if step.model == "nt":
            return [f"{_shown(step.path)}: {_sddl(step.after)}"]
        case FolderStep() if step.model == "nt":
            return [f"{_shown(step.path)}: {_sddl(step.item) if step.made else 'remove'}"]
        case ShareStep() if step.before.body != step.after.body:
            # Its switches, where these change too, stand in the JSON beside.
            lines = [f"share {json.dumps(step.target)}: {_sddl(ItemState('', step.after.body))}"]
            only_list = replace(step.before, body=step.after.body) == step.after
            return lines if only_list else [*lines, json.dumps(step_to_facts(step))]
        case MemberStep() if not step.is_group and step.group.isdecimal():
            flag = "-a" if step.after else "-d"
            return [f"gpasswd {flag} {quoted(_bytes(step.member))} {quoted(_bytes(step.name))}"]
        case GroupStep() if step.group.isdecimal():
            name = quoted(_bytes(step.name))
            put = [f"gpasswd -a {quoted(_bytes(step.first))} {name}"] if step.first else []
            return [f"groupadd -g {step.group} {name}", *put] if step.made else [f"groupdel {name}"]
        case LimitStep() if root and step.on is On.FOLDER:
            amount = "none" if step.after is UNLIMITED else str(step.after)
            return [f"btrfs qgroup limit {amount} {quoted(root + _bytes(step.name))}"]
        case AccountStep():
            return _account_lines(step)
        case _:
            return [json.dumps(step_to_facts(step))]


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _shown(path: bytes) -> str:
    return json.dumps(path.decode("utf-8", "surrogateescape"))


def _sddl(item: ItemState) -> str:
    try:
        # Full access as a number (MS-DTYP 2.5.1.1): an SMB server's own tools read its word FA as less.
        return text_of_body("nt", item.body, item.owner).replace(";FA;", ";0x1f01ff;")
    except FormatError as error:
        return f"(no text: {error})"


def _account_lines(step: AccountStep) -> list[str]:
    login = quoted(_bytes(step.login))
    if step.after is AccountState.OPEN:
        return [f"usermod --unlock --expiredate '' {login}"]
    return [f"usermod --lock --expiredate 1 {login}"]


# POSIX ----------------------------------------------------------------------------------------------------


def _entries(body: bytes) -> str:
    return text_of_body("posix", body)


def _posix_lines(path: bytes, before: ItemState, after: ItemState, *, also_files: bool = False) -> list[str]:
    name = quoted(path)
    old_mode, old_gid = _HEAD.unpack_from(before.body)
    mode, gid = _HEAD.unpack_from(after.body)
    lines = []
    if after.default != before.default:
        # The default list first: what is made meanwhile gets the old one or the new one, and never neither.
        lines.append(
            f"setfacl -k -- {name}"
            if after.default is None
            else f"setfacl -d --set {_entries(after.default)} -- {name}"
        )
    if (after.owner, gid) != (before.owner, old_gid):
        lines.append(f"chown -h {after.owner}:{gid} -- {name}")
    if after.body != before.body:
        lines.append(f"setfacl --set {_entries(after.body)} -- {name}")
        if (mode ^ old_mode) & 0o7000:
            special = "".join(
                f",{who}{'+' if mode & bit else '-'}{letter}"
                for bit, who, letter in ((0o4000, "u", "s"), (0o2000, "g", "s"), (0o1000, "", "t"))
                if (mode ^ old_mode) & bit
            )
            lines.append(f"chmod {special[1:]} -- {name}")
    return lines


def _folder_lines(path: bytes, step: FolderStep) -> list[str]:
    if not step.made:
        return [f"rmdir -- {quoted(path)}"]
    # Known by its name only when its list is in place.
    above, _, name = path.rpartition(b"/")
    first = above + b"/.new-" + name
    # A folder takes setgid and a default list on from the one that it is made in: all of it is said anew.
    mode = ~_HEAD.unpack_from(step.item.body)[0] & 0o7000
    empty = ItemState("", posix.pack_body(mode | 0o700, 0xFFFFFFFF), None if step.item.default else b"")
    lines = _posix_lines(first, empty, step.item)
    return [f"mkdir -m 700 -- {quoted(first)}", *lines, f"mv -nT -- {quoted(first)} {quoted(path)}"]


def _file_lines(path: bytes, step: FilesStep) -> list[str]:
    """Return what changes all files of a folder that look as the step says, by owner, group and mode."""
    mode, gid = _HEAD.unpack_from(step.before.body)
    here = quoted(path if path else b"/")
    found = f"find {here} -maxdepth 1 -type f -uid {step.before.owner} -gid {gid} -perm {mode & 0o7777:04o}"
    lines = _posix_lines(b"{}", *(ItemState(sort.owner, sort.body) for sort in (step.before, step.after)))
    commands = [line.replace(quoted(b"{}"), "{}") for line in lines]
    if len(commands) == 1:
        return [f"{found} -exec {commands[0]} \\;"]
    return [f"{found} " + " ".join(f"-exec {command} \\;" for command in commands)]
