"""Security descriptors: their parts, and the self-relative binary form both ways.

Source: MS-DTYP sections 2.4.2 (SID), 2.4.4 (ACE), 2.4.5 (ACL) and 2.4.6 (SECURITY_DESCRIPTOR). Entries of a
type that is not known, or whose inside is not as its type wants it, are kept raw and written back byte
for byte. What is written is always in the order owner, group, SACL, DACL, each at a multiple of four.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from neatledger.errors import FormatError

__all__ = [
    "AUTO_INHERITED",
    "AUTO_REQUESTED",
    "CALLBACK_TYPES",
    "CONTAINER_INHERIT",
    "DACL_PRESENT",
    "INHERITED",
    "INHERIT_ONLY",
    "NO_PROPAGATE",
    "OBJECT_INHERIT",
    "OBJECT_TYPES",
    "PROTECTED",
    "SACL_PRESENT",
    "SELF_RELATIVE",
    "Ace",
    "AceType",
    "Acl",
    "Descriptor",
    "ace_of_body",
    "body_of_ace",
    "is_sid",
    "pack_acl",
    "pack_descriptor",
    "pack_sid",
    "split_acl",
    "unpack_acl",
    "unpack_descriptor",
    "unpack_sid",
]

# Control bits (MS-DTYP 2.4.6) and entry flags (2.4.4.1).
DACL_PRESENT, SACL_PRESENT = 0x0004, 0x0010
AUTO_REQUESTED, AUTO_INHERITED, PROTECTED, SELF_RELATIVE = 0x0100, 0x0400, 0x1000, 0x8000
OBJECT_INHERIT, CONTAINER_INHERIT, NO_PROPAGATE, INHERIT_ONLY, INHERITED = 0x01, 0x02, 0x04, 0x08, 0x10

_HEAD = struct.Struct("<BBHIIII")
_ACL_HEAD = struct.Struct("<BBHHH")
_ACE_HEAD = struct.Struct("<BBH")
_MOST = 0xFFFF  # an ACL and an ACE tell their sizes in 16 bits


class AceType:
    """The types of entries that have a name (MS-DTYP 2.4.4.1)."""

    ALLOW, DENY, AUDIT, ALARM = 0x00, 0x01, 0x02, 0x03
    ALLOW_COMPOUND = 0x04
    ALLOW_OBJECT, DENY_OBJECT, AUDIT_OBJECT, ALARM_OBJECT = 0x05, 0x06, 0x07, 0x08
    ALLOW_CALLBACK, DENY_CALLBACK, ALLOW_CALLBACK_OBJECT, DENY_CALLBACK_OBJECT = 0x09, 0x0A, 0x0B, 0x0C
    AUDIT_CALLBACK, ALARM_CALLBACK, AUDIT_CALLBACK_OBJECT, ALARM_CALLBACK_OBJECT = 0x0D, 0x0E, 0x0F, 0x10
    LABEL, RESOURCE, SCOPED_POLICY = 0x11, 0x12, 0x13


OBJECT_TYPES = frozenset({0x05, 0x06, 0x07, 0x08, 0x0B, 0x0C, 0x0F, 0x10})
CALLBACK_TYPES = frozenset({0x09, 0x0A, 0x0B, 0x0C, 0x0D, 0x0E, 0x0F, 0x10})
_WITH_SID = frozenset({0x00, 0x01, 0x02, 0x03, 0x09, 0x0A, 0x0D, 0x0E, 0x11, 0x12, 0x13}) | OBJECT_TYPES
_WITHOUT_MORE = frozenset({0x00, 0x01, 0x02, 0x03, 0x05, 0x06, 0x07, 0x08, 0x11, 0x13})


@dataclass(frozen=True, slots=True)
class Ace:
    """One entry: type, flags, 32-bit mask, and whom it names.

    `object_types` holds the flags and the identifiers of an object entry (4 to 36 bytes), `data` what
    follows the SID. Where `raw` is set, the entry is kept as it came: its body after the header, and mask
    and SID are void.
    """

    type: int
    flags: int
    mask: int
    sid: str
    object_types: bytes = b""
    data: bytes = b""
    raw: bytes | None = None

    @property
    def is_inherit_only(self) -> bool:
        """Tell whether the entry does nothing where it stands."""
        return bool(self.flags & INHERIT_ONLY)


@dataclass(frozen=True, slots=True)
class Acl:
    """One access control list: its revision and its entries in stored order."""

    aces: tuple[Ace, ...]
    revision: int = 2


@dataclass(frozen=True, slots=True)
class Descriptor:
    """A security descriptor; `dacl` is None for a null list (or none at all), which lets everyone do all."""

    owner: str = ""
    group: str = ""
    dacl: Acl | None = None
    sacl: Acl | None = None
    control: int = DACL_PRESENT | SELF_RELATIVE


_SID = re.compile(r"S-1-(0[xX][0-9a-fA-F]{1,12}|[0-9]{1,15})((?:-[0-9]{1,10}){0,15})")


def is_sid(text: str) -> bool:
    """Tell whether a text is a security identifier."""
    match = _SID.fullmatch(text)
    return match is not None and all(int(part) < 1 << 32 for part in match.group(2).split("-")[1:])


@lru_cache(maxsize=65536)
def pack_sid(text: str) -> bytes:
    """Return the binary form of ``S-1-…`` (MS-DTYP 2.4.2.2); raises `FormatError`."""
    match = _SID.fullmatch(text)
    if not match:
        raise FormatError("not a security identifier", repr(text), "write it as S-1-5-32-544")
    authority = int(match.group(1), 0 if match.group(1)[:2] in ("0x", "0X") else 10)
    parts = [int(part) for part in match.group(2).split("-")[1:]]
    if authority >= 1 << 48 or any(part >= 1 << 32 for part in parts):
        raise FormatError("a number too large for a security identifier", repr(text))
    return struct.pack(f"<BB6s{len(parts)}I", 1, len(parts), authority.to_bytes(6, "big"), *parts)


@lru_cache(maxsize=65536)
def _sid_text(data: bytes) -> str:
    parts = struct.unpack_from(f"<{data[1]}I", data, 8)
    authority = int.from_bytes(data[2:8], "big")
    spelled = str(authority) if authority < 1 << 32 else f"0x{authority:012x}"
    return "-".join(["S-1", spelled, *map(str, parts)])


def _sid_size(data: bytes, at: int, end: int) -> int:
    """Return how many bytes the SID at `at` takes, 0 where there is none."""
    if at + 8 > end or data[at] != 1 or data[at + 1] > 15 or at + 8 + 4 * data[at + 1] > end:
        return 0
    return 8 + 4 * data[at + 1]


def unpack_sid(data: bytes, at: int = 0) -> str:
    """Read the SID at an offset; raises `FormatError`."""
    size = _sid_size(data, at, len(data))
    if not size:
        raise FormatError("not a security identifier", f"byte {at}")
    return _sid_text(data[at : at + size])


def _object_size(body: bytes) -> int:
    """Return the size of an object entry's flags and identifiers (MS-DTYP 2.4.4.3)."""
    flags = int.from_bytes(body[4:8], "little")
    return 4 + 16 * (flags & 1) + 16 * (flags >> 1 & 1)


def ace_of_body(kind: int, flags: int, body: bytes) -> Ace:
    """Return the entry with this body; kept raw where the body is not as its type wants it."""
    if kind not in _WITH_SID or len(body) < 4:
        return Ace(kind, flags, 0, "", raw=body)
    at = 4
    if kind in OBJECT_TYPES:
        at += _object_size(body) if len(body) >= 8 else 0
    size = _sid_size(body, at, len(body))
    if not size or (kind in OBJECT_TYPES and len(body) < 8):
        return Ace(kind, flags, 0, "", raw=body)
    mask = int.from_bytes(body[:4], "little")
    return Ace(kind, flags, mask, _sid_text(body[at : at + size]), body[4:at], body[at + size :])


def split_acl(data: bytes, at: int = 0) -> tuple[int, list[bytes]]:
    """Return the revision of the ACL at an offset, and its entries' bytes; raises `FormatError` with the place."""
    if at + _ACL_HEAD.size > len(data):
        raise FormatError("the list is cut short", f"byte {at}")
    revision, _, size, count, _ = _ACL_HEAD.unpack_from(data, at)
    end = at + size
    if size < _ACL_HEAD.size or end > len(data):
        raise FormatError(f"the list says it has {size} bytes, and {len(data) - at} are there", f"byte {at}")
    entries = []
    at += _ACL_HEAD.size
    for number in range(1, count + 1):
        if at + 4 > end:
            raise FormatError(f"entry {number} of {count} is cut short", f"byte {at}")
        length = data[at + 2] | data[at + 3] << 8
        if length < 4 or at + length > end:
            raise FormatError(f"entry {number} of {count} says it has {length} bytes", f"byte {at}")
        entries.append(data[at : at + length])
        at += length
    return revision, entries


def unpack_acl(data: bytes, at: int = 0) -> Acl:
    """Read the ACL at an offset; raises `FormatError` with the place of the fault."""
    revision, entries = split_acl(data, at)
    return Acl(tuple(ace_of_body(raw[0], raw[1], raw[4:]) for raw in entries), revision)


def body_of_ace(ace: Ace) -> bytes:
    """Return what follows an entry's header."""
    if ace.raw is not None:
        return ace.raw
    return struct.pack("<I", ace.mask) + ace.object_types + pack_sid(ace.sid) + ace.data


def _pack_ace(ace: Ace) -> bytes:
    body = body_of_ace(ace)
    size = _ACE_HEAD.size + len(body)
    if size > _MOST:
        raise FormatError("an entry is larger than its size can tell", f"{size} bytes")
    return _ACE_HEAD.pack(ace.type, ace.flags, size) + body


def pack_acl(acl: Acl) -> bytes:
    """Return the binary form of a list; raises `FormatError` where it is too large."""
    body = b"".join(map(_pack_ace, acl.aces))
    size = _ACL_HEAD.size + len(body)
    if size > _MOST:
        raise FormatError(f"{len(acl.aces)} entries are more than a list can hold", f"{size} bytes")
    return _ACL_HEAD.pack(acl.revision, 0, size, len(acl.aces), 0) + body


def unpack_descriptor(data: bytes) -> Descriptor:
    """Read a self-relative security descriptor; raises `FormatError` with the place of the fault."""
    if len(data) < _HEAD.size:
        raise FormatError("the descriptor is cut short", f"{len(data)} bytes")
    revision, _, control, owner, group, sacl, dacl = _HEAD.unpack_from(data)
    if revision != 1 or not control & SELF_RELATIVE:
        raise FormatError("not a self-relative security descriptor of revision 1", "byte 0")
    for place, offset in ((4, owner), (8, group), (12, sacl), (16, dacl)):
        if offset and not _HEAD.size <= offset < len(data):
            raise FormatError(f"points to byte {offset} of {len(data)}", f"byte {place}")
    return Descriptor(
        unpack_sid(data, owner) if owner else "",
        unpack_sid(data, group) if group else "",
        unpack_acl(data, dacl) if control & DACL_PRESENT and dacl else None,
        unpack_acl(data, sacl) if control & SACL_PRESENT and sacl else None,
        control,
    )


def _place(parts: Sequence[bytes]) -> tuple[list[int], bytes]:
    offsets, at, body = [], _HEAD.size, b""
    for part in parts:
        offsets.append(at if part else 0)
        part += bytes(-len(part) % 4)
        body += part
        at += len(part)
    return offsets, body


def pack_descriptor(found: Descriptor) -> bytes:
    """Return the self-relative form: owner, group, SACL, DACL; raises `FormatError`."""
    control = found.control | SELF_RELATIVE
    control = control | SACL_PRESENT if found.sacl is not None else control
    control = control | DACL_PRESENT if found.dacl is not None else control
    parts = [pack_sid(sid) if sid else b"" for sid in (found.owner, found.group)]
    parts += [pack_acl(acl) if acl is not None else b"" for acl in (found.sacl, found.dacl)]
    (owner, group, sacl, dacl), body = _place(parts)
    return _HEAD.pack(1, 0, control, owner, group, sacl, dacl) + body
