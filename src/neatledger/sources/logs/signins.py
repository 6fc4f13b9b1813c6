"""Sign-ins as Unix systems keep them: records of struct utmp in ``wtmp``, and refused ones in ``btmp`` (utmp(5)).

Each is of 384 bytes, in the layout that Linux has on all 64-bit machines of today, little-endian.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime
from ipaddress import ip_address

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError

__all__ = ["RECORD_BYTES", "parse_sign_in"]

_FORM = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
RECORD_BYTES = _FORM.size
_LOGIN_PROCESS, _USER_PROCESS = 6, 7
_LARGEST = 9


def parse_sign_in(data: bytes, *, is_refused: bool) -> Record | None:
    """Return who signed in, from where and at what; None for what is none. Raises `FormatError`."""
    kind, _, line, _, user, host, _, _, _, seconds, _, address = _FORM.unpack(data)
    if not 0 <= kind <= _LARGEST:
        raise FormatError("no record of a sign-in")
    who = _text(user)
    if kind != _USER_PROCESS and not (is_refused and kind == _LOGIN_PROCESS):
        return None
    if not who or not seconds:
        return None
    moment = datetime.fromtimestamp(seconds & 0xFFFFFFFF, UTC)
    origin = _address(address) or _text(host)
    return Record(moment, who, Did.SIGN_IN, is_done=not is_refused, address=origin, device=_text(line))


def _text(data: bytes) -> str:
    return data.partition(b"\0")[0].decode("utf-8", "backslashreplace")


def _address(data: bytes) -> str:
    """Return an address; an IPv4 one stands in the first four bytes."""
    if not any(data):
        return ""
    found = ip_address(data if any(data[4:]) else data[:4])
    mapped = getattr(found, "ipv4_mapped", None)
    return str(mapped or found)
