"""Conditions of callback entries: their text and their binary form, both ways. They are never evaluated here.

Source: MS-DTYP sections 2.4.4.17 (the binary form: tokens in postfix order after ``artx``) and 2.5.1.1 (the
text). `&&` binds tighter than `||`, and `!` tighter than both.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable

from neatledger.core.lists.descriptors import pack_sid, unpack_sid
from neatledger.errors import FormatError

__all__ = ["condition_from_text", "condition_to_text"]

_MAGIC = b"artx"
_INTEGER, _STRING, _OCTETS, _COMPOSITE, _SID = 0x04, 0x10, 0x18, 0x50, 0x51
_COMPARE = {"==": 0x80, "!=": 0x81, "<": 0x82, "<=": 0x83, ">": 0x84, ">=": 0x85}
_SETS = {"Contains": 0x86, "Any_of": 0x88, "Not_Contains": 0x8E, "Not_Any_of": 0x8F}
_MEMBER = {
    "Member_of": 0x89, "Device_Member_of": 0x8A, "Member_of_Any": 0x8B, "Device_Member_of_Any": 0x8C,
    "Not_Member_of": 0x90, "Not_Device_Member_of": 0x91, "Not_Member_of_Any": 0x92, "Not_Device_Member_of_Any": 0x93,
}  # fmt: skip
_EXISTS = {"Exists": 0x87, "Not_Exists": 0x8D}
_AND, _OR, _NOT = 0xA0, 0xA1, 0xA2
_ATTRIBUTES = {"": 0xF8, "@User.": 0xF9, "@Resource.": 0xFA, "@Device.": 0xFB}
_BINARY = {code: word for table in (_COMPARE, _SETS) for word, code in table.items()}
_UNARY = {code: word for table in (_MEMBER, _EXISTS) for word, code in table.items()}
_ATTRIBUTE_WORDS = {code: word for word, code in _ATTRIBUTES.items()}
_TOKEN = re.compile(
    r"\s*(?:(?P<string>\"[^\"]*\")|(?P<octets>#[0-9a-fA-F]*)|(?P<sid>SID\(\s*(?P<who>[A-Za-z0-9-]+)\s*\))"
    r"|(?P<number>[+-]?(?:0[xX][0-9a-fA-F]+|[0-9]+))"
    r"|(?P<word>(?:@(?:User|Device|Resource)\.)?[A-Za-z_][\w.:/%-]*)|(?P<mark>&&|\|\||==|!=|<=|>=|[<>!(){},]))"
)
_DEEPEST = 64


def _string(kind: int, text: str) -> bytes:
    data = text.encode("utf-16-le", "surrogatepass")
    return struct.pack("<BI", kind, len(data)) + data


class _Compiler:
    def __init__(self, text: str, sid_of: Callable[[str], str]) -> None:
        self.text, self.sid_of, self.at = text, sid_of, 0

    def fail(self, what: str) -> FormatError:
        return FormatError(
            f"{what}: {self.text[self.at : self.at + 20]!r}", f"character {self.at + 1} of the condition"
        )

    def peek(self) -> re.Match[str] | None:
        return _TOKEN.match(self.text, self.at)

    def takes(self, mark: str) -> bool:
        found = self.peek()
        if found is None or found["mark"] != mark:
            return False
        self.at = found.end()
        return True

    def any_of(self, depth: int) -> bytes:
        """Terms joined by ``||``."""
        code = self.all_of(depth)
        while self.takes("||"):
            code += self.all_of(depth) + bytes([_OR])
        return code

    def all_of(self, depth: int) -> bytes:
        """Terms joined by ``&&``."""
        code = self.term(depth)
        while self.takes("&&"):
            code += self.term(depth) + bytes([_AND])
        return code

    def term(self, depth: int) -> bytes:
        if depth > _DEEPEST:
            raise self.fail("nested too deep")
        if self.takes("!"):
            return self.term(depth + 1) + bytes([_NOT])
        if self.takes("("):
            code = self.any_of(depth + 1)
            if not self.takes(")"):
                raise self.fail("a bracket is not closed")
            return code
        found = self.peek()
        word = found["word"] if found else None
        if found is None or word is None:
            raise self.fail("neither an attribute nor a test")
        if word in _MEMBER or word in _EXISTS:
            self.at = found.end()
            operand = self.value() if word in _MEMBER else self.attribute()
            return operand + bytes([_MEMBER.get(word) or _EXISTS[word]])
        code = self.attribute()
        following = self.peek()
        operator = following and (following["mark"] or following["word"])
        if following and operator in _COMPARE | _SETS:
            self.at = following.end()
            return code + self.value() + bytes([(_COMPARE | _SETS)[operator]])
        return code

    def attribute(self) -> bytes:
        found = self.peek()
        if found is None or not found["word"]:
            raise self.fail("not an attribute")
        self.at = found.end()
        prefix = next((one for one in _ATTRIBUTES if one and found["word"].startswith(one)), "")
        name = re.sub(r"%([0-9a-fA-F]{4})", lambda each: chr(int(each[1], 16)), found["word"][len(prefix) :])
        return _string(_ATTRIBUTES[prefix], name)

    def value(self, depth: int = 0) -> bytes:
        found = self.peek()
        if found is None:
            raise self.fail("not a value")
        if found["word"]:
            return self.attribute()
        self.at = found.end()
        if found["mark"] == "{":
            parts = []
            while not self.takes("}"):
                if depth > _DEEPEST:
                    raise self.fail("nested too deep")
                parts.append(self.value(depth + 1))
                if not self.takes(",") and not ((end := self.peek()) and end["mark"] == "}"):
                    raise self.fail("a list of values is not closed")
            body = b"".join(parts)
            return struct.pack("<BI", _COMPOSITE, len(body)) + body
        if found["string"]:
            return _string(_STRING, found["string"][1:-1])
        if found["octets"]:
            digits = found["octets"][1:]
            body = bytes.fromhex(digits if len(digits) % 2 == 0 else digits[:-1] + "0" + digits[-1])
            return struct.pack("<BI", _OCTETS, len(body)) + body
        if found["sid"]:
            body = pack_sid(self.sid_of(found["who"]))
            return struct.pack("<BI", _SID, len(body)) + body
        if found["number"]:
            return self.number(found["number"])
        raise self.fail("not a value")

    def number(self, text: str) -> bytes:
        digits = text.lstrip("+-")
        base, code = (
            (16, 3) if digits[:2] in ("0x", "0X") else (8, 1) if digits[0] == "0" and len(digits) > 1 else (10, 2)
        )
        try:
            number = int(digits, base) * (-1 if text[0] == "-" else 1)
            return struct.pack("<BqBB", _INTEGER, number, {"+": 1, "-": 2}.get(text[0], 3), code)
        except (ValueError, struct.error):
            raise self.fail("not a number of 64 bits") from None


def condition_from_text(text: str, sid_of: Callable[[str], str]) -> bytes:
    """Compile ``(…)``; `sid_of` reads identifiers as the descriptor around it does; raises `FormatError`."""
    compiler = _Compiler(text, sid_of)
    code = compiler.any_of(0)
    if compiler.text[compiler.at :].strip():
        raise compiler.fail("more than one condition")
    return _MAGIC + code + bytes(-len(code) % 4)


def condition_to_text(data: bytes, word_of: Callable[[str], str]) -> str | None:
    """Return the text of a compiled condition, None where it is none or would not come back to the same bytes."""
    try:
        text = f"({_decompile(data, word_of)})"
        again = condition_from_text(text, lambda word: next(s for s in _sids_in(data) if word_of(s) == word))
    except (FormatError, IndexError, struct.error, UnicodeDecodeError, StopIteration, RecursionError):
        return None
    return text if again == data else None


def _sids_in(data: bytes) -> list[str]:
    found = []
    for place in range(len(data)):
        if data[place] == _SID and data[place + 5 : place + 6] == b"\1":
            try:
                found.append(unpack_sid(data, place + 5))
            except FormatError:
                continue
    return found


def _decompile(data: bytes, word_of: Callable[[str], str]) -> str:
    if not data.startswith(_MAGIC):
        raise FormatError("not a condition")
    stack: list[tuple[str, int]] = []  # text and how loosely it is joined: 0 a term, 1 &&, 2 ||
    at = len(_MAGIC)
    while at < len(data):
        code = data[at]
        if code == 0 and not any(data[at:]):
            break
        if code in _BINARY:
            (right, _), (left, _) = stack.pop(), stack.pop()
            stack.append((f"{left} {_BINARY[code]} {right}", 0))
        elif code in _UNARY:
            stack.append((f"{_UNARY[code]} {stack.pop()[0]}", 0))
        elif code == _NOT:
            stack.append((f"!({stack.pop()[0]})", 0))
        elif code in (_AND, _OR):
            (right, loose_right), (left, loose_left) = stack.pop(), stack.pop()
            loose = 1 if code == _AND else 2
            left = f"({left})" if loose_left > loose else left
            right = f"({right})" if loose_right >= loose else right
            stack.append((f"{left} {'&&' if code == _AND else '||'} {right}", loose))
        else:
            text, at = _literal(data, at, word_of)
            stack.append((text, 0))
            continue
        at += 1
    (found,) = stack if len(stack) == 1 else [("", -1)]
    if found[1] < 0:
        raise FormatError("the condition is not one")
    return found[0]


def _literal(data: bytes, at: int, word_of: Callable[[str], str]) -> tuple[str, int]:
    code = data[at]
    if code == _INTEGER:
        number, sign, base = struct.unpack_from("<qBB", data, at + 1)
        digits = (
            {1: f"0{abs(number):o}", 2: str(abs(number)), 3: f"0x{abs(number):x}"}[base] if base in (1, 2, 3) else ""
        )
        return {1: "+", 2: "-"}.get(sign, "") + digits, at + 11
    (size,) = struct.unpack_from("<I", data, at + 1)
    at += 5
    body, end = data[at : at + size], at + size
    if len(body) != size:
        raise FormatError("the condition is cut short")
    if code in _ATTRIBUTE_WORDS:
        name = re.sub(r"[^\w.:/-]", lambda each: f"%{ord(each[0]):04x}", body.decode("utf-16-le"))
        return _ATTRIBUTE_WORDS[code] + name, end
    if code == _STRING:
        return f'"{body.decode("utf-16-le")}"', end
    if code == _OCTETS:
        return f"#{body.hex()}", end
    if code == _SID:
        return f"SID({word_of(unpack_sid(body))})", end
    if code != _COMPOSITE:
        raise FormatError(f"no token has the code 0x{code:02x}")
    parts, inner = [], 0
    while inner < size:
        text, inner = _literal(body, inner, word_of)
        parts.append(text)
    return "{" + ", ".join(parts) + "}", end
