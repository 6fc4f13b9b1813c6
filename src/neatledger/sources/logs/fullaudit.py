"""What an SMB server's audit module writes: one operation a line, behind a prefix that its settings say.

The form is that of vfs_full_audit(8): ``PREFIX|OPERATION|RESULT|ARGUMENTS``. Of the operations those are taken that
somebody asked for; what the server does on the way of its own accord is not.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import datetime

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError
from neatledger.sources.logs.roots import Roots

__all__ = ["AuditLines"]

_FIELDS = {"u": "who", "U": "who", "I": "address", "m": "device", "S": "share", "P": "", "T": "", "p": "", "R": ""}
_DONE = {
    "mkdirat": Did.MAKE, "mkdir": Did.MAKE, "unlinkat": Did.DELETE, "unlink": Did.DELETE, "rmdir": Did.DELETE,
    "renameat": Did.RENAME, "rename": Did.RENAME, "fset_nt_acl": Did.RIGHTS, "set_nt_acl": Did.RIGHTS,
    "fchown": Did.RIGHTS, "chown": Did.RIGHTS, "lchown": Did.RIGHTS, "connect": Did.SIGN_IN, "create_file": Did.OPEN,
}  # fmt: skip
# Access masks and dispositions of MS-SMB2 2.2.13: what lets a file be read, and what alters it.
_READS, _WRITES = 0x1, 0x2 | 0x4
_REPLACES = frozenset({"overwrite_if", "overwrite", "supersede"})
_NEW = "create"  # which fails where something is there already
_REFUSED = frozenset({"Permission denied", "Operation not permitted", "NT_STATUS_ACCESS_DENIED"})
_OF_FOLDERS = frozenset({"mkdirat", "mkdir", "rmdir"})
_NO_FOLDERS = "IPC$"


class AuditLines:
    """Reads the messages of one server, in order: of a folder's removal only the line before says that it is one."""

    def __init__(self, prefix: str, roots: Mapping[bytes, bytes]) -> None:
        """Take the setting ``full_audit:prefix``, and server folder → path in the system; raises `FormatError`."""
        self._fields = [_field(part, prefix) for part in prefix.split("|")]
        if "who" not in self._fields:
            raise FormatError(f"the prefix {prefix!r} does not say who it was", hint="put %u|%I|%m|%S")
        self._roots = Roots(roots)
        self._folder = ""
        self._at = [self._fields.index(one) if one in self._fields else -1 for one in ("who", "address", "device")]

    def take(self, message: str, moment: datetime) -> Record | None:
        """Return what a message says that somebody did, None where it is nothing of that; raises `FormatError`."""
        parts = message.split("|")
        if len(parts) < len(self._fields) + 2:
            raise FormatError("fewer fields than the prefix says", message[:80])
        width = len(self._fields)
        operation, result = parts[width : width + 2]
        if operation not in _DONE:
            return None
        rest = parts[width + 2 :]
        if not result.startswith(("ok", "fail")):
            raise FormatError("neither ok nor fail", message[:80])
        did: Did | None = _DONE[operation]
        is_done = result.startswith("ok")
        why = "" if is_done else result.partition("(")[2].rstrip(")")
        if not is_done and why not in _REFUSED:
            # What is not there or is there already is no refusal: programs ask for such things all the time.
            return None
        told, to_told = self._paths(operation, rest)
        if operation == "create_file":
            did = self._opened(rest, told if is_done else "")
        if did is None or (did is Did.SIGN_IN and rest[-1:] == [_NO_FOLDERS]):
            return None
        is_folder = operation in _OF_FOLDERS or (did is Did.DELETE and told == self._folder)
        who, address, device = [parts[at] if at >= 0 else "" for at in self._at]
        path, to = self._roots.inside(told), self._roots.inside(to_told)
        return Record(
            moment, who.rpartition("\\")[2], did, path, to, is_done, is_folder and bool(path), address, device, why
        )

    def _opened(self, rest: Sequence[str], path: str) -> Did | None:
        """Return what an opening is for; None for folders, attributes, and what is only to be removed."""
        try:
            mask, kind, disposition = int(rest[0], 16), rest[1], rest[2]
        except (ValueError, IndexError):
            raise FormatError("no mask, kind and disposition", "|".join(rest)[:80]) from None
        if kind == "dir":
            self._folder = path
            return None
        if disposition == _NEW:
            return Did.MAKE
        if mask & _WRITES or disposition in _REPLACES:
            return Did.CHANGE
        return Did.OPEN if mask & _READS else None

    def _paths(self, operation: str, rest: Sequence[str]) -> tuple[str, str]:
        """Return the path of an operation and the one it leads to; names may hold the separator."""
        if operation == "connect" or not rest:
            return "", ""
        if operation == "create_file":
            rest = rest[3:]
        if _DONE[operation] is not Did.RENAME:
            return "|".join(rest), ""
        splits = [at for at in range(1, len(rest)) if len(rest) == 2 or rest[at].startswith("/")]
        if len(splits) != 1:
            raise FormatError("not clear where the first path ends", "|".join(rest)[:80])
        return "|".join(rest[: splits[0]]), "|".join(rest[splits[0] :])


def _field(part: str, prefix: str) -> str:
    found = re.fullmatch(r"%(.)", part)
    if found is None:
        return ""
    if found[1] not in _FIELDS:
        raise FormatError(f"%{found[1]} in the prefix {prefix!r} is not known", hint="put %u|%I|%m|%S")
    return _FIELDS[found[1]]
