r"""Names that may hold anything: a readable escape for people, percent-encoding for machines.

Both can be undone. For people a backslash escape stands for what is not printable: ``\n``, ``\x1b``,
``\u202e``, and ``\xff`` for bytes that are not UTF-8 (spelled ``\xff`` too); a backslash is doubled.
For machines every byte of what is not printable UTF-8, and of ``%`` itself, is ``%XX`` (RFC 3986 2.1).
"""

from __future__ import annotations

import re
from urllib.parse import unquote_to_bytes

from neatledger.core.tree.address import Address

__all__ = [
    "decode_address",
    "encode_address",
    "encode_bytes",
    "read_shown",
    "show_address",
    "show_bytes",
    "show_text",
]

_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r", "\\": "\\\\"}
_LONG = {shown: char for char, shown in _SHORT.items()}
_ESCAPE = re.compile(r"\\(?:[ntr\\]|x[0-9a-f]{2}|u[0-9a-f]{4}|U[0-9a-f]{8})")


def show_bytes(name: bytes) -> str:
    """Return a name as people can read it."""
    return show_text(name.decode("utf-8", "surrogateescape"))


def show_text(text: str) -> str:
    """Escape what is not printable in a text."""
    if text.isprintable() and "\\" not in text:
        return text
    return "".join(map(_show_char, text))


def _show_char(char: str) -> str:
    if char in _SHORT:
        return _SHORT[char]
    if char.isprintable():
        return char
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that was not UTF-8, as surrogateescape carries it
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x80:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def read_shown(text: str) -> str:
    """Undo the escapes of `show_text`; a text with what is none of them is returned as it is."""
    if "\\" not in text:
        return text
    found = _ESCAPE.sub(_read_escape, text)
    return found if show_text(found) == text else text


def _read_escape(escape: re.Match[str]) -> str:
    word = escape[0]
    if word in _LONG:
        return _LONG[word]
    code = int(word[2:], 16)
    if word[1] == "x":
        return chr(code) if code < 0x80 else chr(0xDC00 + code)
    return chr(code) if code <= 0x10FFFF else word


def show_address(address: Address) -> str:
    """Return an address as people can read it."""
    return f"{address.system}:{show_bytes(address.path)}"


def encode_bytes(name: bytes) -> str:
    """Return a name percent-encoded where it is not printable UTF-8."""
    text = name.decode("utf-8", "surrogateescape")
    if text.isprintable() and "%" not in text:
        return text
    return "".join(map(_encode_char, text))


def _encode_char(char: str) -> str:
    if char != "%" and char.isprintable():
        return char
    return "".join(f"%{byte:02X}" for byte in char.encode("utf-8", "surrogateescape"))


def encode_address(address: Address) -> str:
    """Return an address percent-encoded."""
    return f"{address.system}:{encode_bytes(address.path)}"


def decode_address(text: str) -> bytes:
    """Undo the percent-encoding of a path."""
    return unquote_to_bytes(text.encode("utf-8", "surrogateescape"))
