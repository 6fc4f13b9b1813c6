"""Filters of SCIM (RFC 7644 section 3.4.2.2): ``userName sw "m" and not (active eq false)``."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from typing import Any

__all__ = ["FilterError", "parse_filter"]

Test = Callable[[Mapping[str, Any]], bool]
_WORD = re.compile(r'\s*(?:(\(|\)|\[|\])|("(?:[^"\\]|\\.)*")|([^\s()\[\]"]+))')
_ORDERED = {"gt": lambda a, b: a > b, "ge": lambda a, b: a >= b, "lt": lambda a, b: a < b, "le": lambda a, b: a <= b}


class FilterError(ValueError):
    """Not a filter."""


def parse_filter(text: str) -> Test:
    """Return a test of resources for a filter; raises `FilterError`."""
    parser = _Parser(text)
    test = parser.either()
    if parser.words:
        raise FilterError(f"something after the end: {parser.words[0]}")
    return test


class _Parser:
    def __init__(self, text: str) -> None:
        self.words: list[str] = []
        place = 0
        text = text.rstrip()
        while place < len(text):
            found = _WORD.match(text, place)
            if not found:
                raise FilterError(f"cannot be read from {text[place : place + 20]!r}")
            self.words.append(found.group().strip())
            place = found.end()

    def _next(self) -> str:
        if not self.words:
            raise FilterError("it ends too early")
        return self.words.pop(0)

    def _is(self, word: str) -> bool:
        return bool(self.words) and self.words[0].casefold() == word

    def either(self) -> Test:
        """Parse what ``or`` parts; it binds least."""
        tests = [self.both()]
        while self._is("or"):
            self._next()
            tests.append(self.both())
        return tests[0] if len(tests) == 1 else lambda one: any(test(one) for test in tests)

    def both(self) -> Test:
        """Parse what ``and`` parts."""
        tests = [self.single()]
        while self._is("and"):
            self._next()
            tests.append(self.single())
        return tests[0] if len(tests) == 1 else lambda one: all(test(one) for test in tests)

    def single(self) -> Test:
        """Parse one test: in brackets, turned round, of a multi-valued attribute, or a comparison."""
        if self._is("not"):
            self._next()
            inner = self.single()
            return lambda one: not inner(one)
        if self._is("("):
            return self._inside(")")
        path = self._next()
        if self._is("["):
            test = self._inside("]")
            return lambda one: any(test(each) for each in _values(one, path) if isinstance(each, Mapping))
        return self._compare(path)

    def _inside(self, end: str) -> Test:
        self._next()
        test = self.either()
        if self._next() != end:
            raise FilterError(f"{end} is missing")
        return test

    def _compare(self, path: str) -> Test:
        operator = self._next().casefold()
        if operator == "pr":
            return lambda one: any(each not in (None, "", [], {}) for each in _values(one, path))
        word = self._next()
        try:
            wanted = json.loads(word)
        except ValueError:
            raise FilterError(f"{word} is no value") from None
        if operator not in ("eq", "ne", "co", "sw", "ew", *_ORDERED):
            raise FilterError(f"{operator} is no operator")
        if operator == "ne":
            return lambda one: not any(_holds("eq", each, wanted) for each in _plain(_values(one, path)))
        return lambda one: any(_holds(operator, each, wanted) for each in _plain(_values(one, path)))


def _values(one: Any, path: str) -> list[Any]:
    """Return the values at a path such as ``emails.value``; names go without regard to case."""
    found = [one]
    for name in path.rpartition(":")[2].split("."):
        inner = [
            value
            for each in found
            if isinstance(each, Mapping)
            for key, value in each.items()
            if key.casefold() == name.casefold()
        ]
        found = [value for each in inner for value in (each if isinstance(each, list) else [each])]
    return found


def _plain(values: list[Any]) -> list[Any]:
    """Return values to compare: of a value with attributes of its own, the one called ``value``."""
    return [each.get("value") if isinstance(each, Mapping) else each for each in values]


def _holds(operator: str, value: Any, wanted: Any) -> bool:
    if isinstance(value, str) and isinstance(wanted, str):
        # userName and most strings are compared without regard to case (RFC 7643 section 2.2).
        mine, theirs = value.casefold(), wanted.casefold()
        known = {
            "eq": mine == theirs,
            "co": theirs in mine,
            "sw": mine.startswith(theirs),
            "ew": mine.endswith(theirs),
        }
        return known[operator] if operator in known else bool(_ORDERED[operator](mine, theirs))
    if operator == "eq":
        return bool(value == wanted)
    is_number = isinstance(value, (int, float)) and isinstance(wanted, (int, float))
    return operator in _ORDERED and is_number and bool(_ORDERED[operator](value, wanted))
