"""Every sentence that says that all is well: a world where it holds, and the nearest ones in which it must not be said.

The table has the keys of `reports.assurances`, and rows for each: how it is asked for in an office that is all right,
and by what such an office comes out of order, or is not seen. A sentence is *said* where it stands without the bound
that not all was seen.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from datetime import date, timedelta
from io import StringIO
from pathlib import Path

import pytest
import yaml

from neatledger.cli import main
from neatledger.reports.assurances import ASSURANCES

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="files of several owners are made")

TODAY = "2026-12-01"
ADA, BO, TEAM = 4801, 4802, 4901
PEOPLE = """
office: Worlds
domain: worlds.example
people:
  ada: {name: Ada Fenn, email: ada@worlds.example, accounts: {b: ada}, posts: [clerk]}
  bo: {name: Bo Quill, email: bo@worlds.example, accounts: {b: bo}, posts: [clerk]}
posts: {clerk: {name: Clerk, groups: [team]}}
groups: {team: {}}
bands: {small: {limit: 1 MB}}
"""
TREE = """
systems:
  b: {source: tree, path: tree, accounts: {passwd: passwd, group: group}}
folders:
  b:/: {grants: {team: read}}
  b:/docs: {grants: {team: write}}
pools: {disk: {size: 10 GB, holds: [b:/]}}
limits: {folders: {b:/docs: {band: small}}}
barred: [{folder: b:/, kinds: [exe]}]
"""
SERVICE = """
systems:
  b:
    source: listing
    lists: role
    path: files.csv
    accounts: {people: people.csv, groups: groups.csv, members: members.csv}
    sharing: shared.json
    logs: [{file: access.log, form: web, below: /dav/}]
    protection:
      disk: array
      place: here
      backups: [{name: nightly, of: [/], disk: tape, place: bank, every: 1 day, keep: 60 days, runs: runs.csv, tried: 2026-11-04}]
folders: {"b:/": {grants: {team: write}}}
sharing: {office: {guests: listed, open-links: nothing, folder-days: 400}}
limits: {folders: {"b:/": {band: small}}}
protection: {"b:/": {loss: 2 days, elsewhere: true}}
notices: {mail: {server: mail.worlds.example, from: ledger@worlds.example}, tell: [{about: finding, who: [ada], checks: [plan-differs, device-of-leaver]}, {about: link, within-days: 30}]}
"""
PASSWD = "".join(f"{name}:x:{uid}:{uid}:{name}:/:/bin/sh\n" for name, uid in (("ada", ADA), ("bo", BO), ("root", 0)))
GROUP = f"team:x:{TEAM}:ada,bo\nada:x:{ADA}:\nbo:x:{BO}:\nroot:x:0:\n"
LIMITS = "on,name,limit,rule\nfolder,/docs,1000000,enforced\n"
LISTING = "path,type,owner,list,bytes,changed,occupied\n/,folder,,group:team=write,0,1764547200,0\n"
LISTING += "/a,folder,,,0,1764547200,0\n/a/x.txt,file,ada,,1000,1764547200,1000\n"
LOGINS = (
    "login,id,name,email,state\nada,ada,Ada Fenn,ada@worlds.example,open\nbo,bo,Bo Quill,bo@worlds.example,open\n"
)
SHARED = {
    "hand-outs": [{"id": "h1", "giver": "ada", "receiver": "bo", "path": "/a", "level": "read", "kind": "person", "type": "folder", "made": "2026-01-03", "expires": "2027-01-20", "reply": "accepted"}],
    "links": [{"id": "k1", "maker": "ada", "path": "/a", "level": "read", "audience": "office", "type": "folder", "made": "2026-10-03", "on": "no", "expires": "2027-09-01"}],
    "devices": [{"id": "d1", "owner": "ada", "name": "notebook", "kind": "notebook", "managed": "yes", "state": "linked", "last-seen": "2026-11-30", "folders": "/a", "held": "1000"}],
}  # fmt: skip


def make_tree(folder: Path) -> None:
    docs = folder / "tree" / "docs"
    docs.mkdir(parents=True)
    (docs / "plan.txt").write_text("hello")
    for path, uid, bits in ((folder / "tree", 0, 0o750), (docs, 0, 0o2770), (docs / "plan.txt", ADA, 0o660)):
        os.chown(path, uid, TEAM)
        path.chmod(bits)
    subprocess.run(["setfacl", "-d", "--set", "u::rwx,g::rwx,o::-", docs], check=True)
    (folder / "passwd").write_text(PASSWD)
    (folder / "group").write_text(GROUP)
    (folder / "office.yaml").write_text(PEOPLE + TREE)


def make_service(folder: Path) -> None:
    folder.mkdir()
    texts = {
        "files.csv": LISTING,
        "people.csv": LOGINS,
        "groups.csv": "name,id\nteam,team\n",
        "office.yaml": PEOPLE + SERVICE,
    }
    texts |= {
        "members.csv": "group,member\nteam,ada\nteam,bo\n",
        "shared.json": json.dumps(SHARED),
        "access.log": log(),
    }
    texts |= {
        "runs.csv": "when,done,bytes\n"
        + "".join(f"2026-{day}T02:00,yes,1000\n" for day in ("11-29", "11-30", "12-01"))
    }
    for name, text in texts.items():
        (folder / name).write_text(text)


def log(first: str = "2026-01-05", last: str = TODAY, who: tuple[str, ...] = ("ada", "bo"), more: str = "") -> str:
    """Return the log of a service where some people read and write a file every ten days."""
    day, lines = date.fromisoformat(first), []
    while day <= date.fromisoformat(last):
        lines += [f'10.1.1.2 - {name} [{day:%d/%b/%Y}:10:00:00 +0000] "{verb} /dav/a/x.txt HTTP/1.1" 200 1000 "-" "files"\n' for name in who for verb in ("GET", "PUT")]  # fmt: skip
        day += timedelta(days=10)
    return "".join(lines) + more


# Worlds ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class World:
    """One way in which the office is not as the sentence says; it is counted `again` after that.

    Mostly the bound that not all was seen will do; where it `is_known` what is wrong, it will not.
    """

    name: str
    change: Callable[[Path], object]
    again: bool = True
    is_known: bool = False


def edit(path: str, value: object) -> Callable[[Path], None]:
    """Return what sets a value in the plan, by the keys on the way to it."""

    def change(folder: Path) -> None:
        plan = yaml.safe_load((folder / "office.yaml").read_text())
        *above, last = path.split("|")
        here = plan
        for key in above:
            here = here.setdefault(key, {})
        here[last] = value
        if value is None:
            del here[last]
        (folder / "office.yaml").write_text(json.dumps(plan, default=str))

    return change


def write(name: str, text: str) -> Callable[[Path], object]:
    return lambda folder: (folder / name).write_text(text)


def both(*changes: Callable[[Path], object]) -> Callable[[Path], object]:
    return lambda folder: [change(folder) for change in changes]


def share(table: str, **values: object) -> Callable[[Path], object]:
    """Return what changes the row of a table of the service, or takes it away where nothing is to be."""
    rows = [{**SHARED[table][0], **values}] if values else []
    return write("shared.json", json.dumps({**SHARED, table: rows}))


def mode(name: str, bits: int) -> Callable[[Path], None]:
    return lambda folder: (folder / "tree" / name).chmod(bits)


def add_file(name: str, uid: int, bits: int, size: int = 1) -> Callable[[Path], None]:
    def change(folder: Path) -> None:
        path = folder / "tree" / name
        path.write_bytes(b"x" * size)
        os.chown(path, uid, TEAM)
        path.chmod(bits)

    return change


def mount(folder: Path) -> None:
    (folder / "tree" / "docs" / "disk").mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", folder / "tree" / "docs" / "disk"], check=True)


@pytest.fixture
def unmounted(tmp_path: Path):
    yield
    for folder in tmp_path.glob("*/tree/docs/disk"):
        subprocess.run(["umount", folder], capture_output=True)


HALF_READ = World("a line of the accounts cannot be read", write("passwd", PASSWD + "half a line\n"))
MOUNTED = World("a folder is of another file system", mount)
NEVER = World("a system was never counted", edit("systems|c", {"source": "tree", "path": "tree"}), again=False)
SHUT = World("a file is its owner's alone", mode("docs/plan.txt", 0o600))
APART = World(
    "what one makes the others cannot change",
    lambda folder: subprocess.run(["setfacl", "-k", folder / "tree" / "docs"], check=True),
)
SHUT_FOLDER = World("the folder is shut", mode("docs", 0o700))
OPEN = World("anybody may come in", both(mode("", 0o755), mode("docs", 0o777)))
GONE = World("a folder of the plan is not there", lambda folder: shutil.rmtree(folder / "tree" / "docs"))
NO_MEMBER = World("bo is not in the group", write("group", GROUP.replace("ada,bo", "ada")))
NO_ACCOUNT = World("bo has no account", write("passwd", PASSWD.replace(f"bo:x:{BO}:{BO}:bo:/:/bin/sh\n", "")))
STRANGE = World("a file is of an owner whom nobody knows", add_file("docs/new.txt", 4999, 0o600))
HERS = World("a folder is ada's by name", lambda folder: os.chown(folder / "tree" / "docs", ADA, 0))
LOW_LIMIT = World("the limit is nought", edit("bands|small|limit", "0 B"))
OVER = World(
    "more is there than the limit", both(edit("bands|small|limit", "1 kB"), add_file("docs/big", ADA, 0o660, 5000))
)
WARNED = World("a warning is passed", edit("bands|small", {"limit": "10 kB", "warn": {20: []}}))
ENDS = World("bo leaves soon", edit("people|bo|leaves", "2026-12-20"), again=False)
NEW_SYSTEM = World(
    "a system is new",
    edit("systems|c", {"source": "tree", "path": "tree/docs", "accounts": {"passwd": "passwd", "group": "group"}}),
)
NO_LOG = World("the plan names no log", edit("systems|b|logs", []))
SHORT_LOG = World("the log begins late", write("access.log", log("2026-11-01")))
DEAD_LOG = World("the log stopped in the summer", write("access.log", log(last="2026-07-01")))
ONLY_ADA = World("bo used nothing", write("access.log", log(who=("ada",))))
ENTRIES = World(
    "a right of nobody's use", write("files.csv", LISTING.replace("/a,folder,,,", "/a,folder,,bo=manage,"))
)


@dataclass(frozen=True)
class Row:
    """How a sentence is asked for, some of its words, and the worlds against it.

    `before` is done to the good office and to each of the others first.
    """

    key: str
    asked: str
    said: str
    worlds: tuple[World, ...]
    make: Callable[[Path], None] = make_tree
    before: tuple[Callable[[Path], object], ...] = ()


def count(folder: Path) -> None:
    call(folder, "count", "--quiet")


def weeks(*sizes: int) -> Callable[[Path], None]:
    """Return what counts a service anew, a week apart up to now, while a file there has so many kB."""

    def change(folder: Path) -> None:
        (folder / "ledger.db").unlink(missing_ok=True)
        for weeks_ago, size in zip(range(len(sizes), 0, -1), sizes, strict=True):
            (folder / "files.csv").write_text(LISTING.replace(",1000", f",{size * 1000}"))
            call(folder, "count", "--quiet", today=str(date.fromisoformat(TODAY) - timedelta(weeks=weeks_ago)))

    return change


ROWS = (
    Row("nobody", "who b:/docs", "0 of 3 people can reach", (World("ada owns it", lambda f: os.chown(f / "tree" / "docs", ADA, 0)), World("anybody may look in", both(mode("", 0o755), mode("docs", 0o755))), World("anybody may open its file", both(mode("", 0o755), mode("docs", 0o711), mode("docs/plan.txt", 0o644))), HALF_READ), before=(lambda f: os.chown(f / "tree" / "docs", 4999, 4999), write("passwd", PASSWD.replace("root:x:0:0", "eve:x:4803:4803")))),
    Row("no-rights", "reach", "nobody has any right here", (World("ada owns it", lambda f: os.chown(f / "tree", ADA, 0)), World("anybody may look in", mode("", 0o755)), HALF_READ, MOUNTED), before=(lambda f: [os.chown(f / one, 4999, 4999) for one in ("tree", "tree/docs", "tree/docs/plan.txt")], write("passwd", PASSWD.replace("root:x:0:0", "eve:x:4803:4803")))),
    Row("check", "check", "Nothing found", (SHUT, APART, OPEN, GONE, STRANGE, NO_ACCOUNT, HALF_READ, MOUNTED, NEVER)),
    Row("check", "check --only plan-differs", "Nothing found", (SHUT, NO_MEMBER, HALF_READ)),
    Row("check", "check b:/docs", "Nothing found", (SHUT, NO_MEMBER, HALF_READ)),
    Row("brief", "brief", "Nothing found by", (SHUT, OPEN, GONE, HALF_READ, NEVER)),
    Row("brief-signs", "brief", "Nothing unusual since", (NO_LOG, DEAD_LOG, World("a burst of deletions", write("access.log", log(more="".join(f'10.1.1.2 - bo [30/Nov/2026:10:00:{n % 60:02} +0000] "DELETE /dav/a/{n}.txt HTTP/1.1" 204 0 "-" "files"\n' for n in range(400)))))), make_service),
    Row("mend", "mend", "Nothing to do", (SHUT, APART, NO_MEMBER, GONE, STRANGE, HALF_READ, NEVER)),
    Row("mend", "mend bo", "Nothing to do", (SHUT, NO_MEMBER, NO_ACCOUNT)),
    Row("mend", "mend b:/docs", "Nothing to do", (SHUT, SHUT_FOLDER, GONE)),
    Row("both-sides", "reach --side both", "plan and found agree", (SHUT, NO_MEMBER, GONE, HALF_READ, NEVER)),
    Row("both-sides", "reach --side both", "plan and found agree", (World("an entry says what nobody knows", write("files.csv", LISTING.replace("group:team=write", "group:team=write;?")), is_known=True), World("the plan gives nothing", edit("folders", {})), World("a folder is not there", edit("folders|b:/b", {"grants": {"team": "read"}}))), make_service),
    Row("changes", "changes", "Nobody gained or lost", (SHUT, NO_MEMBER, NO_ACCOUNT, HALF_READ, MOUNTED, NEW_SYSTEM), before=(count,)),
    Row("compare", "reach ada --compare bo", "have the same", (SHUT, NO_MEMBER, HERS, HALF_READ, World("neither has an account", write("passwd", PASSWD.splitlines()[-1] + "\n")))),
    Row("like", "suppose --like ada", "nothing is lacking", (SHUT, HERS, World("a right of her own", add_file("docs/hers", ADA, 0o600)), HALF_READ)),
    Row("suppose", "suppose --close bo", "nobody gains or loses", (World("bo is in the group", write("group", GROUP)), World("anybody may come in", OPEN.change), World("there is a file for anybody", both(mode("", 0o751), mode("docs", 0o771), mode("docs/plan.txt", 0o664)))), before=(NO_MEMBER.change,)),
    Row("want", "how b:/docs ada=write bo=write", "It is so", (SHUT_FOLDER, World("only to be read", mode("docs", 0o2750)), NO_ACCOUNT,
            NO_MEMBER, GONE)),
    Row("push", "folders b:/docs --pushed", "already what it would become", (SHUT, World("other rights", mode("docs/plan.txt", 0o664)), World("more rights", lambda f: acl(f, "-m", "u:4801:r", "docs/plan.txt"))), before=(lambda f: acl(f, "-d", "-m", "u::rwx,g::rwx,o::-,g:4901:rwx,m::rwx", "docs"), lambda f: [(f / "tree/docs/plan.txt").unlink(), (f / "tree/docs/plan.txt").touch()])),
    Row("plan-names", "plan", "all that it names is there", (GONE, World("a login is misspelt", edit("people|bo|accounts", {"b": "boo"})), World("a folder is misspelt", edit("folders|b:/dosc", {"grants": {"team": "read"}})), NEVER)),
    Row("bands", "limits", "none differs from its band or from the plan", (World("a limit of its own", edit("limits|folders|b:/docs|limit", "2 MB")), World("another limit was found", write("limits.csv", LIMITS.replace("1000000", "2000"))), World("the limit was not told", edit("systems|b|limits-file", None)), World("there is no limit", both(edit("limits", {}), edit("systems|b|limits-file", None)))), before=(edit("systems|b|limits-file", "limits.csv"), write("limits.csv", LIMITS))),
    Row("kinds", "space --by kind --only not-allowed", "nothing is stored that is not allowed", (World("such a file", add_file("docs/a.exe", ADA, 0o660)), World("no rule at all", edit("barred", [])), World("in capitals", add_file("docs/A.EXE", ADA, 0o660)), MOUNTED)),
    Row("match", "people --match", "no account resembles", (World("a login that nobody has", edit("people|bo|accounts", {})), World("her name alone", both(edit("people|ada|accounts", {}), write("passwd", PASSWD.replace("ada:/", "Ada Fenn:/")))), HALF_READ)),
    Row("connect", "connect --test", "all work", (HALF_READ, World("the tree is not there", lambda f: (f / "tree").rename(f / "other"), again=False), World("there is no passwd", lambda f: (f / "passwd").unlink(), again=False))),
    Row("space", "space", "No place is over", (World("a limit on a folder that is not there", edit("limits|folders|b:/dosc", {"limit": "1 MB"})), LOW_LIMIT, OVER, WARNED)),
    Row("space", "space", "No place is over", (LOW_LIMIT, World("nothing has a limit", edit("limits", {})), World("more is there", write("files.csv", LISTING.replace(",1000", ",5000000")))), make_service),
    Row("expiring", "expiring --within 40", "nothing ends until", (ENDS, World("a post ends", edit("people|bo|posts", [{"post": "clerk", "until": "2026-12-20"}]), again=False), World("what is accepted ends", edit("accepted", [{"check": "no-email", "place": "x", "reason": "y", "until": "2026-12-20"}]), again=False))),
    Row("promised", "space --promised", "No disk of", (World("a large limit", edit("bands|small|limit", "90 TB")), World("many limits", edit("limits|folders", {"b:/docs": {"limit": "80 TB"}, "b:/": {"limit": "90 TB"}})), World("a person's", edit("limits|people", {"b:bo": {"limit": "90 TB"}})))),
    Row("promised", "space --promised", "No disk of", (World("its size is not known", edit("pools|disk", {"holds": ["b:/"]})), World("a large limit", edit("bands|small|limit", "90 MB")), World("a person's", edit("limits|people", {"b:bo": {"limit": "90 MB"}}))), make_service, (edit("pools|disk", {"size": "10 MB", "holds": ["b:/"]}),)),
    Row("joined", "join --verify bo", "has just what the plan says", (World("the plan gives nothing", both(edit("people|bo|accounts", {}), edit("people|bo|posts", []), NO_ACCOUNT.change)), SHUT, NO_MEMBER, NO_ACCOUNT, GONE, SHUT_FOLDER)),
    Row("ledger", "ledger --verify", "as it was written", (World("a count has another day", lambda f: sql(f, "update counts set taken_at = replace(taken_at, '2026', '2025')"), again=False), World("all links are gone", lambda f: sql(f, "delete from chain"), again=False), World("the last link is gone", lambda f: [count(f), sql(f, "delete from chain where id = (select max(id) from chain)")], again=False), World("nothing was ever written", lambda f: sql(f, *(f"delete from {table}" for table in EMPTIED)), again=False), World("what was not seen is gone", lambda f: sql(f, "delete from packed where rowid = (select max(rowid) from packed)"), again=False))),
    Row("all-seen", "count", "all was seen", (HALF_READ, MOUNTED, World("a tree is not there", edit("systems|c", {"source": "tree", "path": "nowhere"})))),
    Row("all-seen", "ledger --not-seen b", "all was seen", (HALF_READ, MOUNTED, World("two of a number", write("passwd", PASSWD + "x:y\n")))),
    Row("links", "links", "all in order", (World("anybody may come by a link", share("links", on="yes", audience="anyone")), World("its giver is gone", write("people.csv", LOGINS.replace("Ada Fenn,ada@worlds.example,open", "Ada Fenn,ada@worlds.example,disabled"))), World("who gave it was not told", share("hand-outs", giver="")), World("nothing was told", write("shared.json", "{}"))), make_service),
    Row("devices", "devices", "all in order", (World("it was lost", share("devices", state="lost")), World("its owner has nothing there", write("members.csv", "group,member\nteam,bo\n")), World("it holds more than there is", share("devices", held="5000000")), World("nothing was told", share("devices"))), make_service),
    Row("unused", "unused", "every right was used", (NO_LOG, SHORT_LOG, World("the log stopped in spring", write("access.log", log(last="2026-04-01"))), ONLY_ADA), make_service),
    Row("missed", "unused --try", "nobody would have missed", (NO_LOG, SHORT_LOG, World("bo used it once, in spring", write("access.log", log(who=("ada",), more=log("2026-03-01", "2026-03-02", ("bo",)))))), make_service, (ONLY_ADA.change,)),
    Row("signs", "trail --unusual", "Nothing unusual", (NO_LOG, DEAD_LOG, World("a guess at passwords", write("access.log", log(more="".join(f'10.9.9.9 - bo [30/Nov/2026:10:00:{n % 60:02} +0000] "GET /dav/ HTTP/1.1" 401 0 "-" "files"\n' for n in range(60)))))), make_service),
    Row("notices", "notices", "nothing is to be told", (World("a hand-out ends", share("hand-outs", expires="2026-12-20")), World("bo is not in the group", write("members.csv", "group,member\nteam,ada\n")), World("a right of bo's own", write("files.csv", LISTING.replace("/,folder,,", "/,folder,,bo=manage;")))), make_service),
    Row("protect", "protect", "protected as planned", (World("nothing is wanted", edit("protection", {})), World("the last run failed", write("runs.csv", "when,done,bytes\n2026-11-20T02:00,yes,1\n2026-11-30T02:00,no,1\n")), World("it is here", edit("protection|b:/|loss", "1 hour")), World("one more copy is wanted", edit("protection|b:/|copies", 3)), World("runs were not told", write("runs.csv", "when,done,bytes\n"))), make_service),
    Row("take-back", "suppose --unshare link:k1", "nobody would lose", tuple(World(name, share("links", **{"on": "yes", **values})) for name, values in (("it is on", {}), ("for anybody", {"audience": "anyone"}), ("for bo alone", {"audience": "named", "named": "bo"}))), make_service),
    Row("forecast", "space --forecast", "none will be full", (LOW_LIMIT, World("it grows", weeks(*range(100, 1000, 100))), World("it was counted too seldom", weeks(100, 100)), World("it is full", weeks(*[2000] * 9))), make_service, (weeks(*range(100, 109)),)),
)  # fmt: skip

# What needs more than one question: carried out, with other hands in between.
ELSEWHERE = {"proof": "test_proof.py", "office": "test_assurances.py"}


@pytest.mark.parametrize("world", [SHUT, HALF_READ, MOUNTED, NEVER], ids=lambda world: world.name)
def test_an_office_among_many_is_in_order_only_where_all_of_it_was_seen(
    world: World, tmp_path: Path, unmounted
) -> None:
    for folder in (tmp_path / "good", tmp_path / "other"):
        make_tree(folder)
        count(folder)
    world.change(tmp_path / "other")
    if world.again:
        count(tmp_path / "other")
    headline = json.loads(call(tmp_path / "*", "check", "--format", "json"))["headline"]
    assert re.search(r"\b1 in order\b(?!, as far)", headline), headline


EMPTIED = (
    "chain",
    "counts",
    "surveys",
    "packed",
    "seals",
    "accounts",
    "account_groups",
    "not_seen",
    "shared",
    "findings",
    "journal",
)


def acl(folder: Path, *words: str) -> None:
    subprocess.run(["setfacl", *words[:-1], folder / "tree" / words[-1]], check=True)


def sql(folder: Path, *texts: str) -> None:
    """Alter the ledger by a hand that knows how."""
    import sqlite3
    from contextlib import closing

    with closing(sqlite3.connect(folder / "ledger.db")) as ledger, ledger:
        for (trigger,) in ledger.execute("select name from sqlite_master where type = 'trigger'").fetchall():
            ledger.execute(f"drop trigger {trigger}")
        for text in texts:
            ledger.execute(text)


def call(folder: Path, *words: str, today: str = TODAY) -> str:
    """Return what the command says, in this process."""
    out = StringIO()
    with redirect_stdout(out), redirect_stderr(StringIO()):
        main([*words, "--office", str(folder), "--today", today])
    return out.getvalue()


def is_said(row: Row, told: str, *, is_known: bool = False) -> bool:
    """Tell whether a sentence stands somewhere without the bound that not all was seen, or at all."""
    plain = re.sub(r"\s*\n\s*", " ", told)
    return any(
        row.said in sentence and (is_known or "as far as was seen" not in sentence)
        for sentence in re.split(r"(?<=[.])\s", plain)
    )


@pytest.mark.parametrize("row", ROWS, ids=lambda row: row.asked)
def test_a_sentence_is_said_where_it_holds_and_in_no_world_near_to_that(row: Row, tmp_path: Path, unmounted) -> None:
    for number, world in enumerate((None, *row.worlds)):
        folder = tmp_path / str(number)
        row.make(folder)
        for step in row.before:
            step(folder)
        if world is None or not world.again or count in row.before:
            count(folder)
        if world is not None:
            world.change(folder)
        if world is None or world.again:
            count(folder)
        told = call(folder, *row.asked.split())
        is_known = world is not None and world.is_known
        assert is_said(row, told, is_known=is_known) is (world is None), (world and world.name, told)


BOS_LINE, TEAMS_LINE = f"bo:x:{BO}:{BO}:bo:/:/bin/sh", f"team:x:{TEAM}:ada,bo"


@pytest.mark.parametrize(
    ("change", "after"),
    [
        (write("passwd", PASSWD.replace(BOS_LINE, "bo:x")), "unknown"),
        (write("group", GROUP.replace(TEAMS_LINE, "team;x")), "unknown"),
        (write("passwd", PASSWD.replace(f"{BOS_LINE}\n", "")), "none"),
        (write("group", GROUP.replace(f"{TEAMS_LINE}\n", "")), "none"),
    ],
)
def test_what_was_not_told_is_not_lost(change: Callable[[Path], object], after: str, tmp_path: Path) -> None:
    make_tree(tmp_path)
    count(tmp_path)
    change(tmp_path)
    count(tmp_path)
    rows = [row for row in rows_of(tmp_path, "changes") if row["what"] == "access"]
    assert "bo" in {row["person"] for row in rows} and {row["after"] for row in rows} == {after}
    is_lost = {row["lost"] != "nothing" or "fewer" in row["with_files"] for row in rows}
    assert is_lost == {after == "none"}, rows
    assert rows_of(tmp_path, "changes", "bo", "b:/docs")[-1]["level"] == after


def rows_of(folder: Path, *words: str) -> list[dict[str, str]]:
    rows: list[dict[str, str]] = json.loads(call(folder, *words, "--format", "json"))["rows"]
    return rows


def test_every_sentence_has_worlds() -> None:
    assert {row.key for row in ROWS} | set(ELSEWHERE) == set(ASSURANCES)
    assert [row.asked for row in ROWS if len(row.worlds) < 3] == []
    assert all(Path(__file__).with_name(name).exists() for name in ELSEWHERE.values())
