"""Two people beside each other, who can do the most, the brief, and names that forgive: on the sample office."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Callable
from contextlib import suppress
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger import cli
from neatledger.commandtable import COMMANDS, EXAMPLES
from neatledger.core.lists.rights import parse_rights
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.survey.accounts import AccountState
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import UnknownNameError
from neatledger.formats.nearest import nearest, one_of
from neatledger.ledger.locations import find_location
from neatledger.questions.beside import changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office, open_office

TODAY = ("--today", "2026-11-23")
ASKED: dict[tuple, str] = {}


@pytest.fixture
def rows(demo: Path, run) -> Callable[..., list[dict]]:
    def ask(*words: object) -> list[dict]:
        # Nothing here changes the office: what was asked once need not be asked again.
        key = demo, words
        if key not in ASKED:
            ASKED[key] = run(*words, "--format", "json", "--office", demo, *TODAY, status=None).stdout
        return json.loads(ASKED[key])["rows"]

    return ask


def united(rows: list[dict], *people: str) -> dict[str, dict[str, dict]]:
    """Return folder → person → their row of all ways together (or the only one), as `access` has them."""
    found: dict[str, dict[str, dict]] = {}
    for row in rows:
        if row["person"] in people:
            mine = found.setdefault(row["folder"], {})
            if row["way"] == "any" or row["person"] not in mine:
                mine[row["person"]] = row
    return found


@pytest.mark.parametrize("pair", [("croft", "quill"), ("thistle", "hale"), ("una", "kestrel")])
def test_two_people_differ_where_their_own_tables_do(rows, pair: tuple[str, str]) -> None:
    """Every folder on which the whole table has other rights for one of them is in one row, and no other is."""
    one, other = (rows("reach", name)[0]["person"] for name in pair)
    table = united(rows("reach", "--all"), one, other)
    told = ("enter", "list", "read", "add", "manage", "delete", "files_read", "files_change", "files_delete")

    def given(person: str, folder: str) -> tuple:
        row = table[folder].get(person)
        return tuple(row[name] or 0 for name in told) if row else (0,) * len(told)

    differing = {folder for folder in table if given(one, folder) != given(other, folder)}
    found = rows("reach", one, "--compare", other)
    assert found and {row["folder"] for row in found} <= differing
    assert sum(row["folders"] for row in found) >= len(differing)
    for row in found:
        for side, person in (("left", one), ("right", other)):
            mine = table[row["folder"]].get(person)
            assert row[side] == (mine["level"] if mine else "none"), (row, person)
        # What gives it is named where the folder is what they differ on, and not its files alone.
        assert row["by"] or "unknown" in (row["left"], row["right"]) or row["with_files"], row
    mirrored = {
        (row["folder"], row["right"], row["left"], row["folders"]) for row in rows("reach", other, "--compare", one)
    }
    assert mirrored == {(row["folder"], row["left"], row["right"], row["folders"]) for row in found}


def test_who_loses_by_an_account_or_a_hand_out_is_everybody_who_does(demo: Path) -> None:
    """What somebody handed on ends with them, folders and single files: asked of each person in each place."""
    office = open_office(demo, today=date(2026, 11, 23))
    service = office.systems.service("meadow")
    shared = service.shared
    files = {one.path for one in (*shared.links, *shared.hand_outs) if one.is_file}
    folders = office.readers["meadow"].table("folders")
    places = {*map(folder_paths(folders), range(folders.rows)), *files}

    def answers(side: Office) -> set[tuple[str, bytes, str, str]]:
        found = set()
        for path in places:
            with suppress(UnknownNameError):
                where = find_location(side.readers["meadow"], Address("meadow", path))
                for person, principals in side.people_on("meadow").items():
                    access = side.systems.access(where, principals)
                    found |= {(person, path, str(access.rights), str(access.file_rights))}
        return found

    before = answers(office)
    chosen = [one for one in shared.hand_outs if one.is_file or one.passed_from or one.id in ("h2", "h9")]
    steps: list[Step] = [HandOutStep("meadow", one, None) for one in chosen]
    givers = {one.giver for one in chosen} & {one.login for one in office.readers["meadow"].accounts}
    states = {one.login: one.state for one in office.readers["meadow"].accounts}
    steps += [
        AccountStep("meadow", login, states[login], AccountState.DISABLED)
        for login in sorted(givers)
        if states[login] is AccountState.OPEN
    ]
    seen = set()
    for step in steps:
        after = imagined_office(office, [step])
        expected = {person for person, *_ in before ^ answers(after)}
        assert {one.change.person for one in changes_between(office, after)} == expected, step
        seen |= {(type(step), len(expected))}
    assert (AccountStep, 3) in seen and (HandOutStep, 0) in seen and (HandOutStep, 1) in seen


def test_somebody_is_as_they_were_where_nothing_changed(rows, demo: Path, run) -> None:
    assert not rows("reach", "quill", "--compare", "quill")
    since = rows("changes", "thistle", "--since", "2026-06-01")
    changes = [
        row for row in rows("changes", "--only", "access", "--since", "2026-06-01") if row["person"] == "thistle"
    ]
    wide = {row["folder"] for row in since}
    assert since and {row["folder"] for row in changes if row["folder"].startswith("barn:")} <= wide
    done = run("reach", "quill", "--compare", "--office", demo, *TODAY, status=2)
    assert "--compare: expected one argument" in done.stderr


@pytest.mark.parametrize(
    "asked", [("thistle", "barn:/Payroll"), ("moss", "barn:/Records/2026"), ("una", "barn:/Rota")]
)
def test_the_history_is_what_each_count_says(demo: Path, rows, asked: tuple[str, str]) -> None:
    """What stands for every day is what `who` answers of that day; and each change has a cause that is told."""
    name, folder = asked
    found = rows("changes", name, folder)
    person = rows("reach", name)[0]["person"]
    days = sorted({count.day.isoformat() for count in open_office(demo).ledger.counts()})
    for day in days[::6] + days[-1:]:
        told = [row["level"] for row in found if row["by_day"] <= day][-1]
        mine = [row for row in rows("who", folder, "--as-of", day) if row["person"] == person]
        level = next((row["level"] for row in mine if row["way"] == "any"), mine[0]["level"] if mine else "none")
        assert told == level, day
    assert all(row["causes"] for row in found) and "something" not in str(found)
    if name == "thistle":
        assert [row["level"] for row in found] == ["write", "none"] and "left payroll" in found[1]["causes"]


def test_since_when_each_has_what_they_have_is_what_their_history_says(rows) -> None:
    for folder in ("barn:/Payroll", "meadow:/Teams/Partners"):
        for row in rows("who", folder, "-c", "+since", "--all")[::4]:
            if row["way"] == "any":
                continue
            found = rows("changes", row["person"], folder)
            changes = [one for one in found if one["rights"] or one["level"] == "none"]
            rights = [one["rights"] for one in changes]
            first = next((n for n in range(len(rights) - 1, 0, -1) if rights[n] != rights[n - 1]), 0)
            if row["since"]:
                assert changes[first]["by_day"] in row["since"], (folder, row["person"])
            else:
                assert changes[-1]["level"] == "none", (folder, row["person"])


@pytest.mark.parametrize(
    ("by", "column"), [("change", "files_change"), ("read", "files_read"), ("delete", "files_delete")]
)
def test_who_can_do_the_most_adds_up_what_they_can_do(rows, by: str, column: str) -> None:
    found = {row["person"]: row for row in rows("reach", "--most", by)}
    table = united(rows("reach", "--all"), *found)
    for person, row in found.items():
        cells = [mine[person][column] for mine in table.values() if person in mine]
        assert row["files"] == sum(cell for cell in cells if cell and cell > 0), person
    sizes = [row[f"{by}_bytes"] for row in found.values()]
    assert sizes == sorted(sizes, reverse=True) and sizes[0] > 0
    assert any("vets" in row["through"] for row in found.values())


def test_a_brief_has_every_part_and_says_of_what_it_is(rows, demo: Path, run, monkeypatch) -> None:
    found = rows("brief")
    parts = {row["part"] for row in found}
    assert {"gravest", "lapses in a week", "fills up", "waits", "not seen"} <= parts
    causes = list(dict.fromkeys(row["cause"] for row in rows("check") if not row["accepted"]))
    assert {row["where"] for row in found if row["part"] == "gravest"} == set(causes)
    gone = {row["cause"] for row in rows("check", "--gone")}
    assert {row["where"] for row in found if row["part"] == "gone"} == gone
    monkeypatch.setenv("COLUMNS", "80")
    screen = run("brief", "--office", demo, *TODAY, status=None).stdout
    assert len(screen.splitlines()) <= 80 and all(len(line) <= 80 for line in screen.splitlines())


def test_names_are_found_however_they_are_written(demo: Path, run) -> None:
    office = open_office(demo)
    quill = office.find_person("quill").id
    for name in ("QUILL", "quill@pellowmere.example", "Quill@Pellowmere.example", "barn:pquill", "pquill"):
        assert office.find_person(name).id == quill, name
    for text in ("BARN:/payroll", "barn:/Payroll/", "payroll", "Payroll"):
        assert str(office.address(text)) == "barn:/Payroll", text
    assert str(office.address("records/2026/insurance")) == "barn:/Records/2026/Insurance"
    for words, told in (
        ("who barn:/Payrol", "did you mean barn:/Payroll?"),
        ("who bran:/Rota", "did you mean barn?"),
        ("reach hael", "did you mean hale"),
        ("check --only no-ends", "did you mean no-end"),
        ("chek", "did you mean check?"),
        ("who 2026", "several folders end in '2026' (say which: barn:/Imaging/2026"),
    ):
        more = [] if words == "chek" else ["--office", demo]
        error = run(*shlex.split(words), *more, status=2).stderr
        assert told in error and error.count("\n") == 1, (words, error)


@given(st.text(max_size=8), st.lists(st.text(max_size=8), max_size=6))
def test_a_word_stands_for_itself_or_for_the_only_one_in_another_case(word: str, known: list[str]) -> None:
    found = one_of(word, known)
    assert found is None or (found in known and found.casefold() == word.casefold())
    assert found == word if word in known else True
    assert set(nearest(word, known)) <= set(known)


def test_the_first_help_is_a_map_on_one_screen(run) -> None:
    text = run("--help").stdout
    assert len(text.splitlines()) <= 25 and all(len(line) <= 80 for line in text.splitlines())
    assert set(COMMANDS) <= set(re.findall(r"[a-z]+", text))
    assert all(name in run("--all").stdout for name in COMMANDS)
    assert list(EXAMPLES) and set(EXAMPLES) == set(COMMANDS)
    for name, examples in EXAMPLES.items():
        assert len(examples) > 1
        helped = run(name, "--help").stdout
        assert all(len(line) <= 80 for line in helped.splitlines()) and examples[0] in helped
        for example in examples:
            # Only options that it takes.
            words = shlex.split(re.split(r" [>|]", example)[0])[1:]
            cli.make_parser(name).parse_args(words)


def test_rights_that_only_one_has_are_words_that_are_read_again(rows) -> None:
    for row in rows("reach", "croft", "--compare", "quill"):
        for cell in (row["only_left"], row["only_right"]):
            assert cell == "nothing" or parse_rights(cell)


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("neatledger expi", {"expiring"}),
        ("neatledger who barn:/Pa", {"barn:/Payroll"}),
        ("neatledger who barn:/Records/2026/In", {"barn:/Records/2026/Insurance"}),
        ("neatledger reach qui", {"quill"}),
        ("neatledger check --only no-e", {"no-email", "no-end"}),
        ("neatledger check --si", {"--since"}),
        ("neatledger nonsense x", set()),
    ],
)
def test_a_shell_is_told_what_a_word_may_become(demo: Path, start, tmp_path: Path, line: str, told: set[str]) -> None:
    out = tmp_path / "out"
    env = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "COMP_TYPE": "9"}
    env |= {"_ARGCOMPLETE_STDOUT_FILENAME": str(out), "_ARGCOMPLETE_IFS": "\n", "NEATLEDGER_OFFICE": str(demo)}
    env |= {"_ARGCOMPLETE_SUPPRESS_SPACE": "1", "_ARGCOMPLETE_COMP_WORDBREAKS": " "}
    start(env=env)
    found = set(out.read_text().split("\n")) - {""} if out.exists() else set()
    assert {one.replace("\\", "") for one in found} == told


def test_the_manual_page_is_one_that_man_reads(run) -> None:
    page = run("help", "--manual").stdout
    assert all(f".SS {name}\n" in page for name in COMMANDS) and "\\-\\-carry\\-out" in page
    told = run("help", "--completion", "bash").stdout
    assert "neatledger" in told and "COMP" in told


def test_somebody_new_like_another_has_what_groups_give_and_no_more(rows, demo: Path, run) -> None:
    lacking = {(row["folder"], row["left"], row["right"]) for row in rows("suppose", "--like", "thistle")}
    homes = {("barn:/Homes/tthistle", "manage", "none"), ("barn:/Homes/ssedge", "read", "none")}
    # In the last they may read the same folder, and change a file there that is their own.
    assert lacking == {
        *homes,
        ("loft:/Surgery/Student notes", "read", "none"),
        ("barn:/Records/2026/Student cases", "write", "write"),
    }
    # What is not lacking comes by groups: somebody in them alone has it.
    told = run("suppose", "--like", "thistle", "--office", demo, *TODAY).stdout
    assert "barn: staff, students" in told and "meadow has team folders" in told
