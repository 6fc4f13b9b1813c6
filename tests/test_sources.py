"""Listings of every sort of list, with mapped columns and shares; and an SMB server that fails in every way."""

from __future__ import annotations

import csv
import io
import json
import re
import socket
import sqlite3
import subprocess
import tempfile
import threading
from contextlib import closing
from pathlib import Path

import pytest

from judges import smb
from test_smb_judge import office

PEOPLE = "Konto;Nummer;login;id;email;service\n;;ada;S-1-5-21-1-2-3-1001;ada@x.example;yes\n;;bo;S-1-5-21-1-2-3-1002;;no\n;;cy;x;;perhaps\n"
GROUPS = "name,id\nvets,S-1-5-21-1-2-3-2001\nall,S-1-5-21-1-2-3-2002\n"
MEMBERS = "group,member,kind\nvets,ada,\nall,vets,group\nall,nemo,\nnone,ada,\n"
ENTRIES = """Full Path|Kind|Owner|Security|bytes
/|folder||D:|0
/Data|folder|LOFT\\ada|D:(A;OICI;FA;;;BA)(A;OICI;0x1301bf;;;S-1-5-21-1-2-3-2002)|0
/Data/a%7Cb.txt|file|bo|shared|12
/Data/bad.txt|file|bo|D:(A;;FA;;;nobody)|3
/Data/strange|folder|nemo@x|D:|0
/Hidden|folder|ada|D:(A;;FA;;;DU)|0
"""
LISTS = "id,list\nshared,D:(A;;FR;;;WD)\n"
SHARES = "name,path,list,read-only\nData,/Data,D:(A;;FA;;;WD),yes\n"


def write(folder: Path, plan: dict, **files: str) -> Path:
    (folder / "office.yaml").write_text(json.dumps({"office": "X", "systems": plan}))
    for name, text in files.items():
        (folder / f"{name}.csv").write_text(text)
    return folder


def levels(run, where: Path, folder: str) -> dict[str, tuple[str, str]]:
    rows = csv.DictReader(io.StringIO(run("who", "--all", "--office", where, folder, "--format", "csv").stdout))
    return {row["person"]: (row["level"], row["files_read"]) for row in rows if row["way"] == "any"}


def test_what_another_export_says_is_mapped_or_unknown_and_never_taken_raw(run, tmp_path) -> None:
    """A heading that is not there is an error; words and days go by the plan; what it does not map is told by column."""
    columns = {
        "people": {
            "login": "Account",
            "state": {"heading": "Status", "values": {"Active": "open", "Disabled": "disabled"}},
            "last-seen": {"heading": "Last logon", "dates": "DD.MM.YYYY", "values": {"Never": None}},
        }
    }
    system = {
        "source": "listing", "path": "entries.csv", "accounts": {"people": "people.csv", "groups": "groups.csv"},
        "columns": columns,
    }  # fmt: skip
    where = write(
        tmp_path,
        {"barn": system},
        groups="name,id,extra\nall,7,x\n",
        entries="path,type,owner,group,mode\n/,folder,0,0,755\n/a,folder,11,0,705\n",
        people="Account,id,Status,Last logon,e_mail\nada,11,ACTIVE,03.02.2026 10:00,a@x.example\nbo,12,Disabled,Never,\n"
        "cy,13,Aktiv,2026-02-03,\n",
    )
    told = run("count", "--not-seen", "--office", where).stdout
    assert "people.csv:4  Status says 'Aktiv', which the plan does not map: it is unknown" in told
    assert "people.csv:4  Last logon says '2026-02-03', which is no day in the form DD.MM.YYYY: it is unknown" in told
    assert "the column 'e_mail' is not read: if it is email" in told and told.count("people.csv") == 3
    assert {who: level for who, (level, _) in levels(run, where, "barn:/a").items()} == {
        "ada": "manage", "bo": "none", "cy": "unknown",
    }  # fmt: skip
    why = run("why", "cy", "barn:/a", "--office", where).stdout
    assert "unknown" in why and "whether it is open was not told" in " ".join(why.split())
    assert "2026-02-03" in run("people", "ada", "--office", where).stdout
    columns["people"]["state"]["heading"] = "Statuss"
    write(tmp_path, {"barn": system})
    told = run("count", "--office", where, status=2).stderr
    assert "there is no column 'Statuss'" in told and "nearest are Status" in told


def test_a_listing_of_nt_lists_from_another_export(run, tmp_path) -> None:
    system = {
        "source": "listing", "lists": "nt", "path": "entries.csv", "list-table": "lists.csv", "shares": "shares.csv",
        "accounts": {"people": "people.csv", "groups": "groups.csv", "members": "members.csv"},
        "domain-sid": "S-1-5-21-1-2-3", "service": ["all"],
        "columns": {"entries": {"path": "Full Path", "type": "Kind", "owner": "Owner", "list": "Security"}},
    }  # fmt: skip
    where = write(
        tmp_path,
        {"loft": system},
        people=PEOPLE,
        groups=GROUPS,
        members=MEMBERS,
        entries=ENTRIES,
        lists=LISTS,
        shares=SHARES,
    )
    told = run("count", "--not-seen", "--office", where).stdout
    for fault in (
        "people.csv:4",
        "members.csv:4",
        "members.csv:5",
        "entries.csv:5",
        "entries.csv:6",
        "nobody",
        "nemo",
    ):
        assert fault in told, fault
    found = levels(run, where, "loft:/Data")
    assert found == {"ada": ("read", ""), "bo": ("none", "0"), "cy": ("none", "0")}, (
        "read-only for ada, unknown for one file; no service for bo"
    )
    assert levels(run, where, "loft:/Hidden") == dict.fromkeys(("ada", "bo", "cy"), ("none", "0"))
    why = run("why", "ada", "loft:/Data", "--office", where).stdout
    assert "the share is switched to read-only" in why and "allow all: write" in why
    assert "no share publishes this folder" in run("why", "ada", "loft:/Hidden", "--office", where).stdout
    assert "service is not switched on" in run("why", "bo", "loft:/Data", "--office", where).stdout
    assert "unknown" in run("who", "loft:/Data/strange", "--office", where).stdout
    system["columns"]["entries"]["path"] = "Pfad"
    write(tmp_path, {"loft": system})
    assert "there is no column 'Pfad'" in run("count", "--office", where, status=2).stderr


def test_a_listing_of_nfs4_lists_and_what_new_items_get(run, tmp_path) -> None:
    entries = """path,type,owner,group,list,bytes
/,folder,ada,vets,"A::OWNER@:rwx,A::EVERYONE@:rx",0
/Scans,folder,ada,vets,"A::OWNER@:rwaxDC,A:gfd:vets@x.example:rwax,D::bo:r,A:fdi:EVERYONE@:rx",0
/Scans/new,folder,bo,vets,"A::OWNER@:rwax",0
/Scans/one,file,bo,vets,A:g:vets:r,9
"""
    system = {
        "source": "listing", "lists": "nfs4", "path": "entries.csv",
        "accounts": {"people": "people.csv", "groups": "groups.csv", "members": "members.csv"},
    }  # fmt: skip
    people = "login,id,primary\nada,11,vets\nbo,12,others\ncy,13,\n"
    where = write(
        tmp_path,
        {"nas": system},
        entries=entries,
        people=people,
        groups="name,id\nvets,21\nothers,22\n",
        members="group,member\nvets,bo\n",
    )
    assert "all was seen" in run("count", "--office", where).stdout
    assert levels(run, where, "nas:/Scans") == {"ada": ("manage", "1"), "bo": ("write", "1"), "cy": ("none", "0")}
    new = run("folders", "nas:/Scans", "--made-by", "bo", "--office", where, "--new-item").stdout
    assert (
        "allow group vets (21): write" in new
        and "allow everyone: read" in new
        and "owner" not in new.partition("own list")[0]
    )
    push = run("folders", "nas:/Scans", "--pushed", "--office", where).stdout
    assert "nas:/Scans/new" in push and "allow the owner" in push and "cy (enter list read)" in push
    kept = run("folders", "nas:/Scans", "--pushed", "--keep-own", "--office", where, "--format", "json").stdout
    assert all(not row["lost_entries"] for row in json.loads(kept)["rows"])


def test_accounts_are_joined_when_the_plan_says_so(run, tmp_path) -> None:
    system = {"source": "listing", "lists": "nt", "path": "entries.csv", "accounts": {"people": "people.csv"}}
    people = {"ada": {"email": "Ada@x.example"}, "bo": {"email": "both@x.example"}, "cy": {"email": "both@x.example"}}
    where = write(
        tmp_path, {"one": system}, entries="path,type,list\n/,folder,D:(A;;FR;;;WD)\n",
        people="login,id,email\na.one,S-1-5-21-1-2-3-1001,ADA@x.example\nCY,S-1-5-21-1-2-3-1002,\nb,S-1-5-21-1-2-3-1003,both@x.example\n",
    )  # fmt: skip
    plan = json.loads((where / "office.yaml").read_text()) | {"people": people}
    (where / "office.yaml").write_text("# kept\n" + json.dumps(plan, indent=1))
    run("count", "--office", where)
    rows = {
        row["account"]: (row["state"], row["person"])
        for row in json.loads(run("people", "--match", "--office", where, "--format", "json").stdout)["rows"]
    }
    assert rows == {
        "one:a.one": ("proposed", ["ada"]),
        "one:CY": ("proposed", ["cy"]),
        "one:b": ("ambiguous", ["bo", "cy"]),
    }
    assert "joined" in run("people", "--match", "--write", "--office", where).stdout
    assert (where / "office.yaml").read_text().startswith("# kept")
    assert levels(run, where, "one:/").keys() == {"ada", "cy", "b"}


@pytest.mark.judge
def test_a_server_that_goes_away_or_refuses_is_told(run, start, tmp_path_factory, monkeypatch) -> None:
    # How long one waits for a server is not what is tried here.
    monkeypatch.setattr("neatledger.sources.smbsteady._WAITS", (0.05,) * 5)
    with tempfile.TemporaryDirectory(dir="/tmp") as name:
        folder = Path(name)
        tmp_path = tmp_path_factory.mktemp("offices")
        with smb.server(folder, {"open": "", "shut": f"D:(A;;0x120089;;;{smb.BASE}-5001)"}) as running:
            for number in range(40):
                (folder / "data" / "open" / f"f{number:02d}").mkdir()
                (folder / "data" / "open" / f"f{number:02d}" / "x.txt").write_text("x")
            monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", "wrong")
            where = office(tmp_path / "a", running, shares=["open", "shut"])
            refused = run("count", "--office", where, status=2)
            assert (
                "cannot sign in" in refused.stderr
                and "wrong" not in refused.stderr
                and refused.stderr.count("\n") == 1
            )
            assert not (where / "ledger.db").exists()
            monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", running.password)
            told = run("count", "--not-seen", "--office", where).stdout
            assert "loft:/shut" in told and "no connection to the share" in told
            facts = run("folders", "loft:/open", "--format", "csv", "--office", where).stdout
            assert facts.count("f3") == 10 and "list not seen" not in facts
            cut = office(tmp_path / "b", running, timeout=2, shares=["open"])
            with _proxy(running.port, stops_after=60_000) as port:
                (cut / "office.yaml").write_text(
                    (cut / "office.yaml").read_text().replace(str(running.port), str(port))
                )
                told = run("count", "--office", cut, status=2).stderr
            assert "loft was not counted" in told and "went away while it was read" in told and told.count("\n") == 1
            assert not (cut / "ledger.db").exists(), "half a server is not kept for a whole one"
        gone = run("count", "--office", where, status=2).stderr
        assert str(running.port) in gone and gone.count("\n") == 1
    monkeypatch.delenv("NEATLEDGER_PASSWORD_LOFT")
    missing = start("count", "--office", where, status=2, stdin=subprocess.DEVNULL).stderr
    assert "NEATLEDGER_PASSWORD_LOFT" in missing


@pytest.mark.judge
def test_guests_are_refused_and_passwords_come_from_the_keyring(run, start, tmp_path, monkeypatch) -> None:
    weak = {"map_to_guest": "bad user", "smb_encrypt": "off", "server_signing": "auto", "restrict_anonymous": "0"}
    with tempfile.TemporaryDirectory(dir="/tmp") as name, smb.server(Path(name), {"open": ""}, **weak) as running:
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", "anything")
        monkeypatch.setenv("NEATLEDGER_USER_LOFT", "stranger")
        where = office(tmp_path / "a", running, shares=["open"])
        told = run("count", "--office", where, status=2).stderr
        assert (
            "guest" in told
            and "anything" not in told
            and told.count("\n") == 1
            and not (where / "ledger.db").exists()
        )
        allowed = office(tmp_path / "b", running, shares=["open"], **{"allow-guest": True, "allow-unsigned": True})
        assert "kept" in run("count", "--office", allowed).stdout
        # An ordinary account is not told the permissions of shares: unknown, until the plan tells them.
        (Path(name) / "data" / "open" / "f01").mkdir()
        monkeypatch.setenv("NEATLEDGER_USER_LOFT", "ada")
        monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", running.password)
        plain = office(tmp_path / "c", running, shares=["open"])
        told = run("count", "--not-seen", "--office", plain).stdout
        assert "does not tell this share's permission" in told
        who = run("who", "loft:/open", "--office", plain).stdout
        assert "0 of" in who and "it is unknown" in who and "a list that could not be read" in who
        plain = office(tmp_path / "d", running, shares=["open"], permissions={"open": "D:(A;;0x1200a9;;;WD)"})
        run("count", "--office", plain)
        why = run("why", "bo", "loft:/open/f01", "--office", plain).stdout
        assert re.search(r"share open +read +allow Everyone: read", why), why
        monkeypatch.delenv("NEATLEDGER_PASSWORD_LOFT")
        monkeypatch.delenv("NEATLEDGER_USER_LOFT")
        # A keyring of our own: what it holds is asked for by the system's and the user's name.
        (tmp_path / "ring.py").write_text(
            "import keyring.backend\nclass Ring(keyring.backend.KeyringBackend):\n    priority = 9\n"
            "    def set_password(self, *words): raise AssertionError\n"
            "    def get_password(self, service, user):\n"
            f"        return {running.password!r} if (service, user) == ('neatledger loft', {running.admin!r}) else None\n"
        )
        monkeypatch.setenv("PYTHONPATH", str(tmp_path))
        monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "ring.Ring")
        done = start("count", "--office", where)
        assert "kept" in done.stdout and running.password not in done.stdout + done.stderr
        kept = (where / "ledger.db").read_bytes()
        assert running.password.encode() not in kept
        with closing(sqlite3.connect(where / "ledger.db")) as ledger:
            (facts,) = ledger.execute("SELECT facts FROM surveys").fetchone()
        assert json.loads(facts)["encrypted"] == 0, "this server offers none; the messages are signed"


class _proxy:
    """Passes bytes on to a server until so many have come back, then says nothing more."""

    def __init__(self, port: int, stops_after: int) -> None:
        self._port, self._left = port, stops_after
        self._sockets = [socket.create_server(("127.0.0.1", 0))]
        self._threads: list[threading.Thread] = []

    def __enter__(self) -> int:
        self._start(self._serve)
        return self._sockets[0].getsockname()[1]

    def _start(self, work, *words) -> None:
        self._threads.append(threading.Thread(target=work, args=words, daemon=True))
        self._threads[-1].start()

    def _serve(self) -> None:
        here, _ = self._sockets[0].accept()
        there = socket.create_connection(("127.0.0.1", self._port))
        self._sockets += [here, there]
        self._start(self._pass, here, there, False)
        self._start(self._pass, there, here, True)

    def _pass(self, source: socket.socket, target: socket.socket, counts: bool) -> None:
        try:
            while data := source.recv(65536):
                self._left -= len(data) if counts else 0
                if self._left < 0:
                    return
                target.sendall(data)
        except OSError:
            return

    def __exit__(self, *_: object) -> None:
        for each in self._sockets[1:]:
            each.shutdown(socket.SHUT_RDWR)
        for each in self._sockets:
            each.close()
        for thread in self._threads:
            thread.join(5)
