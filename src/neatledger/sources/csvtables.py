"""Tables of a listing: CSV files with columns of ours, or of another export by a mapping in the plan."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.theirs import Theirs, check_headings, mapped_columns, near_misses, put_in_our_words

__all__ = ["Cells", "read_table", "yes_or_no"]

_DELIMITERS = ",;\t|"
_YES, _NO = frozenset({"yes", "true", "1", "on"}), frozenset({"no", "false", "0", "off", ""})


class Cells(dict[str, str]):
    """One row by our columns' names; a column that the file lacks is empty.

    `unknown` are columns that say something which cannot be read: it was told, and is to be taken for unknown.
    """

    unknown: frozenset[str] = frozenset()

    def __missing__(self, key: str) -> str:
        return ""

    def number(self, column: str, base: int = 10) -> int:
        """Return a column as a number, 0 where it is empty; raises `ValueError`."""
        text = self[column].strip()
        try:
            found = int(text or "0", base)
        except ValueError:
            raise ValueError(f"{column} is no number: {text[:40]!r}") from None
        if not 0 <= found < 1 << 63:
            raise ValueError(f"{column} is out of bounds: {text[:40]}")
        return found


def yes_or_no(text: str, column: str) -> bool:
    """Return what a column says; raises `ValueError`."""
    word = text.strip().casefold()
    if word not in _YES | _NO:
        raise ValueError(f"{column} says neither yes nor no: {text[:40]!r}")
    return word in _YES


def read_table(
    context: SourceContext, table: str, name: str, needed: Sequence[str], not_seen: list[NotSeen]
) -> Iterator[tuple[int, Cells]]:
    """Yield the rows of one file with their line numbers; raises `SourceError`.

    Arguments: the table's name in the plan's `columns`, which maps our columns to those of the file; the
    file; the columns that must be there. Files may be parted by commas, semicolons, tabs or bars.
    """
    path = context.office_dir / name
    mapped = mapped_columns(context.settings.get("columns", {}), table)
    try:
        encoding = str(context.settings.get("encoding", "utf-8"))
        # A mark at the beginning is no letter; what is no UTF-8 at all is kept as the bytes that it is.
        how = (
            {"encoding": "utf-8-sig", "errors": "surrogateescape"} if encoding == "utf-8" else {"encoding": encoding}
        )
        with open(path, newline="", **how) as lines:  # type: ignore[call-overload]
            head = lines.readline()
            lines.seek(0)
            delimiter = max(_DELIMITERS, key=head.count)
            reader = csv.DictReader(lines, delimiter=delimiter)
            there = list(reader.fieldnames or ())
            check_headings(mapped, there, table, str(path))
            ours = _our_columns(mapped, there)
            missing = [column for column in needed if column not in ours.values()]
            if missing:
                hint = f"columns: {{{table}: {{ours: theirs}}}} in the plan maps them; it has {', '.join(there)}"
                raise SourceError(f"the file lacks the columns {', '.join(missing)}", str(path), hint)
            not_seen += [NotSeen.of_source(f"{path}:1", why) for why in near_misses(table, there, mapped)]
            for values in _rows(reader, path, not_seen):
                cells = Cells(
                    {ours[key]: value for key, value in values.items() if key in ours and value is not None}
                )
                cells.unknown = put_in_our_words(cells, mapped, f"{path}:{reader.line_num}", not_seen)
                yield reader.line_num, cells
    except UnicodeError as error:
        hint = "encoding: in the plan says how its letters are written"
        raise SourceError(f"its letters are not written as {encoding}: {str(error)[:80]}", str(path), hint) from None
    except OSError as error:
        raise SourceError(f"cannot read the file: {error.strerror}", str(path)) from None


def _rows(reader: csv.DictReader[str], path: Path, not_seen: list[NotSeen]) -> Iterator[dict[str, str]]:
    while True:
        try:
            yield next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            not_seen.append(NotSeen.of_source(f"{path}:{reader.line_num}", f"a row that cannot be read: {error}"))


def _our_columns(mapped: Mapping[str, Theirs], there: Sequence[str]) -> dict[str, str]:
    """Return their headings → our columns; a heading that is mapped to another column is not its own any more."""
    ours = {theirs.heading: column for column, theirs in mapped.items()}
    return ours | {heading: heading for heading in there if heading not in ours and heading not in mapped}
