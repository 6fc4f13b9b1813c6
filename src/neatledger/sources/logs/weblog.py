"""Lines of a web server's access log: the common log format, and its extension by referrer and agent."""

from __future__ import annotations

import os
import posixpath
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
_CREATED = 201  # RFC 9110 section 9.3.4: there was nothing before
_REFUSED = frozenset({_SIGN_IN_REFUSED, 403})


def parse_web_line(line: str, prefix: str) -> Record | None:
    """Return what a line says that somebody did below a prefix of the server's paths; None where it is none of that.

    The log does not tell where something was moved. Raises `FormatError` for what is no line of such a log.
    """
    found = _LINE.fullmatch(line)
    if found is None:
        # Its text is not told: it may hold the address of a link.
        raise FormatError("no line of an access log")
    method, _, rest = found["request"].partition(" ")
    status = int(found["status"])
    if method not in _DONE or found["user"] == "-" or (status >= 400 and status not in _REFUSED):
        # What is not there, or was asked for in a wrong way, is no refusal.
        return None
    try:
        target = urlsplit(rest.rpartition(" ")[0] or rest).path
        moment = datetime.strptime(found["when"], "%d/%b/%Y:%H:%M:%S %z").astimezone(UTC)
    except (ValueError, OverflowError):
        raise FormatError("no address, or no day and time, of an access log") from None
    top = posixpath.normpath(prefix).encode().rstrip(b"/") + b"/"
    path = posixpath.normpath(b"/" + unquote_to_bytes(os.fsencode(target)).lstrip(b"/"))
    if not (path + b"/").startswith(top):
        return None
    did = Did.SIGN_IN if status == _SIGN_IN_REFUSED else _DONE[method]
    if (method, status) == ("PUT", _CREATED):
        did = Did.MAKE
    return Record(
        moment, found["user"], did, b"/" + path[len(top) :], is_done=status < 400, is_folder=method == "MKCOL",
        address=found["host"], device=found["agent"] or "", detail="" if status < 400 else f"status {status}",
    )  # fmt: skip
