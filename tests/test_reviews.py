"""Reviews: what is decided is what happens and nothing else; whatever does not fit what was asked is told."""

from __future__ import annotations

import io
import json
import os
import random
import re
import shutil
import sqlite3
from collections import Counter
from dataclasses import replace
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.plan.plan import Kind, Person, Plan, PlanFolder, PlanGroup, PlanSystem
from neatledger.core.reviews.outcome import apply_edits, outcome_of
from neatledger.core.reviews.pack import CHANGEABLE, Choice, Decision, PackRow
from neatledger.core.tree.address import Address
from neatledger.formats.reviewbook import cells_of, read_answer, write_pack
from neatledger.formats.stepfiles import read_steps
from neatledger.questions import review, worklist
from neatledger.questions.deciding import steps_for
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import open_office
from step_offices import gathered, make_office, table_of

PEOPLE = {name: Person(name, name, Kind.STAFF) for name in ("ada", "bo", "cy")}
GROUPS = {"g": PlanGroup("g", ("ada", "bo")), "h": PlanGroup("h", ("bo", "cy"))}
FOLDERS = [Address("barn", path) for path in (b"/", b"/a", b"/a/b", b"/c")]
levels = st.sampled_from(CHANGEABLE)


@st.composite
def plans(draw) -> Plan:
    named = draw(st.lists(st.sampled_from(FOLDERS), unique=True))
    holders = st.sampled_from([*PEOPLE, *GROUPS, "everyone"])
    folders = tuple(
        PlanFolder(one, draw(st.dictionaries(holders, levels, max_size=3)), draw(st.booleans())) for one in named
    )
    return Plan("X", "", {"barn": PlanSystem("barn", "tree", {})}, PEOPLE, GROUPS, folders, (), (), {})


@st.composite
def decisions(draw) -> list[Decision]:
    pairs = draw(st.lists(st.tuples(st.sampled_from(FOLDERS), st.sampled_from([*PEOPLE, "nobody"])), unique=True))
    found = []
    for number, (folder, person) in enumerate(pairs):
        row = PackRow(f"{number}", folder, person, person, draw(st.sampled_from(list(Level))), "", "", "", Level.NONE)
        choice = draw(st.sampled_from(Choice))
        level = draw(levels) if choice is Choice.CHANGE else None
        found.append(Decision(row, choice, level, "ada", date(2026, 1, 1)))
    return found


@given(plans(), decisions())
def test_the_plan_says_afterwards_what_was_decided_and_of_others_what_it_said(
    plan: Plan, some: list[Decision]
) -> None:
    found = outcome_of(plan, some)
    then = apply_edits(plan, found.edits)
    by_hand = {id(one) for one, _ in found.by_hand}
    edited = {(one.folder, one.person) for one in found.edits}
    for one in some:
        rights, _ = then.rights_at(one.row.folder, one.row.person)
        if id(one) in by_hand:
            assert (one.row.folder, one.row.person) not in edited
        elif one.choice is Choice.KEEP:
            assert not LEVEL_RIGHTS[one.row.level] & ~rights
        else:
            # What was decided further up reaches down, unless here too something was decided.
            assert rights == LEVEL_RIGHTS[one.left]
    decided = {person for _, person in edited}
    for folder in FOLDERS:
        for person in PEOPLE:
            above = any(folder.is_within(place) for place, who in edited if who == person)
            if person not in decided or not above:
                assert then.rights_at(folder, person)[0] == plan.rights_at(folder, person)[0]
    assert all(why for _, why in found.by_hand) and outcome_of(then, some).edits == ()


def fill(path: Path, decide, name: str = "Vera Stone", day: str = "2026-11-24") -> Path:
    """Write decisions into a pack as its reader does: `decide` gives them of a row's cells by heading."""
    book = load_workbook(path)
    sheet = book["Review"]
    sheet["B4"], sheet["B5"] = name, day
    heads = [cell.value for cell in sheet[8]]
    for row in sheet.iter_rows(min_row=9):
        cells = dict(zip(heads, (cell.value for cell in row), strict=True))
        for head, value in decide(cells).items():
            row[heads.index(head)].value = value
    book.save(path)
    return path


@pytest.fixture
def office(made_demo, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made_demo, tmp_path / "office"))


@pytest.fixture
def ask(office: Path, run, tmp_path: Path):
    def _ask(*words: object, status: int | None = 0, today: str = "2026-11-24"):
        return run("review", *words, "--office", office, "--today", today, status=status)

    _ask("make", "-o", tmp_path / "packs", today="2026-11-23")
    return _ask


def decide(cells: dict) -> dict:
    match cells["FOLDER"], cells["NAME"]:
        case "Payroll (the main server)", "Una Ledgerwood (guest)":
            return {"DECISION": "remove"}
        case "Accounts (the second server)", "Abel Finch (account afinch, not in the plan)" | "Priya Quill":
            return {"DECISION": "Remove", "REMARK": "=1+1"}
        case "Accounts (the second server)", "Una Ledgerwood (guest)":
            return {"DECISION": "change", "CHANGE TO": "read"}
        case "Accounts (the second server)", "Owen Rook":
            return {}
        case _:
            return {"DECISION": "keep"}


def test_what_is_decided_goes_into_the_plan_the_record_and_the_steps(office: Path, ask, tmp_path: Path, run) -> None:
    pack = fill(next((tmp_path / "packs").glob("review stone*")), decide)
    before = (office / "office.yaml").read_text()
    shown = ask("take", pack).stdout
    assert "Beware" not in shown
    assert "Nothing is kept yet" in shown and (office / "office.yaml").read_text() == before
    asked = open_office(office, today=date(2026, 11, 24))
    found = review.take(asked, read_answer(pack.read_bytes(), "x"), cells_of)
    made = ask("take", pack, "--write").stdout
    assert "3 remove, 1 change; 1 row still open" in " ".join(made.split())
    text = (office / "office.yaml").read_text()
    assert "decides: stone # in reviews" in text and text != before
    plan = open_office(office, today=date(2026, 11, 24)).plan
    payroll, accounts = Address("barn", b"/Payroll"), Address("loft", b"/Accounts")
    assert plan.rights_at(payroll, "ledgerwood")[0] == Right.NONE
    assert plan.rights_at(accounts, "ledgerwood")[0] == LEVEL_RIGHTS[Level.READ]
    others = set(plan.people) - {"ledgerwood", *(one.person for one in found.outcome.edits)}
    for folder in (payroll, accounts):
        assert all(plan.rights_at(folder, one)[0] == asked.plan.rights_at(folder, one)[0] for one in others)
    assert not found.beside
    # Everybody who signs in may read one folder below: no step here keeps one of them out.
    ((who, why),) = found.by_hand
    assert who.row.person == "quill" and "below, on loft:/Accounts/For the bookkeeper" in why
    # The steps that follow bring exactly that about.
    then = imagined_office(asked, list(found.steps))
    then = then.with_(plan=plan)
    for one in found.decisions:
        was, now = (review.level_now(each, one.row) for each in (asked, then))
        if one.choice is Choice.KEEP:
            assert now is was, one
        else:
            assert not LEVEL_RIGHTS.get(now, Right.NONE) & ~(LEVEL_RIGHTS[one.left] | Right.ENTER | Right.DELETE), one
    assert "were taken before" in ask("take", pack, "--write").stdout
    standing = ask(status=None).stdout
    assert "1 of" in standing and "wait since 2026-11-23" in standing
    checked = run(
        "check", "--only", "decision-not-carried-out", "--today", "2026-11-24", "--office", office, status=1
    )
    assert "quill has read; Vera Stone decided on 2026-11-24: nothing" in " ".join(checked.stdout.split())
    changed = fill(pack, lambda cells: {"DECISION": "keep"} if cells["NAME"] == "Priya Quill" else {})
    assert "quill on loft:/Accounts: Vera Stone decided remove" in ask("take", changed, status=2).stderr


ALTERED = {
    "a changed cell": (lambda cells: {"MAY": "read"} if cells["MAY"] == "read and write" else {}, "MAY was 'read and write' and now is 'read'"),
    "a forged row": (lambda cells: {"ROW": "0123456789"} if cells["NAME"] == "Abel Finch" else {}, "was not in the pack"),
    "a row of another": (lambda cells: {"ROW": OTHERS[0]} if cells["NAME"] == "Abel Finch" else {}, "is of another pack"),
    "another person": (lambda cells: {"NAME": "Jonas Hale"} if cells["NAME"] == "Abel Finch" else {}, "NAME was 'Abel Finch'"),
    "no decision at all": (lambda cells: {"DECISION": "maybe"}, "'maybe' is no decision"),
    "a change to nothing": (lambda cells: {"DECISION": "change"}, "change to what?"),
    "a level too many": (lambda cells: {"DECISION": "keep", "CHANGE TO": "read"}, "without the decision to change"),
    "a row left out": (lambda cells: dict.fromkeys(cells, None) if cells["NAME"] == "Abel Finch" else {}, "rows are missing"),
}  # fmt: skip
OTHERS: list[str] = []


def test_whatever_does_not_fit_what_was_asked_is_told_and_nothing_is_kept(office: Path, ask, tmp_path: Path) -> None:
    pack = next((tmp_path / "packs").glob("review stone*"))
    other = load_workbook(next((tmp_path / "packs").glob("review thorne*")))["Review"]
    OTHERS[:] = [other.cell(9, other.max_column).value]
    kept = (office / "office.yaml").read_text(), open_office(office).ledger.reviews.head()
    for name, (alter, message) in ALTERED.items():
        copy = fill(Path(shutil.copy(pack, tmp_path / f"{name}.xlsx")), alter)
        told = ask("take", copy, "--write", status=2).stderr
        assert message in told and "Traceback" not in told, name
    for name, day, message in (
        ("", "2026-11-24", "nobody's name"),
        ("V", "soon", "write it as"),
        ("V", "", "no date"),
    ):
        copy = fill(Path(shutil.copy(pack, tmp_path / "blank.xlsx")), lambda cells: {}, name, day)
        assert message in ask("take", copy, "--write", status=2).stderr
    copy = fill(Path(shutil.copy(pack, tmp_path / "early.xlsx")), lambda cells: {}, day="2026-11-20")
    assert "is not between" in ask("take", copy, status=2).stderr
    (tmp_path / "no.xlsx").write_bytes(b"PK\x03\x04 no workbook")
    assert "not a workbook" in ask("take", tmp_path / "no.xlsx", status=2).stderr
    assert "cannot be read" in ask("take", tmp_path / "gone.xlsx", status=2).stderr
    ask("make", "stone", "-o", tmp_path / "anew")
    stale = fill(Path(shutil.copy(pack, tmp_path / "stale.xlsx")), decide)
    assert "was asked anew on 2026-11-24" in ask("take", stale, "--write", status=2).stderr
    assert (office / "office.yaml").read_text() == kept[0]
    assert [one for one in open_office(office).ledger.reviews.read()[1] if one.day == date(2026, 11, 24)] == []


@pytest.mark.parametrize("harm", ["UPDATE reviews SET facts = replace(facts, 'remove', 'keep')", "DELETE FROM reviews WHERE id = 1", "UPDATE reviews SET moment = '2026-01-01T00:00:00+00:00' WHERE id = 2"])  # fmt: skip
def test_a_record_that_was_altered_later_shows(office: Path, run, harm: str) -> None:
    ledger = sqlite3.connect(office / "ledger.db")
    with pytest.raises(sqlite3.Error, match="never altered"):
        ledger.execute(harm)
    for name in ("altered", "shortened"):
        ledger.execute(f"DROP TRIGGER reviews_never_{name}")
    ledger.execute(harm)
    ledger.commit()
    assert "the record of decisions was altered" in run("review", "--office", office, status=2).stderr


def test_a_pack_travels_as_a_workbook_and_comes_back_whole(office: Path) -> None:
    asked = open_office(office, today=date(2026, 11, 23))
    made = review.make(asked, ["stone"], asked.count.taken_at)[0].pack
    hostile = [replace(row, name="=1+1", by="@x\n<b>") for row in made.rows]
    data = write_pack(replace(made, rows=tuple(hostile)), "=X", "now", "=V")
    back = read_answer(data, "x")
    assert back.pack == made.id and [row.token for row in back.rows] == [row.token for row in hostile]
    assert [row.cells for row in back.rows] == [cells_of(row) for row in hostile]
    sheet = load_workbook(io.BytesIO(data))["Review"]
    assert all(cell.data_type != "f" for row in sheet.iter_rows() for cell in row)


def test_a_pack_that_was_given_out_before_with_other_headings_is_still_taken(
    office: Path, tmp_path: Path, ask
) -> None:
    asked = open_office(office, today=date(2026, 11, 24))
    pack = review.make(asked, ["stone"], asked.count.taken_at)[0].pack
    rows = tuple(
        replace(row, token=f"f{row.token[1:]}", place="", may="", may_planned="", beside="") for row in pack.rows
    )
    former = replace(pack, id="aaaa00001111", rows=rows)
    asked.ledger.reviews.add_packs([former], asked.count.taken_at)
    book = Workbook()
    book.active.title = "Review"
    heads = [
        "FOLDER",
        "PERSON",
        "NAME",
        "CAN",
        "BY",
        "SINCE",
        "LAST SIGN-IN",
        "THE PLAN SAYS",
        "LAST USED",
        "DECISION",
        "CHANGE TO",
        "REMARK",
        "ROW",
    ]
    for line in (["x"], ["x"], ["x"], ["Decided by:", ""], ["Date:", ""], ["Pack:", former.id], [], heads):
        book.active.append(line)
    for row in rows:
        planned = row.planned.value if row.planned.value != "none" else "nothing"
        cells = [
            str(row.folder),
            row.person,
            row.name,
            row.level.value,
            row.by,
            row.since,
            row.signed_in,
            planned,
            row.last_used,
        ]
        book.active.append([*cells, "", "", "", row.token])
    book.save(tmp_path / "former.xlsx")
    fill(tmp_path / "former.xlsx", lambda cells: {"DECISION": "remove" if cells["PERSON"] == "quill" else "keep"})
    taken = " ".join(ask("take", tmp_path / "former.xlsx", "--write").stdout.split())
    assert f"{len(rows) - 1} keep, 1 remove" in taken


def test_a_pack_says_how_many_are_beyond_the_plan_and_names_nobody_by_an_id(
    office: Path, ask, tmp_path: Path
) -> None:
    sheet = load_workbook(next((tmp_path / "packs").glob("review stone*")))["Review"]
    lines = [[cell or "" for cell in row] for row in sheet.iter_rows(values_only=True)]
    heads, rows = lines[7], [dict(zip(lines[7], line, strict=True)) for line in lines[8:]]
    plan = open_office(office, today=date(2026, 11, 23)).plan
    ids, systems = set(plan.people), set(plan.systems)
    assert "PERSON" not in heads and lines[0][0].endswith("who may stay? For Vera Stone")
    for row in rows:
        told = " ".join(row[head] for head in heads if head not in ("ROW", "THROUGH"))
        assert not ids & set(re.split(r"[^\w]", re.sub(r"\(account [^)]*\)", "", told))), told
        assert ":/" not in told and not any(word in told for word in ("mixed", "--x", "r-x", "S-1-"))
        assert row["FOLDER"].endswith(tuple(f"({plan.systems[name].title or name})" for name in systems))
    counts = Counter(row["BESIDE THE PLAN"] for row in rows)
    assert lines[1][0].startswith(f"{len(rows)} rows. {counts['more than planned']} have more than the plan says")
    # Recomputed from who may do what there: nobody in the plan's line of the folder has less, or more.
    for row in rows:
        has, meant = row["MAY"], row["PLANNED"]
        assert (has == meant) == (row["BESIDE THE PLAN"] == "as planned"), row
        assert (meant == "nothing") <= (row["BESIDE THE PLAN"] == "more than planned"), row
    assert [row["BESIDE THE PLAN"] for row in rows] == sorted(
        (row["BESIDE THE PLAN"] for row in rows), key=["more than planned", "less than planned", "as planned"].index
    )


@pytest.mark.judge
@pytest.mark.seeds(2)
def test_what_is_decided_is_what_happens_on_a_real_tree_and_nothing_else(seed: int, tmp_path: Path, run) -> None:
    """Random decisions on a hostile tree, carried out: everybody else has what they had, on every folder and file."""
    make_office(tmp_path, seed + 900, 12)
    rng = random.Random(seed)
    plan = (tmp_path / "office.yaml").read_text()
    people = "".join(
        f"  {name}: {{name: {name}, accounts: {{barn: {name}}}}}\n" for name in ("ada", "bo", "cy", "dee")
    )
    plan = re.sub(r"people: .*\n", f"people:\n{people}", plan)
    (tmp_path / "office.yaml").write_text(plan.replace("folders: {}", "folders: {'barn:/': {decides: ada}}"))
    office = gathered(tmp_path, run)
    before = table_of(office)
    run("review", "make", "-o", tmp_path / "packs", "--office", tmp_path)
    today = date.today().isoformat()

    def at_random(cells: dict) -> dict:
        choice = rng.choice(["keep", "keep", "remove", "change", None])
        return {"DECISION": choice, "CHANGE TO": rng.choice(["read", "list"]) if choice == "change" else None}

    pack = fill(next((tmp_path / "packs").glob("*.xlsx")), at_random, "Ada", today)
    found = review.take(office, read_answer(pack.read_bytes(), "x"), cells_of)
    assert found.decisions
    by_hand = {(one.row.person, one.row.folder) for one, _ in found.by_hand}
    beside = {(one.person, one.folder.path) for one in found.beside}
    done = run("review", "take", pack, "--write", "--steps", tmp_path / "steps", "--office", tmp_path, status=None)
    assert "are kept in the ledger" in done.stdout
    if found.steps:
        asked = ["mend", tmp_path / "steps", "--carry-out", "--office", tmp_path, "--quiet", "--yes", "--expect"]
        told = re.search(r"there are (\d+) steps", run(*asked, 0, status=2).stderr)
        if told is None or int(told[1]) != len(found.steps):
            pytest.skip("a step of these is not the tool's to make")
        run(*asked, told[1], status=None)
    after = table_of(gathered(tmp_path, run))
    overrides = office.readers["barn"].terms.model.overrides
    administrators = {one.account.login for one in office.principals["barn"] if overrides(one.holder) is not None}
    going = {(one.row.person, one.row.folder): one for one in found.decisions if one.choice is not Choice.KEEP}
    for key in before.keys() | after.keys():
        path, person = key[0], key[1].partition(" ")[2]
        mine = [
            one for (who, folder), one in going.items() if who == person and Address("barn", path).is_within(folder)
        ]
        # Of whoever may do everything anyhow no list decides.
        if not mine and (person, path) not in beside and person not in administrators:
            assert before.get(key) == after.get(key), (seed, key)
    now = open_office(tmp_path, today=date.today())
    for (person, folder), one in going.items():
        if (person, folder) not in by_hand:
            level = review.level_now(now, one.row)
            allowed = LEVEL_RIGHTS[one.left] | Right.ENTER | Right.DELETE
            assert not LEVEL_RIGHTS.get(level, Right.NONE) & ~allowed, (seed, person, folder)


@pytest.mark.judge
def test_what_a_review_took_away_is_not_given_back_by_the_plan(tmp_path: Path, run) -> None:
    """Somebody of a group that the plan names, and the owner of a file there: gone, told by mend, and gone it stays."""
    make_office(tmp_path, 3, 2)
    top = tmp_path / "tree" / "kept"
    top.mkdir(mode=0o770)
    os.chown(top, 0, 3005)
    top.chmod(0o2770)
    for name, owner in (("hers", 2001), ("his", 2002)):
        (top / name).write_text("x")
        os.chown(top / name, owner, 3005)
        (top / name).chmod(0o660)
    with (tmp_path / "group").open("a") as file:
        file.write("carers:x:3005:ada,bo\n")
    plan = {
        "office": "Test", "domain": "test.example",
        "systems": {"barn": {"source": "tree", "path": "tree", "may-change": True, "accounts": {"passwd": "passwd", "group": "group"}}},
        "people": {name: {"name": name, "accounts": {"barn": name}} for name in ("ada", "bo", "cy", "dee", "high")},
        "groups": {"carers": {"members": ["ada", "bo"]}},
        "folders": {"barn:/kept": {"decides": "high", "grants": {"carers": "write"}}},
    }  # fmt: skip
    (tmp_path / "office.yaml").write_text(json.dumps(plan))
    office = gathered(tmp_path, run)
    run("review", "make", "-o", tmp_path / "packs", "--office", tmp_path)

    def answer(cells: dict) -> dict:
        return {"DECISION": "remove" if "ada" in map(str, cells.values()) else "keep", "CHANGE TO": None}

    pack = fill(next((tmp_path / "packs").glob("*.xlsx")), answer, "High", date.today().isoformat())
    run("review", "take", pack, "--write", "--steps", tmp_path / "steps", "--office", tmp_path, status=None)
    run("mend", tmp_path / "steps", "--carry-out", "--yes", "--expect", len(read_steps(str(tmp_path / "steps"))), "--office", tmp_path, status=None)  # fmt: skip
    office = gathered(tmp_path, run)
    has = table_of(office)
    assert has[b"/kept", "share bo"][0] and not has[b"/kept", "share ada"][0]
    found = worklist.ask(office, Address("barn", b"/kept"))
    assert not any(one.person == "ada" and one.change.gains for item in found.items for one in item.effects)
    assert any(one.difference.person == "ada" and "a review took it away" in one.why for one in found.left)


@pytest.mark.parametrize("seed", range(3))
def test_what_is_decided_of_what_is_shared_happens_or_is_left_to_a_person(office: Path, seed: int) -> None:
    """Random decisions on team folders and homes of the service, as it would be afterwards."""
    text = (office / "office.yaml").read_text()
    text = text.replace(
        "folders:\n", "folders:\n  meadow:/Teams: {decides: hale}\n  meadow:/People: {decides: hale}\n", 1
    )
    (office / "office.yaml").write_text(text)
    asked, rng = open_office(office, today=date(2026, 11, 23)), random.Random(seed)
    pack = review.make(asked, ["hale"], asked.count.taken_at)[0].pack
    rows = [row for row in pack.rows if row.folder.system == "meadow"]
    assert len(rows) > 40
    decisions = []
    for row in rng.sample(rows, 25):
        choice = rng.choice(list(Choice))
        level = rng.choice([Level.LIST, Level.READ]) if choice is Choice.CHANGE else None
        decisions.append(Decision(row, choice, level, "Hale", date(2026, 11, 23)))
    made = steps_for(asked, decisions, pack.rows)
    beside = {(one.person, one.folder) for one in review._beside(asked, made.steps, decisions)}
    then = imagined_office(asked, list(made.steps))
    by_hand = {id(one) for one, _ in made.by_hand}
    going = {(one.row.person, one.row.folder): one for one in decisions if one.choice is not Choice.KEEP}
    assert made.by_hand and (made.steps or seed > 2) and all(why for _, why in made.by_hand)
    for row in rows:
        was, now = (review.level_now(each, row) for each in (asked, then))
        one = going.get((row.person, row.folder))
        if one is not None and id(one) not in by_hand:
            allowed = LEVEL_RIGHTS[one.left] | Right.ENTER | Right.DELETE | Right.VIEW
            assert not LEVEL_RIGHTS.get(now, Right.NONE) & ~allowed, (row, now)
        elif was is not now:
            is_below = any(who == row.person and row.folder.is_within(folder) for who, folder in going)
            assert (
                is_below
                or (row.person, row.folder) in beside
                or any(who == row.person and row.folder.is_within(folder) for who, folder in beside)
            ), (row, was, now)
