"""Many offices at once: the same answers as one by one, those that fail beside those that do not, files for each."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import signal
import time
from pathlib import Path

import pytest

DAY = ("--today", "2026-11-23")


@pytest.fixture
def clients(demo: Path, tmp_path: Path) -> Path:
    """Two whole offices, one without a count, one whose plan has faults, and a folder that is none."""
    folder = tmp_path / "clients"
    for name in ("ash", "elm"):
        shutil.copytree(demo, folder / name)
    shutil.copytree(demo, folder / "new", ignore=shutil.ignore_patterns("ledger.db*"))
    (folder / "bad").mkdir()
    (folder / "bad" / "office.yaml").write_text("office: Bad\nsystems: {x: {source: nothing}}\n")
    (folder / "none").mkdir()
    plan = folder / "elm" / "office.yaml"
    plan.write_text(plan.read_text().replace("office: Pellowmere", "office: Elmwater"))
    return folder


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


@pytest.mark.parametrize("words", [("check", "--all"), ("brief",), ("expiring", "--within", "60"), ("notices",)])
def test_each_office_answers_as_if_it_were_asked_alone(clients: Path, run, words: tuple[str, ...]) -> None:
    done = run(*words, "--format", "csv", "--office", f"{clients}/*", *DAY, status=2)
    told: dict[str, list[dict[str, str]]] = {}
    for row in rows(done.stdout):
        told.setdefault(Path(row.pop("office")).name, []).append(row)
    for name in ("ash", "elm"):
        alone = rows(run(*words, "--format", "csv", "--office", clients / name, *DAY, status=None).stdout)
        assert told[name] == alone and alone
    # What lapses by the plan alone needs no count.
    has_new = words[0] == "expiring"
    assert set(told) == {"ash", "elm"} | ({"new"} if has_new else set())
    assert ("clients/new: " in done.stderr) != has_new and "clients/bad: " in done.stderr
    shown = run(*words, "--office", f"{clients}/[aen]*", *DAY, status=0 if has_new else 2).stdout
    assert shown.startswith("3 offices: ") and "Elmwater" in shown
    assert ("there is no count yet" in shown) != has_new and shown.count("\n── ") == 2 + has_new
    one = run(*words, "--office", f"{clients}/a*", *DAY, status=None).stdout
    assert run(*words, "--office", clients / "ash", *DAY, status=None).stdout.strip() in one


def test_files_are_written_for_each_and_one_page_for_all(clients: Path, tmp_path: Path, run) -> None:
    pages = tmp_path / "pages"
    pages.mkdir()
    files = ("-o", f"{pages}/*.html", "-o", f"{pages}/*.xlsx")
    done = run("report", "people", "--office", f"{clients}/*", *files, *DAY, status=2)
    made = ["ash.html", "ash.xlsx", "elm.html", "elm.xlsx", "offices.html"]
    assert sorted(one.name for one in pages.iterdir()) == made, done.stderr
    run("report", "people", "--office", clients / "elm", "-o", tmp_path / "alone.html", *DAY)
    assert (pages / "elm.html").read_bytes() == (tmp_path / "alone.html").read_bytes()
    page = (pages / "offices.html").read_text()
    assert "4 offices: 2 failed" in page and "elm.html" in page and "Elmwater" in page and "no count yet" in page
    run("expiring", "-o", f"{pages}/*.ics", "--office", f"{clients}/[ae]*", *DAY)
    assert (pages / "ash.ics").read_text().startswith("BEGIN:VCALENDAR")
    run("notices", "--send-to", tmp_path / "mails", "--office", f"{clients}/[ae]*", *DAY, status=None)
    assert {one.name for one in (tmp_path / "mails").iterdir()} == {"ash", "elm"}
    for words, said in (
        (("report", "space", "-o", f"{pages}/x.html"), "put * where each has its name"),
        (("report", "space", *files[:3], "x.xlsx"), "put * where each has its name"),
        (("expiring", "-o", f"{pages}/x.ics"), "put * where each has its name"),
        (("who", "barn:/Records"), "who is asked of one office"),
    ):
        assert said in run(*words, "--office", f"{clients}/*", status=2).stderr
    assert "no office is called so" in run("brief", "--office", f"{clients}/x*", status=2).stderr
    assert run("brief", "--office", f"{clients}/a*", "--format", "json", *DAY, status=None).stdout.startswith("{")


def test_one_whose_process_is_killed_does_not_stop_the_others(clients: Path, monkeypatch, run) -> None:
    from neatledger.questions import brief

    whole = brief.ask

    def dies(office):  # type: ignore[no-untyped-def]
        if office.folder.name == "ash":
            os.kill(os.getpid(), signal.SIGKILL)
        return whole(office)

    monkeypatch.setattr(brief, "ask", dies)
    told = json.loads(run("brief", "--format", "json", "--office", f"{clients}/[ae]*", *DAY, status=2).stdout)
    assert {Path(row["office"]).name for row in told["rows"]} == {"elm"}
    assert any("ash failed: its process was ended by signal 9" in note for note in told["notes"])


def test_ctrl_c_ends_all_of_them(clients: Path, tmp_path: Path) -> None:
    import subprocess

    from conftest import COMMAND

    for number in range(6):
        shutil.copytree(clients / "ash", clients / f"more{number}")
    for delay in (0.3, 0.6):
        words = [COMMAND, "check", "--all", "--office", f"{clients}/*", "--today", f"2026-11-2{5 + int(delay * 5)}"]
        process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True)
        time.sleep(delay)
        os.killpg(process.pid, signal.SIGINT)
        _, err = process.communicate(timeout=20)
        assert process.returncode in (130, 2, 1), err
        assert b"Traceback" not in err, err
        with pytest.raises(ProcessLookupError):
            os.killpg(process.pid, 0)


def test_offices_of_one_name_and_without_a_plan_are_told_apart(demo: Path, tmp_path: Path, run) -> None:
    for name in ("two/ash/main", "two/elm/main", "two/elm/offices"):
        shutil.copytree(demo, tmp_path / name)
    # An office that lost its plan, a folder that is none, and a file.
    (tmp_path / "two" / "oak" / "main").mkdir(parents=True)
    shutil.copy(demo / "ledger.db", tmp_path / "two" / "oak" / "main")
    (tmp_path / "two" / "fir" / "main").mkdir(parents=True)
    (tmp_path / "two" / "yew").mkdir()
    (tmp_path / "two" / "yew" / "main").write_text("no folder")
    pages = tmp_path / "pages"
    pages.mkdir()
    asked = ["report", "office", "-o", pages / "*.html", "--office"]
    done = run(*asked, f"{tmp_path}/two/*/[mo]*", *DAY, status=2)
    names = {"ash-main.html", "elm-main.html", "elm-offices.html", "offices.html"}
    assert {page.name for page in pages.iterdir()} == names
    summary = (pages / "offices.html").read_text("utf-8")
    assert all(f"{name}" in summary for name in names - {"offices.html"})
    assert "oak/main: " in done.stderr and "there is no office here" in done.stderr
    assert "No office, for want of a plan:" in summary and "fir/main" in summary and "yew" not in summary
    # What has findings is not called in order, whatever the exit status is.
    assert "in order" not in summary and "3 with something to read" in summary
    told = run("expiring", "--office", f"{tmp_path}/two/*/main", *DAY, status=2).stdout
    assert "in order" not in told and "1 failed" in told and "fir/main" in told
    assert "no office is called so" in run("check", "--office", f"{tmp_path}/two/fir/*", status=2).stderr
