"""The commands on space: on the sample office, on exports and servers of others, in tables, pages and workbooks."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import textwrap
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from html.parser import HTMLParser
from pathlib import Path

import pytest
from openpyxl import load_workbook
from PIL import Image
from wsgidav.fs_dav_provider import FilesystemProvider, FolderResource

from judges import dav
from neatledger.core.lists.table import MODELS
from neatledger.core.plan.limits import On
from neatledger.core.plan.space import SpaceRules
from neatledger.core.space.sizes import UNITS
from neatledger.core.steps.owners import owner_steps
from neatledger.errors import SourceError
from neatledger.ledger.imagined import ImaginedReader, imagine
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import open_office
from neatledger.sources.davfigures import parse_figures

UMASK = os.umask(0o022)
os.umask(UMASK)


@pytest.fixture
def ask(demo: Path, run):
    """Ask the sample office on the last day of its story; rows come as CSV."""

    def _ask(*words: object, status: int | None = 0) -> list[dict[str, str]]:
        done = run(*words, "--format", "csv", "--today", "2026-11-23", "--office", demo, status=status)
        return list(csv.DictReader(io.StringIO(done.stdout)))

    return _ask


def test_the_sample_office_has_forty_weeks_and_an_example_of_everything(demo: Path, ask, run) -> None:
    counts = ask("ledger")
    assert len({row["count"] for row in counts}) == 40 if "count" in counts[0] else len(counts) >= 40
    lines = {row["place"]: row for row in ask("space")}
    assert lines["barn:/Imaging"]["planned_rule"] == "enforced" and lines["barn:/Imaging"]["found_rule"] == "watched"
    assert lines["barn:/Payroll"]["planned_bytes"] == "no limit" and lines["barn:/Payroll"]["found_bytes"] == "0"
    assert (lines["barn:/Homes/hlark"]["planned_bytes"], lines["barn:/Homes/hlark"]["found_bytes"]) == (
        "2000000",
        "2097152",
    )
    assert lines["barn:/Homes/pquill"]["differs"] == "4 MB (band: 2 MB)"
    assert lines["barn:/Imaging/Ultrasound"]["state"].startswith("over, ")
    pool = lines["barn"]
    assert pool["state"] == "past 90 %" and int(pool["left_bytes"]) == 110_000_000 - int(pool["used_bytes"])
    fullness = [int(row["percent"]) if row["percent"] else -1 for row in lines.values()]
    assert fullness[2:] == sorted(fullness[2:], reverse=True), "the fullest first"
    table = run("space", "--office", demo, "--today", "2026-11-23").stdout
    assert "disk barn" in table and "FREE FIRST" in table and "only warns; plan: blocks" in table


@pytest.mark.parametrize("place", ["barn:/", "loft:/", None])
def test_every_breakdown_adds_up_to_what_it_breaks_down(ask, place: str | None) -> None:
    for by in ("folder", "owner", "group", "kind", "sort") if place else ("owner", "system"):
        rows = ask("space", *([place] if place else []), "--by", by)
        whole = next(row for row in rows if row["part"] == "in all")
        for figure in ("files", "apparent_bytes", "occupied_bytes"):
            parts = sum(int(row[figure]) for row in rows if row["part"] != "in all")
            assert parts == int(whole[figure]) or (by == "group" and not parts), (place, by, figure)


def test_every_folder_is_its_own_and_those_in_it(ask, run, demo: Path) -> None:
    figures = ("files", "apparent_bytes", "occupied_bytes")
    whole = next(row for row in ask("space", "barn:/", "--by", "owner") if row["part"] == "in all")
    for by in ("folder", "owner", "kind", "group"):
        rows = ask("space", "barn:/", "--depth", "all", "--by", by)
        sums = {(row["folder"], row.get(by) if by != "folder" else ""): row for row in rows}
        for figure in figures:
            top = sum(int(row[figure]) for row in rows if row["folder"] == "barn:/")
            assert top == sum(int(row[f"own_{figure}"]) for row in rows) == int(whole[figure]), (by, figure)
        for (folder, key), row in sums.items():
            below = [
                int(each["occupied_bytes"])
                for (other, word), each in sums.items()
                if word == key and other.rpartition("/")[0].rstrip("/") == folder.rstrip("/") and other != folder
            ]
            assert int(row["occupied_bytes"]) == int(row["own_occupied_bytes"]) + sum(below), (folder, key)
    told = json.loads(run("space", "barn:/Homes", "--depth", "all", "--format", "json", "--office", demo).stdout)
    assert told["rows"][0]["folder"] == "barn:/Homes" and len(told["rows"]) == 26
    assert "OWN OCCUPIED" in run("space", "barn:/Homes", "--depth", "all", "--office", demo).stdout
    run("space", "--depth", "all", "--office", demo, status=2)


def test_the_plans_side_and_what_is_promised(ask) -> None:
    planned = {row["place"]: row for row in ask("space", "--side", "plan")}
    assert planned["barn:/Imaging"]["found_bytes"] == "" and planned["barn:/Homes/nwren"]["state"] == "fine"
    assert int(planned["barn:/Homes/nwren"]["left_bytes"]) < 2_000_000
    found, meant = (
        next(row for row in ask("space", "--promised", "--side", side) if row["pool"] == "barn")
        for side in ("found", "plan")
    )
    # One home has a thousand times what was meant; the plan's own promises are too many all the same.
    assert int(found["promised_bytes"]) > 2_000_000_000 > int(meant["promised_bytes"]) > int(meant["size_bytes"])
    assert int(meant["beyond_bytes"]) == int(meant["promised_bytes"]) - 110_000_000


def test_a_person_and_single_files_are_shown(ask, run, demo: Path) -> None:
    (mine,) = (row for row in ask("space", "rook") if row["place"].startswith("barn"))
    owners = {row["part"]: row for row in ask("space", "barn:/", "--by", "owner")}
    assert mine["used_bytes"] == owners["rook"]["occupied_bytes"]
    (film,) = ask("space", "barn:/Homes", "--by", "file")
    assert (film["part"], film["apparent_bytes"]) == ("barn:/Homes/jhale/Holiday.mp4", "9300000")
    assert "no folder of this name" in run("space", "barn:/none", "--office", demo, status=2).stderr
    assert "one system" in run("space", "barn:/", "--by", "system", "--office", demo, status=2).stderr


def test_room_explains_what_stops_first_and_what_next(ask, run, demo: Path) -> None:
    rows = ask("space", "rook", "barn:/Imaging/Ultrasound")
    stopping = [row for row in rows if row["stops"] == "yes"]
    assert [row["what"] for row in stopping] == ["pool barn", "entitlement basic"]
    assert rows[0]["room_bytes"] == rows[0]["left_bytes"] == min((row["left_bytes"] for row in stopping), key=int)
    told = run("space", "rook", "barn:/Imaging/Ultrasound", "--office", demo, "--today", "2026-11-23").stdout
    assert "disk barn blocks first" in told and "entitlement basic would stop next, after" in told
    shut = ask("space", "thistle", "barn:/Imaging")
    assert (shut[0]["what"], shut[0]["left_bytes"]) == ("access", "0")
    home = run("space", "Jonas Hale", "barn:/Homes/jhale", "--office", demo, "--today", "2026-11-23").stdout
    assert "Not allowed here: iso, mkv, mp4." in home and "larger than 50 MB" in home


def test_bands_are_listed_previewed_and_written_with_comments_kept(demo: Path, run, tmp_path: Path) -> None:
    office = tmp_path / "office"
    shutil.copytree(demo, office)
    before = (office / "office.yaml").read_text()
    words = (
        "limits",
        "home",
        "--limit",
        "600 kB",
        "--bring-back",
        "barn:/Homes/pquill",
        "--office",
        office,
        "--today",
        "2026-11-23",
    )
    told = run(*words).stdout
    assert "Nothing is changed yet" in told and (office / "office.yaml").read_text() == before
    assert "kept: holds more" in told and "exception, brought back" in told and "disk barn: promised" in told
    rows = list(csv.DictReader(io.StringIO(run(*words, "--write", "--format", "csv").stdout)))
    after = (office / "office.yaml").read_text()
    assert [line for line in before.splitlines() if "#" in line] == [
        line for line in after.splitlines() if "#" in line
    ]
    lines = {
        row["place"]: row
        for row in csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", office).stdout))
    }
    for row in rows:
        assert lines[row["place"]]["planned_bytes"] == row["after_bytes"], row
        below = int(row["used_bytes"]) > int(row["after_bytes"])
        assert not below, "no limit falls below what is used"
    once = (office / "office.yaml").read_text()
    run(*words[:2], "--limit", "600 kB", "--office", office, "--today", "2026-11-23", "--write")
    assert (office / "office.yaml").read_text() == once
    run("limits", "none", "--office", office, status=2)
    run("limits", "home", "--limit", "600 KB", "--office", office, status=2)
    run("limits", "home", "--warn", "80:nemo", "--office", office, status=2)
    run("limits", "--limit", "1 GB", "--office", office, status=2)


def test_a_forecast_tells_dates_breaks_and_what_it_does_not_know(ask, run, demo: Path, tmp_path: Path) -> None:
    rows = {(row["place"], row["level"]): row for row in ask("space", "--forecast")}
    limit = rows["pool barn", "limit"]
    assert limit["meets"] == "on" and limit["earliest"] <= limit["meets_on"] <= limit["latest"]
    assert rows["pool barn", "90 %"]["meets"] == "already" and int(limit["counts"]) == 40
    assert "at once by 2026-05-18" in limit["breaks"] and "at once by 2026-08-17" in limit["breaks"]
    assert (
        int(limit["weekly_growth_low_bytes"])
        < int(limit["weekly_growth_bytes"])
        < int(limit["weekly_growth_high_bytes"])
    )
    early = run("space", "--forecast", "barn", "--as-of", "2026-03-31", "--format", "csv", "--office", demo).stdout
    assert "not enough history" in early
    figure = tmp_path / "growth.png"
    run("space", "--forecast", "barn", "-o", figure, "--office", demo)
    words = _description(figure)
    assert words.startswith("barn: ") and "at once by 2026-05-18" in words
    assert "png, svg, pdf" in run("space", "--forecast", "barn", "-o", "x.gif", "--office", demo, status=2).stderr
    run("space", "barn:/Imaging", "-o", tmp_path / "use.svg", "--office", demo)
    assert "Ultrasound" in (tmp_path / "use.svg").read_text()


def _description(path: Path) -> str:
    """Return the description that a PNG carries."""
    with Image.open(path) as image:
        return str(image.text["Description"])


def test_what_is_supposed_stands_beside_today(ask, run, demo: Path) -> None:
    rows = {
        (row["what"], row["place"]): row
        for row in ask(
            "suppose", "--limit", "barn=150 MB", "--limit", "barn:/Rota=2 MB", "--space-left", "rook", "barn:/Imaging"
        )
    }
    assert (rows["limit", "pool barn"]["today"], rows["limit", "pool barn"]["then"]) == ("110 MB", "150 MB")
    assert rows["limit", "barn:/Rota"]["today"] == rows["limit", "barn:/Rota"]["today_bytes"] == "no limit"
    assert (rows["limit", "pool barn"]["today_bytes"], rows["limit", "pool barn"]["then_bytes"]) == (
        "110000000",
        "150000000",
    )
    room = rows["room", "rook in barn:/Imaging"]
    assert int(room["today_bytes"]) < int(room["then_bytes"])
    assert rows["full", "pool barn"]["today"] < rows["full", "pool barn"]["then"]
    assert "entitlement basic" in rows["room", "rook in barn:/Imaging"]["then"]
    moved = {
        (row["what"], row["place"]): row
        for row in ask("suppose", "--relocate", "barn:/Imaging=attic", "--limit", "attic=500 MB")
    }
    imaging = next(row for row in ask("space", "barn:/", "--by", "folder") if row["part"] == "Imaging")
    assert _bytes(moved["used", "pool barn"]["change"]) == pytest.approx(-int(imaging["occupied_bytes"]), rel=0.01)
    assert moved["promised", "pool attic"]["then"].endswith("of 500 MB")
    joined = ask("suppose", "--newcomers", "barn=2")
    assert sum(row["change"] == "new" for row in joined) == 4
    kept = run("suppose", "--versions", "barn=0", "--office", demo).stdout
    assert "would free" in kept and "Nothing was changed" in kept
    band = ask("suppose", "--band", "home=3 MB")
    assert {row["then"] for row in band if row["what"] == "limit"} == {"3 MB"}
    for words in (
        ("--limit", "barn:/none=1 MB"),
        ("--band", "none=1 MB"),
        ("--versions", "barn=few"),
        ("--relocate", "barn"),
        (),
    ):
        run("suppose", *words, "--office", demo, status=2)


def _bytes(text: str) -> float:
    number, unit = text.split(" ")
    return float(number.replace(",", "")) * UNITS[unit]


def test_versions_kept_otherwise_change_the_pools_and_folders_where_they_lie(run, tmp_path: Path) -> None:
    (tmp_path / "t/a/.old").mkdir(parents=True)
    (tmp_path / "t/b/.old").mkdir(parents=True)
    for name, size in (
        ("a/x.odt", 4096),
        ("a/.old/x 1.odt", 40960),
        ("b/y.tif", 8192),
        ("b/.old/y 1.tif", 81920),
        ("b/.old/y 2.odt", 20480),
    ):
        (tmp_path / "t" / name).write_bytes(b"v" * size)
    text = """
    office: X
    systems: {barn: {source: tree, path: t, accounts: machine, space: {versions: ["/**/.old"], counted: [versions], keep-versions: 2}}}
    pools: {disk: {holds: ["barn:/"], size: 1 MB}, attic: {holds: ["barn:/b"], size: 1 MB}}
    limits: {folders: {"barn:/a": {limit: 100 kB}, "barn:/b": {limit: 200 kB}, "barn:/b/.old": {limit: 200 kB}}}
    """
    (tmp_path / "office.yaml").write_text(textwrap.dedent(text))
    run("count", "--office", tmp_path)

    def used() -> dict[str, int]:
        told = json.loads(run("suppose", "--versions", "barn=0", "--format", "json", "--office", tmp_path).stdout)[
            "rows"
        ]
        return {row["place"]: row["today_bytes"] - row["then_bytes"] for row in told if row["what"] == "used"}

    # All that is kept goes: where it lies, in the pool that it lies in.
    assert used() == {
        "barn:/a": 40960,
        "barn:/b": 102400,
        "barn:/b/.old": 102400,
        "pool disk": 40960,
        "pool attic": 102400,
        "person barn:root": 143360,
    }
    (tmp_path / "office.yaml").write_text(textwrap.dedent(text).replace("counted: [versions], ", ""))
    assert used().keys() == {"pool disk", "pool attic"}, "what is kept beside the files counts in pools alone"


def test_barred_kinds_of_any_length_are_found_and_ends_of_sentences_are_none(run, tmp_path: Path) -> None:
    (tmp_path / "t").mkdir()
    names = {"a.Configuration": "configuration", "b.photo-library_2026": "photo-library_2026", "c.Entwürfe123456": "entwürfe123456",
             "Letter to Mr. Smith from Rook": "", "d.tar.gz": "gz", "e.x,S=4711:2,": "", "f.S=1:2,S": "s=1:2,s", ".bashconfiguration": "", "g.": ""}  # fmt: skip
    for name in names:
        (tmp_path / "t" / name).write_bytes(b"k" * 100)
    barred = "[.CONFIGURATION, photo-library_2026, Entwürfe123456]"
    text = f"office: X\nsystems: {{barn: {{source: tree, path: t, accounts: machine}}}}\nbarred: [{{folder: 'barn:/', kinds: {barred}}}]\n"
    (tmp_path / "office.yaml").write_text(text)
    run("count", "--office", tmp_path)
    told = json.loads(run("space", "--by", "kind", "--format", "json", "--office", tmp_path).stdout)["rows"]
    assert {row["kind"]: row["files"] for row in told if row["files"]} == Counter(
        kind or "(none)" for kind in names.values()
    )
    found = json.loads(
        run(
            "space", "--by", "kind", "--only", "not-allowed", "--format", "json", "--office", tmp_path, status=1
        ).stdout
    )["rows"]
    assert {row["kind"] for row in found} == {"configuration", "photo-library_2026", "entwürfe123456"}
    for odd in ("tar.gz", "two words and more", "a/b"):
        (tmp_path / "office.yaml").write_text(text.replace(barred, f"['{odd}']"))
        assert "what follows the last dot" in run("space", "--by", "kind", "--office", tmp_path, status=2).stderr


def test_kinds_versions_and_devices(ask, run, demo: Path) -> None:
    (film,) = ask("space", "--by", "kind", "--only", "not-allowed", status=1)
    assert (film["folder"], film["kind"], film["owner"], film["files"]) == ("barn:/Homes/jhale", "mp4", "hale", "1")
    kinds = {row["kind"]: row for row in ask("space", "--by", "kind")}
    assert kinds["mp4"]["barred"] == "barn:/Homes" and kinds["odt"]["barred"] == ""
    versions = {(row["system"], row["kind"]): row for row in ask("space", "--by", "version")}
    letters = versions["barn", "odt"]
    sorts = {row["part"]: row for row in ask("space", "barn:/", "--by", "sort")}
    # What the folder of versions takes itself is no version.
    assert 0 <= int(sorts["old versions"]["occupied_bytes"]) - int(letters["measured_bytes"]) <= 8192
    assert int(letters["worst_bytes"]) == 6 * int(letters["files_bytes"])
    scans = versions["barn", "dcm"]
    assert (
        int(scans["worst_bytes"])
        == 24 * int(scans["files_bytes"])
        >= int(scans["high_bytes"])
        >= int(scans["low_bytes"])
    )
    held = ask("devices", "rook", "--would-hold")
    reads = {row["what"]: int(row["apparent_bytes"]) for row in held}
    stays = sum(size for what, size in reads.items() if "reads" not in what and "less" not in what)
    assert stays == sum(size for what, size in reads.items() if "reads" in what or "less" in what)
    assert any("less kinds" in what for what in reads)
    # The owner of the film holds it on no device: it is larger than what is synced.
    assert any(
        "less large files" in row["what"] and row["files"] == "-1" for row in ask("devices", "hale", "--would-hold")
    )
    assert "nobody is called" in run("devices", "nemo", "--office", demo, "--would-hold", status=2).stderr


class _Page(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.images: list[dict[str, str | None]] = []
        self.outside: list[str] = []
        self.heads: list[str] = []
        self._in_head = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        found = dict(attrs)
        if tag == "img":
            self.images.append(found)
        self._in_head = tag == "h2"
        self.outside += [
            value
            for name, value in attrs
            if name in ("src", "href") and value and not value.startswith(("data:", "#"))
        ]

    def handle_data(self, data: str) -> None:
        if self._in_head:
            self.heads.append(data)
            self._in_head = False


def test_the_report_is_a_page_of_one_file_and_a_workbook_with_numbers(demo: Path, run, tmp_path: Path) -> None:
    papers = ("-o", tmp_path / "space.html", "-o", tmp_path / "space.xlsx")
    run("report", "space", *papers, "--office", demo, "--today", "2026-11-23")
    page = _Page()
    text = (tmp_path / "space.html").read_text()
    page.feed(text)
    assert not page.outside and text.count("<script") == 1
    assert page.images and all(image["alt"] and len(image["alt"]) > 40 for image in page.images)
    assert page.heads[:3] == ["Limits", "Forecast", "Promised"] and "Findings" in page.heads
    book = load_workbook(tmp_path / "space.xlsx")
    assert book.sheetnames[0] == "Summary" and set(page.heads) == set(book.sheetnames[1:])
    rows = list(book["Limits"].values)
    used = rows[0].index("USED")
    assert all(isinstance(row[used], int) for row in rows[1:5])
    assert "-o space.html" in run("report", "space", "--office", demo, status=2).stderr
    assert "-o space.html" in run("report", "space", *papers[:3], "x.csv", "--office", demo, status=2).stderr
    steps = json.loads(run("mend", "--office", demo, "--today", "2026-11-23", "--format", "json", status=1).stdout)
    run("report", "mend", "-o", tmp_path / "mend.xlsx", "--office", demo, "--today", "2026-11-23")
    papers = load_workbook(tmp_path / "mend.xlsx")
    told = [row[1] for one in papers.sheetnames[1:-1] for row in papers[one].values if row[0] == "\u2610"]
    assert sorted(told) == [row["number"] for row in steps["rows"]] and papers.sheetnames[-1] == "What stays"
    assert (
        "cannot write"
        in run(
            "report", "space", "-o", tmp_path / "no" / "x.xlsx", "--office", demo, "--today", "2026-11-23", status=2
        ).stderr
    )


def test_names_from_outside_do_no_harm_in_pages_and_workbooks(tmp_path: Path, run) -> None:
    rows = ["path,type,owner,group,mode,list,default,bytes,occupied,changed", "/,folder,0,0,0755,,,0,0,0"]
    rows += [
        "/=1+1 <script>x</script>,folder,0,0,0755,,,0,0,0",
        "/=1+1 <script>x</script>/a.=cmd,file,0,0,0644,,,9,4096,5",
    ]
    (tmp_path / "barn.csv").write_text("\n".join(rows) + "\n")
    (tmp_path / "passwd").write_text("root:x:0:0:=root()<b>:/:/bin/sh\n")
    (tmp_path / "group").write_text("root:x:0:\n")
    (tmp_path / "office.yaml").write_text(
        "office: '=X<script>'\nsystems: {barn: {source: listing, path: barn.csv, accounts: {passwd: passwd, group: group}}}\n"
        "limits: {folders: {'barn:/=1+1 <script>x<%2Fscript>': {limit: 1 kB}, 'barn:/': {limit: 1 kB}}}\n".replace(
            "%2F", "_"
        )
    )
    run("count", "--office", tmp_path)
    run("report", "space", "-o", tmp_path / "x.html", "-o", tmp_path / "x.xlsx", "--office", tmp_path)
    assert (tmp_path / "x.html").read_text().count("<script") == 1
    book = load_workbook(tmp_path / "x.xlsx")
    cells = [cell for sheet in book for row in sheet.iter_rows() for cell in row]
    assert cells and not any(cell.data_type == "f" for cell in cells)


# Limits that a system tells ----------------------------------------------------------------------

OFFICE = """
office: X
systems:
  barn:
    source: listing
    path: barn.csv
    accounts: {passwd: passwd, group: group}
%s
people: {ada: {accounts: {barn: ada}}}
"""
LISTING = """path,type,owner,group,mode,list,default,bytes,occupied,changed
/,folder,0,0,0755,,,4096,4096,0
/work,folder,2001,3001,2770,,,4096,4096,0
/work/a.odt,file,2001,3001,0660,,,5000,8192,5
"""


def _office(folder: Path, more: str) -> Path:
    (folder / "passwd").write_text("root:x:0:0:root:/:/bin/sh\nada:x:2001:3001:Ada:/:/bin/sh\n")
    (folder / "group").write_text("root:x:0:\nvets:x:3001:\n")
    (folder / "barn.csv").write_text(LISTING)
    (folder / "office.yaml").write_text(OFFICE % more)
    return folder


def test_an_exported_file_of_limits_is_read_as_far_as_it_goes(tmp_path: Path, run) -> None:
    _office(tmp_path, "    limits-file: limits.csv\n    columns: {limits: {limit: Quota, name: Share}}")
    rows = [
        "on;Share;Quota;rule;grace-days;warn;used",
        "folder;/work/;20 kB;watched;7;80% 95%;12000",
        "person;ada;9000;;;;",
    ]
    rows += [
        "group;vets;no limit;;;;",
        "pool;;1 MB;;;;600 kB",
        "folder;/work;20 KB;;;;",
        "door;x;1;;;;",
        "person;eve;;;;;",
        "person;bo;5;often;;;",
    ]
    (tmp_path / "limits.csv").write_text("\n".join(rows) + "\n")
    told = run("count", "--not-seen", "--office", tmp_path).stdout
    assert all(f"limits.csv:{line}" in told for line in (6, 7, 8, 9)) and "limits.csv:5" not in told
    assert "'20 KB' is no size" in told and "door" in told and "often" in told
    lines = {
        row["place"]: row
        for row in csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", tmp_path).stdout))
    }
    work = lines["barn:/work"]
    assert (work["used_bytes"], work["told_bytes"], work["found_rule"]) == (
        "12000",
        "12000",
        "watched, 7 days' grace",
    )
    assert lines["barn:ada"]["found_bytes"] == "9000" and lines["barn:ada"]["used_bytes"] == str(8192 + 4096)
    assert lines["barn:ada"]["state"] == "over" and lines["barn:vets"]["found_bytes"] == "no limit"
    assert (lines["barn"]["found_bytes"], lines["barn"]["left_bytes"]) == ("1000000", "400000")
    (tmp_path / "limits.csv").unlink()
    assert "limits.csv" in run("count", "--office", tmp_path, status=2).stderr


@contextmanager
def _dav_server(folder: Path, used: int, available: int | None) -> Iterator[int]:
    """Serve a folder by a WebDAV server that others wrote, with the figures of a quota."""

    class Folder(FolderResource):
        def get_used_bytes(self) -> int:
            return used

        def get_available_bytes(self) -> int | None:
            return available

    class Provider(FilesystemProvider):
        def get_resource_inst(self, path: str, environ: dict):
            found = super().get_resource_inst(path, environ)
            return Folder(path, environ, found._file_path) if isinstance(found, FolderResource) else found

    with dav.serving(Provider(str(folder)), "ada", "secret-7") as port:
        yield port


@pytest.mark.parametrize("available", [3000, 0, None])
def test_a_servers_own_figures_over_webdav_stand_beside_ours(tmp_path: Path, run, monkeypatch, available) -> None:
    (tmp_path / "served" / "work").mkdir(parents=True)
    with _dav_server(tmp_path / "served", 9000, available) as port:
        url = f"http://127.0.0.1:{port}/work"
        _office(tmp_path, f"    figures: [{{folder: /work, url: '{url}', user: ada}}]")
        monkeypatch.setenv("NEATLEDGER_PASSWORD_BARN", "secret-7")
        run("count", "--office", tmp_path)
        lines = {
            row["place"]: row
            for row in csv.DictReader(io.StringIO(run("space", "--format", "csv", "--office", tmp_path).stdout))
        }
        work = lines["barn:/work"]
        assert (work["told_bytes"], work["found_bytes"]) == (
            "9000",
            "no limit" if available is None else str(9000 + available),
        )
        assert available is None or work["left_bytes"] == str(available)
        assert work["state"] == {3000: "fine", 0: "full", None: "no limit"}[available]
        assert (
            "the system says 9 kB used, the counted files make 12.3 kB" in run("space", "--office", tmp_path).stdout
        )
        monkeypatch.setenv("NEATLEDGER_PASSWORD_BARN", "wrong")
        refused = run("count", "--not-seen", "--office", tmp_path).stdout
        assert "refused to tell quotas: 401" in refused and "wrong" not in refused
    gone = run("count", "--not-seen", "--office", tmp_path).stdout
    assert "no answer about quotas" in gone
    plan = (tmp_path / "office.yaml").read_text()
    (tmp_path / "office.yaml").write_text(plan.replace("127.0.0.1", "files.invalid"))
    told = run("count", "--office", tmp_path, status=2).stderr
    assert "for all to read" in told and "expected https://" in told


@pytest.mark.parametrize(
    "body",
    [
        b"",
        b"<a",
        b"<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>",
        b"<m xmlns='DAV:'><propstat><status>HTTP/1.1 200 OK</status><prop><quota-used-bytes>many</quota-used-bytes></prop></propstat></m>",
    ],
)
def test_an_answer_about_quotas_that_is_none_is_told(body: bytes) -> None:
    with pytest.raises(SourceError, match="cannot be read"):
        parse_figures(body, "http://x.example/")
    assert parse_figures(b"<multistatus xmlns='DAV:'/>", "http://x.example/") == (None, None)


def test_findings_on_space_can_be_fixed_one_by_one(demo: Path, run, tmp_path: Path) -> None:
    office = tmp_path / "office"
    shutil.copytree(demo, office)
    limits = (office / "barn.limits.csv").read_text()
    fixed = (
        limits.replace("/Imaging,95 MB,watched", "/Imaging,95 MB,enforced")
        .replace("2 MiB", "2 MB")
        .replace("/Payroll,0,", "/Payroll,no limit,")
    )
    (office / "barn.limits.csv").write_text(fixed.replace("25 MB", "20 MB"))
    plan = (office / "office.yaml").read_text()
    plan = (
        plan.replace("warn: {90: []}", "warn: {90: [hale]}")
        .replace("mailed: []", "mailed: [kestrel]")
        .replace("space: 50 MB", "space: no limit")
    )
    (office / "office.yaml").write_text(plan.replace("keep-bin-days: for ever", "keep-bin-days: 30"))
    names = (
        "limit-not-enforced",
        "ambiguous-zero",
        "limit-differs",
        "warning-to-nobody",
        "report-on-its-disk",
        "beyond-entitlement",
        "bin-for-ever",
    )
    only = [word for name in names for word in ("--only", name)]

    def found(where: Path, status: int | None) -> set[str]:
        done = run("check", *only, "--format", "json", "--office", where, "--today", "2026-11-23", status=status)
        return {row["check"] for row in json.loads(done.stdout)["rows"]}

    assert found(demo, 1) == set(names)
    run("count", "--office", office, "--today", "2026-11-24")
    assert found(office, 0) == set()


def test_limits_are_kept_as_they_were_told() -> None:
    from neatledger.core.plan.limits import UNLIMITED
    from neatledger.core.survey.limits import FoundLimit

    one = FoundLimit(On.FOLDER, "/a", UNLIMITED, False, 7, (80,), 5, 6, 7, ("/a/b",), "x")
    assert FoundLimit.of_facts(json.loads(json.dumps(one.to_facts()))) == one


def test_what_is_supposed_of_lists_and_owners_is_added_up_anew(demo, run) -> None:
    run("suppose", "--push", "barn:/Records", "--office", demo)
    office = open_office(demo, today=date(2026, 11, 23))
    before = office.readers["barn"]
    group = next(one.ident for one in before.groups if one.name == "payroll")
    after = imagine({"barn": before}, {}, owner_steps(ImaginedReader(before), b"/Records", "posix", group))["barn"]

    def by_group(reader) -> Counter:
        found: Counter = Counter()
        for name in ("folders", "classes", "others"):
            table = reader.table(name)
            for number, size in zip(table["list"].tolist(), table["occupied"].tolist(), strict=True):
                found[MODELS["posix"].group_of(reader.list_body(number))] += size
        return found

    moved = by_group(after)
    moved.subtract(by_group(before))
    views = [SpaceView(one, SpaceRules(), (), ()) for one in (before, after)]
    told = Counter({ident: each.occupied for ident, each in views[1].by_group().items()})
    told.subtract({ident: each.occupied for ident, each in views[0].by_group().items()})
    assert moved[group] > 0 and {ident: n for ident, n in moved.items() if n} == {
        ident: n for ident, n in told.items() if n
    }
