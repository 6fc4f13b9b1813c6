"""Words of calls that several commands take: pairs, sizes, numbers; each raises `UsageError`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from neatledger.core.plan.limits import Limit
from neatledger.core.space.sizes import parse_limit
from neatledger.errors import UsageError

__all__ = ["parse_pair", "parse_pairs", "parse_size_limit", "parse_whole"]

T = TypeVar("T")


def parse_pair(text: str, form: str) -> tuple[str, str]:
    """Return what stands before and after the last ``=``; `form` says how it is to be written."""
    before, equals, after = text.rpartition("=")
    if not equals or not before or not after:
        raise UsageError(f"{text!r} says too little", hint=f"write {form}")
    return before, after.strip()


def parse_pairs(texts: Iterable[str], form: str, parse: Callable[[str], T]) -> list[tuple[str, T]]:
    """Return pairs with their second halves parsed."""
    pairs = [parse_pair(text, form) for text in texts]
    return [(name, parse(value)) for name, value in pairs]


def parse_size_limit(text: str) -> Limit:
    """Return a limit in bytes, or none in so many words."""
    try:
        return parse_limit(text)
    except ValueError as error:
        raise UsageError(str(error)) from None


def parse_whole(text: str) -> int:
    """Return a whole number."""
    if not text.isdecimal() or len(text) > 18:
        raise UsageError(f"{text[:40]!r} is no whole number")
    return int(text)
