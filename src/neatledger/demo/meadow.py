"""``meadow``: the team-folder service of the sample office, as tables from which it is served or listed.

Who is on it and what is shared stands in data/meadow.yaml, in the columns of docs/sharing.md; `nodes` are the folders
and files with their lists.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Iterator, Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any
from urllib.parse import quote

import yaml

from neatledger.demo.barn import day, things

__all__ = ["READER", "groups", "nodes", "shared_tables", "users", "write_meadow_listing"]

READER = "ledger"
"""Who reads the service for the ledger."""
Row = dict[str, Any]


@cache
def _data() -> dict[str, Any]:
    text = resources.files("neatledger.demo").joinpath("data/meadow.yaml").read_text("utf-8")
    found: dict[str, Any] = yaml.safe_load(text)
    return found


def users() -> list[Row]:
    """Return the accounts: login, name, e-mail, type, roles and entitlements."""
    found: list[Row] = _data()["users"]
    return found


def groups() -> dict[str, list[str]]:
    """Return the logins in each group."""
    found: dict[str, list[str]] = _data()["groups"]
    return found


def shared_tables() -> dict[str, list[Row]]:
    """Return what the service shares, table by table."""
    tables: dict[str, list[Row]] = _data()["shared"]
    return {name: [dict(row) for row in rows] for name, rows in tables.items()}


def nodes() -> Iterator[Row]:
    """Yield folders and files, folders before what is in them; `list` is empty where nothing is told."""

    def folder(path: str, owner: str = "", listed: str = "") -> Row:
        return {"path": path, "type": "folder", "owner": owner, "list": listed, "bytes": 0, "changed": day(9, 1)}

    def file(path: str, size: int, owner: str, changed: int) -> Row:
        return {"path": path, "type": "file", "owner": owner, "list": "", "bytes": size, "changed": changed}

    yield folder("/", "", "group:partners=read")
    yield folder("/Teams")
    yield folder("/Teams/Cases 2026")
    # It lies over a share: the service shows what the share holds.
    for thing in things():
        if thing.path.startswith("/Records/2026/"):
            path = "/Teams/Cases 2026" + thing.path.removeprefix("/Records/2026")
            yield folder(path) if thing.size < 0 else file(path, thing.size, "", thing.changed)
    yield folder("/Teams/Imaging exchange")
    yield folder("/Teams/Imaging exchange/For Hollin")
    for number in range(1, 9):
        name = f"/Teams/Imaging exchange/For Hollin/sample {number:02d}.dcm"
        yield file(name, 310_000 + 7_100 * number, "quill", day(1 + number, 7))
    yield file("/Teams/Imaging exchange/For Hollin/viewer.exe", 2_400_000, "quill", day(3, 12))
    yield folder("/Teams/Imaging exchange/2026", "", "group:vets=write; group:students=manage")
    for number in range(1, 6):
        yield file(f"/Teams/Imaging exchange/2026/case {number:02d}.dcm", 540_000, "sedge", day(4, 2 + number))
    yield folder("/Teams/Protocols")
    yield file("/Teams/Protocols/Anaesthesia.odt", 38_000, "hale", day(6, 3))
    yield file("/Teams/Protocols/Vaccination plan.odt", 41_000, "fenn", day(8, 19))
    yield folder("/Teams/Partners")
    yield file("/Teams/Partners/Purchase of the annexe.odt", 52_000, "thorne", day(10, 2))
    yield folder("/Teams/Old rota")
    yield file("/Teams/Old rota/2024.ods", 19_000, "marsh", day(12, 20, 2024))
    yield folder("/Teams/New equipment")
    yield folder("/People")
    for login in [user["login"] for user in users() if user["type"] == "employee" and user["login"] != "brand"]:
        yield folder(f"/People/{login}", login, "owner=manage")
    yield folder("/People/sedge/Thesis photos", "sedge", "owner=manage")
    for number in range(1, 13):
        yield file(f"/People/sedge/Thesis photos/wound {number:02d}.jpg", 1_900_000, "sedge", day(5, 1 + number))
    yield file("/People/frost/Open day.mp4", 61_000_000, "frost", day(5, 21))
    yield file("/People/hale/Letter to the bank.odt", 24_000, "hale", day(9, 11))


def write_meadow_listing(target: Path) -> None:
    """Write the service as a listing: its entries and people as CSV, and what it shares as JSON."""
    _write(target / "meadow.csv", [
        {**each, "path": quote(each["path"], safe="/ "), "changed": each["changed"], "occupied": each["bytes"]}
        for each in nodes()
    ])  # fmt: skip
    _write(target / "meadow.people.csv", [
        {"login": each["login"], "id": each["login"], "name": each["name"], "email": each["email"], "state": "open"}
        for each in users()
    ])  # fmt: skip
    _write(target / "meadow.groups.csv", [{"name": name, "id": name} for name in groups()])
    members = [{"group": group, "member": login} for group, logins in groups().items() for login in logins]
    _write(target / "meadow.members.csv", members)
    tables = shared_tables()
    known = {each["login"]: each for each in users()}
    reported = {row["login"]: row for row in tables["standing"]}
    tables["standing"] = [reported.get(login, {"login": login}) for login in known]
    for row in tables["standing"]:
        user = known[row["login"]]
        row |= {"roles": user["roles"], "entitlements": user["entitlements"], "guest": user["type"] == "guest"}
    (target / "meadow.shared.json").write_text(json.dumps(tables, indent=1, ensure_ascii=False) + "\n", "utf-8")


def _write(path: Path, rows: list[Mapping[str, Any]] | list[Row]) -> None:
    with open(path, "w", encoding="utf-8", newline="") as out:
        writer = csv.DictWriter(out, list(rows[0]), lineterminator="\n")
        writer.writeheader()
        writer.writerows(rows)
