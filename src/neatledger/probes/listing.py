"""Tables exported elsewhere: which file is which table of ours, and which of its columns which."""

from __future__ import annotations

import csv
import io
import os
import re
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from neatledger.core.lists.table import MODELS
from neatledger.errors import SourceError, UsageError
from neatledger.formats.headings import TableGuess, guess_table, read_text
from neatledger.probes.contract import Hints, Proposal
from neatledger.probes.directory import account_setting

__all__ = ["probe"]

_ACCOUNTS = ("people", "groups", "members")
_SHARED = ("links",)
_FORMS = {
    "nt": re.compile(r"^(O:|G:|D:)"),
    "posix": re.compile(r"(^|,)(user|u):[^:=]*:[r-][w-][x-]"),
    "nfs4": re.compile(r"^[ADUL]:[fdinSFgI]*:[^:]+:"),
    "role": re.compile(r"^(user:[^:=]+=|group:[^:=]+=|owner=|everyone=|signed-in=|nobody$)"),
}


def probe(address: str, hints: Hints) -> Proposal:
    """Look at files, each by itself: what its columns are called and what stands in them."""
    guesses: dict[str, tuple[str, TableGuess]] = {}
    said = _said(hints.said.get("column") or ())
    for name in address.split("\n"):
        path = Path(name).expanduser()
        try:
            raw = path.read_bytes()
        except OSError as error:
            raise SourceError(f"cannot be read: {error.strerror}", name) from None
        guess = guess_table(raw, said)
        if guess is None:
            head = read_text(raw)[0].partition("\n")[0][:100]
            hint = "say which is which: --column people.login=HEADING; the columns that are needed: docs/listing.md"
            raise SourceError(f"its columns fit no table ({head})", name, hint)
        if guess.table in guesses:
            raise SourceError(f"a second table of {guess.table}", name, f"the first is {guesses[guess.table][0]}")
        guesses[guess.table] = _below(path.resolve(), hints.office_dir), guess
    return _proposal(guesses, address, hints)


def _said(words: Iterable[str]) -> dict[str, dict[str, str]]:
    """Return which heading somebody said to be which column, by table; raises `UsageError`."""
    found: dict[str, dict[str, str]] = {}
    for word in words:
        ours, equals, heading = word.partition("=")
        table, dot, column = ours.partition(".")
        if not (equals and dot and heading and column):
            raise UsageError(f"not a column: {word!r}", hint="write --column people.login=Account")
        found.setdefault(table, {})[column] = heading
    return found


def _below(path: Path, office_dir: Path) -> str:
    """Return a file's name as the plan says it: from the office's folder where it lies in it."""
    try:
        return str(path.relative_to(office_dir.resolve()))
    except ValueError:
        return str(path)


def _proposal(guesses: dict[str, tuple[str, TableGuess]], address: str, hints: Hints) -> Proposal:
    found = Proposal({"source": "listing" if "entries" in guesses else "directory"})
    if "entries" in guesses:
        _entries(found, *guesses["entries"], Path(address.split("\n")[list(guesses).index("entries")]).expanduser())
    accounts = {table: guesses[table][0] for table in _ACCOUNTS if table in guesses}
    if "people" in accounts:
        found.put("accounts", accounts, "people, groups and who is in them")
    elif hints.said.get("accounts"):
        setting, notes, lacking = account_setting(str(hints.said["accounts"]), hints)
        found.put("accounts", setting)
        found.notes += notes
        found.lacking += lacking
    else:
        found.lacking.append(
            "its people: a table of accounts beside these, or --accounts with the address of a directory"
        )
    for table, key in (("shares", "shares"), ("limits", "limits-file")):
        if table in guesses:
            found.put(key, guesses[table][0])
    shared = {table: guesses[table][0] for table in _SHARED if table in guesses}
    if shared:
        found.put("sharing", shared, "what is shared with whom")
    encodings = {guess.encoding for _, guess in guesses.values()} - {"ascii"}
    if encodings - {"utf-8"}:
        found.put("encoding", next(one for one in sorted(encodings) if one != "utf-8"), "how the letters are written")
        if len(encodings) > 1:
            found.lacking.append(
                f"one way of writing letters for all files (there are {', '.join(sorted(encodings))})"
            )
    columns: dict[str, Any] = {table: guess.mapping for table, (_, guess) in guesses.items() if guess.mapping}
    if columns:
        found.put("columns", columns, "ours: theirs")
    found.columns = [guess for _, guess in guesses.values()]
    return found


def _entries(found: Proposal, name: str, guess: TableGuess, path: Path) -> None:
    found.put("path", name)
    column = next((one.heading for one in guess.columns if one.ours == "list"), None)
    text = read_text(path.read_bytes())[0]
    rows = csv.DictReader(io.StringIO(text, newline=""), delimiter=guess.separator)
    seen = dict.fromkeys(MODELS, 0)
    for number, row in enumerate(rows):
        if number > 2_000:
            break
        cell = (row.get(column) or "").strip() if column else ""
        for model, form in _FORMS.items():
            seen[model] += bool(cell and form.search(cell))
    model = max(seen, key=lambda one: seen[one])
    has_mode = any(one.ours == "mode" for one in guess.columns)
    if not seen[model]:
        model = "posix" if has_mode else "role"
        if not has_mode:
            found.lacking.append("the lists of its folders: no column holds any, so who may what there stays unknown")
    if model != "posix":
        found.put("lists", model, "the sort of lists in it, by their form")
    paths = next((one for one in guess.columns if one.ours == "path"), None)
    if paths is not None and not all(example.startswith("/") for example in paths.examples):
        found.lacking.append(f"paths from the root, as /Records/2026 (it has {os.fspath(paths.examples[0])})")
