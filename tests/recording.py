"""What a rule answered when it was last looked at, kept beside the tests: what changes is seen, and looked at again.

`pytest --record FILE` writes the answers of a file of tests anew, all of them; the difference is read before it is
committed, as that of any other text.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Set
from dataclasses import fields, is_dataclass
from datetime import date
from enum import Enum
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import numpy as np

from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.core.access.ways import Way
from neatledger.core.checks.finding import Finding
from neatledger.core.lists.contract import Names, word_entry
from neatledger.errors import NeatError

FOLDER = Path(__file__).parent / "vectors" / "recorded"


def plain(value: Any) -> Any:
    """Return a value as JSON has it: records by what is in them, sets in order."""
    if isinstance(value, Enum):
        return value.name
    if is_dataclass(value) and not isinstance(value, type):
        told = {
            each.name: plain(getattr(value, each.name)) for each in fields(value) if not each.name.startswith("_")
        }
        return {type(value).__name__: {name: one for name, one in told.items() if one not in (None, "", [], {}, 0)}}
    if isinstance(value, Mapping):
        return {str(plain(key)): plain(one) for key, one in value.items()}
    if isinstance(value, Set):
        return sorted((plain(one) for one in value), key=str)
    if isinstance(value, np.ndarray):
        return plain(value.tolist())
    if isinstance(value, bytes):
        return value.decode("ascii") if value.isascii() and value.decode("ascii").isprintable() else value.hex()
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, float):
        return float(f"{value:.9g}")
    if isinstance(value, str | int | bool | None):
        return value
    if isinstance(value, Iterable):
        return [plain(one) for one in value]
    return str(value)


@cache
def known(name: str) -> dict[str, Any]:
    """Return what is kept for a file of tests, by the name of the test."""
    found: dict[str, Any] = json.loads((FOLDER / f"{name}.json").read_text("utf-8"))
    return found


def keep(name: str, values: Mapping[str, Any]) -> None:
    """Keep answers in place of those of before."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    lines = [f"{json.dumps(key)}: {json.dumps(one, ensure_ascii=False)}" for key, one in sorted(values.items())]
    (FOLDER / f"{name}.json").write_text("{\n" + ",\n".join(lines) + "\n}\n", "utf-8")


def properties(one: Any) -> dict[str, Any]:
    """Return what a record says: each of its public properties, and the fields beside them."""
    found = {each.name: plain(getattr(one, each.name)) for each in fields(one)}
    for name in dir(type(one)):
        if not name.startswith("_") and isinstance(getattr(type(one), name), property | cached_property):
            found[name] = plain(getattr(one, name))
    return {name: value for name, value in found.items() if value not in (None, "", [], {})}


def worded(one: Finding) -> str:
    """Return all that a finding says, in a line."""
    return f"{one.check} {one.place}: {one.evidence} | {one.advice} | {one.cause} | {one.people} {one.rights:d}"


def tried(work: Callable[..., object], *words: object, **more: object) -> object:
    """Return what a call returns, or what it says where it refuses."""
    try:
        return work(*words, **more)
    except NeatError as error:
        return str(error)


def cells_of(everyone: Everyone) -> list[str]:
    """Return the rows of the table of access that differ from the folder above, each as its numbers in a line."""
    found = []
    for block in everyone.blocks(RowFilter.DIFFER):
        counts = block.counts
        cells = (block.folder, block.column, block.flags, block.unknown, counts.read, counts.change, counts.delete)
        rows = zip(*(each.tolist() for each in cells), strict=True)
        found += [" ".join(str(int(one)) for one in row) for row in rows]
    return found


def gates_of(way: Way, names: Names) -> list[str]:
    """Return the gates of a way with what they let through and why, a line each."""
    return [
        f"{gate.name} {gate.place.decode()} {int(gate.passes)}: "
        + "; ".join(
            f"{one.effect.name} {word_entry(one.entry, names)} {int(one.rights)} {one.because}"
            for one in gate.reasons
        )
        for gate in way.gates
    ]
