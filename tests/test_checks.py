"""Every check on small offices: what it finds, and what it leaves alone."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from judges import kernel
from test_posix_kernel import make_office

USERS = {"ada": 2001, "bo": 2002, "cy": 2003, "guest": 2004}
GROUPS = {"staff": (3001, ["ada", "bo", "cy"]), "vets": (3002, ["ada"]), "none": (3003, [])}
OPEN, PRIVATE = "user::rwx,group::---,mask::rwx,other::---", ""


def acl(*entries: str, other: str = "---") -> str:
    return ",".join(["user::rwx", "group::---", *entries, "mask::rwx", f"other::{other}"])


def row(
    path: str, kind: str = "folder", owner: int = 0, group: int = 3001, mode: str = "0755", **more: object
) -> dict[str, object]:
    listed = str(more.get("list", ""))
    if listed:
        mode = "0770" if listed.endswith("---") else "0775" if listed.endswith("r-x") else "0777"
    found = {
        "path": path,
        "type": kind,
        "owner": owner,
        "group": group,
        "mode": mode,
        "list": listed,
        "default": "",
        "bytes": 10,
    }
    return {**found, "occupied": 4096, "changed": 1, **more}


class Office:
    """A small office made of listing rows and a plan, checked by the installed command."""

    def __init__(self, folder: Path, run) -> None:
        self.folder, self.run = folder, run

    def check(
        self,
        rows: list[dict[str, object]],
        plan: dict[str, object],
        *only: str,
        accounts: str = "",
        today: str = "2026-06-01",
    ) -> list[dict]:
        passwd = "".join(f"{login}:x:{uid}:3001:{login.title()}:/:/bin/sh\n" for login, uid in USERS.items())
        (self.folder / "passwd").write_text("root:x:0:0:root:/:/bin/sh\n" + passwd + accounts)
        groups = "".join(f"{name}:x:{gid}:{','.join(members)}\n" for name, (gid, members) in GROUPS.items())
        (self.folder / "group").write_text("root:x:0:\n" + groups)
        with (self.folder / "tree.csv").open("w", newline="") as out:
            writer = csv.DictWriter(out, list(row("/")))
            writer.writeheader()
            writer.writerows([row("/"), *rows])
        system = {"source": "listing", "path": "tree.csv", "accounts": {"passwd": "passwd", "group": "group"}}
        system |= plan.pop("system", {})
        whole = {"office": "X", "systems": {"barn": system}, **plan}
        (self.folder / "office.yaml").write_text(json.dumps(whole))
        self.run("count", "--office", self.folder, "--quiet", "--today", today)
        words = [word for name in only for word in ("--only", name)]
        done = self.run(
            "check",
            *words,
            "--format",
            "json",
            "--fail-at",
            "advice",
            "--today",
            today,
            "--office",
            self.folder,
            status=None,
        )
        return json.loads(done.stdout)["rows"]


@pytest.fixture
def office(tmp_path: Path, run) -> Office:
    return Office(tmp_path, run)


PERSON = {"name": "Ada", "email": "ada@x.example", "accounts": {"barn": "ada"}}
CASES = [
    # check, rows, plan, the places where it is found
    ("everyone-may-write", [row("/a", mode="0777"), row("/b", mode="0770"), row("/b/c", mode="0777")], {}, ["/a"]),
    ("everyone-may-write", [row("/a", mode="1777")], {"folders": {"barn:/a": {"grants": {"everyone": "write"}}}}, []),
    ("everyone-may-write", [row("/a", mode="0777"), row("/a/b", mode="0777"), row("/a/c", mode="0757")], {}, ["/a", "/a/c"]),
    ("everyone-may-read", [row("/a", mode="0750"), row("/a/b", mode="0755"), row("/c", mode="0711")], {}, ["/"]),
    ("grants-nobody", [row("/a", mode="0000"), row("/b", mode="0700"), row("/c", mode="0700", owner=2001)], {}, ["/a", "/b"]),
    ("direct-grant", [row("/a", list=acl("user:2001:r-x")), row("/b", list=acl("group:3002:r-x"))], {}, ["/a"]),
    ("direct-grant", [row("/a", list=acl("user:2001:r-x", "group:3002:r-x"))], {}, []),
    ("redundant-grant", [row("/a", list=acl("user:2001:r-x", "group:3002:rwx")), row("/b", list=acl("user:2002:r-x", "group:3002:rwx"))], {}, ["/a"]),
    ("escalating-grant", [row("/a", list=acl("user:2001:rwx", "group:3002:r-x")), row("/b", list=acl("user:2001:r-x", "group:3002:r-x"))], {}, ["/a"]),
    ("unknown-holder", [row("/a", list=acl("user:7777:r-x")), row("/b", list=acl("group:8888:r-x")), row("/c", owner=9999)], {}, ["/a", "/b", "/c"]),
    ("unknown-holder", [row("/a"), row("/a/f", "file", owner=9999), row("/a/g", "file", owner=2001)], {}, ["/a"]),
    ("empty-group", [row("/a", list=acl("group:3003:r-x")), row("/b", list=acl("group:3003:---"))], {}, ["/a"]),
    ("wider-than-above", [row("/a", mode="0750"), row("/a/b", mode="0770"), row("/a/c", mode="0750")], {}, ["/a/b"]),
    ("wider-than-above", [row("/a", mode="0750"), row("/a/b", mode="0770")], {"folders": {"barn:/a/b": {}}}, []),
    ("wider-than-above", [row("/a", mode="0700", owner=2002), row("/a/b", mode="0777")], {}, []),
    ("broken-inheritance", [row("/a", default=OPEN), row("/a/b", default=OPEN), row("/a/c"), row("/a/b/d", default=acl(other="r-x"))], {}, ["/a/b/d", "/a/c"]),
    ("folder-without-account", [row("/H"), row("/H/ada", owner=2001), row("/H/old", owner=2001)], {"system": {"homes": ["/H"]}}, ["/H/old"]),
    ("ambiguous-id", [row("/H"), row("/H/Bo"), row("/H/2003", owner=2003)], {"system": {"homes": ["/H"]}}, []),
    ("name-collision", [row("/a"), row("/a/F.txt", "file"), row("/a/f.TXT", "file"), row("/a/g.txt", "file")], {}, ["/a"]),
    ("name-collision", [row("/a"), row("/A")], {}, ["/"]),
    ("folder-missing", [row("/a")], {"folders": {"barn:/a": {}, "barn:/b": {}}}, ["/b"]),
    ("plan-differs", [row("/a", mode="0770", group=3002)], {"people": {"ada": PERSON}, "folders": {"barn:/a": {"closed": True, "grants": {"ada": "write"}}}}, []),
    ("plan-differs", [row("/a", mode="0770", group=3002), row("/a/b", mode="0750", group=3002), row("/a/b/c", mode="0750", group=3002), row("/a/d", mode="0770", group=3002)], {"people": {"ada": PERSON}, "folders": {"barn:/a": {"closed": True, "grants": {"ada": "write"}}}}, ["/a/b"]),
    ("plan-differs", [row("/a", mode="0750", group=3002)], {"people": {"ada": PERSON}, "folders": {"barn:/a": {"closed": True, "grants": {"ada": "write"}}}}, ["/a"]),
    ("plan-differs", [row("/a", mode="0750", group=3002)], {"people": {"ada": {**PERSON, "end": "2026-05-31"}}, "folders": {"barn:/a": {"grants": {"ada": "read"}}}}, ["/a"]),
]  # fmt: skip


@pytest.mark.parametrize(
    ("check", "rows", "plan", "places"), CASES, ids=[f"{case[0]}-{n}" for n, case in enumerate(CASES)]
)
def test_a_check_finds_this_and_no_more(office: Office, check, rows, plan, places, recorded) -> None:
    found = office.check(rows, dict(plan), check)
    assert [each["place"] for each in found] == [f"barn:{place}" for place in places], found
    assert all(each["evidence"] and each["advice"] and each["severity"] for each in found)
    recorded([" | ".join(str(cell) for cell in each.values()) for each in found])


PEOPLE_CASES = [
    ("no-email", {"ada": {"name": "Ada"}, "bo": {**PERSON, "accounts": {}}, "s": {"kind": "service"}, "gone": {"end": "2026-01-01"}}, ["ada"]),
    ("malformed-email", {name: {"email": mail} for name, mail in zip("abcdefg", ("a@b", "a b@c.de", "@x.de", "a@b..c", "a.b+c@d-e.fg", "a@b.c", ".a@b.c"), strict=True)}, ["a", "b", "c", "d", "g"]),
    ("shared-email", {"ada": {"email": "x@y.z"}, "bo": {"email": "X@y.z"}, "cy": {"email": "c@y.z"}}, ["ada"]),
    ("left-but-open", {"ada": {**PERSON, "end": "2026-05-31"}, "bo": {"accounts": {"barn": "bo"}, "end": "2026-06-01"}}, ["barn:ada"]),
    ("account-missing", {"ada": PERSON, "eve": {"accounts": {"barn": ["eve", "cy"]}}, "kit": {"accounts": {"barn": "kit"}, "start": "2026-07-01"}}, ["eve"]),
]  # fmt: skip


@pytest.mark.parametrize(("check", "people", "places"), PEOPLE_CASES, ids=[case[0] for case in PEOPLE_CASES])
def test_a_check_of_people(office: Office, check, people, places, recorded) -> None:
    found = office.check([], {"people": people}, check)
    assert [each["place"] for each in found] == places
    recorded([" | ".join(str(cell) for cell in each.values()) for each in found])


def test_accounts_without_homes_rings_and_ambiguous_numbers(office: Office) -> None:
    rows = [row("/H"), row("/H/ada", owner=2001), row("/H/2002", owner=2002), row("/H/2005", owner=2005)]
    more = "kit:x:2005:3001::/:/bin/sh\nkitty:x:2005:3001::/:/bin/sh\nprinter:x:99:99::/:/bin/sh\n"
    plan = {
        "system": {"homes": ["/H"]},
        "groups": {"a": {"members": ["b"]}, "b": {"members": ["a"]}, "c": {"members": ["a"]}},
    }
    found = office.check(rows, plan, "account-without-folder", "ambiguous-id", "group-ring", accounts=more)
    assert {(each["check"], each["place"]) for each in found} == {
        ("account-without-folder", "barn:cy"),
        ("account-without-folder", "barn:guest"),
        ("ambiguous-id", "barn:/H/2005"),
        ("group-ring", "a"),
    }


EXPECTED = [
    ({"folder": "barn:/a", "at-most": "read", "holders": ["ada"]}, ["/a"], "ada has more than read: add"),
    ({"folder": "barn:/a", "at-most": "write", "holders": ["ada"]}, [], ""),
    ({"folder": "barn:/b", "at-most": "read", "holders": ["everyone"]}, ["/b"] * 4, "changes 1 of 2 files"),
    ({"folder": "barn:/b", "at-least": "read", "holders": ["bo"]}, ["/b"], "reads only 1 of 2 files"),
    ({"folder": "barn:/a/**", "at-least": "write", "holders": ["team"]}, ["/a/inner"], "ada has less than write"),
    ({"folder": "barn:/*", "exactly": "write", "holders": ["ada"]}, ["/b"], "lacks add"),
    ({"folder": "barn:/b", "exactly": "read", "holders": ["ada"]}, ["/b", "/b", "/b"], "has read too"),
    ({"folder": "barn:/none", "at-most": "read", "holders": ["staff"]}, ["/none"], "no such folder"),
    ({"folder": "barn:/a", "at-least": "read", "holders": ["nobody-here"]}, ["/a"], "has no account"),
]


@pytest.mark.parametrize(("expectation", "places", "told"), EXPECTED, ids=range(len(EXPECTED)))
def test_expectations_name_who_and_what(office: Office, expectation, places, told, recorded) -> None:
    rows = [
        row("/a", mode="0770", group=3002),
        row("/a/inner", mode="0750", group=3002),
        row("/b", mode="0755"),
        row("/b/one", "file", mode="0664"),
        row("/b/two", "file", mode="0600"),
    ]
    people = {"ada": PERSON, "nobody-here": {}, "bo": {"accounts": {"barn": "bo"}}}
    plan = {"people": people, "groups": {"team": {"members": ["ada"]}}, "expectations": [expectation]}
    found = office.check(rows, plan, "expectation-broken")
    if expectation.get("exactly") == "read":
        found = [each for each in found if "too" in each["evidence"]]
    assert [each["place"] for each in found] == [f"barn:{place}" for place in places], found
    assert all(told in each["evidence"] for each in found)
    recorded([each["evidence"] for each in found])
    assert all(
        "— by way share" in each["evidence"]
        for each in found
        if "has " in each["evidence"] and "account" not in each["evidence"]
    )


@pytest.mark.judge
@pytest.mark.parametrize("seed", [11, 12])
def test_what_everyone_may_do_is_what_the_kernel_lets_a_stranger_do(
    tmp_path: Path, run, seed: int, monkeypatch
) -> None:
    stranger = kernel.Login("stranger", 6543, 6544, (6544,))
    monkeypatch.setattr(kernel, "logins", lambda *_: [stranger])
    for above in (tmp_path, *tmp_path.parents[:-1]):
        above.chmod(above.stat().st_mode | 0o011)
    tree, office = make_office(tmp_path, run, seed, 150)
    judged = {path: cells for (_, path), cells in kernel.try_everything(tree).items()}
    done = run(
        "check",
        "--format",
        "json",
        "--only",
        "everyone-may-write",
        "--only",
        "everyone-may-read",
        "--office",
        office,
        status=1,
    )
    found: dict[str, set[bytes]] = {"everyone-may-write": set(), "everyone-may-read": set()}
    from urllib.parse import unquote_to_bytes

    for each in json.loads(done.stdout)["rows"]:
        found[each["check"]].add(unquote_to_bytes(each["place"].partition(":")[2]))
    for check, is_open in (("everyone-may-write", lambda c: c[2]), ("everyone-may-read", lambda c: c[0] and c[1])):
        opened = {path for path, cells in judged.items() if is_open(cells)}
        assert found[check] <= opened
        # What is open and not told repeats the list of the open folder above it.
        for path in opened - found[check]:
            above = path.rpartition(b"/")[0] or b"/"
            assert above in opened and kernel_list(tree, path) == kernel_list(tree, above)
    run("check", "--all", "--office", office, status=1)


def kernel_list(tree: Path, path: bytes) -> tuple[object, ...]:
    whole = os.fsencode(tree) + path
    info = os.lstat(whole)
    listed = os.getxattr(whole, kernel.ACCESS) if kernel.ACCESS in os.listxattr(whole) else b""
    return info.st_mode, info.st_gid, listed


@pytest.mark.judge
def test_lists_read_as_getfacl_shows_them(tmp_path: Path, run) -> None:
    tree, office = make_office(tmp_path, run, 21, 60)
    for path in [
        os.fsencode(tree),
        *(os.fsencode(each.path) for each in os.scandir(tree) if each.is_dir(follow_symlinks=False)),
    ]:
        told = subprocess.run(
            ["getfacl", "-n", "-E", "-c", "-p", "-a", path], capture_output=True, check=True
        ).stdout.decode()
        address = "barn:/" + os.fsdecode(path[len(os.fsencode(tree)) :].strip(b"/"))
        shown = json.loads(run("folders", address, "--format", "json", "--office", office).stdout)["notes"][1:]
        numeric = [line.strip() for line in told.splitlines() if line.strip()]
        assert len(shown) == len(numeric), (shown, numeric)
        assert [line.rpartition(":")[2] for line in numeric] == [line.split()[-1].strip("()") for line in shown]


@pytest.mark.judge
def test_groups_are_those_of_initgroups(tmp_path: Path, run) -> None:
    _, office = make_office(tmp_path, run, 22, 5)
    binds = f"mount --bind {tmp_path}/passwd /etc/passwd && mount --bind {tmp_path}/group /etc/group"
    sheets = json.loads(run("groups", "--format", "json", "--office", office).stdout)["rows"]
    for login in kernel.logins():
        # Asked by name: logins that share a number may be in different groups.
        code = f"import os, pwd; print(*os.getgrouplist('{login.name}', pwd.getpwnam('{login.name}').pw_gid))"
        words = ["unshare", "-m", "sh", "-c", f'{binds} && {sys.executable} -c "{code}"']
        ids = subprocess.run(words, capture_output=True, text=True)
        assert ids.returncode == 0, ids.stderr
        ours = {each["id"] for each in sheets if login.name in each["members"]}
        # A primary group that no line names has no row of its own.
        known = {each["id"] for each in sheets}
        assert ours == set(ids.stdout.split()) & known, login


def test_a_row_that_cannot_be_read_is_a_fault_of_the_file_and_not_a_folder(office: Office) -> None:
    rows = [row("/a", mode="0777"), row("/b", mode="0x77"), row("/c", "thing")]
    found = office.check(rows, {}, "not-seen", "everyone-may-write")
    faults = [each for each in found if each["check"] == "not-seen"]
    # Line 1 is the heading, line 2 the root.
    assert [each["place"] for each in faults] == [f"barn ({office.folder}/tree.csv:{line})" for line in (4, 5)]
    assert all("cannot be read" in each["evidence"] for each in faults)
    assert [each["place"] for each in found if each["check"] == "everyone-may-write"] == ["barn:/a"]
    told = office.run("count", "--not-seen", "--office", office.folder).stdout
    assert f"  {office.folder}/tree.csv:4  a row that cannot be read" in told and "barn:/b" not in told
    # It is the same after the ledger is opened again, and a folder that was not seen is still told by its address.
    again = json.loads(
        office.run("check", "--only", "not-seen", "--format", "json", "--office", office.folder, status=1).stdout
    )
    assert [each["place"] for each in again["rows"]] == [each["place"] for each in faults]
    assert "unknown" in office.run("who", "barn:/b", "--office", office.folder).stdout, (
        "a row with a fault is still a folder"
    )
