"""Logs of every form: a real directory's own log, real sign-in files, kernel records, exports, the service."""

from __future__ import annotations

import csv
import io
import json
import random
import shutil
import subprocess
from collections import Counter
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import ldap3
import pytest
from hypothesis import given
from hypothesis import strategies as st

from judges import ldap
from neatledger.core.trail.records import Did, Record
from neatledger.demo import meadow
from neatledger.demo.service.server import Service
from neatledger.errors import FormatError, SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.logs.kernelaudit import AuditEvents
from neatledger.sources.logs.signins import RECORD_BYTES, parse_sign_in
from neatledger.sources.logs.table import Reading, read_log

NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)


def reading_of(folder: Path, settings: dict, position=None) -> Reading:
    context = SourceContext("loft", folder, {}, date(2026, 11, 29), lambda _: None, lambda *_: None)
    return Reading(context, settings, position, None)


def records(reading: Reading) -> list[Record]:
    return [one.record for one in read_log(reading) if one.record is not None]


def rows(run, folder: Path, *words: str) -> list[dict[str, str]]:
    told = run("trail", "-a", *words, "--format", "csv", "--office", folder).stdout
    return list(csv.DictReader(io.StringIO(told)))[::-1]


# A directory's own log ----------------------------------------------------------------------------------

LOG_CONF = """moduleload accesslog
database mdb
suffix "cn=accesslog"
rootdn "cn=root,{base}"
directory {dir}/log
index reqStart,reqEnd,reqResult eq
access to * by users read
"""


@pytest.mark.judge
@pytest.mark.skipif(not ldap.is_there(), reason="needs a directory server")
def test_what_is_done_in_a_real_directory_is_told_once_by_its_own_log(tmp_path: Path, run, monkeypatch) -> None:
    rng = random.Random(4)
    first, last = ldap._CONF.split("database mdb\n")
    monkeypatch.setattr(
        ldap,
        "_CONF",
        f"{first}{LOG_CONF}database mdb\n{last}overlay accesslog\nlogdb cn=accesslog\nlogops writes session\n",
    )
    (tmp_path / "log").mkdir()
    text, _ = ldap.random_ldif(rng, 30, 3)
    text = text.replace("\nuid: p", f"\nuserPassword: {ldap.PASSWORD}\nuid: p")
    office = tmp_path / "o"
    (office / "tree").mkdir(parents=True)
    with ldap.running(tmp_path, text) as url:
        (office / "office.yaml").write_text(
            f"office: P\nsystems:\n  loft: {{source: tree, path: tree, accounts: {{ldap: {{url: '{url}', base: '{ldap.BASE}',"
            f" user: '{ldap.ADMIN}', ca: {tmp_path}/cert.pem, page: 50}}}}, logs: [{{form: accesslog}}]}}\n"
        )
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", ldap.PASSWORD)
        run("count", "--no-check", "--quiet", "--office", office)
        expected: list[tuple[str, str, str, str]] = []
        root = _session(url, f"cn=root,{ldap.BASE}", ldap.PASSWORD)
        expected.append(("root", "signed in", f"cn=root,{ldap.BASE}", "1"))
        for number in range(40):
            who = f"uid=p{rng.randrange(25)},ou=people,{ldap.BASE}"
            act = rng.choice(["in", "wrong", "mail", "member", "read"])
            if act in ("in", "wrong"):
                is_right = act == "in"
                session = _session(url, who, ldap.PASSWORD if is_right else "secret guess")
                session.unbind()
                expected.append((who.split(",")[0][4:], "signed in", who, "01"[is_right]))
            elif act == "mail":
                root.modify(who, {"mail": [(ldap3.MODIFY_REPLACE, [f"secret{number}@x.example"])]})
                expected.append(("root", "changed an account", f"{who}: changed mail", "1"))
            elif act == "member":
                group = f"cn=g{rng.randrange(3)},ou=groups,{ldap.BASE}"
                root.modify(group, {"member": [(ldap3.MODIFY_ADD, [f"cn=new{number},{ldap.BASE}"])]})
                expected.append(("root", "changed rights of", f"{group}: changed member", "1"))
            else:
                root.search(who, "(objectClass=*)", ldap3.BASE)
            if number % 10 == 9:
                run("count", "--logs", "--office", office)
        run("count", "--logs", "--office", office)
        run("count", "--logs", "--office", office)
        before = rows(run, office)
        # The directory removes what is old by itself; what went unread with it is missing, and that is said.
        root.search("cn=accesslog", "(objectClass=auditObject)", ldap3.LEVEL)
        for dn in [one.entry_dn for one in root.entries]:
            root.delete(dn)
        root.unbind()
        assert "is gone from the log" in " ".join(run("count", "--logs", "--office", office).stdout.split())
    told = [(row["login"], row["did"], row["detail"], row["done"]) for row in before]
    assert Counter(one for one in told if one[0] != "reader") == Counter(expected)
    assert b"secret" not in (office / "ledger.db").read_bytes()
    assert "not read" in run("count", "--logs", "--office", office, status=2).stdout


def _session(url: str, dn: str, password: str) -> ldap3.Connection:
    connection = ldap3.Connection(ldap3.Server(url, get_info=ldap3.NONE), dn, password)
    connection.open()
    connection.start_tls()
    connection.bind()
    return connection


# Sign-ins of a Unix system ------------------------------------------------------------------------------


@pytest.mark.skipif(not shutil.which("utmpdump"), reason="needs a reader of such files")
def test_files_of_sign_ins_are_read_as_another_reader_does(tmp_path: Path, run) -> None:
    rng = random.Random(2)
    lines = []
    for number in range(60):
        kind = rng.choice([2, 5, 6, 7, 7, 7, 8])
        host, address = rng.choice(
            [("desk.example", "0.0.0.0"), ("10.0.0.7", "10.0.0.7"), ("", "0.0.0.0"), ("v6", "2001:db8::7")]
        )
        when = NOON + timedelta(minutes=number)
        user = rng.choice(["ada", "bo", "a" * 32]) if kind != 2 else "reboot"
        lines.append(
            f"[{kind}] [{1000 + number:05}] [ts/{number % 9}] [{user:8}] [pts/{number % 9:<8}] [{host:20}] [{address:15}] [{when:%Y-%m-%dT%H:%M:%S},000000+00:00]\n"
        )
    log = tmp_path / "wtmp"
    log.write_bytes(
        subprocess.run(["utmpdump", "-r"], input="".join(lines).encode(), capture_output=True, check=True).stdout
    )
    dumped = subprocess.run(["utmpdump", log], capture_output=True, check=True, text=True).stdout
    expected = [
        (cells[3].strip(), cells[7][:19])
        for line in dumped.splitlines()
        if (cells := [one.split("[", 1)[-1] for one in line.split("]")]) and cells[0] == "7"
    ]  # fmt: skip
    found = records(reading_of(tmp_path, {"file": "wtmp", "form": "sign-ins"}))
    assert [(one.who, f"{one.moment:%Y-%m-%dT%H:%M:%S}") for one in found] == expected and len(found) > 20
    assert {one.address for one in found} <= {"desk.example", "10.0.0.7", "", "2001:db8::7"} and all(
        one.is_done for one in found
    )
    refused = records(reading_of(tmp_path, {"file": "wtmp", "form": "sign-ins", "refused": True}))
    assert len(refused) > len(found) and not any(one.is_done for one in refused)
    # Half a record waits for the rest of it.
    whole = log.read_bytes()
    log.write_bytes(whole[: RECORD_BYTES * 10 + 7])
    reading = reading_of(tmp_path, {"file": "wtmp", "form": "sign-ins"})
    half = list(read_log(reading))
    assert len(half) == 10
    log.write_bytes(whole)
    rest = list(read_log(reading_of(tmp_path, {"file": "wtmp", "form": "sign-ins"}, half[-1].position)))
    assert [one.record for one in (*half, *rest) if one.record] == found


@given(st.binary(min_size=RECORD_BYTES, max_size=RECORD_BYTES), st.booleans())
def test_no_record_of_a_sign_in_does_more_than_to_be_told(data: bytes, is_refused: bool) -> None:
    try:
        found = parse_sign_in(data, is_refused=is_refused)
    except FormatError:
        return
    assert found is None or (found.did is Did.SIGN_IN and found.is_done is not is_refused)


# The kernel ---------------------------------------------------------------------------------------------

EVENTS = json.loads((Path(__file__).parent / "vectors" / "kernelaudit.json").read_text())


@pytest.mark.parametrize("case", EVENTS, ids=[one["name"] for one in EVENTS])
def test_records_of_the_kernel(case: dict) -> None:
    events = AuditEvents({b"/srv/desk": b"/desk", b"/": b"/elsewhere"})
    found = [one for line in case["lines"] if (one := events.take(line)) is not None]
    told = [
        [one.who, one.did.key, one.path.decode(), one.to.decode(), one.is_done, one.is_folder, one.address, one.detail] for one in found
    ]  # fmt: skip
    assert told == case["expected"] and not events.is_open, case["because"]
    assert all(f"{one.moment:%Y-%m-%dT%H:%M:%S}" == "2026-11-20T12:00:00" for one in found)


# Exports ------------------------------------------------------------------------------------------------

MAPPING = {
    "when": {"heading": "Zeit", "dates": "DD.MM.YYYY hh:mm:ss"}, "who": "Wer",
    "did": {"heading": "Was", "values": {"gelesen": "open", "weg": "delete", "Anmeldung": "sign-in", "Ping": ""}},
    "path": "Pfad", "done": {"heading": "Erfolg", "values": {"ja": "yes", "nein": "no"}},
}  # fmt: skip
TOLD = [
    ("20.11.2026 13:00:00", "ada", "gelesen", "/srv/desk/a b.txt", "ja"), ("20.11.2026 13:00:01", "bo", "weg", "/srv/desk/x;y", "nein"),
    ("20.11.2026 13:00:02", "bo", "Ping", "", "ja"), ("20.11.2026 13:00:03", "ada", "Anmeldung", "", "nein"),
]  # fmt: skip
HEADS = ("Zeit", "Wer", "Was", "Pfad", "Erfolg")
EXPECTED = [
    ("ada", Did.OPEN, b"/desk/a b.txt", True), ("bo", Did.DELETE, b"/desk/x;y", False), ("ada", Did.SIGN_IN, b"", False),
]  # fmt: skip


def _export(folder: Path, ending: str, told: list[tuple[str, ...]]) -> dict:
    objects = [dict(zip(HEADS, one, strict=True)) for one in told]
    path = folder / f"done.{ending}"
    if ending == "csv":
        out = io.StringIO()
        csv.writer(out, delimiter=";").writerows([HEADS, *told])
        path.write_text(out.getvalue())
    elif ending == "json":
        path.write_text(json.dumps({"version": 1, "events": objects}))
    elif ending == "jsonl":
        path.write_text("".join(json.dumps(one) + "\n" for one in objects) + '{"Zeit": "20.')
    else:
        inner = "".join(
            "<e Wer='{Wer}'><Zeit>{Zeit}</Zeit><Was>{Was}</Was><Pfad>{Pfad}</Pfad><Erfolg>{Erfolg}</Erfolg></e>".format(
                **one
            )
            for one in objects
        )
        path.write_text(f"<log><head/><list>{inner}</list></log>")
    return {
        "file": path.name,
        "form": "table",
        "columns": MAPPING,
        "roots": {"/srv/desk": "/desk"},
        "zone": "Europe/Berlin",
        "row": "e",
    }


@pytest.mark.parametrize("ending", ["csv", "json", "jsonl", "xml"])
def test_exports_of_others_are_read_by_a_mapping_and_once(tmp_path: Path, ending: str) -> None:
    settings = _export(tmp_path, ending, TOLD[:2])
    half = list(read_log(reading_of(tmp_path, settings)))
    _export(tmp_path, ending, TOLD)
    rest = list(read_log(reading_of(tmp_path, settings, half[-1].position)))
    found = [one.record for one in (*half, *rest) if one.record]
    assert [(one.who, one.did, one.path, one.is_done) for one in found] == EXPECTED
    assert found[0].moment == NOON and not any(one.fault or one.is_other for one in (*half, *rest))
    # Another export in its place is told as one: what is old of it is known already.
    _export(tmp_path, ending, TOLD[1:])
    again = reading_of(tmp_path, settings, rest[-1].position)
    again.known = NOON
    assert all(one.is_other for one in read_log(again)) and not again.lost
    # Where it begins long after what was read, something may be missing.
    again = reading_of(tmp_path, settings, rest[-1].position)
    again.known = NOON - timedelta(days=3)
    assert list(read_log(again)) and "begins after" in again.lost[0]


def test_exports_that_say_too_little_are_told(tmp_path: Path) -> None:
    settings = _export(tmp_path, "csv", [*TOLD, ("yesterday", "ada", "weg", "", "ja"), ("20.11.2026 13:00:03", "ada", "tanzt", "", "ja"), ("20.11.2026 13:00:03", "", "weg", "", "ja"), ("20.11.2026 13:00:03", "a", "weg", "/etc/x", "ja"), ("20.11.2026 13:00:03", "a", "weg", "/srv/desk/../x", "ja")])  # fmt: skip
    faults = [one.fault for one in read_log(reading_of(tmp_path, settings)) if one.fault]
    assert len(faults) == 5 and "no day and time" in faults[0] and "does not map" in faults[1]
    for broken, word in ((dict(settings, columns={"who": "Wer"}), "lacks the column"), (dict(settings, columns={**MAPPING, "who": "Wr"}), "no column"), (dict(settings, zone="Mars"), "time zone"), (dict(settings, file="none.csv"), "cannot be read")):  # fmt: skip
        with pytest.raises(SourceError, match=word):
            records(reading_of(tmp_path, broken))
    for name, text in (
        ("x.json", "{"),
        ("x.jsonl", "[1]\n"),
        ("x.xml", "<a>"),
        ("y.xml", '<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'),
    ):
        (tmp_path / name).write_text(text)
        with pytest.raises(SourceError, match="it is no"):
            records(reading_of(tmp_path, {"file": name, "form": "table"}))


# The service, and what is the same for all --------------------------------------------------------------

SERVICE = """office: X
systems:
  meadow:
    source: dav
    url: {url}/dav/
    web: {{user: ledger, token-url: {url}/token}}
    accounts: {{scim: {url}/scim/v2}}
    sharing: {{url: {url}/sharing, page: 3}}
    logs: [{{form: service}}]
"""


def test_the_service_tells_what_was_done_there_and_no_address_of_a_link(tmp_path: Path, run, monkeypatch) -> None:
    import httpx

    monkeypatch.setenv("NEATLEDGER_PASSWORD_MEADOW", "correct horse")
    with Service(tmp_path / "service.db") as service:
        service.store.fill(meadow.users(), meadow.groups(), meadow.nodes(), meadow.shared_tables())
        service.store.set_password(meadow.READER, "correct horse")
        (tmp_path / "office.yaml").write_text(SERVICE.format(url=service.url))
        run("count", "--no-check", "--quiet", "--office", tmp_path)
        before = len(rows(run, tmp_path))
        path = next(one["path"] for one in meadow.nodes() if one["type"] == "file")
        ada = httpx.Client(auth=(meadow.READER, "correct horse"), base_url=service.url)
        assert ada.get(f"/dav{path}").status_code == 200
        assert httpx.get(f"{service.url}/dav{path}", auth=("stone", "guess")).status_code == 401
        assert ada.put("/sharing/links/k99", json={"address": "https://secret/abc"}).status_code in (204, 403)
        ada.close()
        run("count", "--logs", "--office", tmp_path)
        run("count", "--logs", "--office", tmp_path)
    told = [(row["login"], row["did"], row["where"], row["done"]) for row in rows(run, tmp_path)[before:]]
    mine = [one for one in told if one[1] != "signed in" or one[0] == "stone"]
    assert mine[:2] == [(meadow.READER, "opened", f"meadow:{path}", "1"), ("stone", "signed in", "meadow", "0")]
    assert [one[1] for one in mine[2:]] == ["shared"]
    assert told.count((meadow.READER, "signed in", "meadow", "1")) >= 1
    assert b"secret" not in (tmp_path / "ledger.db").read_bytes()
    assert "not read" in run("count", "--logs", "--office", tmp_path, status=2).stdout


def test_a_clock_that_is_ahead_is_told(tmp_path: Path) -> None:
    late = datetime.now(UTC) + timedelta(minutes=17)
    (tmp_path / "a.log").write_text(f"{late.isoformat()} loft smbd_audit: ada|1|d|s|unlinkat|ok|/srv/desk/x\n")
    reading = reading_of(tmp_path, {"file": "a.log", "form": "smb", "roots": {"/srv/desk": "/desk"}})
    assert len(records(reading)) == 1 and "17 minutes ahead" in reading.notes[0]
