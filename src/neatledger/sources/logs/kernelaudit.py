"""Audit records of a Linux kernel's watched folders, sign-ins, and what is done to the audit itself.

The form is that of auditd's log: ``type=SYSCALL msg=audit(1364481363.243:24287): arch=c000003e syscall=257 …``, an
event in several lines of one number. Values stand plain, in quotes, or in hexadecimal digits where they hold anything
else. Fields that were made readable stand behind a group separator, in capitals. An event ends with its ``PROCTITLE``
or ``EOE``; ``USER_LOGIN`` and ``CONFIG_CHANGE`` are events of one line.
"""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError
from neatledger.sources.logs.roots import Roots

__all__ = ["AuditEvents"]

_LINE = re.compile(r"(?:node=\S+ )?type=(\S+) msg=audit\((\d+)\.\d+:(\d+)\): ?(.*)", re.DOTALL)
_FIELD = re.compile(r"(\w[\w-]*)=(\"[^\"]*\"|'[^']*'|[^\s'\"]*)")
# The numbers of system calls, by the machine's (linux/audit.h, and each architecture's table of calls).
_CALLS = {
    "c000003e": {
        2: "open", 85: "creat", 257: "openat", 437: "openat2", 87: "unlink", 263: "unlinkat", 84: "rmdir",
        82: "rename", 264: "renameat", 316: "renameat2", 83: "mkdir", 258: "mkdirat", 90: "chmod", 91: "fchmod",
        268: "fchmodat",
        92: "chown", 93: "fchown", 94: "lchown", 260: "fchownat", 188: "setxattr", 189: "lsetxattr", 190: "fsetxattr",
        76: "truncate", 452: "fchmodat2",
    },
    "c00000b7": {
        56: "openat", 437: "openat2", 35: "unlinkat", 38: "renameat", 276: "renameat2", 34: "mkdirat", 52: "fchmod",
        53: "fchmodat", 54: "fchownat", 55: "fchown", 5: "setxattr", 6: "lsetxattr", 7: "fsetxattr", 45: "truncate",
        452: "fchmodat2",
    },
}  # fmt: skip
_DID = {
    "open": Did.OPEN, "openat": Did.OPEN, "openat2": Did.OPEN, "creat": Did.CHANGE, "truncate": Did.CHANGE,
    "unlink": Did.DELETE, "unlinkat": Did.DELETE, "rmdir": Did.DELETE, "mkdir": Did.MAKE, "mkdirat": Did.MAKE,
    "rename": Did.RENAME, "renameat": Did.RENAME, "renameat2": Did.RENAME,
    **dict.fromkeys(("chmod", "fchmod", "fchmodat", "fchmodat2"), Did.RIGHTS),
    **dict.fromkeys(("chown", "fchown", "lchown", "fchownat"), Did.RIGHTS),
    **dict.fromkeys(("setxattr", "lsetxattr", "fsetxattr"), Did.RIGHTS),
}  # fmt: skip
_FLAGS_AT = {"open": "a1", "openat": "a2"}
_WRITES = 0x3  # O_WRONLY | O_RDWR
_REFUSED = frozenset({-1, -13})  # EPERM, EACCES
_UNSET = frozenset({"4294967295", "-1", "unset"})
_FOLDER_MODE, _KIND_MODE = 0o040000, 0o170000
_ONE_LINE = frozenset({"USER_LOGIN", "CONFIG_CHANGE"})
_LAST = frozenset({"PROCTITLE", "EOE"})
_MOST_LINES = 1_000


@dataclass(slots=True)
class _Event:
    number: str
    moment: datetime
    call: Mapping[str, str] = field(default_factory=dict)
    folder: str = ""
    paths: list[Mapping[str, str]] = field(default_factory=list)
    lines: int = 0


class AuditEvents:
    """Takes lines one by one; an event is one deed, and is told at its last line."""

    def __init__(self, roots: Mapping[bytes, bytes]) -> None:
        self._roots = Roots(roots)
        self._event: _Event | None = None

    @property
    def is_open(self) -> bool:
        """Tell whether an event has begun and not ended."""
        return self._event is not None

    def take(self, line: str) -> Record | None:
        """Return what was done where an event ends with this line; raises `FormatError` where it is none."""
        found = _LINE.fullmatch(line)
        if found is None:
            raise FormatError("no audit record")
        kind, seconds, number, text = found.groups()
        try:
            moment = datetime.fromtimestamp(int(seconds), UTC)
        except (ValueError, OverflowError, OSError):
            raise FormatError("no moment", seconds[:40]) from None
        fields = _fields(text)
        if kind in _ONE_LINE:
            return _sign_in(fields, moment) if kind == "USER_LOGIN" else _change_of_log(fields, moment)
        before = self._event
        if before is not None and before.number != number:
            # Its last line never came: it is told all the same.
            self._event = None
            ended = self._told(before)
            self._begin(kind, number, moment, fields)
            return ended
        self._begin(kind, number, moment, fields)
        event = self._event
        if event is not None and (kind in _LAST or event.lines > _MOST_LINES):
            self._event = None
            return self._told(event)
        return None

    def _begin(self, kind: str, number: str, moment: datetime, fields: Mapping[str, str]) -> None:
        event = self._event
        if event is None:
            if kind in _LAST:
                return
            event = self._event = _Event(number, moment)
        event.lines += 1
        if kind == "SYSCALL":
            event.call = fields
        elif kind == "CWD":
            event.folder = _text(fields.get("cwd", ""))
        elif kind == "PATH":
            event.paths.append(fields)

    def _told(self, event: _Event) -> Record | None:
        call = event.call
        name = call.get("SYSCALL") or _call_of(call)
        did = _DID.get(name)
        if did is None or not event.paths:
            return None
        is_done = call.get("success") == "yes"
        if not is_done and _number(call.get("exit", "")) not in _REFUSED:
            # What is not there or is there already is no refusal: programs ask for such things all the time.
            return None
        paths = {one: _path(event, one) for one in ("DELETE", "CREATE", "NORMAL")}
        path, to = paths["DELETE"] or paths["CREATE"] or paths["NORMAL"] or _path(event, "UNKNOWN"), ""
        if did is Did.RENAME:
            path, to = paths["DELETE"] or path, paths["CREATE"]
        elif did is Did.OPEN and paths["CREATE"]:
            did = Did.MAKE
        elif did is Did.OPEN and (_number(call.get(_FLAGS_AT.get(name, ""), "0"), 16) or 0) & _WRITES:
            did = Did.CHANGE
        if not path:
            return None
        is_folder = any(
            (_number(one.get("mode", ""), 8) or 0) & _KIND_MODE == _FOLDER_MODE
            for one in event.paths
            if one.get("nametype") not in ("PARENT", None)
        )
        if did is Did.OPEN and is_folder:
            # Listing a folder is no use of what is in it.
            return None
        return Record(
            event.moment, _who(call), did, self._roots.inside(path), self._roots.inside(to), is_done, is_folder,
            device=_text(call.get("comm", "")), detail="" if is_done else "Permission denied",
        )  # fmt: skip


def _fields(text: str) -> dict[str, str]:
    # Messages of programs hold their own fields in quotes: these are fields too.
    inner = re.sub(r"msg='([^']*)'", r"\1", text.replace("\x1d", " "))
    return dict(_FIELD.findall(inner))


def _text(value: str) -> str:
    """Return a value as text: in quotes it stands as it is, else it is hexadecimal digits where it looks so."""
    if value[:1] in ("'", '"'):
        return value[1:-1]
    if value and len(value) % 2 == 0 and re.fullmatch("[0-9A-F]+", value):
        return os.fsdecode(bytes.fromhex(value))
    return "" if value in ("(null)", "?", "(none)") else value


def _number(value: str, base: int = 10) -> int | None:
    try:
        return int(value, base)
    except ValueError:
        return None


def _call_of(call: Mapping[str, str]) -> str:
    return _CALLS.get(call.get("arch", ""), {}).get(_number(call.get("syscall", "")) or 0, "")


def _who(fields: Mapping[str, str]) -> str:
    """Return who signed in first (auid), whatever account they took on later; a number where no name is told."""
    for name, number in (("AUID", "auid"), ("UID", "uid")):
        found = fields.get(number, "")
        if found and found not in _UNSET:
            said = _text(fields.get(name, ""))
            return said if said and said != "unset" else found
    return "?"


def _path(event: _Event, kind: str) -> str:
    """Return the path of the first item of a kind, from the root on."""
    for one in event.paths:
        if one.get("nametype") == kind:
            name = _text(one.get("name", ""))
            return posixpath.normpath(posixpath.join(event.folder or "/", name)) if name else ""
    return ""


def _sign_in(fields: Mapping[str, str], moment: datetime) -> Record:
    who = _text(fields.get("acct", "")) or _text(fields.get("ID", "")) or fields.get("id", "?")
    is_done = _text(fields.get("res", "")) in ("success", "1", "yes")
    address, device = (_text(fields.get(one, "")) for one in ("addr", "terminal"))
    return Record(moment, who, Did.SIGN_IN, is_done=is_done, address=address, device=device)


def _change_of_log(fields: Mapping[str, str], moment: datetime) -> Record | None:
    """Return that somebody switched the audit off or took a rule away; not what happens at every start."""
    if fields.get("auid", "4294967295") in _UNSET:
        return None
    if fields.get("audit_enabled") == "0":
        return Record(moment, _who(fields), Did.LOGGING, detail="the audit was switched off")
    if _text(fields.get("op", "")) in ("remove_rule", "remove rule"):
        return Record(moment, _who(fields), Did.LOGGING, detail="a rule of the audit was taken away")
    return None
