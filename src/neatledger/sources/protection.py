"""What a system has of protection: snapshots by their names or as Btrfs tells them, runs of backups, encryption."""

from __future__ import annotations

import csv
import json
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import Any

from neatledger.core.plan.protection import SnapshotRule
from neatledger.core.protection.found import FoundProtection, FoundSnapshot, Run
from neatledger.core.survey.survey import Survey
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.order import TreeOrder
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.encryption import encrypted_folders
from neatledger.sources.listed import files_in
from neatledger.sources.theirs import Theirs, mapped_columns

__all__ = ["add_protection"]

_YES, _NO = (
    frozenset({"yes", "true", "1", "ok", "done", "success"}),
    frozenset({"no", "false", "0", "failed", "error"}),
)
_FORMS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "M": "%m", "DD": "%d", "D": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_PARTS = re.compile("|".join(_FORMS))


def add_protection(survey: Survey, context: SourceContext) -> None:
    """Add to a survey what `protection` in the settings speaks of; what cannot be read is noted with it."""
    settings = context.settings.get("protection")
    if not settings:
        return
    unread: dict[str, str] = {}
    snapshots = list(_snapshots(survey, context, settings.get("snapshots") or (), unread))
    runs: list[Run] = []
    for one in settings.get("backups") or ():
        try:
            runs += _runs(context, one)
        except (SourceError, OSError, ValueError) as error:
            unread[f"backup {one['name']}"] = str(error)
    encrypted: dict[bytes, bool] = {}
    try:
        encrypted = encrypted_folders(context, settings.get("encrypted") or ())
    except SourceError as error:
        unread["encryption"] = str(error)
    survey.facts["protection"] = FoundProtection(snapshots, runs, unread, encrypted).to_facts()


# Snapshots ----------------------------------------------------------------------------------------------


def _snapshots(
    survey: Survey, context: SourceContext, rules: Sequence[Mapping[str, Any]], unread: dict[str, str]
) -> Iterator[FoundSnapshot]:
    for rule in rules:
        of, where = os.fsencode(rule["of"]), os.fsencode(rule["where"])
        if "form" in rule:
            yield from _by_name(survey, rule, of, where, unread)
            continue
        try:
            yield from _of_btrfs(context, of, where)
        except (OSError, SourceError) as error:
            unread[SnapshotRule(of, where).name] = str(error)


def _by_name(
    survey: Survey, rule: Mapping[str, Any], of: bytes, where: bytes, unread: dict[str, str]
) -> Iterator[FoundSnapshot]:
    """Yield the folders in a folder whose names say when they were made; others in it are none."""
    folders = survey.folders
    row = TreeOrder(folders).find_row(parts_of(where))
    if row is None:
        unread[SnapshotRule(of, where).name] = f"{rule['where']} was not found"
        return
    first = int(folders["first_child"][row])
    form = _PARTS.sub(lambda found: _FORMS[found[0]], rule["form"])
    local = datetime.now().astimezone().tzinfo
    for name in folders.texts("name")[first : first + int(folders["children"][row])]:
        try:
            moment = datetime.strptime(os.fsdecode(name), form).replace(tzinfo=local)
        except (ValueError, UnicodeEncodeError):
            continue
        yield FoundSnapshot(of, moment.astimezone(UTC), where.rstrip(b"/") + b"/" + name)


def _of_btrfs(context: SourceContext, of: bytes, where: bytes) -> Iterator[FoundSnapshot]:
    from neatledger.sources.btrfs import snapshots_in

    if context.settings["source"] != "tree":
        raise SourceError(
            "snapshots without a form are asked of the file system, and this one is not here", of.decode()
        )
    root = os.fsencode(context.office_dir / str(context.settings["path"]))
    for name, moment, is_read_only in snapshots_in(root + of, root + where):
        yield FoundSnapshot(of, moment, where.rstrip(b"/") + b"/" + name, is_read_only)


# Runs of backups ----------------------------------------------------------------------------------------


def _runs(context: SourceContext, one: Mapping[str, Any]) -> list[Run]:
    if "archives" in one:
        return _archives(one["name"], context.office_dir / one["archives"])
    if "runs" not in one:
        raise SourceError("nothing in the plan says where its runs are told", hint="runs: FILE, or archives: FOLDER")
    mapped = mapped_columns({"runs": one.get("columns") or {}}, "runs")
    heads = {key: mapped[key].heading if key in mapped else key for key in _KEYS}
    zone = datetime.now().astimezone().tzinfo
    assert zone is not None, "astimezone gives one"
    return [
        _run(one["name"], {key: row.get(head, "") for key, head in heads.items()}, mapped, zone)
        for row in _rows(context.office_dir / one["runs"])
    ]


_KEYS = ("when", "done", "bytes", "files")


def _rows(path: Path) -> list[dict[str, str]]:
    try:
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeError) as error:
        raise SourceError(f"its runs cannot be read: {error}", str(path)) from None
    if path.suffix.casefold() == ".json":
        told = json.loads(text)
        rows = told if isinstance(told, list) else next((one for one in told.values() if isinstance(one, list)), [])
        return [{str(key): _word(value) for key, value in row.items()} for row in rows if isinstance(row, dict)]
    head, _, _ = text.partition("\n")
    reader = csv.DictReader(text.splitlines(), delimiter=max(",;\t|", key=head.count))
    return [{str(key): str(value or "") for key, value in row.items()} for row in reader]


def _word(value: object) -> str:
    return "" if value is None else ("yes" if value else "no") if isinstance(value, bool) else str(value)


def _run(name: str, row: Mapping[str, str], mapped: Mapping[str, Theirs], zone: tzinfo) -> Run:
    """Return one run; what cannot be read of it is unknown. Raises `ValueError` where it has no day."""
    when = row["when"].strip()
    dates = mapped["when"].dates if "when" in mapped else ""
    found = mapped["when"].moment(when) if dates else datetime.fromisoformat(when)
    moment = (found if found.tzinfo is not None else found.replace(tzinfo=zone)).astimezone(UTC)
    try:
        word = (mapped["done"].ours(row["done"]) if "done" in mapped else row["done"]).strip().casefold()
    except ValueError:
        word = ""
    done = True if word in _YES else False if word in _NO else None
    return Run(name, moment, _number(row["bytes"]), _number(row["files"]), done)


def _number(text: str) -> int | None:
    return int(text) if text.strip().isdecimal() else None


def _archives(name: str, folder: Path) -> list[Run]:
    """Return a run for each file of a folder; an empty one, or one that is still written, came to no end."""
    found = []
    for one, facts in files_in(folder):
        if not one.name.startswith("."):
            is_done = facts.st_size > 0 and one.suffix not in (".part", ".tmp")
            found.append(Run(name, datetime.fromtimestamp(facts.st_mtime, UTC), facts.st_size, None, is_done))
    return found
