"""What people see and type: short addresses that can be typed again, tables within the terminal, one last line."""

from __future__ import annotations

import contextlib
import html
import io
import json
import re
import shlex
import shutil
from datetime import date
from pathlib import Path

import pytest
from wcwidth import wcswidth

from conftest import ANY
from neatledger.cli import main
from neatledger.commandtable import COMMANDS, OLD_NAMES
from neatledger.core.space.sizes import show_size
from neatledger.errors import UnknownNameError
from neatledger.faces.table import Layout, render_table
from neatledger.formats.names import show_address
from neatledger.questions import open_office
from neatledger.questions.short_addresses import ELLIPSES
from neatledger.reports.report import Column, Report
from neatledger.words import GLOSSARY, OUT

NAMES = (
    "2026", "Drop", "drop", "From the old system", "a\tb", "c\nd", "e\\n", "…", "...", "漢字の書類", "תיקייה", "🙂", "e\u0301",
    "n" * 255, " x ", "100%", "%41", "\udcff\udcfe",
)  # fmt: skip
"""Names of folders: alike, with what is not printable, wide, from right to left, combining, and no text at all."""


@pytest.fixture(scope="module")
def hard_office(tmp_path_factory) -> Path:
    """An office whose tree has every name within every other, and some deeper."""
    folder = tmp_path_factory.mktemp("hard")
    tree = folder / "tree"
    for outer in NAMES:
        if outer in ELLIPSES:
            continue
        for inner in NAMES:
            (tree / outer / inner).mkdir(parents=True)
    (tree / "2026" / "Drop" / "drop" / "Only here").mkdir(parents=True)
    (tree / "Drop" / "2026" / "Only here" / "deeper").mkdir(parents=True)
    (tree / "2026" / "Drop" / "drop" / "Only here" / "letter.txt").touch()
    (folder / "office.yaml").write_text("office: Hard\nsystems: {barn: {source: tree, path: tree}}\n")
    assert main(["count", "--quiet", "--office", str(folder)]) == 0
    return folder


def test_every_short_address_can_be_typed_again_and_means_what_it_stands_for(hard_office: Path) -> None:
    office = open_office(hard_office, today=date(2026, 11, 23))
    reader = office.reader("barn")
    rows = reader.table("folders").rows
    paths = {reader.path_of(row) for row in range(rows)}
    addresses = [office.address(show_address(type(office.address("barn:/"))("barn", path))) for path in paths]
    assert {one.path for one in addresses} == paths, "every folder is found as it is shown"
    short = office.shortened(addresses)
    for address, text in short.items():
        assert office.address(text) == address, text
        assert office.address(text.replace("/…/", "/.../", 1)) == address, text
        names = text.split("/…/", 1)[1].split("/") if text != show_address(address) else []
        if len(names) > 1:
            # No fewer names would do: with one less, more than one folder ends so, or none can be told from it.
            fewer = address.path.split(b"/")[-len(names) + 1 :]
            assert sum(path.split(b"/")[-len(fewer) :] == fewer for path in paths) > 1, text
    deep = office.address("barn:/2026/Drop/drop/Only here/letter.txt")
    assert office.shortened([deep])[deep] == "barn:/…/drop/Only here/letter.txt"
    assert office.address("…/drop/Only here/letter.txt") == deep
    with pytest.raises(UnknownNameError, match=r"several folders end in '…/Only here' \(say which: barn:/"):
        office.address("…/Only here")
    with pytest.raises(UnknownNameError, match="no folder's address ends in"):
        office.address("barn:/…/Nowhere at all")


@pytest.mark.parametrize("width", [80, 100, 120, 200])
def test_hard_names_stay_within_the_terminal(hard_office: Path, run, monkeypatch, width: int) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    lines = run("folders", "-a", "--office", hard_office, status=None).stdout.splitlines()
    assert len(lines) > len(NAMES) and max(map(wcswidth, lines)) <= width and min(map(wcswidth, lines)) >= 0
    monkeypatch.delenv("COLUMNS")
    whole = run("folders", "-a", "--office", hard_office, status=None).stdout
    assert "barn:/…" not in whole and f"barn:/{'n' * 255}/{'n' * 255}" in whole


def test_columns_that_lack_room_are_counted_and_empty_ones_left_out() -> None:
    columns = [
        Column("who", "WHO"), Column("why", "WHY", wraps=True), Column("file", "FILE", cuts=True, spare=True),
        Column("none", "NONE"), Column("size", "SIZE", number=True),
    ]  # fmt: skip
    rows = [{"who": "ada", "why": "because " * 6, "file": "x" * 40, "none": "", "size": 1_234_567}] * 2
    wide, narrow = (render_table(Report("x", "All.", columns, rows), Layout(width)) for width in (120, 50))
    assert "FILE" in wide and "NONE" not in wide and "more: -w" not in wide
    assert "FILE" not in narrow and "1 column more: -w" in narrow and "1,234,567" in narrow


FIRST = (
    "brief", "check", "check 1", "who barn:/Payroll", "why thistle barn:/Payroll", "space", "mend",
    "suppose --member payroll=thistle", "protect", "trail --unusual", "people thistle", "draft",
)  # fmt: skip
"""The first screens, each within a terminal of 24 lines with its prompt; and the bare command."""
MORE = (
    "groups", "people", "folders", "links", "people --guests", "devices", "expiring", "reach thistle", "space --promised",
    "limits", "space --forecast", "space --by version", "space --by kind", "unused", "trail", "plan thistle",
    "reach --most change", "changes thistle barn:/Payroll", "reach thorne --compare stone", "suppose --close moss",
    "how barn:/Policies nurses=write", "ledger", "ledger --verify", "mend A", "mend --left", "review",
    "leave hale --last-day 2026-12-31 --successor fenn", "move croft --post desk --start 2026-12-14",
    "join 'Hugo Larke' --post nurse --start 2026-12-07", "folders barn:/Records --new-item", "changes --since 2026-06-01",
    "space barn:/Homes/tthistle thistle", "protect barn:/Payroll", "people --match", "groups --suggest", "notices",
)  # fmt: skip
TODAY = "2026-11-23"
PRIVATE = re.compile(r"(?<![-\w/])(?:" + "|".join(map(re.escape, OUT)) + r")s?(?![-\w/])", re.IGNORECASE)
_THINGS = "accounts|bands|checks|columns|counts|days|disks|events|files|findings|folders|groups|limits|links|people|places|problems|rows|steps|systems|things"
WRONG_NUMBERS = re.compile(rf"(?<![\d,.×-])1 (?:{_THINGS})\b(?! a )")
"""A number with its noun in the other form."""


@pytest.fixture(scope="module")
def screens(made_demo: Path, tmp_path_factory) -> dict[str, str]:
    """What every command says of the sample office on a terminal of eighty columns."""
    office = tmp_path_factory.mktemp("screens") / "office"
    shutil.copytree(made_demo, office)
    found = {}
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("COLUMNS", "80")
        patch.setenv("NO_COLOR", "1")
        for call in (*FIRST, *MORE):
            out = io.StringIO()
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
                assert main([*shlex.split(call), "--office", str(office), "--today", TODAY]) in (0, 1), call
            found[call] = out.getvalue()
    return found


def test_words_are_explained_by_an_example_from_the_office_that_is_here(demo: Path, run, tmp_path: Path) -> None:
    day = ("--office", demo, "--today", "2026-11-23")
    examples = {word: run("help", word, *day).stdout.replace("\n", " ").partition("Here: ")[2] for word in GLOSSARY}
    assert sum(map(bool, examples.values())) >= 25
    pool = next(row for row in json.loads(run("space", "-f", "json", *day).stdout)["rows"] if row["on"] == "pool")
    assert f"of which {show_size(pool['used_bytes'])} is used, on disk {pool['place']}" in examples["blocks"]
    assert (
        "iso, mkv, mp4 files in barn:/Homes" in examples["not allowed"]
        and "thistle takes over from sedge" in examples["successor"]
    )
    assert "on barn could not be read" in examples["unknown"]
    # Where the office has none of it, or there is no office, nothing is made up.
    (tmp_path / "tree").mkdir()
    (tmp_path / "office.yaml").write_text("office: Empty\nsystems: {files: {source: tree, path: tree}}\n")
    for word in ("band", "link", "post", "successor", "unknown", "count", "guest", "licence"):
        told = run("help", word, "--office", tmp_path).stdout
        assert GLOSSARY[word][:40] in told.replace("\n", " ") and "Here:" not in told
        assert "Here:" not in run("help", word, cwd="/").stdout
    assert run("help", "drop").stdout.startswith("drop is now: add-only\nadd-only: ")


def test_no_screen_has_a_private_word_and_none_is_wider_than_the_terminal(screens: dict[str, str]) -> None:
    for call, text in screens.items():
        assert max(map(wcswidth, text.splitlines())) <= 80, call
        plain = " ".join(line.strip() for line in text.splitlines())
        assert not PRIVATE.findall(plain), (call, PRIVATE.findall(plain))
        assert not WRONG_NUMBERS.findall(plain), (call, WRONG_NUMBERS.findall(plain))


@pytest.mark.parametrize("call", FIRST)
def test_a_first_screen_is_one_screen_and_ends_with_what_was_counted(screens: dict[str, str], call: str) -> None:
    lines = screens[call].splitlines()
    most = {"check 1": 27, "draft": 30, "suppose --member payroll=thistle": 23}
    assert len(lines) <= most.get(call, 23), screens[call]
    assert (
        lines[-1].startswith(("Counted ", "The figures")) and sum(line.startswith("Counted ") for line in lines) <= 1
    )


def test_the_figures_of_headlines_are_those_of_the_rows(demo: Path, run, screens: dict[str, str]) -> None:
    def rows(*words: str) -> list[dict]:
        asked = [*words, "--format", "json", "--office", demo, "--today", TODAY]
        return json.loads(run(*asked, status=None).stdout)["rows"]

    found = rows("check")
    causes = {(row["cause"], row["exposure"]) for row in found if not row["accepted"]}
    number = int(re.match(r"(\d+) problems", screens["check"])[1])
    # One place may stand for two problems: its list, and its space.
    assert len(causes) <= number <= len(causes) + 5
    assert f"of {number} problems" in screens["brief"]
    people = {
        row["person"]: row for row in rows("who", "barn:/Payroll") if row["way"] == "any" or row["level"] != "none"
    }
    reaching = sum(row["level"] != "none" for row in people.values())
    assert screens["who barn:/Payroll"].startswith(
        f"{reaching} of {len({row['person'] for row in rows('who', 'barn:/Payroll')})} people"
    )
    places = [row for row in rows("protect") if row["wanted"]]
    weak = [row for row in places if row["state"] in ("unprotected", "weaker")]
    bare = sum(row["state"] == "unprotected" for row in weak)
    assert screens["protect"].startswith(f"{len(weak)} of {len(places)} places")
    assert f"{bare} of them have no backup" in screens["protect"]
    signs = rows("trail", "--unusual")
    assert screens["trail --unusual"].startswith(f"{len(signs)} unusual events")
    full = [row for row in rows("space") if row["state"].startswith(("over", "full"))]
    assert f"{len(full)} places over the limit" in " ".join(screens["space"].split())


def test_old_names_and_options_say_what_they_are_now(run) -> None:
    for name, now in OLD_NAMES.items():
        said = run(name, "x", status=2).stderr
        assert said == f"neatledger: {name} is now: neatledger {now}\n" and name not in COMMANDS
    for words, now in (
        ("trail --odd", "--unusual"),
        ("check --below x", "without an option"),
        ("count --to x", "--export"),
    ):
        said = run(*words.split(), status=2).stderr
        assert said.count("\n") == 1 and now in said, said
    for word in (*GLOSSARY, *OUT):
        assert run("help", word).stdout.strip()
    assert "did you mean" in run("help", "bnad", status=2).stderr


def test_the_page_of_who_decides_names_people_and_steps_and_no_command(run, made_demo: Path, tmp_path: Path) -> None:
    office = tmp_path / "o"
    shutil.copytree(made_demo, office)

    def front() -> str:
        run("report", "office", "-o", tmp_path / "x.html", "--office", office, "--today", TODAY)
        page = html.unescape((tmp_path / "x.html").read_text())
        page = page[page.index("<header>") : page.index('<h2 class="appendix">')]
        return re.sub(r"\s*\n\s*", "\n", re.sub(r"<[^>]+>", "\n", page)).strip()

    lines = front().splitlines()
    people = open_office(office).plan.people
    names = {one.name for one in people.values()} | {"You"}
    asked = [line for line in lines if re.match(r"\d  ", line)]
    assert 5 <= len(asked) <= 7 and lines[0].startswith("Pellowmere Veterinary Practice: ")
    for line in asked:
        # When, what is so, then a person by name and a step.
        assert re.match(r"\d  (Today|This week|This month)\. [A-Z].*[.] ", line), line
        assert any(f". {name}: " in line for name in names), line
    logins = "|".join(map(re.escape, people))
    for line in lines:
        assert not re.search(rf" -{{1,2}}[a-z]|:/|\b[0-9a-f]{{16}}\b|neatledger|\b(?:{logins})\b", line), line
    assert "the main server" in lines[-1]
    # Nobody judges what they did themselves; of somebody who has left nothing is asked.
    assert not any(line.count("Zoe Kestrel") == 2 for line in asked)
    link = next(line for line in asked if "open link" in line)
    plan = (office / "office.yaml").read_text()
    maker = re.search(r"(?m)^  quill: .*Priya Quill.*", plan)[0]
    assert "Priya Quill: " in link
    (office / "office.yaml").write_text(plan.replace(maker, maker.replace("posts:", "end: 2026-10-01, posts:")))
    assert "Anyone with an open link can change files in For Hollin. Zoe Kestrel: " in front()


EMPTY = (
    "brief", "check", "who files:/", "space", "mend", "protect", "trail --unusual", "draft", "groups", "people", "folders", "links",
    "people --guests", "devices", "expiring", "space --promised", "limits", "space --forecast", "space --by version",
    "space --by kind", "unused", "trail", "reach --most change", "ledger", "ledger --verify", "ledger --not-seen files", "review",
    "people --match", "groups --suggest", "notices", "plan", "changes", "reach", "reach --level read", "mend --log", "mend --undo",
    "why root files:/", "suppose --close root", "people root", "reach root", "leave root --last-day 2026-12-31", "connect --test",
)  # fmt: skip


def test_a_small_office_with_nothing_in_it_is_spoken_of_in_the_same_words(tmp_path: Path, monkeypatch, run) -> None:
    (tmp_path / "tree").mkdir()
    (tmp_path / "passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (tmp_path / "group").write_text("root:x:0:\n")
    (tmp_path / "office.yaml").write_text(
        "office: Small\nsystems: {files: {source: tree, path: tree, accounts: {passwd: passwd, group: group}}}\n"
    )
    monkeypatch.setenv("COLUMNS", "80")
    said = {"uncounted": run("brief", "--office", tmp_path, status=ANY)}
    said["count"] = run("count", "--office", tmp_path)
    said |= {call: run(*call.split(), "--office", tmp_path, status=ANY) for call in EMPTY}
    said |= {f"help {name}": run("help", name) for name in (*COMMANDS, "options")}
    for call, done in said.items():
        text = done.stdout + done.stderr
        assert text.strip() and "Traceback" not in text and "fault of the program" not in text, call
        assert done.returncode != 2 or (done.stderr.count("\n") == 1 and not done.stdout), (call, text)
        assert max(map(wcswidth, done.stdout.splitlines()), default=0) <= 80, call
        plain = " ".join(line.strip() for line in text.splitlines())
        assert not PRIVATE.findall(plain), (call, PRIVATE.findall(plain))
        assert not WRONG_NUMBERS.findall(plain), (call, WRONG_NUMBERS.findall(plain))


def _lead_of(run, office: Path, about: str, target: Path) -> list[str]:
    run("report", about, "-o", target, "--office", office, "--today", TODAY)
    page = html.unescape(target.read_text())
    page = page[page.index("<header>") : page.index("<nav")]
    return [line for line in re.sub(r"\s*\n\s*", "\n", re.sub(r"<[^>]+>", "\n", page)).strip().splitlines() if line]


def test_the_paper_on_space_begins_with_what_to_do_and_says_it_of_what_is_so(
    run, made_demo: Path, tmp_path: Path
) -> None:
    office = Path(shutil.copytree(made_demo, tmp_path / "o"))
    lines = _lead_of(run, office, "space", tmp_path / "x.html")
    rows = json.loads(run("space", "-a", "-f", "json", "--office", office, "--today", TODAY).stdout)["rows"]
    asked = [line for line in lines if re.match(r"\d  (Act|Watch|Room)\. ", line)]
    over = [row for row in rows if row["state"].startswith("over") and row["found_bytes"] != "no limit"]
    ultrasound = next(row for row in over if row["place"].endswith("Ultrasound"))
    size = show_size(ultrasound["used_bytes"] - ultrasound["found_bytes"])
    days = re.search(r"(\d+) days left", ultrasound["state"])[1]
    assert any(f"Act. Ultrasound is over its limit by {size}; {days} days until nothing" in line for line in asked)
    assert any("Act. Payroll: the system allows 0 B; the plan has no limit." in line for line in asked)
    home = next(row for row in rows if row["place"] == "barn:/Homes/jhale")
    assert any(f"Watch. The home of Jonas Hale is {home['percent']} % full." in line for line in asked)
    assert [line.split()[1] for line in asked] == sorted(
        (line.split()[1] for line in asked), key=["Act.", "Watch.", "Room."].index
    )
    for line in lines:
        assert not re.search(r" -{1,2}[a-z]|:/|neatledger|\bjhale\b", line), line
    # The days are over; the limit blocks; it only warns: the sentence says another thing each time.
    limits, plan = office / "barn.limits.csv", (office / "office.yaml").read_text()
    text = limits.read_text()
    for rule, told in (
        ("enforced,", "is over its limit by {}: nothing more can be saved there."),
        ("watched,", "is over its limit by {}; saving goes on, for it only warns."),
        ("watched,1", "is over its limit by {}; nothing more can be saved there."),
    ):
        limits.write_text(re.sub(r"(Ultrasound,30 MB),watched,14", rf"\1,{rule}", text))
        (office / "office.yaml").write_text(plan.replace("rule: watched, grace-days: 14, ", ""))
        run("count", "barn", "--office", office, "--today", TODAY, status=None)
        assert f"Ultrasound {told.format(size)}" in " ".join(_lead_of(run, office, "space", tmp_path / "x.html")), (
            rule
        )


def test_the_paper_on_access_begins_with_decisions_and_names_nobody_by_an_account(
    run, demo: Path, tmp_path: Path
) -> None:
    lines = _lead_of(run, demo, "access", tmp_path / "x.html")
    assert lines[0].startswith("Pellowmere Veterinary Practice: who can do what, 23 November 2026")
    asked = [line for line in lines if re.match(r"\d  (Today|This week|This month)\. ", line)]
    names = {person.name for person in open_office(demo).plan.people.values()} | {"You"}
    assert 3 <= len(asked) <= 5 and all(any(f". {name}: " in line for name in names) for line in asked)
    accounts = json.loads(run("people", "--accounts", "-f", "json", "--office", demo, "--today", TODAY).stdout)[
        "rows"
    ]
    people = json.loads(run("people", "-a", "-f", "json", "--office", demo, "--today", TODAY).stdout)["rows"]
    services = {row["person"] for row in people if row["kind"] == "service" and row["accounts"]}
    assert any(f"{len(services)} service accounts" in line for line in lines)
    logins = "|".join(re.escape(row["login"]) for row in accounts if len(row["login"]) > 4)
    for line in lines:
        assert not re.search(rf" -{{1,2}}[a-z]|:/|neatledger|\b(?:{logins})\b", line), line
