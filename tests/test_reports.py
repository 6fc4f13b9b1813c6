"""Reports and the words of the call: what is folded, what is told, and how a wrong call is answered."""

from __future__ import annotations

import csv
import doctest
import io
import json
import os
import re
import subprocess
from datetime import date
from pathlib import Path

import pandas as pd
import pytest

from conftest import ANY, COMMAND
from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import access_to, access_to_file
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.posix import GROUP, USER, USER_OBJ, Entry, PosixModel, pack_body
from neatledger.core.lists.rights import Level, Right, level_of_file
from neatledger.core.people.names import EntryNames
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.errors import NeatError
from neatledger.frames import frame
from neatledger.reports.access import short_rights, spell_files
from neatledger.reports.everyone import fold_alike
from neatledger.reports.who import who_report
from strategies import NAMES

MODEL = PosixModel()


def principal(
    login: str,
    uid: str,
    *gids: str,
    kind: Kind = Kind.STAFF,
    person: str = "",
    state: AccountState = AccountState.OPEN,
) -> Principal:
    account = Account(login, uid, gids[0], state=state)
    return Principal(person or login, login, kind, "barn", account, Holder(login, uid, frozenset(gids)), bool(person))


def item(path: bytes, mode: int, owner: str = "0", gid: int = 21, state: SeenState = SeenState.WHOLE) -> Item:
    return Item(path, MODEL.parse(pack_body(mode, gid)), owner, state)


WHERE = Address("barn", b"/a")


def ask(chain: list[Item], *people: list[Principal]):
    return [access_to(chain, principals, [], terms=SystemTerms(MODEL, True)) for principals in people]


def test_who_folds_services_and_leaves_out_what_says_nothing() -> None:
    chain = [item(b"/", 0o755), item(b"/a", 0o755)]
    services = [[principal(f"svc{n}", str(n), "9", kind=Kind.SERVICE)] for n in range(100, 106)]
    both = [principal("tom", "11", "21", person="tom"), principal("tom2", "12", "22", person="tom")]
    admin = [principal("root", "0", "0", kind=Kind.STAFF)]
    report = who_report(WHERE, ask(chain, *services, both, admin), NAMES, "now", is_all=False)
    people = [(row["person"], row["account"], row["way"]) for row in report.shown]
    assert people[:3] == [
        ("6 service accounts (svc100, svc101, svc102, …)", "svc100", "share"),
        ("tom", "tom", "share"),
        ("tom", "tom2", "share"),
    ]
    assert people[-1] == ("root", "root", "admin"), "an administrator comes last, by the role alone"
    assert len(report.shown) == 4 and report.headline.startswith("8 of 8 people")
    whole = who_report(WHERE, ask(chain, both, admin), NAMES, "now", is_all=False).rows
    ways = [(row["person"], row["account"], row["way"]) for row in whole]
    assert sorted(ways) == sorted(
        [("tom", "tom", "share"), ("tom", "tom2", "share"), ("tom", "tom+tom2", "any"), ("root", "root", "share"), ("root", "root", "admin"), ("root", "root", "any")]
    )  # fmt: skip


def test_an_unknown_list_is_never_no_access() -> None:
    hidden = [item(b"/", 0o700, state=SeenState.LIST_UNKNOWN), item(b"/a", 0o700)]
    (access,) = ask(hidden, [principal("ada", "11", "21")])
    assert not access.is_known and access.level_of(None) is Level.UNKNOWN and access.counts is None
    row = who_report(WHERE, [access], NAMES, "now", is_all=False).rows[0]
    assert row["level"] == "unknown" and {row[key] for key in ("enter", "list", "add", "delete", "manage")} == {None}
    expired = [principal("old", "11", "21", state=AccountState.EXPIRED)]
    (closed,) = ask(hidden, expired)
    assert closed.is_known and closed.level_of(None) is Level.NONE, "a closed account is stopped before any list"


@pytest.mark.parametrize(
    ("mode", "uid", "gid", "level", "rights"),
    [
        (0o640, "11", "21", Level.MANAGE, Right.READ | Right.CHANGE | Right.MANAGE),
        (0o640, "12", "21", Level.READ, Right.READ),
        (0o620, "12", "21", Level.MIXED, Right.CHANGE),
        (0o660, "12", "21", Level.WRITE, Right.READ | Right.CHANGE),
        (0o660, "12", "22", Level.NONE, Right.NONE),
        (0o000, "11", "21", Level.MIXED, Right.MANAGE),
    ],
)
def test_levels_of_files(mode, uid, gid, level, rights) -> None:
    access = access_to_file(
        [item(b"/", 0o755), item(b"/f", mode, owner="11")], [principal("x", uid, gid)], terms=SystemTerms(MODEL, True)
    )
    assert (access.rights, access.level_of(None), level_of_file(rights)) == (rights, level, level)


def test_read_only_systems_take_away_all_that_writes() -> None:
    chain = [item(b"/", 0o777, owner="11"), item(b"/a", 0o777, owner="11")]
    for person in ([principal("ada", "11", "21")], [principal("root", "0", "0")]):
        rights = access_to(chain, person, [], terms=SystemTerms(MODEL, True, True)).rights
        assert rights & (Right.ENTER | Right.LIST | Right.READ) and not rights & (
            Right.ADD | Right.DELETE | Right.MANAGE
        )


def test_closed_folders_of_one_place_are_folded() -> None:
    keys = ("person", "folder", "way", "can", "rights", "files", "files_read", "files_change", "files_delete")

    def row(path: bytes, level: str) -> dict[str, object]:
        cells = ("ada", Address("barn", path), "share", level, "", 1, int(level == "read"), 0, 0)
        return dict(zip(keys, cells, strict=True))

    rows = [row(b"/H/%d" % n, "none") for n in range(9)] + [row(b"/P", "none"), row(b"/H", "read")]
    folded = fold_alike(rows)
    assert [one["folder"] for one in folded] == ["9 in barn:/H", Address("barn", b"/P"), Address("barn", b"/H")]
    assert fold_alike(rows[:5]) == rows[:5]


def test_words_for_rights_counts_and_entries() -> None:
    assert short_rights(Right.ENTER | Right.LIST) == "" and short_rights(Right.ENTER) == "enter"
    assert short_rights(Right.LIST) == "list", "names alone are no level"
    assert short_rights(Right.ENTER | Right.LIST | Right.READ | Right.ADD | Right.DELETE) == "may delete it"
    assert spell_files(None) == "not seen"
    names = EntryNames([Account("a", "1", "2"), Account("b", "1", "2")], [], MODEL)
    words = [
        word_entry(entry, names) for entry in (Entry(USER, 4, 1), Entry(GROUP, 7, 7), Entry(USER_OBJ, 7), "sticky")
    ]
    assert words == ["user a/b (1) r--", "group unknown (7) rwx", "owner rwx", "sticky"]


WRONG = [
    (["nothing"], "there is no command 'nothing'"),
    (["who"], "who wants FOLDER (as in: neatledger who barn:/Payroll)"),
    (["who", "barn:/", "--format", "yaml"], "--format 'yaml' is none of table, csv"),
    (["who", "loft:/", "--office", "OFFICE"], "no system is called 'loft'"),
    (["who", "barn:/", "--as-of", "yesterday", "--office", "OFFICE"], "not a date: 'yesterday'"),
    (["who", "barn:/", "--as-of", "1999-01-01", "--office", "OFFICE"], "no count of 1999-01-01 or before"),
    (["who", "barn:/", "--office", "/nowhere"], "there is no office here"),
    (["reach", "nemo", "--office", "OFFICE"], "nobody is called 'nemo'"),
    (["reach", "ada", "--side", "plan", "--office", "OFFICE"], "the plan has no person 'ada'"),
    (["folders", "barn:/nowhere", "--office", "OFFICE"], "no folder or file of this name"),
    (["reach", "barn:/nowhere", "--office", "OFFICE"], "no folder of this name was counted"),
    (["changes", "--office", "OFFICE"], "no older count to compare with"),
    (["connect", "--office", "OFFICE", "barn=/"], "there is an office already"),
    (["connect", "--office", "X", "barn"], "connect wants a name and an address"),
    (["connect", "--office", "X", "barn=/nowhere"], "/nowhere: there is no folder"),
    (["connect", "--office", "X", "1=/"], "beginning with a letter"),
    (["connect", "--office", "X", "a=/usr", "a=/etc"], "two systems are called 'a'"),
    (["connect", "1", "smb://nowhere.office.example", "--office", "OFFICE"], "beginning with a letter"),
    (["connect", "--office", "X", "barn=/", "--passwd", "p"], "--passwd and --group go together"),
    (
        ["check", "--only", "no-such", "barn:/", "--accept", "x", "--office", "OFFICE", "--yes"],
        "there is no check 'no-such'",
    ),
]


@pytest.fixture(scope="module")
def small(tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("small")
    (folder / "tree" / "sub").mkdir(parents=True)
    for name, text in (("passwd", "ada:x:2001:3001:Ada:/:/bin/sh\n"), ("group", "staff:x:3001:\n")):
        (folder / name).write_text(text)
    words = [COMMAND, "connect", "--office", folder / "office", f"barn={folder / 'tree'}"]
    subprocess.run(
        [*words, "--passwd", folder / "passwd", "--group", folder / "group"], check=True, capture_output=True
    )
    subprocess.run([COMMAND, "count", "--office", folder / "office"], check=True, capture_output=True)
    return folder / "office"


@pytest.mark.parametrize(("words", "told"), WRONG, ids=range(len(WRONG)))
def test_a_wrong_call_is_answered_in_one_line(small: Path, tmp_path: Path, words, told, run) -> None:
    done = run(*[str(small) if word == "OFFICE" else word for word in words], status=2, cwd=tmp_path)
    assert told in done.stderr and done.stderr.count("\n") == 1 and done.stdout == "", done.stderr
    assert done.stderr.startswith("neatledger: ")


def test_every_command_speaks_csv_and_json(small: Path, run) -> None:
    calls = [
        "ledger",
        "people",
        "groups",
        "folders",
        "who barn:/",
        "reach ada",
        "why ada barn:/sub",
        "reach",
        "check --list",
        "check --fail-at high",
    ]
    for call in calls:
        rows = json.loads(run(*call.split(), "--format", "json", "--office", small).stdout)["rows"]
        read = list(csv.DictReader(io.StringIO(run(*call.split(), "--format", "csv", "--office", small).stdout)))
        assert len(rows) == len(read) > 0, call
        assert [list(row) for row in rows] == [list(row) for row in read], call
    env = {**os.environ, "NEATLEDGER_OFFICE": str(small)}
    assert subprocess.run([COMMAND, "ledger"], env=env, capture_output=True).returncode == 0
    assert run("ledger", cwd=small).stdout.startswith("1 count in ")


@pytest.mark.parametrize(
    "words",
    [
        "who barn:/Payroll",
        "space",
        "check -a",
        "people",
        "links",
        "ledger",
        "reach rook --level any",
        "expiring",
        "protect",
    ],
)
def test_any_answer_is_a_table_of_the_columns_of_csv_with_their_types(demo: Path, run, words: str) -> None:
    today = "2026-11-23"
    shown = run(*words.split(), "-f", "csv", "--today", today, "--office", demo, status=ANY).stdout
    rows = list(csv.DictReader(io.StringIO(shown)))
    table = frame(demo, *words.split(), today=date.fromisoformat(today))
    assert list(table.columns) == list(rows[0]) and len(table) == len(rows)
    for key in table.columns:
        cells = [row[key] for row in rows]
        numbers = [cell for cell in cells if cell and cell != "no limit"]
        if numbers and all(re.fullmatch("-?[0-9]+", cell) for cell in numbers) and key not in ("id", "fingerprint"):
            kind = str(table[key].dtype)
            assert kind in ("Int64", "boolean"), (key, kind)
            wanted = [{"": None, "no limit": -1}.get(cell, cell) for cell in cells]
            assert [None if cell is None else int(cell) for cell in wanted] == [
                None if value is pd.NA else int(value) for value in table[key].tolist()
            ], key
        elif cells[0] and all(re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", cell) for cell in cells if cell):
            assert table[key].dt.strftime("%Y-%m-%d").fillna("").tolist() == cells


def test_a_table_from_python_is_refused_as_the_command_is_and_changes_nothing(demo: Path) -> None:
    before = (demo / "office.yaml").read_bytes()
    for words, told in (
        (("whoo", "barn:/"), "did you mean who"), (("who", "barn:/Payrol"), "did you mean barn:/Payroll"),
        (("people", "brandt"), "brand"), (("mend", "--carry-out"), "is no question"), (("plan", "--write"), "is no question"),
        (("report", "office"), "is no question"), (("who", "barn:/", "--help"), "help is no table"),
    ):  # fmt: skip
        with pytest.raises(NeatError, match=told):
            frame(demo, *words)
    assert (demo / "office.yaml").read_bytes() == before


def test_the_examples_of_the_python_page_are_true(demo: Path, tmp_path: Path, monkeypatch) -> None:
    (tmp_path / "demo-office").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    page = Path(__file__).parent.parent / "docs" / "python.md"
    parser, runner = doctest.DocTestParser(), doctest.DocTestRunner()
    found = runner.run(parser.get_doctest(page.read_text(), {}, page.name, str(page), 0))
    assert found.attempted > 10 and not found.failed


@pytest.mark.parametrize(
    "words", ["space", "reach rook", "check", "changes", "who barn:/Rota", "report space -o FILE"]
)
def test_whatever_rests_on_a_count_says_what_was_not_seen(demo: Path, run, tmp_path: Path, words: str) -> None:
    told = run(*words.replace("FILE", f"{tmp_path}/x.html").split(), "--office", demo, status=ANY).stdout
    told += "".join(page.read_text() for page in tmp_path.glob("*.html"))
    ways = (
        "Not seen: 1 thing on barn (ledger --not-seen barn)",
        "1 thing on barn could not be read.",
        "Not known: all of what is on the main server.",
        "barn: one thing could",
    )
    assert any(words in told for words in ways)
