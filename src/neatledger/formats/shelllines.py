"""Words and guarded lines of a POSIX shell (POSIX.1-2024 XCU 2)."""

from __future__ import annotations

from collections.abc import Sequence

__all__ = ["guarded", "quoted", "quoted_text"]

_SAFE = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:=,@+%")


def quoted(name: bytes) -> str:
    """Return a name as one word of a shell, whatever bytes are in it (POSIX.1-2024 XCU 2.2.2).

    Text stands between single quotes as it is. What is none, or would not show on a screen, printf(1) makes of octal
    numbers; line ends at the end of a word stand as they are, for a shell takes them from what a command prints.
    """
    if name and set(name) <= _SAFE:
        return name.decode("ascii")
    try:
        text = name.decode("utf-8")
    except UnicodeDecodeError:
        text = ""
    if text.isprintable() and (text or not name):
        return _single_quoted(text)
    inner = name.rstrip(b"\n")
    ends = name[len(inner) :].decode("ascii")
    printed = "".join(_octal(byte) for byte in inner)
    found = f'"$(printf {_single_quoted(printed)})"' if printed else ""
    return found + (f"'{ends}'" if ends else "")


def quoted_text(text: str) -> str:
    """Return a name, kept as text, as one word of a shell."""
    return quoted(text.encode("utf-8", "surrogateescape"))


def _single_quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def _octal(byte: int) -> str:
    if byte == ord("%"):
        return "%%"
    return chr(byte) if 32 <= byte < 127 and byte not in b"\\" else f"\\{byte:03o}"


def guarded(test: str, commands: Sequence[str], name: str) -> str:
    """Return a line that makes something only of what is as it was counted, and else says so and stops."""
    stop = f"{{ echo 'not as it was counted, or refused: '{name} >&2; exit 1; }}"
    return " && ".join([test, *commands]) + f" || {stop}"
