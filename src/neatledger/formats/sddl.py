"""Security descriptors as text: the security descriptor definition language, both ways.

Source: MS-DTYP section 2.5.1. Identifiers that depend on a domain (``DA``, ``DU`` …) need that domain's
identifier. What the language has no words for (types nobody knows, damaged entries, flags without a letter,
what follows an entry and is no condition) is written as ``(#type:flags:body)`` in hexadecimal, a form of our
own that is read back to the same bytes. Values of resource attributes are kept as text.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator

from neatledger.core.lists.descriptors import (
    AUTO_INHERITED,
    AUTO_REQUESTED,
    CALLBACK_TYPES,
    CONTAINER_INHERIT,
    DACL_PRESENT,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE,
    OBJECT_INHERIT,
    OBJECT_TYPES,
    PROTECTED,
    SACL_PRESENT,
    SELF_RELATIVE,
    Ace,
    AceType,
    Acl,
    Descriptor,
    ace_of_body,
    body_of_ace,
    is_sid,
    pack_sid,
    unpack_sid,
)
from neatledger.errors import FormatError
from neatledger.formats.conditions import condition_from_text, condition_to_text

__all__ = ["descriptor_from_sddl", "descriptor_to_sddl"]

_TYPES = {
    "A": AceType.ALLOW, "D": AceType.DENY, "AU": AceType.AUDIT, "AL": AceType.ALARM,
    "OA": AceType.ALLOW_OBJECT, "OD": AceType.DENY_OBJECT, "OU": AceType.AUDIT_OBJECT, "OL": AceType.ALARM_OBJECT,
    "XA": AceType.ALLOW_CALLBACK, "XD": AceType.DENY_CALLBACK, "XU": AceType.AUDIT_CALLBACK,
    "ZA": AceType.ALLOW_CALLBACK_OBJECT, "ML": AceType.LABEL, "RA": AceType.RESOURCE, "SP": AceType.SCOPED_POLICY,
}  # fmt: skip
_TYPE_WORDS = {kind: word for word, kind in _TYPES.items()}
_FLAGS = {
    "OI": OBJECT_INHERIT,
    "CI": CONTAINER_INHERIT,
    "NP": NO_PROPAGATE,
    "IO": INHERIT_ONLY,
    "ID": INHERITED,
    "SA": 0x40,
    "FA": 0x80,
}
_RIGHTS = {
    "GA": 0x10000000, "GX": 0x20000000, "GW": 0x40000000, "GR": 0x80000000,
    "RC": 0x20000, "SD": 0x10000, "WD": 0x40000, "WO": 0x80000,
    "CC": 0x1, "DC": 0x2, "LC": 0x4, "SW": 0x8, "RP": 0x10, "WP": 0x20, "DT": 0x40, "LO": 0x80, "CR": 0x100,
    "FA": 0x1F01FF, "FR": 0x120089, "FW": 0x120116, "FX": 0x1200A0,
    "KA": 0xF003F, "KR": 0x20019, "KW": 0x20006, "KX": 0x20019,
}  # fmt: skip
_LABEL_RIGHTS = {"NR": 0x2, "NW": 0x1, "NX": 0x4}
_RIGHT_WORDS = {mask: word for word, mask in _RIGHTS.items() if word[0] == "G" or word in ("FA", "FR", "FW", "FX")}
_SIDS = {
    "WD": "S-1-1-0", "CO": "S-1-3-0", "CG": "S-1-3-1", "OW": "S-1-3-4", "NU": "S-1-5-2", "IU": "S-1-5-4",
    "SU": "S-1-5-6", "AN": "S-1-5-7", "ED": "S-1-5-9", "PS": "S-1-5-10", "AU": "S-1-5-11", "RC": "S-1-5-12",
    "SY": "S-1-5-18", "LS": "S-1-5-19", "NS": "S-1-5-20", "BA": "S-1-5-32-544", "BU": "S-1-5-32-545",
    "BG": "S-1-5-32-546", "PU": "S-1-5-32-547", "AO": "S-1-5-32-548", "SO": "S-1-5-32-549", "PO": "S-1-5-32-550",
    "BO": "S-1-5-32-551", "RE": "S-1-5-32-552", "RU": "S-1-5-32-554", "RD": "S-1-5-32-555", "NO": "S-1-5-32-556",
    "MU": "S-1-5-32-558", "LU": "S-1-5-32-559", "IS": "S-1-5-32-568", "CY": "S-1-5-32-569", "ER": "S-1-5-32-573",
    "CD": "S-1-5-32-574", "RA": "S-1-5-32-575", "ES": "S-1-5-32-576", "MS": "S-1-5-32-577", "HA": "S-1-5-32-578",
    "AA": "S-1-5-32-579", "RM": "S-1-5-32-580", "AC": "S-1-15-2-1", "WR": "S-1-5-33", "UD": "S-1-5-84-0-0-0-0-0",
    "AS": "S-1-18-1", "SS": "S-1-18-2", "LW": "S-1-16-4096", "ME": "S-1-16-8192", "MP": "S-1-16-8448",
    "HI": "S-1-16-12288", "SI": "S-1-16-16384",
}  # fmt: skip
_SID_WORDS = {sid: word for word, sid in _SIDS.items()}
_OF_DOMAIN = {
    "LA": 500, "LG": 501, "RO": 498, "DA": 512, "DU": 513, "DG": 514, "DC": 515, "DD": 516, "CA": 517, "SA": 518,
    "EA": 519, "PA": 520, "CN": 522, "AP": 525, "KA": 526, "EK": 527, "RS": 553,
}  # fmt: skip
_PART = re.compile(r"\s*([OGDS]):")
_ACL_FLAGS = re.compile(r"P|AR|AI|NO_ACCESS_CONTROL")
_NUMBER = re.compile(r"0[xX][0-9a-fA-F]{1,8}|[0-9]{1,10}")
_GUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_RAW = re.compile(r"#([0-9a-fA-F]{2}):([0-9a-fA-F]{2}):((?:[0-9a-fA-F]{2})*)")
_TEXT_MARK = b"sddl"  # before the value of a resource attribute, which is kept as text


class _Reader:
    def __init__(self, text: str, domain: str) -> None:
        self.text = text
        self.domain = domain
        self.at = 0

    def fail(self, what: str, at: int | None = None, hint: str = "") -> FormatError:
        place = self.at if at is None else at
        return FormatError(what, f"character {place + 1} of the descriptor", hint)

    def sid(self, word: str, at: int) -> str:
        if is_sid(word):
            return unpack_sid(pack_sid(word))
        if word in _SIDS:
            return _SIDS[word]
        if word in _OF_DOMAIN:
            if not self.domain:
                raise self.fail(f"{word} depends on a domain", at, "say whose with domain-sid in the plan")
            return f"{self.domain}-{_OF_DOMAIN[word]}"
        raise self.fail(f"not a security identifier: {word[:60]!r}", at)

    def read(self) -> Descriptor:
        owner = group = ""
        control, acls, seen = SELF_RELATIVE, {}, ""
        while self.at < len(self.text.rstrip()):
            match = _PART.match(self.text, self.at)
            if not match or match.group(1) in seen:
                found = self.text[self.at : self.at + 12]
                raise self.fail(f"neither O:, G:, D: nor S: (each once): {found!r}")
            part = match.group(1)
            seen += part
            self.at = match.end()
            if part in "OG":
                end = self._end_of_sid()
                sid = self.sid(self.text[self.at : end].strip(), self.at)
                owner, group = (sid, group) if part == "O" else (owner, sid)
                self.at = end
            else:
                flags, acls[part] = self._acl()
                control |= flags if part == "D" else flags << 1
                control |= DACL_PRESENT if part == "D" else SACL_PRESENT
        return Descriptor(owner, group, acls.get("D"), acls.get("S"), control)

    def _end_of_sid(self) -> int:
        found = re.compile(r"\s*[OGDS]:").search(self.text, self.at)
        return found.start() if found else len(self.text)

    def _acl(self) -> tuple[int, Acl | None]:
        control, is_null = 0, False
        while match := _ACL_FLAGS.match(self.text, self.at):
            word = match.group()
            control |= {"P": PROTECTED, "AR": AUTO_REQUESTED, "AI": AUTO_INHERITED}.get(word, 0)
            is_null |= word == "NO_ACCESS_CONTROL"
            self.at = match.end()
        aces = list(self._aces())
        if is_null and aces:
            raise self.fail("NO_ACCESS_CONTROL and entries exclude each other")
        revision = 4 if any(ace.type in OBJECT_TYPES for ace in aces) else 2
        return control, None if is_null else Acl(tuple(aces), revision)

    def _aces(self) -> Iterator[Ace]:
        while True:
            while self.text[self.at : self.at + 1].isspace():
                self.at += 1
            if self.text[self.at : self.at + 1] != "(":
                return
            end = self._closing()
            yield self._ace(self.at + 1, end)
            self.at = end + 1

    def _closing(self) -> int:
        depth, quoted = 0, False
        for place in range(self.at, len(self.text)):
            letter = self.text[place]
            if letter == '"':
                quoted = not quoted
            elif not quoted:
                depth += (letter == "(") - (letter == ")")
                if not depth:
                    return place
        raise self.fail("an entry is not closed")

    def _ace(self, start: int, end: int) -> Ace:
        body = self.text[start:end]
        raw = _RAW.fullmatch(body)
        if raw:
            return ace_of_body(int(raw[1], 16), int(raw[2], 16), bytes.fromhex(raw[3]))
        fields = [field.strip() for field in body.split(";", 6)]
        if len(fields) < 6:
            raise self.fail(f"an entry has six fields parted by semicolons, this has {len(fields)}", start)
        word, flags, rights, object_type, inherited_type, sid, *more = fields
        if word not in _TYPES:
            raise self.fail(f"no type of entry is called {word[:20]!r}", start)
        kind = _TYPES[word]
        found = 0
        for place in range(0, len(flags), 2):
            if flags[place : place + 2] not in _FLAGS:
                raise self.fail(f"not flags of an entry: {flags[:20]!r}", start)
            found |= _FLAGS[flags[place : place + 2]]
        types = b""
        if kind in OBJECT_TYPES:
            types = self._object_types(object_type, inherited_type, start)
        elif object_type or inherited_type:
            raise self.fail(f"an entry of type {word} names no object", start)
        data = b""
        if more:
            if kind not in CALLBACK_TYPES and kind != AceType.RESOURCE:
                raise self.fail(f"an entry of type {word} has six fields", start)
            if kind == AceType.RESOURCE:
                data = _TEXT_MARK + more[0].encode("utf-8", "surrogateescape")
            else:
                data = condition_from_text(more[0], lambda word: self.sid(word, start))
        return Ace(kind, found, self._mask(rights, kind, start), self.sid(sid, start), types, data)

    def _object_types(self, first: str, second: str, at: int) -> bytes:
        flags, guids = 0, b""
        for bit, text in ((1, first), (2, second)):
            if text:
                if not _GUID.fullmatch(text):
                    raise self.fail(f"not an object's identifier: {text[:40]!r}", at)
                flags |= bit
                guids += uuid.UUID(text).bytes_le
        return flags.to_bytes(4, "little") + guids

    def _mask(self, text: str, kind: int, at: int) -> int:
        if _NUMBER.fullmatch(text):
            # As in C: 0x is hexadecimal, a leading 0 octal.
            base = (
                16 if text[:2] in ("0x", "0X") else 8 if text[0] == "0" and text.isdecimal() and len(text) > 1 else 10
            )
            try:
                mask = int(text, base)
            except ValueError:
                raise self.fail(f"not a mask of rights: {text!r}", at) from None
            if mask >= 1 << 32:
                raise self.fail(f"a mask of rights has 32 bits: {text}", at)
            return mask
        known = _RIGHTS | _LABEL_RIGHTS if kind == AceType.LABEL else _RIGHTS
        mask = 0
        for place in range(0, len(text), 2):
            word = text[place : place + 2]
            if word not in known:
                raise self.fail(f"no right is called {word!r}", at)
            mask |= known[word]
        return mask


def descriptor_from_sddl(text: str, domain: str = "") -> Descriptor:
    """Parse a descriptor; a text without ``D:`` has a null list; raises `FormatError` with the place of the fault.

    `domain` is the identifier (``S-1-5-21-…``) that identifiers of a domain stand in.
    """
    return _Reader(text, domain).read()


def _sid_word(sid: str) -> str:
    return _SID_WORDS.get(sid, sid)


def _more_text(ace: Ace) -> str | None:
    """Return what stands in the seventh field: a condition, or an attribute's value; None where it has no text."""
    if ace.data.startswith(_TEXT_MARK):
        return ace.data[len(_TEXT_MARK) :].decode("utf-8", "surrogateescape")
    return condition_to_text(ace.data, _sid_word) if ace.type in CALLBACK_TYPES else None


def _ace_text(ace: Ace) -> str:
    flags, left = "", ace.flags
    for word, bit in _FLAGS.items():
        if left & bit:
            flags += word
            left &= ~bit
    more = _more_text(ace)
    if ace.raw is not None or left or ace.type not in _TYPE_WORDS or (ace.data and more is None):
        return f"(#{ace.type:02x}:{ace.flags:02x}:{body_of_ace(ace).hex()})"
    guids = ["", ""]
    if ace.object_types:
        bits, at = int.from_bytes(ace.object_types[:4], "little"), 4
        if bits & ~3:
            return f"(#{ace.type:02x}:{ace.flags:02x}:{body_of_ace(ace).hex()})"
        for place in (0, 1):
            if bits >> place & 1:
                guids[place] = str(uuid.UUID(bytes_le=ace.object_types[at : at + 16]))
                at += 16
    rights = _RIGHT_WORDS.get(ace.mask, f"0x{ace.mask:x}") if ace.type != AceType.LABEL else f"0x{ace.mask:x}"
    fields = [_TYPE_WORDS[ace.type], flags, rights, *guids, _sid_word(ace.sid)]
    if ace.data and more is not None:
        fields.append(more)
    return f"({';'.join(fields)})"


def _acl_text(acl: Acl | None, control: int) -> str:
    flags = ("P" if control & PROTECTED else "") + ("AR" if control & AUTO_REQUESTED else "")
    flags += "AI" if control & AUTO_INHERITED else ""
    return flags + ("NO_ACCESS_CONTROL" if acl is None else "".join(map(_ace_text, acl.aces)))


def descriptor_to_sddl(found: Descriptor) -> str:
    """Return a descriptor as text, from which `descriptor_from_sddl` makes the same one again."""
    text = f"O:{_sid_word(found.owner)}" if found.owner else ""
    text += f"G:{_sid_word(found.group)}" if found.group else ""
    if found.control & DACL_PRESENT or found.dacl is not None:
        text += f"D:{_acl_text(found.dacl, found.control)}"
    if found.sacl is not None or found.control & SACL_PRESENT:
        text += f"S:{_acl_text(found.sacl, found.control >> 1)}"
    return text
