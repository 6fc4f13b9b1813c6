"""Connecting: real servers asked what they are, tables recognised, and a plan that comes of it without typing."""

from __future__ import annotations

import csv
import io
import random
import tempfile
from pathlib import Path

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from judges import kernel, ldap, smb
from neatledger.demo import meadow
from neatledger.demo.service.server import Service
from neatledger.formats.headings import guess_table
from neatledger.office.read import read_plan


def systems_of(folder: Path) -> dict[str, dict[str, object]]:
    return yaml.safe_load((folder / "office.yaml").read_text())["systems"]


@pytest.mark.judge
def test_a_mess_becomes_a_plan_with_eight_lines_typed(tmp_path: Path, run, monkeypatch) -> None:
    """A tree, an SMB server, a directory and tables: each asked, written with comments, read, drafted."""
    kernel.make_random_tree(tmp_path / "tree", 3, 12)
    (tmp_path / "passwd").write_text(kernel.PASSWD)
    (tmp_path / "group").write_text(kernel.GROUP_FILE)
    (tmp_path / "home").mkdir()
    (tmp_path / "users.csv").write_bytes(
        "User name;Display name;User ID;Account status;Last sign-in\r\njörg;Jörg Kern;7;Active;21.11.2026\r\n"
        "bea;Bea Moss;8;Blocked;Never\r\ncy;Cy Teal;9;On leave;03.01.2026\r\n".encode("cp1252")
    )
    office, here = tmp_path / "office", ("--office", tmp_path / "office")
    entries = ldap.random_ldif(random.Random(4), 30, 4)[0]
    with (
        tempfile.TemporaryDirectory(dir="/tmp") as name,
        smb.server(Path(name), {"open": "", "shut": f"D:(A;;0x120089;;;{smb.BASE}-5001)"}) as server,
        ldap.running(tmp_path / "home", entries) as url,
    ):
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", server.password)
        monkeypatch.setenv("NEATLEDGER_PASSWORD_STAFF_ACCOUNTS", ldap.PASSWORD)
        files = ["--passwd", tmp_path / "passwd", "--group", tmp_path / "group"]
        run("connect", "--office", office, f"barn={tmp_path / 'tree'}", *files)
        run("connect", "loft", f"smb://127.0.0.1:{server.port}", "--user", server.admin, "--yes", *here, status=None)
        words = ["--user", ldap.ADMIN, "--ca", tmp_path / "home" / "cert.pem", "--yes"]
        asked = run("connect", "staff", url, *words, *here).stdout
        run("connect", "desk", tmp_path / "users.csv", "--yes", *here)
        assert ldap.PASSWORD not in asked and server.password not in (office / "office.yaml").read_text()
        found = systems_of(office)
        assert set(found["loft"]["shares"]) == {"open", "shut", smb.BUILDING} and found["loft"]["port"] == server.port
        assert found["staff"]["accounts"]["ldap"]["base"] == ldap.BASE
        desk = found["desk"]
        assert desk["encoding"] == "cp1252" and desk["columns"]["people"]["state"]["values"] == {
            "Active": "open",
            "Blocked": "disabled",
        }
        text = (office / "office.yaml").read_text()
        assert text.startswith("# yaml-language-server: $schema=") and "the password comes from" in text
        tried = run("connect", "--test", "--format", "csv", *here, status=1).stdout
        works = {(row["system"], row["part"]): row for row in csv.DictReader(io.StringIO(tried))}
        assert works["loft", "files"]["works"] == "partly" and "shut" in works["loft", "files"]["message"]
        assert works["staff", "accounts"]["works"] == "yes" and "30 accounts" in works["staff", "accounts"]["message"]
        assert "On leave" in works["desk", "accounts"]["message"]
        run("count", *here, status=None)
        run("draft", "--write", *here)
        plan = read_plan(office)
        assert len(plan.people) > 30 and {"loft", "barn", "staff", "desk"} == set(plan.systems)
        assert "no faults" in run("plan", *here, status=None).stdout
        monkeypatch.setenv("NEATLEDGER_PASSWORD_STAFF_ACCOUNTS", "wrong")
        tried = run("connect", "--test", "staff", *here, status=1).stdout
        assert "the name or the password is wrong" in tried and "wrong password" not in tried


def test_what_is_not_there_is_said_in_one_line(tmp_path: Path, run) -> None:
    (tmp_path / "t").mkdir()
    (tmp_path / "x.csv").write_text("a,b\n1,2\n")
    run("connect", "--office", tmp_path / "o", f"barn={tmp_path / 't'}")
    before = (tmp_path / "o" / "office.yaml").read_text()
    for words, said in (
        (["x", "smb://127.0.0.1:1"], "who signs in there is not known (--user NAME"),
        (["x", "/nowhere/at/all"], "there is no folder"),
        (["x", "ldap://127.0.0.1:1"], "cannot be asked"),
        (["x", "http://127.0.0.1:1/"], "no answer"),
        (["x", "smb://127.0.0.1:1", "--user", "u"], "no password"),
        (["x", "gopher://x"], "not plain"),
        (["x", tmp_path / "x.csv"], "fit no table (a,b)"),
        (["x", tmp_path / "x.csv", "--column", "people.login"], "not a column"),
        ([], "a name and an address"),
    ):
        told = run("connect", *words, "--yes", "--office", tmp_path / "o", status=2)
        assert said in told.stderr and told.stderr.count("\n") == 1, told.stderr
    assert (tmp_path / "o" / "office.yaml").read_text() == before
    told = run("connect", "kept", tmp_path / "t", "--office", tmp_path / "o")
    assert "Nothing was written" in told.stderr and "source: tree" in told.stdout
    refused = run("connect", "--office", tmp_path / "new", "x=smb://127.0.0.1:1", status=2)
    assert "--user NAME" in refused.stderr and not (tmp_path / "new" / "office.yaml").exists()
    # What was never counted may be connected again, by another address; what was counted may not.
    (tmp_path / "other").mkdir()
    run("connect", "barn", tmp_path / "other", "--yes", "--office", tmp_path / "o")
    assert systems_of(tmp_path / "o")["barn"]["path"] == str(tmp_path / "other")
    run("count", "--office", tmp_path / "o")
    told = run("connect", "barn", tmp_path / "t", "--yes", "--office", tmp_path / "o", status=2)
    assert "was counted already" in told.stderr


def test_a_service_is_asked_what_it_is(tmp_path: Path, run, monkeypatch) -> None:
    run("connect", "--office", tmp_path / "o", f"barn={tmp_path}")
    with Service(tmp_path / "service.db") as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        service.store.set_password(meadow.READER, "correct horse")
        monkeypatch.setenv("NEATLEDGER_PASSWORD_MEADOW", "correct horse")
        words = ["--user", meadow.READER, "--token", f"{service.url}/token", "--yes", "--office", tmp_path / "o"]
        run("connect", "meadow", f"{service.url}/", *words, status=None)
    made = systems_of(tmp_path / "o")["meadow"]
    assert made["source"] == "dav" and made["url"] == f"{service.url}/dav/"
    assert (
        made["accounts"] == {"scim": f"{service.url}/scim/v2"} and made["sharing"]["url"] == f"{service.url}/sharing"
    )


HEADS = {
    "login": ["Login", "User name", "username", "Account"],
    "id": ["Id", "UID", "User ID", "Object ID"],
    "name": ["Display name", "Full Name"],
    "email": ["E-mail", "Mail", "Email address"],
    "state": ["Status", "Account status", "State"],
    "last-seen": ["Last login", "Last sign-in", "LastSeen"],
}
FORMS = {"YYYY-MM-DD": "%Y-%m-%d", "DD.MM.YYYY": "%d.%m.%Y", "MM/DD/YYYY": "%m/%d/%Y", "DD/MM/YYYY": "%d/%m/%Y"}


@given(st.integers(0, 10**6))
def test_columns_are_recognised_in_any_order_letters_and_form(seed: int) -> None:
    rng = random.Random(seed)
    from datetime import date, timedelta

    columns = list(HEADS)
    rng.shuffle(columns)
    form = rng.choice(list(FORMS))
    separator, letters = rng.choice(",;\t|"), rng.choice(["utf-8", "utf-8-sig", "cp1252", "utf-16"])
    heads = {column: rng.choice(HEADS[column]) for column in columns}
    out = io.StringIO()
    writer = csv.writer(out, delimiter=separator)
    writer.writerow([heads[column] for column in columns] + ["Remark"])
    for number in range(30):
        row = {
            "login": f"u{number}", "id": str(1000 + number), "name": f"Zoë Ä{number}", "email": f"u{number}@x.example",
            "state": rng.choice(["Active", "Blocked"]),
            "last-seen": (date(2026, 1, 1) + timedelta(days=number * 7)).strftime(FORMS[form]),
        }  # fmt: skip
        writer.writerow([row[column] for column in columns] + [rng.choice(["", "a note"])])
    found = guess_table(out.getvalue().encode(letters))
    assert found is not None and found.table == "people" and found.separator == separator
    assert {one.ours: one.heading for one in found.columns if one.ours} == heads
    seen = next(one for one in found.columns if one.ours == "last-seen")
    assert seen.dates == ("" if form == "YYYY-MM-DD" else form) and not seen.doubt
    state = next(one for one in found.columns if one.ours == "state")
    assert state.values == {word: {"Active": "open", "Blocked": "disabled"}[word] for word in state.values}
