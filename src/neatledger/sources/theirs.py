"""Another export's columns as ours: headings, what its words stand for, how it writes days, as the plan maps them.

What a mapping does not know is told and stays unknown: a word that is not among those mapped, a day in another form.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, MutableMapping
from dataclasses import dataclass
from datetime import datetime
from difflib import get_close_matches
from typing import Any

from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError

__all__ = ["Theirs", "check_headings", "mapped_columns", "near_misses", "put_in_our_words"]

_FORMS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "M": "%m", "DD": "%d", "D": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_PARTS = re.compile("|".join(_FORMS))
_SHARED = ("id", "path", "type")
_KNOWN: Mapping[str, Collection[str]] = {
    "entries": ("path", "type", "owner", "group", "mode", "list", "default", "bytes", "occupied", "changed",
                "identity", "links"),
    "lists": ("id", "list"),
    "people": ("login", "id", "name", "email", "primary", "state", "service", "last-seen"),
    "groups": ("name", "id"),
    "members": ("group", "member", "kind"),
    "shares": ("name", "path", "list", "read-only", "place"),
    "limits": ("on", "name", "limit", "rule", "grace-days", "warn", "used", "files", "files-used"),
    "service": ("running", "entitlement", "keep-versions", "keep-bin-days"),
    "teams": ("path", "name", "on", "over", "download", "ends"),
    "team-members": ("team", "holder", "kind", "level", "reply", "since"),
    "hand-outs": (*_SHARED, "giver", "receiver", "kind", "level", "made", "expires", "reply", "download",
                  "passed-from"),
    "links": (*_SHARED, "maker", "level", "audience", "named", "made", "starts", "expires", "password", "encrypted",
              "on", "download", "uses", "uses-left", "last-used", "address", "fingerprint"),
    "devices": ("id", "owner", "name", "kind", "managed", "state", "last-seen", "folders", "held"),
    "activity": ("who", "did", "when"),
}  # fmt: skip
"""Our columns by table: a heading that is nearly one of them is a slip, and no column of nothing."""


@dataclass(frozen=True, slots=True)
class Theirs:
    """One column of theirs: its heading, what its words stand for (None: themselves), and its form of days."""

    heading: str
    values: Mapping[str, str] | None = None
    dates: str = ""

    def ours(self, text: str) -> str:
        """Return what a cell says in our words; raises `ValueError` where the mapping does not know it."""
        word = text.strip()
        if self.values is not None:
            known = self.values.get(word.casefold())
            if known is not None:
                return known
            if word and not self.dates:
                raise ValueError(f"{self.heading} says {_quoted(word)}, which the plan does not map")
        if self.dates and word:
            return self._day(word)
        return text

    def moment(self, word: str) -> datetime:
        """Return a day and time in their form; raises `ValueError`."""
        return datetime.strptime(word, _PARTS.sub(lambda found: _FORMS[found[0]], self.dates))

    def _day(self, word: str) -> str:
        form = _PARTS.sub(lambda found: _FORMS[found[0]], self.dates)
        try:
            return datetime.strptime(word, form).date().isoformat()
        except ValueError:
            # Where the form is that of a day, a time behind it does no harm.
            try:
                return datetime.strptime(word.split()[0], form).date().isoformat()
            except ValueError:
                message = f"{self.heading} says {_quoted(word)}, which is no day in the form {self.dates}"
                raise ValueError(message) from None


def _quoted(word: str) -> str:
    # In a column that was mistaken for another it may be a link's address.
    return "an address" if "://" in word else repr(word[:40])


def _word(value: object) -> str:
    # Nothing at all in the plan comes as None, or as an empty mapping.
    return (
        "" if value is None or value == {} else ("yes" if value else "no") if isinstance(value, bool) else str(value)
    )


def mapped_columns(columns: Mapping[str, Any], table: str) -> dict[str, Theirs]:
    """Return our columns of a table → theirs, as `columns` in a system's settings maps them."""
    found = {}
    for ours, told in columns.get(table, {}).items():
        if isinstance(told, str):
            found[ours] = Theirs(told)
            continue
        values = told.get("values")
        words = None if values is None else {str(key).strip().casefold(): _word(one) for key, one in values.items()}
        found[ours] = Theirs(told.get("heading", ours), words, told.get("dates", ""))
    return found


def put_in_our_words(
    row: MutableMapping[str, Any], mapped: Mapping[str, Theirs], where: str, not_seen: list[NotSeen]
) -> frozenset[str]:
    """Put what a row says into our words; return the columns where that failed: they are emptied, and noted."""
    unknown = []
    for column, theirs in mapped.items():
        value = row.get(column)
        if (theirs.values is None and not theirs.dates) or isinstance(value, (dict, list)):
            continue
        try:
            row[column] = theirs.ours("" if value is None else str(value))
        except ValueError as error:
            not_seen.append(NotSeen.of_source(where, f"{error}: it is unknown"))
            row[column] = ""
            unknown.append(column)
    return frozenset(unknown)


def check_headings(mapped: Mapping[str, Theirs], there: Collection[str], table: str, where: str) -> None:
    """Raise `SourceError` where the plan maps a heading that is not there."""
    for ours, theirs in mapped.items():
        if theirs.heading not in there:
            near = get_close_matches(theirs.heading, list(there), n=3, cutoff=0.5) or list(there)
            hint = f"columns: {{{table}: {{{ours}: …}}}} in the plan names it; nearest are {', '.join(near)}"
            raise SourceError(f"there is no column {theirs.heading!r}", where, hint)


def near_misses(table: str, there: Collection[str], mapped: Mapping[str, Theirs]) -> list[str]:
    """Return a line for each heading that is nobody's, and nearly one of ours that is not there."""
    known = _KNOWN.get(table, ())
    theirs = {one.heading for one in mapped.values()}
    lacking = [column for column in known if column not in mapped and column not in there]
    found = []
    for heading in there:
        if heading in known or heading in theirs:
            continue
        near = get_close_matches(heading.casefold().replace("_", "-").replace(" ", "-"), lacking, n=1, cutoff=0.8)
        if near:
            found.append(f"the column {heading!r} is not read: if it is {near[0]}, call it so, or map it in the plan")
    return found
