"""Entries judged against a directory's schema before they are sent (RFC 4512 sections 2.4, 2.5 and 4.1).

An entry has known classes, of which the structural ones stand in one line; every attribute that they ask for, and
none that they do not allow; and values of the syntax of each (RFC 4517 section 3.3), one where only one may be.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

__all__ = ["Schema"]

_SYNTAXES = {
    "1.3.6.1.4.1.1466.115.121.1.27": ("a whole number", re.compile(rb"-?(0|[1-9]\d*)")),
    "1.3.6.1.4.1.1466.115.121.1.26": ("plain letters (ASCII)", re.compile(rb"[\x00-\x7f]*")),
    "1.3.6.1.4.1.1466.115.121.1.15": ("some text", re.compile(rb".+", re.DOTALL)),
    "1.3.6.1.4.1.1466.115.121.1.12": ("the name of an entry", re.compile(rb"|[^=,]+=.+", re.DOTALL)),
    "1.3.6.1.4.1.1466.115.121.1.7": ("TRUE or FALSE", re.compile(rb"TRUE|FALSE")),
}
"""Syntax → in words, and what a value looks like; others are left to the directory."""
_ANYTHING = "extensibleobject"


class Schema:
    """A directory's classes and attributes, from the values of its subschema entry."""

    def __init__(self, classes: Sequence[str], attributes: Sequence[str]) -> None:
        from ldap3.protocol.rfc4512 import AttributeTypeInfo, ObjectClassInfo

        self._classes = _by_names(ObjectClassInfo.from_definition(list(classes)))
        self._attributes = _by_names(AttributeTypeInfo.from_definition(list(attributes)))

    def faults(self, attributes: Mapping[str, Sequence[bytes]]) -> Iterator[str]:
        """Yield what is wrong with an entry of these attributes, in words; nothing where the schema is not told."""
        if not self._classes or not self._attributes:
            return
        names = [value.decode("utf-8", "replace") for value in _values(attributes, "objectClass")]
        unknown = [name for name in names if name.lower() not in self._classes]
        if unknown:
            yield f"the directory knows no class {', '.join(unknown)}"
            return
        lines = {name.lower(): self._line(name) for name in names}
        whole = [one for line in lines.values() for one in line]
        yield from self._structure(lines)
        given = {self._key(name) for name, values in attributes.items() if values}
        for name in dict.fromkeys(name for one in whole for name in one.must_contain or ()):
            if self._key(name) not in given:
                yield f"{name} is lacking, which its class asks for"
        if all(_ANYTHING not in map(str.lower, one.name or ()) for one in whole):
            allowed = {
                self._key(name) for one in whole for name in (*(one.must_contain or ()), *(one.may_contain or ()))
            }
            for name in attributes:
                if self._key(name) not in allowed:
                    yield f"{name} is allowed by none of its classes"
        for name, values in attributes.items():
            yield from self._value_faults(name, values)

    def _line(self, name: str) -> list[Any]:
        """Return a class and all above it."""
        found: list[Any] = []
        waiting = [name]
        while waiting:
            one = self._classes.get(waiting.pop().lower())
            if one is not None and one not in found:
                found.append(one)
                waiting += one.superior or ()
        return found

    def _structure(self, lines: Mapping[str, Sequence[Any]]) -> Iterator[str]:
        structural = {name: line for name, line in lines.items() if str(line[0].kind).lower() == "structural"}
        if not structural:
            yield "it has no structural class"
        for line in structural.values():
            if all(other[0] in line for other in structural.values()):
                return
        if structural:
            yield f"its classes do not go together: {', '.join(sorted(structural))}"

    def _key(self, name: str) -> str:
        known = self._attributes.get(name.partition(";")[0].lower())
        return name.lower() if known is None else str(known.oid)

    def _value_faults(self, name: str, values: Sequence[bytes]) -> Iterator[str]:
        known = self._attributes.get(name.lower())
        if known is None:
            yield f"the directory knows no attribute {name}"
            return
        if known.single_value and len(values) > 1:
            yield f"{name} may have one value only"
        syntax, above = known.syntax, known
        while not syntax and above is not None and above.superior:
            above = self._attributes.get(str(above.superior[0]).lower())
            syntax = above.syntax if above is not None else ""
        words, form = _SYNTAXES.get(str(syntax or "").partition("{")[0], ("", None))
        for value in values:
            if form is not None and not form.fullmatch(value):
                yield f"{name} must be {words}, and not {value.decode('utf-8', 'replace')[:40]!r}"


def _by_names(found: Any) -> dict[str, Any]:
    known: dict[str, Any] = {}
    for one in (found or {}).values():
        for name in (*(one.name or ()), one.oid):
            known[str(name).lower()] = one
    return known


def _values(attributes: Mapping[str, Sequence[bytes]], wanted: str) -> Sequence[bytes]:
    return next((values for name, values in attributes.items() if name.lower() == wanted.lower()), ())
