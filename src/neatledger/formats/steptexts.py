"""Steps as text for the systems' own tools: what somebody types, or hands to a program, who makes them by hand.

POSIX lists: setfacl(1), chown(1), chmod(1), mkdir(1) lines for a shell (POSIX.1-2024 XCU 2), whatever is in a
name; a line for each step, which first tests that what it changes is as it was counted, and else says so and stops.
NT lists: SDDL (MS-DTYP 2.5.1). Limits of a tree: btrfs-qgroup(8) lines. Groups and accounts of a POSIX system:
groupadd(8), gpasswd(1), useradd(8) and usermod(8) lines; accounts of an SMB server: smbpasswd(8) lines. All else,
which no line says: JSON as `core.steps.table` writes it, as a comment.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from dataclasses import replace

from neatledger.core.lists import posix
from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
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
    """Return a name as one word of a shell, whatever bytes are in it (POSIX.1-2024 XCU 2.2.2).

    Text stands between single quotes as it is. What is none, or would not show on a screen, printf(1) makes of octal
    numbers; line ends at the end of a word stand as they are, for a shell takes them from what a command prints.
    """
    if name and set(name) <= _SAFE:
        return name.decode("ascii")
    try:
        text = name.decode("utf-8")
    except UnicodeDecodeError:
        text = ""
    if text.isprintable() and (text or not name):
        return _single(text)
    inner = name.rstrip(b"\n")
    ends = name[len(inner) :].decode("ascii")
    printed = "".join(_octal(byte) for byte in inner)
    found = f'"$(printf {_single(printed)})"' if printed else ""
    return found + (f"'{ends}'" if ends else "")


def _single(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def _octal(byte: int) -> str:
    if byte == ord("%"):
        return "%%"
    return chr(byte) if 32 <= byte < 127 and byte not in b"\\" else f"\\{byte:03o}"


def text_of_step(step: Step, root: bytes = b"", *, is_smb: bool = False) -> list[str]:
    """Return a step as lines of its system's own language; `root` is where the system's tree lies on its machine.

    Of an SMB server (`is_smb`) its own database of passwords says who may sign in.
    """
    match step:
        case ListStep() | FolderStep() | FilesStep() if step.model == "posix":
            return _tree_lines(root + step.path, step)
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
            return _account_lines(step, is_smb=is_smb)
        case WholeAccountStep() if step.account.ident.isdecimal() and step.account.primary.isdecimal():
            return _whole_account_lines(step)
        case _:
            # A comment to a shell: no tool's line says it.
            return [f"# {json.dumps(step_to_facts(step))}"]


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


def _account_lines(step: AccountStep, *, is_smb: bool) -> list[str]:
    login = quoted(_bytes(step.login))
    if is_smb:
        return [f"smbpasswd {'-e' if step.after is AccountState.OPEN else '-d'} {login}"]
    if step.after is AccountState.OPEN:
        return [f"usermod --unlock --expiredate '' {login}"]
    return [f"usermod --lock --expiredate 1 {login}"]


def _whole_account_lines(step: WholeAccountStep) -> list[str]:
    """Return useradd(8) and userdel(8) lines: an account without a home made for it, and without a password."""
    account = step.account
    login = quoted(_bytes(account.login))
    if step.after is None:
        return [f"userdel {login}"]
    words = [f"useradd -M -u {account.ident} -g {account.primary}"]
    words += [f"-c {quoted(_bytes(account.name))}"] if account.name else []
    words += [f"-d {quoted(_bytes(account.home))}"] if account.home else []
    words += [f"-s {quoted(_bytes(account.shell))}"] if account.shell else []
    words += [f"-G {','.join(step.groups)}"] if step.groups else []
    return [" ".join([*words, "--", login])]


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


def _guarded(test: str, commands: Sequence[str], name: str) -> str:
    """Return a line that makes something only of what is as it was counted, and else says so and stops."""
    stop = f"{{ echo 'not as it was counted, or refused: '{name} >&2; exit 1; }}"
    return " && ".join([test, *commands]) + f" || {stop}"


def _posix_lines(path: bytes, before: ItemState, after: ItemState) -> list[str]:
    name = quoted(path)
    commands = _posix_commands(name, before, after)
    told = _told(before.owner, before.body, before.default)
    return [_guarded(_stands(name, told), commands, name)] if commands else []


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
        return [_guarded(_stands(name, told), [f"rmdir -- {name}"], name)]
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
    return [_guarded(f"test ! -e {name}", commands, name)]


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
    return [_guarded(count, [f"{found} '{make}' sh {told} {{}} \\;"], here)]
