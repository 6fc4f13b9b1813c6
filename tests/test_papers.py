"""Papers: every page renders, sorts and searches in a real browser, asks nothing of anybody, and marks what changed."""

from __future__ import annotations

import http.server
import json
import re
import subprocess
import threading
from pathlib import Path

import pytest
from openpyxl import load_workbook

from neatledger.papers import PAPERS
from neatledger.papers.against import beside_older
from neatledger.reports.paper import Grid, Paper, Part
from neatledger.reports.report import Column, Report

_FLAGS = (
    *("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync"),
    *("--disable-background-networking", "--disable-component-update", "--virtual-time-budget=3000", "--dump-dom"),
)
# What a reader does, and what comes of it, written where the dumped page shows it.
_DRIVE = """
const said = {};
const table = document.querySelector("table.rows"), heads = [...table.tHead.rows[0].cells];
const at = heads.findIndex((head) => head.textContent === HEAD);
const column = () => [...table.tBodies[0].rows].filter((row) => !row.hidden)
  .map((row) => row.cells[at].dataset.v ?? row.cells[at].textContent);
said.before = column();
heads[at].querySelector("button").click();
said.up = column();
heads[at].querySelector("button").click();
said.down = column();
const input = document.querySelector("input[type=search]");
input.value = WORD;
input.dispatchEvent(new Event("input"));
said.found = [...table.tBodies[0].rows].filter((row) => !row.hidden).map((row) => row.textContent);
said.told = document.querySelector(".find span").textContent;
said.wide = document.documentElement.scrollWidth;
const told = document.createElement("pre");
told.id = "said";
told.textContent = JSON.stringify(said);
document.body.append(told);
"""


def browse(page: Path, profile: Path, script: str = "") -> str:
    """Return the document that a browser makes of a page, after a script at its end was run."""
    copy = page.with_name("driven.html")
    copy.write_text(page.read_text() + (f"<script>{script}</script>" if script else ""))
    words = ["chromium", *_FLAGS, f"--user-data-dir={profile}", f"file://{copy}"]
    return subprocess.run(words, capture_output=True, text=True, timeout=60, check=True).stdout


@pytest.fixture(scope="module")
def listener():
    """Serve on loopback, and note whatever is asked."""
    asked: list[str] = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_error(404)

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_port, asked
    server.shutdown()
    server.server_close()


@pytest.mark.judge
def test_a_page_sorts_and_searches_and_asks_nobody_whatever_a_name_holds(tmp_path: Path, run, listener) -> None:
    port, asked = listener
    hostile = f"<img src='http:||127.0.0.1:{port}|seen' onerror=alert(1)>"
    (tmp_path / "office.yaml").write_text(
        "office: '<b>X</b>'\nsystems:\n  barn: {source: listing, path: barn.csv, lists: posix}\n"
    )
    names = [
        *(f"f{number}" for number in range(12)),
        f'"{hostile}"',
        '"=1+1"',
        '"</script><script>alert(2)</script>"',
    ]
    rows = [f"/{name},folder,0,0,0777".replace('/"', '"/') for name in names]
    (tmp_path / "barn.csv").write_text("\n".join(["path,type,owner,group,mode", "/,folder,0,0,0755", *rows]) + "\n")
    run("count", "--office", tmp_path, status=None)
    page = tmp_path / "office.html"
    run("report", "office", "-o", page, "--office", tmp_path)
    text = page.read_text()
    assert "<b>X" not in text and "<img src='" not in text and "127.0.0.1" in text
    assert not re.search(r"(?:src|href)=[\"'](?!#|data:)", text)
    script = _DRIVE.replace("HEAD", json.dumps("SCORE")).replace("WORD", json.dumps("f7"))
    made = browse(page, tmp_path / "profile", script)
    said = json.loads(re.search(r'<pre id="said">(.*?)</pre>', made)[1].replace("&lt;", "<").replace("&gt;", ">"))
    numbers = [float(value) for value in said["before"]]
    assert len(numbers) > 10 and [float(value) for value in said["up"]] == sorted(numbers)
    assert [float(value) for value in said["down"]] == sorted(numbers, reverse=True)
    assert said["found"] and all("f7" in row for row in said["found"]) and len(said["found"]) < len(numbers)
    assert said["told"] == f"{len(said['found'])} of {len(numbers)} rows"
    assert not asked, "a page asks nothing of anybody"


@pytest.mark.judge
def test_every_paper_of_the_sample_office_renders_whole_without_a_script_too(demo: Path, run, tmp_path: Path) -> None:
    for about in PAPERS:
        page, book = tmp_path / f"{about}.html", tmp_path / f"{about}.xlsx"
        run("report", about, "-o", page, "-o", book, "--office", demo)
        text = page.read_text()
        plain = re.sub(r"<script>.*?</script>", "", text, flags=re.DOTALL)
        copy = tmp_path / "plain.html"
        copy.write_text(plain)
        rows = plain.count("<tr>")
        assert rows > 10
        # All pages are made by one template: a browser sees those that have all sorts of parts.
        if about in ("reach", "office", "space"):
            made = browse(copy, tmp_path / "profile")
            assert made.count("<tr>") == rows and "<button" not in made and 'type="search"' not in made
        assert plain.count("<img") == plain.count(' alt="') and ' alt=""' not in plain
        # A page is for people who need not know the command.
        assert "neatledger" not in plain and not re.search(r"####|\.\.\.\.", plain)
        titles = re.findall(r"<h2>(.*?)</h2>", plain)
        assert load_workbook(book).sheetnames[1:] == [re.sub(r"[\\/*?:\[\]]", " ", title)[:31] for title in titles]
        assert (
            about not in ("office", "sharing")
            or text == (run("report", about, "-o", page, "--office", demo), page.read_text())[1]
        ), "in a stable order"


def paper(rows: list[dict], cells: list[list[str]]) -> Paper:
    columns = (Column("who", "WHO"), Column("what", "WHAT"), Column("size", "SIZE", number=True))
    grid = Grid(["a", "b"][: len(cells)], ["x", "y"], cells)
    return Paper(
        "T", "", ["one", "two", "three", "four"],
        [Part("Table", Report("t", "", columns, rows), keys=("who",)), Part("Map", Report("m", "", (), []), grid=grid)],
    )  # fmt: skip


def test_a_paper_beside_an_older_one_marks_what_is_new_changed_and_gone() -> None:
    old = paper(
        [{"who": "ada", "what": "r", "size": 1}, {"who": "bo", "what": "w", "size": 2}], [["R", ""], ["C", "C"]]
    )
    new = paper(
        [{"who": "ada", "what": "w", "size": 1}, {"who": "cy", "what": "r", "size": 3}], [["R", "M"], ["C", "C"]]
    )
    found = beside_older(new, old, "then")
    table, chart = found.parts
    changed = {row["who"]: row["changed"] for row in table.report.rows}
    assert changed == {"ada": "what was r", "cy": "new", "bo": "gone"}
    assert chart.grid.cells == [["R", "-→M"], ["C", "C"]]
    assert found.lead == ["one", "two", "three", "four", "Since then: 1 row new, 2 changed, 1 gone; each is marked."]
    same = beside_older(new, new, "then")
    assert all(row["changed"] == "" for row in same.parts[0].report.rows) and same.parts[1].grid == new.parts[1].grid


def test_what_changed_since_an_older_count_is_marked_in_a_page_and_a_workbook(
    demo: Path, run, tmp_path: Path
) -> None:
    page, book = tmp_path / "access.html", tmp_path / "access.xlsx"
    run("report", "access", "--since", "2026-11-16", "-o", page, "-o", book, "--office", demo)
    assert re.search(r"Since 2026-11-16 \d\d:\d\d: \d+ rows? new", page.read_text())
    sheet = load_workbook(book)["Sensitive folders"]
    heads = [cell.value for cell in sheet[1]]
    changed = {
        row[heads.index("FOLDER")]: row[heads.index("CHANGED")] for row in sheet.iter_rows(2, values_only=True)
    }
    assert any(words and "thistle" in words for folder, words in changed.items() if folder == "barn:/Payroll"), (
        changed
    )
    assert (
        run("report", "mend", "--since", "2026-11-16", "-o", page, "--office", demo, status=2).stderr.count("\n") == 1
    )
