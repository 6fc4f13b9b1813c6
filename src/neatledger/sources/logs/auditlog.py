"""What a directory's audit log holds: change records (RFC 2849) behind a comment that says when, and by whom.

The form is that of slapo-auditlog(5): ``# modify 1700000000 dc=… cn=admin,… IP=… conn=…``, the record, and
``# end modify 1700000000``. Values are not taken over: they may be passwords.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError
from neatledger.sources.logs.names import first_name, is_of_log, members_changed

__all__ = ["AuditBlocks"]

_BEGIN = re.compile(r"# (add|modify|delete|modrdn) (\d+) (\S+) (.+?)(?: IP=(\S+))?(?: conn=\d+)?")
_END = re.compile(r"# end (?:add|modify|delete|modrdn) \d+")
_FOLDED = re.compile(r"^(?:add|replace|delete): (\S+)$")
_MOST_LINES = 100_000


class AuditBlocks:
    """Takes lines one by one; a block is one deed, and is told at its end."""

    def __init__(self) -> None:
        self._block: list[str] = []

    @property
    def is_open(self) -> bool:
        """Tell whether a block has begun and not ended."""
        return bool(self._block)

    def take(self, line: str) -> Record | None:
        """Return what was done where a block ends with this line; raises `FormatError` where it is none."""
        if _END.fullmatch(line):
            block, self._block = self._block, []
            return _record(block)
        if _BEGIN.fullmatch(line):
            self._block = [line]
        elif self._block:
            if line.startswith(" "):
                self._block[-1] += line[1:]
            elif len(self._block) < _MOST_LINES:
                # Of values that are longer than any list of members nothing is needed.
                self._block.append(line)
        return None


def _record(block: list[str]) -> Record:
    head = _BEGIN.fullmatch(block[0]) if block else None
    if head is None:
        raise FormatError("the end of what never began")
    try:
        moment = datetime.fromtimestamp(int(head[2]), UTC)
    except (ValueError, OverflowError, OSError):
        raise FormatError("no moment", head[2][:40]) from None
    dn = next((line.partition(": ")[2] for line in block if line.startswith("dn: ")), "?")
    names = [found[1].lower() for line in block if (found := _FOLDED.fullmatch(line))]
    # Which attributes were changed, and never their values.
    did, what = members_changed(dict.fromkeys(names))
    if head[1] != "modify":
        what = {"add": "made", "delete": "removed", "modrdn": "renamed"}[head[1]]
    if is_of_log(dn):
        did = Did.LOGGING
    return Record(moment, first_name(head[4]), did, detail=f"{dn}: {what}", address=_address(head[5] or ""))


def _address(told: str) -> str:
    """Return an address without its port; an IPv6 one stands in brackets."""
    if told.startswith("["):
        return told[1:].partition("]")[0]
    return told.rpartition(":")[0] or told
