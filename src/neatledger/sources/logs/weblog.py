"""Lines of a web server's access log: the common log format, and its extension by referrer and agent."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from urllib.parse import unquote_to_bytes, urlsplit

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError

__all__ = ["parse_web_line"]

_LINE = re.compile(
    r'(?P<host>\S+) \S+ (?P<user>\S+) \[(?P<when>[^\]]+)\] "(?P<request>(?:[^"\\]|\\.)*)" (?P<status>\d{3}) \S+'
    r'(?: "(?:[^"\\]|\\.)*" "(?P<agent>(?:[^"\\]|\\.)*)")?.*'
)
# Methods of RFC 9110 section 9 and RFC 4918 section 9; what only asks for properties is no opening of a file.
_DONE = {
    "GET": Did.OPEN, "PUT": Did.CHANGE, "DELETE": Did.DELETE, "MKCOL": Did.MAKE, "MOVE": Did.RENAME, "COPY": Did.MAKE,
    "ACL": Did.RIGHTS, "PROPPATCH": Did.CHANGE,
}  # fmt: skip
_SIGN_IN_REFUSED = 401


def parse_web_line(line: str, prefix: str) -> Record | None:
    """Return what a line says that somebody did below a prefix of the server's paths; None where it is none of that.

    The log does not tell where something was moved. Raises `FormatError` for what is no line of such a log.
    """
    found = _LINE.fullmatch(line)
    if found is None:
        raise FormatError("no line of an access log", line[:80])
    method, _, rest = found["request"].partition(" ")
    target = urlsplit(rest.rpartition(" ")[0] or rest).path
    if method not in _DONE or not target.startswith(prefix) or found["user"] == "-":
        return None
    try:
        moment = datetime.strptime(found["when"], "%d/%b/%Y:%H:%M:%S %z").astimezone(UTC)
    except ValueError:
        raise FormatError("no day and time of an access log", found["when"][:40]) from None
    status = int(found["status"])
    raw = unquote_to_bytes(target[len(prefix.rstrip("/")) :])
    parts = [part for part in raw.split(b"/") if part not in (b"", b".", b"..")]
    did = Did.SIGN_IN if status == _SIGN_IN_REFUSED else _DONE[method]
    detail = "" if status < 400 else f"status {status}"
    return Record(
        moment, found["user"], did, b"/" + b"/".join(parts), is_done=status < 400, is_folder=raw.endswith(b"/"),
        address=found["host"], device=found["agent"] or "", detail=detail,
    )  # fmt: skip
