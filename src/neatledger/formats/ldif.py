"""Directory entries as text: LDIF (RFC 2849); content records are read, change records written.

Lines that cannot be read, records that describe a change, and values that stand in other files are collected
as faults with their line; the rest is still read.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterable, Iterator, Mapping

from neatledger.errors import Fault
from neatledger.formats.directory import Entry

__all__ = ["add_record", "change_record", "delete_record", "parse_ldif"]

_OF_SEARCH = frozenset({"search", "result", "ref", "control", "numresponses"})


def _logical_lines(text: str) -> Iterator[tuple[int, str]]:
    """Yield unfolded lines with the number of their first line, comments left out, empty lines kept."""
    number, waiting = 0, ""
    for place, line in enumerate(text.split("\n"), start=1):
        line = line.removesuffix("\r")
        if line.startswith(" ") and number:
            waiting += line[1:]
            continue
        if number and not waiting.startswith("#"):
            yield number, waiting
        number, waiting = place, line
    if number and not waiting.startswith("#"):
        yield number, waiting
    yield number + 1, ""


def parse_ldif(text: str, where: str) -> tuple[list[Entry], list[Fault]]:
    """Parse a file; return its entries and the faults found in it."""
    entries: list[Entry] = []
    faults: list[Fault] = []
    record: list[tuple[int, str, bytes]] = []
    for number, line in _logical_lines(text):
        if line:
            parsed = _attribute(number, line, where, faults)
            if parsed is not None:
                record.append(parsed)
        elif record:
            entry = _entry(record, where, faults)
            if entry is not None:
                entries.append(entry)
            record = []
    return entries, faults


def _attribute(number: int, line: str, where: str, faults: list[Fault]) -> tuple[int, str, bytes] | None:
    name, colon, rest = line.partition(":")
    place = f"{where}:{number}"
    if not colon or not name.strip():
        faults.append(Fault(place, f"{line[:40]!r}", "attribute: value"))
        return None
    if rest.startswith("<"):
        faults.append(Fault(place, f"a value of {name} that stands in another file", "the value itself"))
        return None
    if not rest.startswith(":"):
        return number, name, rest.lstrip(" ").encode("utf-8", "surrogateescape")
    try:
        return number, name, base64.b64decode(rest[1:].strip(), validate=True)
    except (binascii.Error, ValueError):
        faults.append(Fault(place, f"a value of {name} that is not base64", "base64 after two colons"))
        return None


def _entry(record: list[tuple[int, str, bytes]], where: str, faults: list[Fault]) -> Entry | None:
    number, name, value = record[0]
    if name.lower() == "version" and len(record) > 1:
        record = record[1:]
        number, name, value = record[0]
    if name.lower() == "version" and len(record) == 1:
        return None
    if name.lower() in _OF_SEARCH:
        # What ldapsearch writes behind the entries that it found.
        told = {key.lower(): found.decode("utf-8", "replace") for _, key, found in record}
        if told.get("result", "0")[:2].strip() != "0":
            faults.append(
                Fault(f"{where}:{number}", f"an export that ended in {told['result'][:60]!r}", "a whole one")
            )
        faults += [
            Fault(
                f"{where}:{line}", f"a part of the directory that is said to be at {found.decode()[:60]!r}", "it too"
            )
            for line, key, found in record
            if key.lower() == "ref"
        ]
        return None
    if name.lower() != "dn":
        faults.append(Fault(f"{where}:{number}", f"a record that begins with {name[:40]!r}", "dn:"))
        return None
    attributes: dict[str, list[bytes]] = {}
    parts: dict[str, dict[tuple[int, str], int]] = {}
    for line, key, found in record[1:]:
        if key.lower() == "changetype" and found != b"add":
            faults.append(Fault(f"{where}:{line}", "a record of a change", "an entry's content"))
            return None
        kind, _, option = key.lower().partition(";")
        part = _RANGE.fullmatch(option)
        if part is not None:
            parts.setdefault(kind, {}).setdefault((int(part["first"]), part["last"]), line)
        attributes.setdefault(kind, []).append(found)
    # A server hands out many values in parts (MS-ADTS 3.1.1.3.1.3.3), and an export may have only the first of them.
    cut = {kind: next(iter(some.items())) for kind, some in parts.items() if not _are_whole(some)}
    for kind, ((first, last), line) in cut.items():
        part_words = f"a part of the values of {kind} (range={first}-{last})"
        faults.append(Fault(f"{where}:{line}", part_words, "all of them"))
    return Entry(value.decode("utf-8", "surrogateescape"), attributes, bool(cut))


_RANGE = re.compile(r"range=(?P<first>\d+)-(?P<last>\d+|\*)")


def _are_whole(parts: Iterable[tuple[int, str]]) -> bool:
    """Tell whether the parts in which values were handed out are all there, from the first value to the last."""
    expected = 0
    for first, last in sorted(parts):
        if first > expected:
            return False
        if last == "*":
            return True
        expected = max(expected, int(last) + 1)
    return False


def add_record(name: str, attributes: Mapping[str, Iterable[bytes]]) -> list[str]:
    """Return the change record that adds an entry (RFC 2849: change-add), with an empty line at its end."""
    lines = [_line("dn", name.encode("utf-8", "surrogateescape")), "changetype: add"]
    return [*lines, *(_line(key, value) for key, values in attributes.items() for value in values), ""]


def delete_record(name: str) -> list[str]:
    """Return the change record that deletes an entry (RFC 2849: change-delete), with an empty line at its end."""
    return [_line("dn", name.encode("utf-8", "surrogateescape")), "changetype: delete", ""]


def change_record(name: str, operation: str, attribute: str, values: Iterable[bytes]) -> list[str]:
    """Return the record of one modification of an entry: ``add``, ``delete`` or ``replace`` of values."""
    lines = [_line("dn", name.encode("utf-8", "surrogateescape")), "changetype: modify", f"{operation}: {attribute}"]
    return [*lines, *(_line(attribute, value) for value in values), "-", ""]


def _line(name: str, value: bytes) -> str:
    """Return an attribute with its value, which is base64 unless it is a SAFE-STRING that does not end in a space."""
    is_safe = all(0 < byte < 128 and byte not in b"\r\n" for byte in value) and value[:1] not in (b" ", b":", b"<")
    if is_safe and not value.endswith(b" "):
        return f"{name}: {value.decode('ascii')}"
    return f"{name}:: {base64.b64encode(value).decode('ascii')}"
