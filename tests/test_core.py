"""The plan, the patterns, the matching of homes, and the faces, each against a plainer way."""

from __future__ import annotations

import csv
import io
import itertools
import json
import re
from datetime import UTC, date, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger.core.access.differences import COMPARED, Difference, nearest_planned
from neatledger.core.checks.agreement import _Held, _judge
from neatledger.core.lists.nesting import expand_members, find_cycles
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.people.homes import HomeFolder, accounts_without_home, match_homes
from neatledger.core.people.membership import holders_of
from neatledger.core.plan.plan import Bound, Expectation
from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.patterns import match_folders, match_text
from neatledger.core.tree.table import Table
from neatledger.errors import LedgerError, NoCountError, PlanError, UsageError
from neatledger.faces.machine import WRITERS
from neatledger.faces.table import Layout, render_table, show_cell
from neatledger.faces.view import View, shape
from neatledger.formats.passwd import parse_group, parse_passwd, parse_shadow
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.packing import CHUNK_ROWS, BytesColumn, pack_column, unpack_numbers
from neatledger.office.read import parse_plan
from neatledger.reports.report import Column, Report, Show, count_of
from test_gather import gather

PEOPLE, GROUPS = ["ada", "bo", "cy"], ["g1", "g2", "g3"]
FOLDERS = ["barn:/", "barn:/a", "barn:/a/b", "barn:/a/b/c", "barn:/d"]
LEVELS = ["none", "list", "add-only", "read", "write", "manage"]


@st.composite
def plans(draw) -> dict:
    grants = st.dictionaries(
        st.sampled_from([*PEOPLE, *GROUPS, "everyone", "staff"]), st.sampled_from(LEVELS), max_size=3
    )
    folders = draw(
        st.dictionaries(st.sampled_from(FOLDERS), st.fixed_dictionaries({"grants": grants, "closed": st.booleans()}))
    )
    members = st.lists(st.sampled_from([*PEOPLE, *GROUPS]), unique=True, max_size=3)
    return {
        "office": "X",
        "systems": {"barn": {"source": "tree", "path": "x"}},
        "people": {person: {"kind": draw(st.sampled_from(["staff", "guest"]))} for person in PEOPLE},
        "groups": {group: {"members": draw(members)} for group in GROUPS},
        "folders": folders,
    }


@given(plans())
def test_what_the_plan_gives_is_what_walking_it_gives(value: dict) -> None:
    plan = parse_plan(json.dumps(value), "x")

    def is_in(person: str, group: str, seen: tuple[str, ...] = ()) -> bool:
        members = value["groups"][group]["members"]
        return person in members or any(
            is_in(person, m, (*seen, group)) for m in members if m in GROUPS and m not in seen and m != group
        )

    def holds(holder: str, person: str) -> bool:
        if holder == "staff":
            return value["people"][person]["kind"] == "staff"
        return holder in ("everyone", person) or (holder in GROUPS and is_in(person, holder))

    for address, person in itertools.product([*FOLDERS, "barn:/a/x/y"], PEOPLE):
        expected, path = Right.NONE, address
        while True:
            entry = value["folders"].get(path)
            if entry:
                for holder, level in entry["grants"].items():
                    expected |= LEVEL_RIGHTS[Level(level)] if holds(holder, person) else Right.NONE
                if entry["closed"]:
                    break
            if path == "barn:/":
                break
            path = path.rpartition("/")[0]
            path = "barn:/" if path == "barn:" else path
        where = Address("barn", address.partition(":")[2].encode())
        assert plan.rights_at(where, person)[0] == expected
        named = [f for f in value["folders"] if where.is_within(Address("barn", f[5:].encode()))]
        nearest = nearest_planned(plan, where)
        assert (nearest is None) == (not named)
        if nearest:
            assert nearest.address.path == max(
                (f[5:].encode() for f in named), key=lambda p: len(p.strip(b"/").split(b"/")) if p != b"/" else 0
            )


@given(
    st.dictionaries(st.sampled_from("abcde"), st.lists(st.sampled_from("abcde"), max_size=3, unique=True)), st.data()
)
def test_nested_groups_hold_whom_any_path_leads_to(nested, data) -> None:
    members = {group: {f"in-{group}"} for group in "abcde"}
    reach = {group: {group} for group in "abcde"}
    for _ in range(6):
        reach = {g: found.union(*(reach[i] for f in found for i in nested.get(f, ()))) for g, found in reach.items()}
    found = expand_members(members, nested)
    assert found == {group: {f"in-{inner}" for inner in inside} for group, inside in reach.items()}
    in_ring = {group for group in "abcde" if any(group in reach[inner] for inner in nested.get(group, ()))}
    rings = find_cycles(nested)
    assert {group for ring in rings for group in ring} <= in_ring
    assert bool(rings) == bool(in_ring)
    for ring in rings:
        assert all(ring[(n + 1) % len(ring)] in nested[group] for n, group in enumerate(ring)) and ring[0] == min(
            ring
        )


def tree_of(paths: list[bytes]) -> Table:
    """Folders for some paths and all above them."""
    every = sorted(
        {b"/".join(p.split(b"/")[:n]) for p in paths for n in range(1, p.count(b"/") + 2)} | {b""},
        key=lambda p: (p.count(b"/"), p.split(b"/")),
    )
    ids = {path: row for row, path in enumerate(every)}
    parent = [ids[path.rpartition(b"/")[0]] if path else -1 for path in every]
    children = [parent.count(row) for row in range(len(every))]
    firsts = [1 + sum(children[:row]) for row in range(len(every))]
    columns = {
        "name": [path.rpartition(b"/")[2] for path in every],
        "parent": np.array(parent),
        "first_child": np.array(firsts),
        "children": np.array(children),
    }
    return Table(columns, len(every))


names = st.sampled_from([b"a", b"b", b"ab", b"a b", b"x.y"])
steps = st.sampled_from([b"a", b"ab", b"*", b"a*", b"*b", b"**"])


@given(st.lists(st.lists(names, min_size=1, max_size=4), max_size=8), st.lists(steps, max_size=4))
def test_patterns_match_as_their_regular_expression(trees, pattern) -> None:
    table = tree_of([b"/" + b"/".join(path) for path in trees])
    whole = b"".join(
        b"(/[^/]+)*" if step == b"**" else b"/" + b"[^/]*".join(map(re.escape, step.split(b"*"))) for step in pattern
    )
    parent, own = table["parent"], table.texts("name")
    paths = []
    for row in range(table.rows):
        paths.append(b"" if row == 0 else paths[parent[row]] + b"/" + own[row])
    assert match_folders(b"/" + b"/".join(pattern), table) == [
        row for row, path in enumerate(paths) if re.fullmatch(whole, path)
    ]


@given(st.text("ab*[]?.", max_size=6), st.text("ab[]?.", max_size=6))
def test_only_the_star_is_special_in_accepted_places(pattern: str, text: str) -> None:
    assert match_text(pattern, pattern.replace("*", text))
    assert "*" in pattern or match_text(pattern, text) == (pattern == text)


LETTERS = {
    Level.NONE: "",
    Level.LIST: "l",
    Level.ADD_ONLY: "a",
    Level.READ: "lr",
    Level.WRITE: "lra",
    Level.MANAGE: "lram",
}
BITS = {"l": Right.LIST, "r": Right.READ, "a": Right.ADD, "m": Right.MANAGE}


@given(
    st.sampled_from(Bound), st.sampled_from(list(LETTERS)), st.sets(st.sampled_from("lram")), st.booleans(),
    st.integers(0, 3), st.integers(0, 3), st.integers(0, 3),
)  # fmt: skip
def test_expectations_are_judged_by_rights_and_files(bound, level, letters, is_named, files, read, change) -> None:
    read, change = min(read, files), min(change, files)
    rights = Right.ENTER
    for letter in letters:
        rights |= BITS[letter]
    expectation = Expectation("x", "barn", b"/", bound, level, ("ada",))
    broken = bool(_judge(expectation, _Held(rights, files, read, change), is_named))
    allowed = set(LETTERS[level])
    beyond = letters - allowed or (change and "a" not in allowed) or (change and level is Level.ADD_ONLY and False)
    reads_files = read and "r" not in allowed
    beyond = bool(beyond or (change and level in (Level.NONE, Level.LIST, Level.READ, Level.ADD_ONLY)) or reads_files)
    lacking = bool(allowed - letters) or ("r" in allowed and read < files)
    if bound is Bound.AT_MOST:
        assert broken == (is_named and beyond)
    elif bound is Bound.AT_LEAST or is_named:
        assert broken == (is_named and lacking)
    else:
        has = allowed <= letters or (level is Level.READ and read > 0)
        assert broken == (level is not Level.NONE and has)


@given(st.integers(0, 1023), st.integers(0, 1023))
def test_a_difference_is_what_is_missing_and_what_is_beyond(planned: int, found: int) -> None:
    difference = Difference("ada", Address("barn", b"/"), Right(planned), Right(found))
    assert difference.missing == Right(planned & ~found) & COMPARED
    assert not difference.beyond & (difference.missing | Right.MANAGE | Right(planned))
    assert bool(difference) == (difference.spell() != "as planned")


ACCOUNTS = [
    Account("tom", "1001", "1"),
    Account("TOM", "1002", "1"),
    Account("1003", "1004", "1"),
    Account("eve", "1003", "1"),
    Account("kit", "1005", "1"),
    Account("kitty", "1005", "1"),
    Account("Ann", "1006", "1"),
]


@pytest.mark.parametrize(
    ("name", "owner", "logins", "because"),
    [
        ("tom", "1001", ["tom"], "named as the login"),
        ("1002", "1002", ["TOM"], "named as the account's number"),
        ("1003", "0", ["1003", "eve"], "the login of one and the number of another"),
        ("1005", "1005", ["kit", "kitty"], "several accounts have this number"),
        ("Tom", "1001", ["tom", "TOM"], "several logins differ from this in case only"),
        ("ann", "7", ["Ann"], "named as the login but for case"),
        ("old", "1001", [], "owned by tom"),
        ("gone", "4242", [], "owned by 4242, which no account has"),
    ],
)
def test_homes_are_matched_and_never_guessed(name, owner, logins, because) -> None:
    (match,) = match_homes([HomeFolder(Address("barn", f"/Homes/{name}".encode()), owner)], ACCOUNTS)
    assert ([account.login for account in match.accounts], match.because) == (logins, because)
    assert {account.login for account in accounts_without_home([match], ACCOUNTS)} == {
        a.login for a in ACCOUNTS
    } - set(logins)


def test_account_files_with_faults() -> None:
    accounts, faults = parse_passwd(
        "a:x:1:2:A,room 1:/a:/bin/sh\n#b\n\nbroken\na:x:9:9::/:/\nc:x:-1:2:::\nd:x:5000000000:2:::\n", "passwd"
    )
    assert [(a.login, a.ident, a.primary, a.name) for a in accounts] == [("a", "1", "2", "A")]
    assert [fault.where for fault in faults] == ["passwd:4", "passwd:6", "passwd:7"]
    _, faults = parse_passwd("a:$6$secret:x:1:::\nonly:$6$secret\n", "p")
    _, more = parse_group("g:$6$secret:z:\n", "g")
    assert len(faults + more) == 3 and "secret" not in str(faults + more)
    groups, faults = parse_group("g:x:007:a,b\nh:x:8:\nbad:x:y:\nh:x:9:a\n", "group")
    assert [(g.name, g.ident, g.members) for g in groups] == [
        ("g", "7", ("a", "b")),
        ("h", "8", ()),
        ("h", "9", ("a",)),
    ]
    assert len(faults) == 1
    (holder,) = holders_of(accounts, groups)
    assert holder.groups == {"2", "7", "9"}
    states, faults = parse_shadow(
        "a:!secret:1::::::\nb:x:1:::::20000:\nc:x:1:::::99999:\nbad\n", "shadow", date(2026, 1, 1)
    )
    assert states == {"b": AccountState.EXPIRED} and "secret" not in str(faults)


@given(
    st.lists(st.integers(-(2**31), 2**31 - 1), max_size=40),
    st.lists(st.binary(max_size=9), max_size=40),
    st.integers(1, 7),
)
def test_packed_columns_come_back(numbers, strings, chunk) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("neatledger.ledger.packing.CHUNK_ROWS", chunk)
        packed = pack_column(np.array(numbers, dtype="i4"), "i4")
        assert [number for data in packed for number in unpack_numbers(data, "i4", "x")] == numbers
        column = BytesColumn(pack_column(strings, "bytes"), "x")
        assert list(column) == strings == [column[place] for place in range(len(column))]
    assert CHUNK_ROWS > 1000
    with pytest.raises(LedgerError, match="damaged"):
        unpack_numbers(b"not zlib", "i4", "folders.list")


def test_the_ledger_finds_the_count_of_a_day_and_knows_its_version(tmp_path: Path) -> None:
    (tmp_path / "tree").mkdir()
    survey = gather(tmp_path / "tree", tmp_path)
    with pytest.raises(NoCountError):
        open_ledger(tmp_path / "ledger.db")
    ledger = open_ledger(tmp_path / "ledger.db", create=True)
    days = [datetime(2026, month, 1, 12, tzinfo=UTC) for month in (3, 1, 2)]
    numbers = [ledger.add_count([survey], day, "test") for day in days]
    assert ledger.find_count().id == numbers[0]
    assert ledger.find_count(date(2026, 2, 27)).id == numbers[2]
    with pytest.raises(NoCountError, match="or before"):
        ledger.find_count(date(2025, 12, 31))
    reader = ledger.read_survey(ledger.find_count().surveys[0])
    assert reader.accounts == survey.accounts and reader.groups == survey.groups
    folders = reader.table("folders").columns
    assert all(list(folders[name]) == list(survey.folders.columns[name]) for name in COLUMNS["folders"])
    ledger._db.execute("PRAGMA user_version = 99")
    ledger.close()
    with pytest.raises(LedgerError, match="newer version"):
        open_ledger(tmp_path / "ledger.db")


def test_a_table_is_shown_as_it_is_asked_for() -> None:
    columns = (Column("who", "PERSON"), Column("used_bytes", "USED", number=True), Column("id", "", Show.MACHINE))
    rows = [{"who": who, "used_bytes": used, "id": f"i{used}"} for who, used in (("bo", 3), ("Al", None), ("cy", 20))]
    report = Report("x", "All.", columns, rows)

    def shown(*words: object, for_machines: bool = False) -> list[tuple]:
        found = shape(report, View(*words), for_machines=for_machines)
        keys = [one.key for one in found.columns]
        return [tuple(row[key] for key in keys) for row in (found.rows if for_machines else found.shown)]

    assert shown(("used",)) == [(3,), (None,), (20,)] and shown(("ID", "person")) == [
        ("i3", "bo"),
        ("iNone", "Al"),
        ("i20", "cy"),
    ]
    assert [row[0] for row in shown(("who",), ("used",))] == ["cy", "bo", "Al"]
    assert [row[0] for row in shown(("who",), ("used:up",), 2)] == ["bo", "cy"]
    assert [row[0] for row in shown(("who",), ("person",))] == ["Al", "bo", "cy"]
    assert (
        shown(("id",), (), 1, for_machines=True) == [("i3",)] and shape(report, View(), for_machines=False) is report
    )
    with pytest.raises(UsageError, match="no column 'usd'"):
        shown(("usd",))
    with pytest.raises(UsageError, match="not a way to sort"):
        shown((), ("used:sideways",))


cells = (
    st.none()
    | st.booleans()
    | st.integers(0, 10**9)
    | st.text(max_size=30)
    | st.binary(max_size=20)
    | st.builds(lambda path: Address("barn", b"/" + path), st.binary(max_size=20))
    | st.lists(st.text(max_size=8), max_size=3).map(tuple)
)


@given(st.lists(st.tuples(cells, cells, cells), max_size=6), st.sampled_from([0, 40, 80, 120]))
def test_every_face_shows_every_cell_on_its_line(rows, width) -> None:
    columns = [
        Column("first", "FIRST", cuts=True),
        Column("second", "SECOND", cuts=True),
        Column("third", "THIRD", number=True),
    ]
    report = Report("x", "All.", columns, [{"first": one, "second": two, "third": three} for one, two, three in rows])
    text = render_table(report, Layout(width))
    # A name that is too long for its column goes over lines.
    lines = len(text.splitlines())
    shown = sum(any(map(show_cell, row)) for row in rows)
    assert (width and lines >= shown) or lines == (3 + len(rows) if rows else 3)
    assert "\x1b" not in text and all(line == line.rstrip() for line in text.split("\n"))
    read = list(csv.reader(io.StringIO(WRITERS["csv"].whole(report))))
    assert read[0] == ["first", "second", "third"] and len(read) == 1 + len(rows)
    found = json.loads(WRITERS["json"].whole(report))
    assert [list(row) for row in found["rows"]] == [["first", "second", "third"]] * len(rows)
    for row, shown in zip(rows, found["rows"], strict=True):
        for cell, value in zip(row, shown.values(), strict=True):
            assert value == cell or isinstance(cell, bytes | str | Address | tuple)


def test_nouns_and_numbers() -> None:
    assert [count_of(n, w) for n, w in ((1, "person"), (2, "person"), (0, "file"), (1200, "folder"))] == [
        "1 person", "2 people", "0 files", "1,200 folders"
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("office: [", "YAML"),
        ("office: x\noffice: y\n", "for the second time"),
        ("? [a]\n: b\n", "a key that is no word"),
        ("a: &x {b: *x}\n", "an alias inside"),
        ("office: x\nsystems: {barn: {source: tree}}\n", "without `path`"),
        ("office: x\nsystems: {barn: {source: tree, path: 1}}\n", "found 1; expected a text"),
        ("- a\n", "expected a mapping"),
        ("", "expected a mapping"),
        (
            "office: x\nsystems: {barn: {source: tree, path: x}}\nexpectations: [{folder: 'barn:/', at-most: read, exactly: read, holders: [staff]}]\n",
            "exactly one of",
        ),
        (
            "office: x\nsystems: {barn: {source: tree, path: x}}\npeople: {a: {accounts: {barn: tom}}, b: {accounts: {barn: tom}}}\n",
            "which a has",
        ),
        (
            "office: x\nsystems: {barn: {source: tree, path: x}}\npeople: {a: {start: 2026-02-01, end: 2026-01-01}}\n",
            "an end before the start",
        ),
        ("office: x\nsystems: {barn: {source: tree, path: x}}\npeople: {staff: {}}\n", "named as a class"),
    ],
)
def test_plans_that_will_not_do_say_why(text: str, told: str) -> None:
    with pytest.raises(PlanError, match=re.escape(told)):
        parse_plan(text, "office.yaml")


@given(
    st.text(max_size=80) | st.from_regex(r"(office|systems|people): *(\[|\{|[a-z]+|&a|\*a|\n  - )?", fullmatch=True)
)
def test_reading_a_plan_is_total(text: str) -> None:
    try:
        parse_plan(text, "office.yaml")
    except PlanError as error:
        assert error.faults and all(str(fault).startswith("office.yaml") for fault in error.faults)


def test_groups_of_one_name_and_nested_ones() -> None:
    accounts = [Account("a", "1", "10"), Account("b", "2", "10")]
    groups = [
        Group("inner", "11", ("a",)),
        Group("outer", "12", ("b",), ("inner",)),
        Group("ring", "13", (), ("ring", "outer")),
    ]
    assert [sorted(holder.groups) for holder in holders_of(accounts, groups)] == [
        ["10", "11", "12", "13"],
        ["10", "12", "13"],
    ]
