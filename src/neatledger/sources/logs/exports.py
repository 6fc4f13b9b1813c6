"""What other programs export of what was done: CSV, JSON, JSON lines or XML, with the mapping that listings use.

The whole file is read each time, and of one that grew only what came after what was read before is new.
"""

from __future__ import annotations

import csv
import io
import json
import os
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import Any

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError, SourceError
from neatledger.sources.logs.roots import Roots
from neatledger.sources.theirs import Theirs, check_headings, mapped_columns

__all__ = ["ENDINGS", "Row", "record_of", "rows_of"]

Row = Mapping[str, str]
ENDINGS = (".csv", ".tsv", ".json", ".jsonl", ".xml")
_COLUMNS = ("when", "who", "did", "path", "to", "done", "folder", "address", "device", "detail")
_NEEDED = ("when", "who", "did")
_DIDS = {one.key: one for one in Did}
_YES = frozenset({"", "yes", "true", "1", "ok", "success"})
_NO = frozenset({"no", "false", "0", "failed", "refused", "failure"})


def rows_of(path: Path, settings: Mapping[str, Any]) -> Iterator[tuple[int, Row]]:
    """Yield the line or number of each row, and its cells by our columns; raises `SourceError`."""
    try:
        text = path.read_bytes().decode("utf-8-sig", "surrogateescape")
    except OSError as error:
        raise SourceError(f"cannot be read: {error.strerror}", str(path)) from None
    mapped = mapped_columns({"trail": settings.get("columns") or {}}, "trail")
    try:
        yield from _of_ending(path, text, mapped, settings)
    except (ValueError, RecursionError, csv.Error) as error:
        raise SourceError(f"it is no {path.suffix[1:] or 'table'}: {str(error)[:80]}", str(path)) from None


def _of_ending(
    path: Path, text: str, mapped: Mapping[str, Theirs], settings: Mapping[str, Any]
) -> Iterator[tuple[int, Row]]:
    ending = path.suffix.casefold()
    if ending == ".json":
        told = json.loads(text)
        held = [told] if isinstance(told, list) else list(told.values()) if isinstance(told, dict) else []
        rows = next((one for one in held if isinstance(one, list)), None)
        if rows is None:
            raise ValueError("it holds no list of rows")
        yield from ((number, _mapped(_flat(row), mapped)) for number, row in enumerate(rows, start=1))
    elif ending == ".jsonl":
        # A last line without its end is still being written.
        for number, line in enumerate(text.split("\n")[:-1], start=1):
            if line.strip():
                yield number, _mapped(_flat(json.loads(line)), mapped)
    elif ending == ".xml":
        yield from _of_xml(path, text, mapped, str(settings.get("row", "")))
    else:
        head, _, _ = text.partition("\n")
        reader = csv.DictReader(io.StringIO(text, newline=""), delimiter=max(",;\t|", key=head.count))
        there = list(reader.fieldnames or ())
        check_headings(mapped, there, "trail", str(path))
        lacking = [one for one in _NEEDED if one not in mapped and one not in there]
        if lacking:
            hint = f"columns: {{{lacking[0]}: …}} of the log in the plan names it; it has {', '.join(there)}"
            raise SourceError(f"the file lacks the column {lacking[0]}", str(path), hint)
        for row in reader:
            yield reader.line_num, _mapped({str(key): str(value or "") for key, value in row.items()}, mapped)


def _of_xml(path: Path, text: str, mapped: Mapping[str, Theirs], row_name: str) -> Iterator[tuple[int, Row]]:
    from defusedxml import ElementTree
    from defusedxml.common import DefusedXmlException

    try:
        root = ElementTree.fromstring(text.encode("utf-8", "surrogateescape"))
    except (ElementTree.ParseError, DefusedXmlException) as error:
        raise SourceError(f"it is no XML that can be read: {error}", str(path)) from None
    rows = list(root.iter(row_name)) if row_name else list(root)
    for number, row in enumerate(rows, start=1):
        cells = {**row.attrib, **{str(one.tag).rpartition("}")[2]: (one.text or "").strip() for one in row}}
        yield number, _mapped(cells, mapped)


def _flat(row: object) -> dict[str, str]:
    """Return an object's members as text, those of objects in it by names with a dot; raises `ValueError`."""
    if not isinstance(row, dict):
        raise ValueError("a row is no object")
    found: dict[str, str] = {}
    for key, value in row.items():
        if isinstance(value, dict):
            found |= {f"{key}.{inner}": one for inner, one in _flat(value).items()}
        elif value is not None and not isinstance(value, list):
            found[str(key)] = ("yes" if value else "no") if isinstance(value, bool) else str(value)
    return found


def _mapped(cells: Row, mapped: Mapping[str, Theirs]) -> dict[str, str]:
    return {one: cells.get(mapped[one].heading if one in mapped else one, "") for one in _COLUMNS}


def record_of(row: Row, settings: Mapping[str, Any], roots: Roots, zone: tzinfo) -> Record | None:
    """Return what a row says that somebody did; None where its deed is mapped to nothing. Raises `FormatError`."""
    mapped = mapped_columns({"trail": settings.get("columns") or {}}, "trail")
    try:
        did = _word(row["did"], mapped.get("did"))
        done = _word(row["done"], mapped.get("done")).casefold()
    except ValueError as error:
        raise FormatError(str(error)) from None
    if not did:
        return None
    if did not in _DIDS:
        raise FormatError(f"did says {did[:40]!r}", hint=f"one of {', '.join(_DIDS)}; or map it: columns: {{did: …}}")
    if done not in _YES | _NO:
        raise FormatError(f"done says neither yes nor no: {done[:40]!r}")
    if not row["who"]:
        raise FormatError("nobody is named")
    is_folder = row["folder"].casefold() in _YES - {""}
    path, to = (roots.inside(row[one]) for one in ("path", "to"))
    moment = _moment(row["when"], mapped.get("when"), zone)
    origin = (row[one] for one in ("address", "device", "detail"))
    return Record(moment, row["who"], _DIDS[did], path, to, done in _YES, is_folder, *origin)  # type: ignore[arg-type]


def _word(text: str, theirs: Theirs | None) -> str:
    return text.strip() if theirs is None else theirs.ours(text).strip()


def _moment(text: str, theirs: Theirs | None, zone: tzinfo) -> datetime:
    try:
        if theirs is not None and theirs.dates:
            found = theirs.moment(text.strip())
        elif text.strip().isdecimal():
            return datetime.fromtimestamp(int(text), UTC)
        else:
            found = datetime.fromisoformat(text.strip())
        return (found if found.tzinfo is not None else found.replace(tzinfo=zone)).astimezone(UTC)
    except (ValueError, OverflowError, OSError):
        raise FormatError(f"when is no day and time: {os.fsencode(text)[:40]!r}") from None
