"""Logs of real systems that random scripts drive: every deed once, rightly told; rotated, cut, repeated, killed."""

from __future__ import annotations

import contextlib
import csv
import gzip
import io
import os
import random
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest
import smbclient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import COMMAND
from judges import ldap, smb
from neatledger.errors import FormatError
from neatledger.ledger.opening import open_ledger
from neatledger.sources.contract import SourceContext
from neatledger.sources.logs.syslog import parse_line
from neatledger.sources.logs.table import LINE_FORMS, Reading, read_log
from neatledger.sources.logs.weblog import parse_web_line

SOCKET = Path("/dev/log")
OPERATIONS = "connect create_file mkdirat unlinkat renameat fset_nt_acl"
OFFICE = """office: P
people:
  ada: {{name: Ada, accounts: {{loft: ada}}}}
  bo: {{name: Bo, accounts: {{loft: bo}}}}
systems:
  loft: {{source: tree, path: tree, accounts: {{passwd: passwd, group: group}}, logs: [{logs}]}}
"""
SMB_LOG = "{file: audit.log, form: smb, roots: {/srv/desk: /desk}}"


@contextlib.contextmanager
def syslog(target: Path) -> Iterator[None]:
    """Take what is sent to the system log, and write it down as a log daemon does."""
    if SOCKET.exists():
        pytest.skip("this machine has a system log of its own")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as taken, target.open("ab", buffering=0) as log:
        taken.bind(str(SOCKET))
        SOCKET.chmod(0o666)

        def write() -> None:
            while (data := taken.recv(65536)) != b"end":
                text = data.partition(b">")[2].strip().replace(b"\n", b"#012")
                head, _, message = text.partition(b" smbd")
                log.write(head + b" loft smbd" + message + b"\n")

        thread = threading.Thread(target=write)
        thread.start()
        try:
            yield
        finally:
            with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as sender:
                sender.sendto(b"end", str(SOCKET))
            thread.join()
            SOCKET.unlink()


def office_at(folder: Path, logs: str, run) -> Path:
    (folder / "tree" / "desk").mkdir(parents=True)
    (folder / "office.yaml").write_text(OFFICE.format(logs=logs))
    (folder / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\nbo:x:1002:1002:Bo:/:/bin/sh\n")
    (folder / "group").write_text("ada:x:1001:\nbo:x:1002:\n")
    run("count", "--no-check", "--quiet", "--office", folder)
    return folder


def rows(run, folder: Path, *words: str) -> list[dict[str, str]]:
    told = run("trail", *words, "--format", "csv", "--office", folder).stdout
    return list(csv.DictReader(io.StringIO(told)))[::-1]


@pytest.mark.judge
@pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("smbd"), reason="needs root and an SMB server")
@pytest.mark.seeds(2)
def test_all_that_people_do_on_a_real_server_is_told_once(tmp_path: Path, seed: int, run, request) -> None:
    rng = random.Random(seed)
    log, done = tmp_path / "audit.log", list[tuple[str, ...]]()
    # Every account must be able to pass the folders above, which pytest's own do not allow.
    base = Path(tempfile.mkdtemp(dir="/tmp"))
    request.addfinalizer(lambda: shutil.rmtree(base))
    running = smb.server(base, {"desk": ""})
    data = base / "data" / "desk"
    running.settings = {
        "vfs objects": "full_audit acl_xattr",
        "full_audit:prefix": "%u|%I|%m|%S",
        "full_audit:success": OPERATIONS,
        "full_audit:failure": OPERATIONS,
    }
    log.write_bytes(b"")
    office = office_at(tmp_path / "o", f"{{file: {log}, form: smb, roots: {{{data}: /desk}}}}", run)
    with syslog(log), running:
        for user in ("ada", "bo"):
            smbclient.register_session(
                "127.0.0.1", username=user, password=running.password, port=running.port,
                connection_cache=(cache := {}),
            )  # fmt: skip
            _act(rng, user, running, cache, done)
            time.sleep(0.3)
            if user == "ada":
                # Rotated in the midst, as log daemons do: the server goes on into the new file.
                with log.open("rb") as written, gzip.open(tmp_path / "audit.log.1.gz", "wb") as packed:
                    size = written.seek(0, 2)
                    written.seek(0)
                    run("count", "--logs", "--office", office)
                    packed.write(written.read(size))
                log.write_bytes(b"")
                os.truncate(log, 0)
    run("count", "--logs", "--office", office)
    run("count", "--logs", "--office", office)
    told = [
        (
            row["login"],
            row["did"],
            *(row[key].removeprefix("loft:/desk") for key in ("where", "to")),
            row["is_folder"],
        )
        for row in rows(run, office, "-a")
        if row["login"] != running.admin and row["did"] != "signed in"
    ]
    assert Counter(told) == Counter(done)
    assert {row["login"] for row in rows(run, office, "--only", "sign-in")} >= {"ada", "bo"}
    assert {row["who"] for row in rows(run, office, "ada", "-a")} == {"ada"}
    assert "in it" not in run("ledger", "--verify", "--office", office).stdout


def _act(rng: random.Random, user: str, running, cache: dict, done: list[tuple[str, ...]]) -> None:
    """Do things at random, and write down what was done."""
    how = {"username": user, "password": running.password, "port": running.port, "connection_cache": cache}
    top = f"/{user} ü"
    smbclient.mkdir(_unc(top), **how)
    done.append((user, "made", top, "", "1"))
    files: list[str] = []
    for number in range(25):
        act = rng.choice(["write", "write", "read", "rename", "delete", "list", "folder", "stat"])
        name = f"{top}/{number} a'{rng.choice(['', ' b', 'é'])}.txt"
        if act == "write":
            with smbclient.open_file(_unc(name), mode="w", **how) as file:
                file.write("x")
            files.append(name)
            done.append((user, "changed", name, "", "0"))
        elif act == "folder":
            smbclient.mkdir(_unc(f"{top}/{number}"), **how)
            smbclient.rmdir(_unc(f"{top}/{number}"), **how)
            done += [(user, did, f"{top}/{number}", "", "1") for did in ("made", "deleted")]
        elif act == "list":
            smbclient.listdir(_unc(top), **how)
        elif files:
            one = files.pop(rng.randrange(len(files)))
            if act == "read":
                with smbclient.open_file(_unc(one), mode="r", **how) as file:
                    file.read()
                files.append(one)
                done.append((user, "opened", one, "", "0"))
            elif act == "rename":
                smbclient.rename(_unc(one), _unc(name), **how)
                files.append(name)
                done.append((user, "renamed", one, name, "0"))
            elif act == "delete":
                smbclient.remove(_unc(one), **how)
                done.append((user, "deleted", one, "", "0"))
            else:
                smbclient.stat(_unc(one), **how)
                files.append(one)


def _unc(path: str) -> str:
    return "\\\\127.0.0.1\\desk" + path.replace("/", "\\")


@pytest.mark.judge
@pytest.mark.skipif(not ldap.is_there(), reason="needs a directory server")
def test_what_changes_in_a_real_directory_is_told_without_its_values(tmp_path: Path, run, monkeypatch) -> None:
    log = tmp_path / "audit.ldif"
    conf = ldap._CONF.replace("moduleload back_mdb", "moduleload back_mdb\nmoduleload auditlog")
    monkeypatch.setattr(ldap, "_CONF", f"{conf}overlay auditlog\nauditlog {log}\n")
    text, _ = ldap.random_ldif(random.Random(1), 45, 2)
    people = [line[4:] for line in text.splitlines() if line.startswith("dn: uid=")]
    groups = [line[4:] for line in text.splitlines() if line.startswith("dn: cn=")]
    office = office_at(tmp_path / "o", f"{{file: {log}, form: directory}}", run)
    log.write_bytes(b"")
    changes = [
        f"dn: {people[0]}\nchangetype: modify\nreplace: mail\nmail: secret@x\n",
        f"dn: {people[1]}\nchangetype: delete\n",
        f"dn: {groups[0]}\nchangetype: modify\nadd: description\ndescription: secret\n",
    ]
    with ldap.running(tmp_path, text) as url:
        for change in changes:
            done = subprocess.run(
                ["ldapmodify", "-x", "-ZZ", "-H", url, "-D", f"cn=root,{ldap.BASE}", "-w", ldap.PASSWORD],
                input=change, text=True, capture_output=True,
                env={**os.environ, "LDAPTLS_REQCERT": "never"}, check=False,
            )  # fmt: skip
            assert done.returncode == 0, done.stderr
            run("count", "--logs", "--office", office)
    found = rows(run, office, "-a")
    assert [row["detail"] for row in found] == [
        f"{people[0]}: changed mail", f"{people[1]}: removed", f"{groups[0]}: changed description",
    ]  # fmt: skip
    assert {row["login"] for row in found} == {"root"} and {row["address"] for row in found} == {"127.0.0.1"}
    assert b"secret" not in (office / "ledger.db").read_bytes()


SETTINGS = {"form": "smb", "roots": {"/srv/desk": "/desk"}}


def reading_of(folder: Path, settings: dict, position, lost: list[str]) -> Reading:
    context = SourceContext("loft", folder, {}, date(2026, 11, 29), lambda _: None, lambda *_: None)
    return Reading(context, settings, position, None, lost)


LINE = "2026-11-{day:02}T08:00:{second:02}+00:00 loft smbd_audit: {who}|10.0.0.7|desk-1|desk|{rest}"


def line(number: int, rest: str = "", who: str = "ada") -> str:
    rest = rest or f"unlinkat|ok|/srv/desk/{number}"
    return LINE.format(day=1 + number // 1000, second=number % 60, rest=rest, who=who) + "\n"


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=30, deadline=None)
@given(st.lists(st.sampled_from(["write", "write", "part", "rotate", "pack", "cut", "read"]), max_size=25))
def test_every_line_is_read_once_however_the_file_is_turned_over(tmp_path_factory, acts: list[str]) -> None:
    folder = tmp_path_factory.mktemp("log")
    log = folder / "audit.log"
    log.touch()
    written, waiting, read, notes = 0, "", list[str](), list[str]()
    place, age = None, 0

    def go_on() -> None:
        nonlocal place
        for one in read_log(reading_of(folder, {"file": "audit.log", **SETTINGS}, place, notes)):
            assert not one.fault
            assert one.record is not None and one.position is not None
            read.append(one.record.path.decode())
            place = one.position

    for act in [*acts, "write", "read"]:
        if act in ("write", "part"):
            whole = line(written)
            text = waiting + whole[len(waiting) :] if not waiting else whole[len(waiting) :]
            cut = len(text) if act == "write" else len(text) // 2
            with log.open("a") as file:
                file.write(text[:cut])
            waiting = "" if cut == len(text) else waiting + text[:cut]
            written += not waiting
        elif act in ("rotate", "pack", "cut") and not waiting and log.stat().st_size:
            age += 1
            old = folder / f"audit.log-{20261100 + age}"
            if act == "cut":
                shutil.copyfile(log, old)
                os.truncate(log, 0)
            else:
                log.rename(old)
                log.touch()
            if act == "pack":
                with gzip.open(f"{old}.gz", "wb") as packed:
                    packed.write(old.read_bytes())
                old.unlink()
                old = Path(f"{old}.gz")
            os.utime(old, (1e9 + age, 1e9 + age))
        elif act == "read":
            go_on()
    assert not notes and read == [f"/desk/{number}" for number in range(written)]


def test_broken_hostile_and_repeated_lines_are_told_and_add_nothing(tmp_path: Path, run) -> None:
    office = office_at(tmp_path / "o", SMB_LOG, run)
    log = office / "audit.log"
    bad = [
        "no line at all\n", line(1, "unlinkat|perhaps|/srv/desk/x"), line(1, "unlinkat|ok|/etc/passwd"), line(1, "create_file|ok|zz|file|open|/srv/desk/x"),
        "2026-11-01T08:00:00 loft smbd_audit: ada|1|2|3|unlinkat|ok|/srv/desk/nozone\n", line(1, "renameat|ok|/srv/desk/a|/b|/srv/desk/c"), "x" * 200_000 + "\n",
        line(1).replace("2026", "0001").replace("+00:00", "+05:00"), line(1).replace("2026", "9999"), line(1).replace("2026", "1969"),
    ]  # fmt: skip
    good = [
        line(1), line(2, who="DOM\\bo"), line(3, "unlinkat|fail (Permission denied)|/srv/desk/3"), line(4, "unlinkat|ok|/srv/desk/a\x1b[31m|b\udcff"),
        line(5, "openat|ok|r|/srv/desk/x"), "2026-11-01T08:00:00Z loft cron: nothing\n", "\n",
    ]  # fmt: skip
    text = "".join([good[0], *bad, *good[1:]]).encode("utf-8", "surrogateescape")
    log.write_bytes(text)
    told = run("count", "--logs", "--office", office).stdout
    assert "4 records" in told and "line 2: no line of a system log" in " ".join(told.split())
    assert f"{len(bad) - 5} more lines" in told
    log.write_bytes(text)  # the same once more, under the same name: nothing is new
    (office / "audit.log.9").write_bytes(text)
    assert "0 records" in run("count", "--logs", "--office", office).stdout
    found = rows(run, office, "-a")
    assert [(row["who"], row["done"]) for row in found] == [("ada", "1"), ("bo", "1"), ("ada", "0"), ("ada", "1")]
    assert "\x1b" not in run("trail", "--office", office).stdout
    assert [row["done"] for row in rows(run, office, "--refused")] == ["0"]
    assert "two people" in run("trail", "ada", "bo", "--office", office, status=2).stderr
    assert (
        "exchange"
        in run("trail", "--since", "2026-11-02", "--until", "2026-11-01", "--office", office, status=2).stderr
    )
    # Another file in its place, and the old one gone: what is between is missing, and is said.
    (office / "audit.log.9").unlink()
    (office / "audit.log.3.gz").write_bytes(gzip.compress(line(8).encode())[:-9])
    log.write_text(line(7))
    assert "another file than at the last reading" in " ".join(
        run("count", "--logs", "--office", office).stdout.split()
    )
    log.unlink()
    (office / "audit.log.1.gz").write_bytes(b"no gzip")
    assert "is not there" in run("count", "--logs", "--office", office, status=2).stdout


@pytest.mark.parametrize("seed", range(3))
def test_questions_agree_with_a_slow_search(tmp_path: Path, run, seed: int) -> None:
    rng = random.Random(seed)
    office = office_at(tmp_path / "o", SMB_LOG, run)
    start = datetime(2026, 11, 1, tzinfo=UTC)
    deeds = sorted(
        (start + timedelta(seconds=rng.randrange(5 * 86400)), rng.choice(["ada", "Bo", "nobody"]),
         "/".join(rng.choice(["a", "a b", "a0", "b"]) for _ in range(rng.randint(1, 4))))
        for _ in range(400)
    )  # fmt: skip
    (office / "audit.log").write_text("".join(
        f"{when.isoformat()} loft smbd_audit: {who}|10.0.0.7|d|desk|unlinkat|ok|/srv/desk/{path}\n" for when, who, path in deeds
    ))  # fmt: skip
    run("count", "--logs", "--office", office)
    for folder, person, since in (
        (None, "ada", None),
        ("a", None, None),
        ("a/b", "bo", "2026-11-03"),
        ("a0", None, "2026-11-02"),
    ):
        words = [
            *([person] if person else []),
            *([f"loft:/desk/{folder}"] if folder else []),
            *(["--since", since] if since else []),
        ]
        expected = [
            path for when, who, path in deeds
            if (person is None or who.lower() == person) and (folder is None or path == folder or path.startswith(f"{folder}/"))
            and (since is None or when.astimezone() >= datetime.fromisoformat(since).astimezone())
        ]  # fmt: skip
        assert [row["where"].removeprefix("loft:/desk/") for row in rows(run, office, *words, "-a")] == expected
        assert sum(
            int(row["times"]) if "times" in row else int(row["number"]) for row in rows(run, office, *words)
        ) == len(expected)


@pytest.mark.parametrize(("text", "when", "app"), [
    ("<13>1 2026-11-29T08:00:00.5+01:00 loft smbd_audit 7 ID [a b=\"\\]\"] x|y", "2026-11-29T07:00:00", "smbd_audit"),
    ("<13>Nov 29 08:00:00 loft smbd_audit: x", "2026-11-29T08:00:00", "smbd_audit"), ("Dec  1 08:00:00 loft smbd_audit[7]: x", "2025-12-01T08:00:00", "smbd_audit"),
    ("Feb 29 08:00:00 loft a: x", "2024-02-29T08:00:00", "a"), ("2026-11-29T08:00:00Z loft a: x", "2026-11-29T08:00:00", "a"), ("2026-11-29T08:00:00 loft a: x", "", ""),
])  # fmt: skip
def test_lines_of_system_logs(text: str, when: str, app: str) -> None:
    found = parse_line(text, UTC, datetime(2026, 11, 29, 12, tzinfo=UTC))
    assert ("" if found is None else f"{found.moment:%Y-%m-%dT%H:%M:%S}") == when
    assert found is None or found.app == app


WEB = '10.0.0.7 - ada [29/Nov/2026:08:00:00 +0100] "{} HTTP/1.1" {} 12'


@pytest.mark.parametrize(("request_line", "status", "told"), [
    ("GET /dav/a%20b/c.txt", 200, ("opened", "/a b/c.txt", True)), ("DELETE /dav/x?secret", 204, ("deleted", "/x", True)), ("PUT /dav/x", 403, ("changed", "/x", False)),
    ("GET /dav/x", 401, ("signed in", "/x", False)), ("GET /dav/x", 404, None), ("PROPFIND /dav/x", 207, None), ("GET /davx/y", 200, None),
    ("GET /other", 200, None), ("GET /dav/../etc/passwd", 200, None), ("GET /dav/a/../b", 200, ("opened", "/b", True)), ("GET /dav", 200, ("opened", "/", True)),
])  # fmt: skip
def test_lines_of_web_servers(request_line: str, status: int, told: tuple[str, str, bool] | None) -> None:
    found = parse_web_line(WEB.format(request_line, status), "/dav/")
    assert (None if found is None else (found.did.value, found.path.decode(), found.is_done)) == told
    assert found is None or f"{found.moment:%H:%M}" == "07:00"


@given(st.data())
def test_no_line_does_more_than_to_be_told(data: st.DataObject) -> None:
    words = [
        "ada",
        "|",
        "ok",
        "fail (",
        "create_file",
        "renameat",
        "0x",
        "/srv/desk/x",
        "# add 1 x y",
        "# end add 99999999999999",
        " ",
        "[",
        '"',
        "<13>1 ",
        "%ff",
        "//[",
        "\udcff",
    ]
    whole = [
        line(1).strip(),
        WEB.format("GET //[x", 200),
        WEB.format("GET /dav/x", 200),
        "# end modify 5",
        "Nov 29 08:00:00 loft smbd_audit: a|b|c|d|mkdirat|ok",
    ]
    text = data.draw(st.text() | st.lists(st.sampled_from(words)).map("".join) | st.sampled_from(whole))
    place = data.draw(st.integers(0, len(text)))
    text = (
        text[:place] + data.draw(st.sampled_from(["", *words])) + text[place + data.draw(st.integers(0, 3)) :]
    ).replace("\n", "")
    latest = datetime(2026, 11, 29, 12, tzinfo=UTC)
    for form in LINE_FORMS:
        take = LINE_FORMS[form](reading_of(Path(), {"form": form, "roots": {"/srv/desk": "/desk"}}, None, []))
        for one in (text, text):
            with contextlib.suppress(FormatError):
                take(one, latest)


def test_two_readings_at_once_keep_every_line_once(tmp_path: Path, run) -> None:
    office = office_at(tmp_path / "o", SMB_LOG, run)
    (office / "audit.log").write_text("".join(line(number) for number in range(8_000)))
    words = [COMMAND, "count", "--logs", "--office", office]
    both = [subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) for _ in range(3)]
    told = [one.communicate()[0] for one in both]
    assert any(one.returncode == 0 for one in both) and all(one.returncode in (0, 2) for one in both)
    assert all(
        one.returncode == 0 or "another run has read this log" in " ".join(text.split())
        for one, text in zip(both, told, strict=True)
    )
    assert open_ledger(office / "ledger.db").trail.select().number == 8_000
    os.mkfifo(office / "pipe")
    plan = (office / "office.yaml").read_text()
    (office / "office.yaml").write_text(
        plan.replace("logs: [", "logs: [{file: pipe, form: web}, {file: audit.log, form: web}, ")
    )
    told = " ".join(run("count", "--logs", "--office", office, status=2).stdout.split())
    assert "is no file" in told and "names this log twice" in told


def test_a_reading_that_is_killed_goes_on_where_it_was(tmp_path: Path, run) -> None:
    office = office_at(tmp_path / "o", SMB_LOG, run)
    number = 30_000
    start = datetime(2026, 11, 1, tzinfo=UTC)
    (office / "audit.log").write_text(
        "".join(
            f"{(start + timedelta(seconds=one)).isoformat()} loft smbd_audit: ada|1|d|s|unlinkat|ok|/srv/desk/{one % 700}/{one}\n"
            for one in range(number)
        )
    )
    killed, delay = 0, 0.3
    while True:
        reading = subprocess.Popen(
            [COMMAND, "count", "--logs", "--office", office], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        try:
            reading.wait(delay)
            break
        except subprocess.TimeoutExpired:
            reading.kill()
            reading.wait()
        killed, delay = killed + 1, delay + 0.3
    assert killed
    run("count", "--logs", "--office", office)
    found = open_ledger(office / "ledger.db")
    told = [record.path for _, record in found.trail.select().records()]
    assert told == [f"/desk/{one % 700}/{one}".encode() for one in range(number)]
    assert found.chain.prove().holds
