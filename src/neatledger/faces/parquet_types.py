"""The types and units of columns that are written as a data set of Parquet files; docs/outputs.md has the same."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import Enum

__all__ = ["TYPES", "Declared", "Kind", "set_name"]


class Kind(Enum):
    """What a column holds."""

    TEXT = "text"
    TEXTS = "list of texts"
    NUMBER = "64-bit number"
    TRUTH = "truth"
    DAY = "day"
    MOMENT = "moment, UTC"


@dataclass(frozen=True, slots=True)
class Declared:
    """A column's type, and the unit of its numbers (empty: it has none)."""

    kind: Kind
    unit: str = ""


_TEXT, _TEXTS, _TRUTH = Declared(Kind.TEXT), Declared(Kind.TEXTS), Declared(Kind.TRUTH)
_DAY, _MOMENT = Declared(Kind.DAY), Declared(Kind.MOMENT)
_BYTES, _FILES = Declared(Kind.NUMBER, "bytes"), Declared(Kind.NUMBER, "files")


def _texts(*names: str) -> dict[str, Declared]:
    return dict.fromkeys(names, _TEXT)


TYPES: dict[str, dict[str, Declared]] = {
    "space": {
        **_texts("on", "place", "planned_rule", "found_rule", "state", "band"),
        **dict.fromkeys(("used_bytes", "told_bytes", "planned_bytes", "found_bytes", "left_bytes"), _BYTES),
        "percent": Declared(Kind.NUMBER, "percent"),
        **dict.fromkeys(("told", "differs"), _TEXTS),
        "items_limit": Declared(Kind.NUMBER, "files and folders"),
        "items_used": Declared(Kind.NUMBER, "files and folders"),
    },
    # space FOLDER --every
    "space-folders": {
        **_texts("folder", "kind", "owner", "group"),
        **dict.fromkeys(("files", "own_files"), _FILES),
        **dict.fromkeys(("apparent_bytes", "occupied_bytes"), _BYTES),
        **dict.fromkeys(("own_apparent_bytes", "own_occupied_bytes"), _BYTES),
    },
    "links": {
        **_texts("id", "sort", "fingerprint", "target", "type", "maker", "level", "audience", "passed_from", "state"),
        **dict.fromkeys(("made", "expires", "last_used", "newest"), _DAY),
        **dict.fromkeys(("guards", "kinds", "amiss"), _TEXTS),
        "uses": Declared(Kind.NUMBER, "openings"),
        "files": _FILES,
        "size_bytes": _BYTES,
    },
    "trail": {
        **_texts("who", "login", "did", "where", "to", "severity", "address", "device", "detail"),
        **dict.fromkeys(("moment", "until"), _MOMENT),
        "number": Declared(Kind.NUMBER, "records"),
        **dict.fromkeys(("is_folder", "done"), _TRUTH),
    },
    "check": {
        **_texts("severity", "check", "place", "evidence", "advice", "accepted", "cause"),
        **dict.fromkeys(("since", "not_before"), _DAY),
        "exposure": Declared(Kind.NUMBER, "points"),
        "people": _TEXTS,
    },
}
"""Report → column → type; of the table of access, which is written by blocks, docs/outputs.md alone."""


def set_name(report: str, keys: Collection[str]) -> str:
    """Return what the data set of a report is called: tables of other columns are never put into one."""
    known = [name for name in TYPES if name == report or name.startswith(f"{report}-")]
    return next((name for name in known if set(keys) <= set(TYPES[name])), f"{report}-other" if known else report)
