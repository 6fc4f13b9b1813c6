"""What a directory's answer must look like before anything is taken from it (RFC 4511 sections 4 and 5.1).

The basic encoding rules in the restricted form of LDAP: definite lengths, one octet of tag. An answer is checked
whole, to its last octet; what it says is left to the library.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from neatledger.errors import FormatError

__all__ = ["MOST_BYTES", "REFERRAL", "Told", "check_answer", "size_of"]

MOST_BYTES = 64 << 20
"""Octets of one answer: an entry with a million members is no larger."""

REFERRAL = 10  # resultCode, RFC 4511 appendix A.1
_SEQUENCE, _SET, _INTEGER, _BOOLEAN, _OCTETS, _ENUMERATED = 0x30, 0x31, 0x02, 0x01, 0x04, 0x0A
_BIND, _ENTRY, _DONE, _REFERENCE, _EXTENDED, _INTERMEDIATE = 0x61, 0x64, 0x65, 0x73, 0x78, 0x79
_RESULTS = {_BIND, _DONE, 0x67, 0x69, 0x6B, 0x6D, 0x6F, _EXTENDED}
_CONTROLS, _REFERRALS = 0xA0, 0xA3
_BEHIND = {_BIND: {0x87}, _EXTENDED: {0x8A, 0x8B}}
_PAGES = b"1.2.840.113556.1.4.319"  # RFC 2696


@dataclass(frozen=True, slots=True)
class Told:
    """What an answer is: whether it ends what was asked by a result, which, and where it refers to."""

    is_search_result: bool
    result: int | None
    places: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Part:
    tag: int
    start: int
    stop: int


def size_of(data: bytes) -> int | None:
    """Return how many octets the answer at the start of some data has; None: too few to tell.

    Raises `FormatError`.
    """
    if data and data[0] != _SEQUENCE:
        raise FormatError("not an answer of a directory")
    if len(data) < 2 or (data[1] > 0x80 and len(data) < 2 + data[1] - 0x80):
        return None
    part = _part(data, 0, None)
    if part.stop > MOST_BYTES:
        raise FormatError(f"an answer of {part.stop:,} octets")
    return part.stop


def check_answer(data: bytes) -> Told:
    """Return what an answer is; raises `FormatError` where it is none."""
    whole = _part(data, 0, len(data))
    if whole.tag != _SEQUENCE or whole.stop != len(data):
        raise FormatError("not one whole answer")
    parts = list(_parts(data, whole))
    if len(parts) not in (2, 3):
        raise FormatError(f"an answer of {len(parts)} parts")
    if not 0 <= _number(data, parts[0], _INTEGER) < 1 << 31:
        raise FormatError("an answer to no question")
    if len(parts) == 3:
        _check_controls(data, parts[2])
    return _operation(data, parts[1])


def _operation(data: bytes, part: _Part) -> Told:
    match part.tag:
        case tag if tag in _RESULTS:
            return _result(data, part)
        case tag if tag == _ENTRY:
            name, attributes = _exactly(data, part, 2)
            _text(data, name)
            for attribute in _parts(data, attributes, _SEQUENCE):
                kind, values = _exactly(data, attribute, 2)
                _text(data, kind)
                for value in _parts(data, values, _SET):
                    _expect(value, _OCTETS)
        case tag if tag == _REFERENCE:
            if not [_text(data, place) for place in _parts(data, part)]:
                raise FormatError("a reference to nowhere")
        case tag if tag == _INTERMEDIATE:
            if any(below.tag not in (0x80, 0x81) for below in _parts(data, part)):
                raise FormatError("an answer with a part of no meaning")
        case tag:
            raise FormatError(f"an answer of a kind that a directory does not give ({tag:#04x})")
    return Told(False, None)


def _result(data: bytes, part: _Part) -> Told:
    parts = list(_parts(data, part))
    if len(parts) < 3:
        raise FormatError("a result that is cut off")
    number = _number(data, parts[0], _ENUMERATED)
    for text in parts[1:3]:
        # In a sign-in by NTLM the name is no text (MS-ADTS 5.1.1.1.3); and words for people are in any letters.
        _expect(text, _OCTETS)
    more = parts[3:]
    places: tuple[str, ...] = ()
    if more and more[0].tag == _REFERRALS:
        referrals = more.pop(0)
        places = tuple(_text(data, place) for place in _parts(data, referrals, _REFERRALS))
    if any(one.tag not in _BEHIND.get(part.tag, ()) for one in more) or len({one.tag for one in more}) < len(more):
        raise FormatError("a result with a part of no meaning")
    return Told(part.tag == _DONE, number, places)


def _check_controls(data: bytes, part: _Part) -> None:
    for control in _parts(data, part, _CONTROLS):
        parts = list(_parts(data, control, _SEQUENCE))
        tags = [one.tag for one in parts]
        if not parts or tags not in ([_OCTETS, *rest] for rest in ([], [_BOOLEAN], [_OCTETS], [_BOOLEAN, _OCTETS])):
            raise FormatError("a control that is none")
        _text(data, parts[0])
        if data[parts[0].start : parts[0].stop] == _PAGES:
            if tags[-1:] != [_OCTETS] or len(parts) < 2:
                raise FormatError("a page without a place to go on from")
            inner = _part(data, parts[-1].start, parts[-1].stop)
            size, cookie = _exactly(data, inner, 2)
            _number(data, size, _INTEGER)
            _expect(cookie, _OCTETS)


def _part(data: bytes, at: int, end: int | None) -> _Part:
    """Return the part that begins at a place, and ends at `end` at the latest; raises `FormatError`."""
    if at + 2 > (len(data) if end is None else end) or data[at] & 0x1F == 0x1F:
        raise FormatError("an answer that is cut off")
    length, start = data[at + 1], at + 2
    if length >= 0x80:
        octets = length - 0x80
        # RFC 4511 5.1: the length is always told; more than four octets of it no message has.
        if not 0 < octets <= 8 or start + octets > len(data):
            raise FormatError("a length that is none")
        length, start = int.from_bytes(data[start : start + octets], "big"), start + octets
    if end is not None and start + length > end:
        raise FormatError("an answer that is cut off")
    return _Part(data[at], start, start + length)


def _parts(data: bytes, part: _Part, tag: int | None = None) -> Iterator[_Part]:
    """Yield the parts of a part, which has this tag."""
    if tag is not None:
        _expect(part, tag)
    at = part.start
    while at < part.stop:
        below = _part(data, at, part.stop)
        yield below
        at = below.stop


def _exactly(data: bytes, part: _Part, number: int) -> list[_Part]:
    found = list(_parts(data, part))
    if len(found) != number:
        raise FormatError(f"{len(found)} parts where {number} belong")
    return found


def _expect(part: _Part, tag: int) -> None:
    if part.tag != tag:
        raise FormatError(f"a part of another kind ({part.tag:#04x}, not {tag:#04x})")


def _number(data: bytes, part: _Part, tag: int) -> int:
    _expect(part, tag)
    if not 0 < part.stop - part.start <= 4:
        raise FormatError("a number that is none")
    return int.from_bytes(data[part.start : part.stop], "big", signed=True)


def _text(data: bytes, part: _Part) -> str:
    _expect(part, _OCTETS)
    try:
        return data[part.start : part.stop].decode("utf-8")
    except UnicodeDecodeError:
        raise FormatError("a text that is not in UTF-8") from None
