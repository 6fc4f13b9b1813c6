"""The commands about links, hand-outs, guests, devices and what lapses, on the sample office."""

from __future__ import annotations

import csv
import io
import json
import shutil
import sqlite3
import zlib
from datetime import date
from pathlib import Path

import pytest
from icalendar import Calendar

from conftest import ANY, DROP_TRAIL
from neatledger.demo import meadow
from neatledger.formats.stepfiles import read_steps

EXCHANGE = "meadow:/Teams/Imaging exchange"


@pytest.fixture
def ask(demo: Path, run):
    """Ask the sample office on a day of its story; rows come as CSV."""

    def _ask(*words: object, status: int | None = None, day: str = "2026-11-23") -> list[dict[str, str]]:
        done = run(*words, "--format", "csv", "--today", day, "--office", demo, status=status)
        return list(csv.DictReader(io.StringIO(done.stdout)))

    return _ask


def ids(rows: list[dict[str, str]]) -> set[str]:
    return {row["id"] for row in rows}


def test_links_with_all_their_filters(ask) -> None:
    every = {row["id"]: row for row in ask("links")}
    assert len(every) == 20 and all(row["state"] for row in every.values())
    lab = every["k1"]
    assert (lab["files"], lab["uses"], lab["expires"]) == ("9", "412", "no end")
    assert int(lab["size_bytes"]) == 2_400_000 + sum(310_000 + 7_100 * n for n in range(1, 9))
    assert set(lab["kinds"].split()) == {"dcm", "exe"} and len(lab["fingerprint"]) == 10
    assert ids(ask("links", "--made-by", "sedge")) == {"h1", "h2"}
    assert ids(ask("links", "--given-to", "ledgerwood")) == {"k8", "h6"} and ids(
        ask("links", "--given-to", "office")
    ) == {
        "k2",
        "k11",
    }
    assert ids(ask("links", EXCHANGE)) == {"k1", "k8", "h2", "h3", "h4"}
    assert ids(ask("links", "--opens", "meadow:/People/hale")) == {"k6", "k10"}
    assert ids(ask("links", "--within", 7)) == {"k7", "k9", "k11", "h8"}
    assert ids(ask("links", "--only", "hand-out")) == {f"h{n}" for n in range(1, 10)}
    assert {"k3", "h7", "h9"}.isdisjoint(ids(ask("links", "--only", "live")))
    assert ids(ask("links", "--only", "breaking")) == {row["id"] for row in every.values() if row["amiss"]}
    # On its last day a link is live, the day after it is not.
    assert "k9" in ids(ask("links", "--only", "live", day="2026-11-27")) and "k9" not in ids(
        ask("links", "--only", "live", day="2026-11-28")
    )


def test_addresses_of_links_are_nowhere(demo, run) -> None:
    secrets = [row["address"] for row in meadow.shared_tables()["links"]]
    assert len(secrets) == 11
    kept = b"".join(path.read_bytes() for path in demo.glob("ledger.db*"))
    db = sqlite3.connect(demo / "ledger.db")
    kept += b"".join(zlib.decompress(data) for (data,) in db.execute("SELECT data FROM shared"))
    db.close()
    told = ""
    for words in (
        ["links"],
        ["links", "--format", "json"],
        ["check", "--all"],
        ["expiring"],
        ["reach", "meadow:/"],
    ):
        told += run(*words, "--office", demo, status=None).stdout
    for secret in secrets:
        assert secret not in told and secret.encode() not in kept and secret.rpartition("/")[2] not in told


def test_who_and_reach_know_those_who_hold_links(ask, run, demo) -> None:
    rows = {(row["person"], row["way"]): row for row in ask("who", f"{EXCHANGE}/For Hollin")}
    assert (
        rows["anyone with the link", "link"]["level"] == "write"
        and rows["anyone with the link", "any"]["files_read"] == "9"
    )
    assert ("hale", "link") not in rows
    everywhere = {
        row["folder"] for row in ask("reach", "anyone with the link", "--level", "any") if row["level"] != "none"
    }
    assert everywhere == {f"{EXCHANGE}/For Hollin", "meadow:/Teams/Protocols"}
    told = run("why", "finch", f"{EXCHANGE}/2026", "--office", demo, "--today", "2026-11-23").stdout
    assert "hand-out h4" in told and "a hand-out from thistle" in told
    # The share beneath gives away what the team folder only shows.
    cases = {(row["person"], row["way"]): row["level"] for row in ask("who", "meadow:/Teams/Cases 2026/Dogs")}
    assert cases["wren", "team"] == "view" and cases["vane", "team"] == "none"
    assert {row["level"] for row in ask("who", "barn:/Records/2026/Dogs") if row["person"] == "wren"} == {"write"}
    assert (
        "1 link or hand-out opens a single file"
        in run("who", "meadow:/People/frost", "--office", demo, "--today", "2026-11-23").stdout
    )


def test_taking_back_reaches_through_what_was_passed_on(ask, demo, run) -> None:
    def lost(*words: str) -> dict[tuple[str, str], tuple[str, str]]:
        flags = [flag for word in words for flag in ("--unshare", word)]
        return {(row["person"], row["way"]): (row["lost"], row["kept"]) for row in ask("suppose", *flags)}

    # The student's own hand-out goes to a fellow student, who is a member too: nobody falls out.
    assert lost("hand-out:h2")["thistle", "handed"][1] == "manage" and len(lost("hand-out:h2")) == 1
    # Without the students' membership everything that was passed on from there goes, to the end of the chain.
    gone = lost(f"member:{EXCHANGE.partition(':')[2]}=students")
    assert {person for person, _ in gone} == {"sedge", "thistle", "wren", "finch"}
    assert all(kept == "none" for _, kept in gone.values())
    assert {person for person, _ in lost("link:k1")} == {"anyone with the link"}
    assert set(lost("guest:una")) == {("ledgerwood", "link")}
    assert set(lost("guest:sam.private@post.example")) == {("sam.private@post.example", "handed")}
    for word, told in (("link:k99", "has no 'link:k99'"), ("folder:x", "nothing that can be taken back")):
        assert told in run("suppose", "--unshare", word, "--office", demo, status=2).stderr


def test_a_rule_is_tried_before_it_is_set(ask, demo, run) -> None:
    caught = {
        row["id"]: row["amiss"] for row in ask("suppose", "--sharing-rule", "link-days=30", "--rule-for", "meadow")
    }
    assert set(caught.values()) <= {"no-end", "ends-too-late"} and "k9" in caught
    only = ask("suppose", "--sharing-rule", "open-links=nothing", "--rule-for", "meadow:/Teams/Protocols")
    assert ids(only) == {"k4", "k5", "k9"}
    assert ids(ask("suppose", "--sharing-rule", "download=no", "--rule-for", "hale")) == {"k7", "h5"}
    for words, told in (
        (["--sharing-rule", "colour=red"], "is no rule"),
        (["--sharing-rule", "link-days=soon"], "no whole number"),
        (["--sharing-rule", "password=yes", "--rule-for", "nobody"], "no folder, system or person"),
        (["--sharing-rule", "password=yes", "--unshare", "link:k1"], "one thing at a time"),
    ):
        assert told in run("suppose", *words, "--office", demo, status=2).stderr


def test_guests_and_devices(ask) -> None:
    guests = {(row["guest"], row["account"]): row for row in ask("people", "--guests")}
    vetline = guests["vetline", "meadow:vetline"]
    assert vetline["idle_days"] == "264" and vetline["next"] == "disable it now" and vetline["inviter"] == "nobody"
    assert guests["hollin", "meadow:hollin"]["next"] == "disable on 2027-02-17"
    assert guests["hollin", "meadow:hollin"]["reaches"] == "read /Teams/Imaging exchange"
    outside = guests["sam.private@post.example", "none: outside"]
    assert outside["folders"] == "1" and "take back" in outside["next"]
    devices = {row["id"]: row for row in ask("devices")}
    assert devices["d3"]["state"] == "lost" and devices["d1"]["amiss"] == "" and "left on" in devices["d2"]["amiss"]
    assert ids(ask("devices", "stone")) == {"d4"}


def test_what_lapses_as_a_table_and_as_a_calendar(ask, tmp_path, demo, run) -> None:
    ics = tmp_path / "lapses.ics"
    rows = ask("expiring", "-o", ics, status=0)
    days = [row["day"] for row in rows]
    assert days == sorted(days) and days[0] == "2026-11-26"
    sorts = {
        "link",
        "hand-out",
        "guest",
        "team folder",
        "person",
        "entitlement",
        "post",
        "hand-over",
        "keeping",
        "review",
        "proof",
    }
    assert {row["what"] for row in rows} == sorts
    text = ics.read_bytes()
    assert all(len(line) <= 75 for line in text.split(b"\r\n")) and text.endswith(b"END:VCALENDAR\r\n")
    events = Calendar.from_ical(text).walk("VEVENT")
    assert [event.decoded("dtstart").isoformat() for event in events] == days
    assert all((event.decoded("dtend") - event.decoded("dtstart")).days == 1 for event in events)
    idents = {str(event["uid"]) for event in events}
    assert len(idents) == len(rows)
    ask("expiring", "-o", ics, day="2026-11-24")
    again = {str(event["uid"]) for event in Calendar.from_ical(ics.read_bytes()).walk("VEVENT")}
    assert again == idents, "the same things are the same events, on whatever day it is written"
    assert [row["what"] for row in ask("expiring", "--only", "links", "--within", 5)] == ["link", "link"]
    past = ask("expiring", "--past", "--only", "hand-outs")
    assert [(row["day"], row["in_days"]) for row in past if int(row["in_days"]) < 0] == [("2026-08-31", "-84")]
    assert date.fromisoformat(past[0]["day"]) < date(2026, 11, 23)
    missing = tmp_path / "no" / "where.ics"
    assert "cannot write" in run("expiring", "-o", missing, "--office", demo, status=2).stderr


def test_the_plans_rules_are_checked_as_it_is_read(tmp_path, run) -> None:
    (tmp_path / "office.yaml").write_text(
        "office: X\nsystems: {meadow: {source: dav}}\nsharing:\n  office: {guests: some, link-days: -1, largest: 5}\n"
    )
    told = run("links", "--office", tmp_path, status=2).stderr
    assert all(word in told for word in ("'some'", "-1", "found 5; expected a size"))
    (tmp_path / "office.yaml").write_text(
        "office: X\nsystems: {meadow: {source: dav}}\nsharing:\n  people: {eve: {}}\n  folders: {'barn:/x': {}}\n"
        "  sensitive: ['loft:/y']\n"
    )
    told = run("links", "--office", tmp_path, status=2).stderr
    assert all(word in told for word in ("without `url`", "'eve'", "the system 'barn'", "the system 'loft'"))


def _listing(folder: Path, tables: dict[str, object], people: str = "login,id\nhale,hale\nuna,una\n") -> None:
    (folder / "people.csv").write_text(people)
    (folder / "tree.csv").write_text(
        "path,type,list,bytes\n/,folder,,0\n/a,folder,,0\n/a/b,folder,user:hale=read,0\n/a/x.odt,file,,7\n"
    )
    named = {}
    for name, rows in tables.items():
        if isinstance(rows, str):
            (folder / f"{name}.csv").write_text(rows)
            named[name] = f"{name}.csv"
        else:
            (folder / f"{name}.json").write_text(json.dumps(rows))
            named[name] = f"{name}.json"
    plan = {
        "office": "X",
        "systems": {
            "meadow": {
                "source": "listing",
                "lists": "role",
                "path": "tree.csv",
                "accounts": {"people": "people.csv"},
                "sharing": named,
            }
        },
    }
    plan["systems"]["meadow"]["columns"] = {"links": {"path": "Ziel", "level": "Recht"}}
    (folder / "office.yaml").write_text(json.dumps(plan))


def test_taking_back_a_single_file_says_who_loses_it(demo, run) -> None:
    done = run("suppose", "--unshare", "hand-out:h8", "--format", "csv", "--office", demo, "--today", "2026-11-23")
    (row,) = csv.DictReader(io.StringIO(done.stdout))
    assert (row["person"], row["way"], row["kept"]) == ("marsh", "handed", "none") and "read" in row["lost"]
    assert row["folder"].endswith("Open day.mp4") and row["folders"] == "0"


def test_files_given_by_themselves_count_for_whoever_they_were_given_to(tmp_path, run) -> None:
    read = {"path": "/a/x.odt", "level": "read", "giver": "hale", "type": "file"}
    _listing(
        tmp_path,
        {
            "teams": [{"path": "/a", "name": "A"}],
            "team-members": "team,holder,level\n/a,hale,write\n",
            "hand-outs": [
                read | {"receiver": "una"},
                read | {"receiver": "eve@out.example", "kind": "outside"},
                read | {"receiver": "late@out.example", "kind": "outside", "expires": "2020-01-01"},
                read | {"receiver": "una", "path": "/a/b/gone.odt"},
            ],
            "links": "Ziel,Recht,type,maker,audience,named\n/a/x.odt,read,file,hale,named,eve@out.example\n",
        },
    )
    run("count", "--office", tmp_path)

    def rows(*words: str) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(run(*words, "--format", "csv", "--office", tmp_path).stdout)))

    for person, ways in (("una", ["handed"]), ("eve@out.example", ["handed", "link"]), ("late@out.example", [])):
        found = [row for row in rows("reach", person) if row["folder"] == "meadow:/a/x.odt"]
        assert [row["way"] for row in found] == ways
        assert all(
            (row["level"], row["files"], row["files_read"], row["files_delete"]) == ("read", "1", "1", "0")
            for row in found
        )
        # What is said of the file is what asking for it says.
        asked = [row for row in rows("who", "meadow:/a/x.odt") if row["person"] == person and row["way"] in ways]
        assert [row["level"] for row in asked] == ["read"] * len(ways)
    guests = {row["guest"]: (row["reaches"], row["files"]) for row in rows("people", "--guests")}
    assert guests["eve@out.example"] == ("read /a/x.odt", "1") and guests["late@out.example"] == ("nothing", "0")
    assert "1 row of files" in run("reach", "una", "--office", tmp_path).stdout


def test_tables_in_csv_and_json_with_other_columns_and_damaged_rows(tmp_path, run) -> None:
    _listing(
        tmp_path,
        {
            "teams": [{"path": "/a", "name": "A"}],
            "team-members": "team,holder,level\n/a,hale,write\n/a,nobody,read\n/none,hale,read\n",
            "links": "Ziel;Recht;maker;expires\n/a;read;hale;2030-01-01\n/a;reed;hale;\n/a/x.odt;read;una;never\n",
            "hand-outs": [
                {"giver": "hale", "receiver": "una", "path": "/a", "level": "read"},
                {"giver": "hale", "receiver": "eve", "path": "/a", "level": "read"},
                {"receiver": 7},
                {"receiver": "una", "path": "/a", "level": "list"},
            ],
        },
    )
    done = run("count", "--not-seen", "--office", tmp_path)
    for told in (
        "reed",
        "expires is no day",
        "whom no account is called",
        "a team folder that is not there",
        "path is empty",
        "is for 'eve', whom no person is called",
    ):
        assert told in done.stdout, told
    rows = {
        (row["person"], row["folder"], row["way"]): row["level"]
        for row in csv.DictReader(io.StringIO(run("reach", "--all", "--format", "csv", "--office", tmp_path).stdout))
    }
    # What is in /a may be removed by whoever may do so in /a, though the list of /a/b lets them only read.
    assert rows["hale", "meadow:/a", "team"] == "write" and rows["hale", "meadow:/a/b", "team"] == "mixed"
    # One link to /a gives what nobody can read, and a hand-out of all comes from nobody knows whom.
    assert rows["una", "meadow:/a", "handed"] == rows["anyone with the link", "meadow:/a/b", "link"] == "unknown"
    assert "who gave it was not told" in run("why", "una", "meadow:/a", "--office", tmp_path).stdout
    assert (
        "something that it says could not be read"
        in run("why", "anyone with the link", "meadow:/a", "--office", tmp_path).stdout
    )
    (tmp_path / "teams.json").write_text("[{")
    assert "no JSON" in run("count", "--office", tmp_path, status=2).stderr


@pytest.mark.parametrize("groups", ["", "name,id\nvets,vets\n"], ids=["no groups told", "no members told"])
def test_what_a_group_gives_is_unknown_where_its_members_were_not_told(tmp_path, run, groups) -> None:
    _listing(
        tmp_path,
        {
            "teams": [{"path": "/a", "name": "A"}],
            "team-members": "team,holder,level,kind\n/a,hale,write,person\n/a,vets,read,group\n",
            "hand-outs": [{"giver": "hale", "receiver": "vets", "kind": "group", "path": "/a/b", "level": "read"}],
        },
    )
    if groups:
        plan = (tmp_path / "office.yaml").read_text()
        (tmp_path / "groups.csv").write_text(groups)
        (tmp_path / "office.yaml").write_text(plan.replace('"people.csv"', '"people.csv", "groups": "groups.csv"'))
    run("count", "--office", tmp_path)
    for folder, way in (("/a", "team"), ("/a/b", "handed")):
        rows = csv.DictReader(
            io.StringIO(run("who", f"meadow:{folder}", "--format", "csv", "--office", tmp_path).stdout)
        )
        levels = {(row["person"], row["way"]): row["level"] for row in rows}
        assert levels["una", way] == "unknown" and levels["hale", "team"] != "unknown", levels
        why = run("why", "una", f"meadow:{folder}", "--office", tmp_path).stdout
        assert "group vets" in why and "who is in it was not all told: they may be or not" in why
    (stop, *_) = csv.DictReader(
        io.StringIO(run("space", "una", "meadow:/a", "--format", "csv", "--office", tmp_path).stdout)
    )
    assert (stop["what"], stop["stops"], stop["room_bytes"]) == ("access", "", "") and "is not known" in stop[
        "because"
    ]
    table = csv.DictReader(io.StringIO(run("reach", "--all", "--format", "csv", "--office", tmp_path).stdout))
    found = {(row["person"], row["folder"], row["way"]): row["level"] for row in table}
    assert found["una", "meadow:/a", "team"] == found["una", "meadow:/a/b", "handed"] == "unknown"
    assert "all but these" in run("groups", "--all", "--office", tmp_path).stdout
    found = json.loads(run("check", "--format", "json", "--office", tmp_path, status=ANY).stdout)
    assert not {"published-for-nobody", "member-missing"} & {one["check"] for one in found["rows"]}


def test_roles_entitlements_and_the_service_are_gates_of_their_own(tmp_path, run) -> None:
    standing = [
        {"login": "hale", "roles": ["user"], "entitlements": ["basic"]},
        {"login": "una", "roles": "none", "entitlements": "basic"},
        {"login": "moss", "roles": ["both"], "entitlements": []},
        {"login": "vane", "roles": ["top"], "entitlements": ["other", "basic"]},
    ]
    members = [{"team": "/a", "holder": who, "level": "write"} for who in ("hale", "una", "moss", "vane")]
    tables = {
        "teams": [{"path": "/a"}],
        "team-members": members,
        "standing": standing,
        "service": [{"entitlement": "basic"}],
    }
    _listing(tmp_path, tables, "login,id\nhale,hale\nuna,una\nmoss,moss\nvane,vane\n")

    def levels() -> dict[tuple[str, str], str]:
        run("count", "--office", tmp_path)
        rows = csv.DictReader(io.StringIO(run("who", "meadow:/a", "--format", "csv", "--office", tmp_path).stdout))
        return {(row["person"], row["way"]): row["level"] for row in rows if row["way"] in ("team", "admin")}

    assert levels() == {
        ("hale", "team"): "write", ("una", "team"): "none", ("moss", "team"): "none", ("moss", "admin"): "manage",
        ("vane", "team"): "write", ("vane", "admin"): "manage",
    }  # fmt: skip
    assert "they have no licence" in run("why", "moss", "meadow:/a", "--office", tmp_path).stdout
    (tmp_path / "service.json").write_text(json.dumps([{"running": "no"}]))
    assert {level for (_, way), level in levels().items() if way == "team"} == {"none"}
    assert "the service is switched off" in run("why", "hale", "meadow:/a", "--office", tmp_path).stdout


def test_a_ledger_of_before_is_brought_on(tmp_path, demo, run) -> None:
    """A ledger without anything shared, as an older version wrote it, is read and added to."""
    office = tmp_path / "office"
    office.mkdir()
    for path in demo.iterdir():
        if path.name not in ("ledger.db",) and path.is_file():
            (office / path.name).write_bytes(path.read_bytes())
    run("count", "--quiet", "--office", office)
    db = sqlite3.connect(office / "ledger.db")
    for statement in (
        "DROP TABLE shared", "DROP TABLE seals", "DROP TABLE journal", "DROP TABLE findings", "DROP TABLE reviews", "DROP TABLE notices", "DROP TABLE chain", *DROP_TRAIL, "ALTER TABLE account_groups DROP COLUMN untold", "ALTER TABLE accounts DROP COLUMN admission", "ALTER TABLE accounts DROP COLUMN is_entitled",
        "PRAGMA user_version = 2",
    ):  # fmt: skip
        db.execute(statement)
    db.commit()
    db.close()
    assert "no system of this count" in run("links", "--office", office, status=2).stderr
    assert run("who", "barn:/Payroll", "--office", office).stdout
    run("count", "--quiet", "--office", office)
    assert "9 hand-outs" in run("links", "--office", office, status=1).stdout
    assert "links of" in run("ledger", "--verify", "--office", office).stdout


def _set(table: str, ident: str, **more: str):
    """Return a change of one row of what is shared."""

    def change(tables: dict[str, list[dict[str, str]]]) -> None:
        for row in tables[table]:
            if ident in (row.get("id"), row.get("login"), row.get("path"), row.get("name")):
                row |= {key.replace("_", "-"): value for key, value in more.items()}

    return change


def _drop(table: str, ident: str):
    """Return the removal of one row."""

    def change(tables: dict[str, list[dict[str, str]]]) -> None:
        tables[table] = [row for row in tables[table] if ident not in (row.get("id"), row.get("login"))]

    return change


FIXES = [
    ("anyone-may-change", "k1 from", _set("links", "k1", level="read")),
    ("no-password", "k1 from", _set("links", "k1", password="yes")),
    ("no-end", "k4 from", _set("links", "k4", expires="2026-12-24")),
    ("not-encrypted", "k7 from", _set("links", "k7", encrypted="yes")),
    ("ended-but-on", "k3 from", _set("links", "k3", on="no")),
    ("homes-opened", "k10 from", _set("links", "k10", path="/People/hale")),
    ("administrator-link", "k6 from", _drop("links", "k6")),
    ("handed-outside", "h1 from", _set("hand-outs", "h1", kind="person", receiver="una")),
    ("chain-too-deep", "h4 from", _set("hand-outs", "h4", passed_from="h2")),
    ("passed-on", "h6 from", _drop("hand-outs", "h6")),
    ("download-void", "share barn:/Records/2026", _set("teams", "Cases 2026", download="yes")),
    ("granted-not-published", "desk are granted", _set("teams", "Old rota", on="yes")),
    ("guest-idle", "not seen for 264 days", _set("guests", "vetline", last_seen="2026-11-20")),
    ("guest-without-inviter", "Vetline", _set("guests", "vetline", inviter="hale")),
    ("invitation-waiting", "2026-04-20", _set("guests", "agency", accepted="2026-04-21")),
    ("restricted-top", "thorne", _set("standing", "thorne", roles="top;user;administrator")),
    ("administrator-without-second-factor", "thorne", _set("standing", "thorne", second_factor="yes")),
    ("password-never-changed", "wren", _set("standing", "wren", password_set="2026-11-01")),
    ("device-lost", "Dilys", _set("devices", "d3", state="wiped")),
    ("device-of-leaver", "sams-laptop", _drop("devices", "d2")),
    ("unmanaged-device", "home PC", _set("devices", "d4", managed="yes")),
]


def test_findings_on_sharing_go_when_what_they_tell_is_put_right(made_demo, tmp_path, run) -> None:
    office = tmp_path / "office"
    office.mkdir()
    for path in made_demo.iterdir():
        if path.is_file() and path.name != "ledger.db":
            (office / path.name).write_bytes(path.read_bytes())
    only = [word for check, _, _ in FIXES for word in ("--only", check)]

    def found() -> set[tuple[str, str]]:
        run("count", "--quiet", "--today", "2026-11-23", "--office", office)
        done = run("check", *only, "--format", "csv", "--today", "2026-11-23", "--office", office, status=None)
        return {(row["check"], row["evidence"]) for row in csv.DictReader(io.StringIO(done.stdout))}

    before = found()
    shared = office / "meadow.shared.json"
    tables = json.loads(shared.read_text())
    for check, told, change in FIXES:
        assert any(name == check and told in evidence for name, evidence in before), check
        change(tables)
    shared.write_text(json.dumps(tables))
    after = found()
    for check, told, _ in FIXES:
        assert not any(name == check and told in evidence for name, evidence in after), check
    # What was not put right is still told.
    assert any(name == "no-end" and "k6" not in evidence for name, evidence in after)
    assert len(after) < len(before) - 10


def test_a_services_list_is_pushed_down_to_its_own_folders_and_files(demo, run) -> None:
    told = run("folders", "meadow:/", "--pushed", "--office", demo).stdout
    # What lies under team folders over a share has lists of that share.
    assert "37 folders, 53 files change" in told and "barn:" not in told.partition("\n")[2]
    assert "owner" in run("folders", "meadow:/People/birch", "--office", demo, "--new-item").stdout
    lacking = run("folders", "loft:/", "--office", demo, "--new-item", status=2).stderr
    assert "nobody told whom this folder belongs to" in lacking and "--made-by" in lacking


def test_a_link_is_ended_by_its_name_and_who_loses_what_is_what_supposing_it_says(
    demo: Path, run, tmp_path: Path
) -> None:
    day = ("--office", demo, "--today", "2026-11-23")
    for word, name in (("k1", "link:k1"), ("LINK:K1", "link:k1"), ("h1", "hand-out:h1")):
        told = run("links", word, "--end", "--steps", tmp_path / "end.json", *day)
        assert "1 step in" in told.stderr
        rows = run("links", word, "--end", "-f", "csv", *day).stdout
        assert rows == run("suppose", "--unshare", name, "-f", "csv", *day).stdout
        (step,) = read_steps(tmp_path / "end.json")
        assert step.after is None or not step.after.is_on
        assert run("mend", tmp_path / "end.json", *day, status=None).stdout.startswith(
            f"1 step of {tmp_path}/end.json"
        )
    for words, said in (
        (("k99",), "no link or hand-out is called 'k99' (did you mean"), ((), "which link is to end? (links link:ID --end"),
    ):  # fmt: skip
        assert said in run("links", *words, "--end", *day, status=2).stderr
    assert "--steps belongs to --end" in run("links", "--steps", "x", *day, status=2).stderr
    office = Path(shutil.copytree(demo, tmp_path / "o"))
    shared = json.loads((office / "meadow.shared.json").read_text())
    next(link for link in shared["links"] if link["id"] == "k1")["on"] = "no"
    (office / "meadow.shared.json").write_text(json.dumps(shared))
    later = ("--office", office, "--today", "2026-11-24")
    run("count", "meadow", *later)
    assert "link:k1 on meadow is off already" in run("links", "k1", "--end", *later, status=2).stderr
