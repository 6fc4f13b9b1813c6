"""Somebody starts, changes posts, leaves: over files, a directory and a service, carried out for real, and proved."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import subprocess
import warnings
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import date, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from judges import ldap
from neatledger.core.people.credentials import Credentials
from neatledger.core.posts.accounts import new_account, next_number
from neatledger.core.posts.forms import FIELDS, choose_login, fill_form, guess_form
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.demo.service.server import Service
from neatledger.office.edit_people import add_person, put_last_day, put_move
from neatledger.questions import carrying, hanging, joining, leaving, moving, proof, proving
from neatledger.questions.office import Office, open_office
from neatledger.questions.starting import why_perhaps_there
from step_offices import now

WORD = "only for this run"
ROOT = f"cn=root,{ldap.BASE}"
NAMES = ["Ada Lark", "Bo Möss", "Cy Ashby-Cole", "Dee O'Quill", "Eve van Dale", "Finn Wren", "Gus Wren", "Hal Frost"]


@given(st.text(max_size=20), st.text(max_size=20), st.lists(st.sampled_from(FIELDS), min_size=1, max_size=3))
def test_a_login_is_free_and_made_of_the_name(first: str, last: str, fields: list[str]) -> None:
    form = ".".join(f"{{{one}}}" for one in fields)
    name = f"{first} {last}"
    made = fill_form(form, name)
    taken = {made: "Somebody", f"{made}2": "another"}
    found = choose_login(form, name, taken)
    assert (found is None) == (not made)
    if found is not None:
        assert found.login.casefold() not in {one.casefold() for one in taken} and found.first_choice == made
        assert all(one.isascii() and (one.isalnum() or one == ".") for one in found.login)
        assert choose_login(form, name, {}).login == made
        assert fill_form(guess_form(made, name), name)


@pytest.mark.parametrize(("one", "is_near"), [
    ("alark", True), ("alarq", True), ("zlark", True), ("alrak", True), ("laark", True), ("alar", True), ("lark", True), ("alarks", True),
    ("xalark", True), ("alaark", True), ("kalra", False), ("alkra", False), ("rlaak", False), ("alarkss", False), ("alarqq", False), ("ala", False), ("", False),
])  # fmt: skip
def test_a_login_that_looks_much_like_another_is_told(one: str, is_near: bool) -> None:
    found = choose_login("{first initial}{last}", "Ada Lark", {one: "Somebody"} if one else {})
    assert (one in found.near) == is_near and found.is_first == (one != "alark")
    assert found.login == ("adlark" if one == "alark" else "alark") and bool(found.taken_by) == (one == "alark")


@pytest.mark.parametrize(("taken", "login"), [
    ("", "al"), ("al", "adl"), ("al adl", "adal"), ("al adl adal", "al2"), ("al adl adal al2 AL3", "al4"),
])  # fmt: skip
def test_what_is_tried_when_a_login_is_taken(taken: str, login: str) -> None:
    form = "{first initial}{last initial}"
    assert choose_login(form, "Ada Lark", dict.fromkeys(taken.split(), "?")).login == login
    assert choose_login("{last}", "Ada Lark", {"lark": "?", "lark2": "?"}).login == "lark3"
    assert (
        fill_form("{first}.{last}", "Ada van Lark") == "ada.lark" and fill_form("{first}{last}", "Cher") == "chercher"
    )


@pytest.mark.parametrize(("used", "number"), [
    ("", "1001"), ("999", "1001"), ("1000", "1001"), ("1001 1000", "1002"), ("59999", "60000"), ("60000 65534 1500", "1501"), ("x 0 1234", "1235"),
])  # fmt: skip
def test_a_number_is_the_one_after_the_last_of_a_person(used: str, number: str) -> None:
    assert next_number(used.split()) == number


@pytest.mark.parametrize("own", [0, 2, 3])
def test_a_new_account_is_made_like_most_that_are_there(own: int) -> None:
    like = [
        Account(f"p{at}", f"{1000 + at}", f"{1000 + at if at < own else 90}", home=home, shell=shell)
        for at, (home, shell) in enumerate(
            [("/home/p0", "/bin/sh"), ("/home/p1", "/bin/sh"), ("/srv/x", "/bin/csh"), ("/srv/p3", "/bin/sh")]
        )
    ]
    service = Account("daemon", "999", "999", home="/x/daemon", shell="/bin/no")
    groups = [Group("staff", "90"), *(Group(f"p{at}", f"{1000 + at}") for at in range(4))]
    made, group = new_account("alark", "Ada Lark", "a@x", [*like, service], groups, ["1000", "1001", "1002", "1003"])
    assert (made.ident, made.home, made.shell) == ("1004", "/home/alark", "/bin/sh")
    assert group == (Group("alark", "1004") if own > 2 else None) and made.primary == ("1004" if own > 2 else "90")
    told, none = new_account("alark", "Ada Lark", "a@x", [Account("x", "S-1-5-9", "S-1-5-8")], [], [])
    assert (told.ident, told.primary, none) == ("alark", "S-1-5-8", None)


def ldif(people: list[str]) -> str:
    lines = [f"dn: {ldap.BASE}\nobjectClass: dcObject\nobjectClass: organization\no: P\ndc: pellowmere\n"]
    lines += [
        f"dn: ou={unit},{ldap.BASE}\nobjectClass: organizationalUnit\nou: {unit}\n" for unit in ("people", "groups")
    ]
    for number, name in enumerate(people):
        login = fill_form("{first}.{last}", name)
        lines.append(
            f"dn: uid={login},ou=people,{ldap.BASE}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\n"
            f"objectClass: shadowAccount\nuid: {login}\n"
            f"cn: {login}\nsn: {login}\nuidNumber: {4001 + number}\ngidNumber: 4900\nhomeDirectory: /home/{login}\n"
        )
    member = f"memberUid: {fill_form('{first}.{last}', people[0])}\n"
    for number, name in enumerate(("vets", "nurses", "payroll")):
        inside = member if name == "vets" else ""
        lines.append(
            f"dn: cn={name},ou=groups,{ldap.BASE}\nobjectClass: posixGroup\ncn: {name}\ngidNumber: {4901 + number}\n{inside}"
        )
    return "\n".join(lines)


POSTS = {
    "vet": {"groups": ["vets"], "accounts": {"barn": "{first initial}{last}", "hall": "{first}.{last}", "meadow": "{last}"},
            "home": "barn:/homes/{login}", "email": "{last}@pellowmere.example"},
    "nurse": {"groups": ["nurses"], "accounts": {"barn": "{first initial}{last}", "meadow": "{last}"},
              "home": "barn:/homes/{login}", "email": "{last}@pellowmere.example"},
    "bookkeeper": {"groups": ["payroll"], "accounts": {"barn": "{last}", "hall": "{first}.{last}"}},
}  # fmt: skip


@contextmanager
def practice(folder: Path, monkeypatch: pytest.MonkeyPatch, first: list[str]) -> Iterator[Path]:
    """Run an office of a tree with its files, a directory and a service: one vet is there, and all is as planned."""
    ada = fill_form("{first initial}{last}", first[0])
    (folder / "passwd").write_text(
        f"root:x:0:0:root:/root:/bin/sh\n{ada}:x:4001:4900:{first[0]}:/homes/{ada}:/bin/sh\n"
    )
    (folder / "group").write_text(f"staff:x:4900:\nvets:x:4901:{ada}\nnurses:x:4902:\npayroll:x:4903:\n")
    (folder / "shadow").write_text(f"{ada}:*:19000:0:99999:7:::")
    (folder / "tree" / "homes" / ada).mkdir(parents=True, mode=0o700)
    for path in ("tree", "tree/homes"):
        (folder / path).chmod(0o755)
    os.chown(folder / "tree" / "homes" / ada, 4001, 4900)
    for gid, name in ((4901, "vets"), (4902, "nurses"), (4903, "payroll")):
        (folder / "tree" / name).mkdir()
        (folder / "tree" / name).chmod(0o770)
        os.chown(folder / "tree" / name, 0, gid)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", ldap.PASSWORD)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_MEADOW", WORD)
    users = [
        {"login": "reader", "name": "Reader", "email": "", "active": True, "type": "", "roles": ["administrator"], "entitlements": []},
        {"login": fill_form("{last}", first[0]), "name": first[0], "email": "", "active": True, "type": "", "roles": ["user"], "entitlements": []},
    ]  # fmt: skip
    groups = {"vets": [users[1]["login"]], "nurses": [], "payroll": []}
    with Service(folder / "service.db") as service, ldap.running(folder, ldif(first)) as url:
        service.store.fill(users, groups, [], {})
        service.store.set_password("reader", WORD)
        systems = {
            "barn": {"source": "tree", "path": "tree", "may-change": True, "homes": ["/homes"],
                     "accounts": {"passwd": "passwd", "group": "group", "shadow": "shadow"}},
            "hall": {"source": "directory", "may-change": True,
                     "accounts": {"ldap": {"url": url, "base": ldap.BASE, "user": ROOT, "ca": "cert.pem"}}},
            "meadow": {"source": "directory", "may-change": True, "web": {"user": "reader", "token-url": f"{service.url}/token"},
                       "accounts": {"scim": f"{service.url}/scim/v2"}},
        }  # fmt: skip
        logins = {"barn": ada, "hall": fill_form("{first}.{last}", first[0]), "meadow": users[1]["login"]}
        plan = {"office": "P", "domain": "pellowmere.example", "systems": systems, "posts": POSTS,
                "people": {"first": {"name": first[0], "accounts": logins, "posts": ["vet"]},
                           "reader": {"kind": "service", "accounts": {"meadow": "reader"}}},
                "groups": {"vets": {}, "nurses": {}, "payroll": {}},
                "folders": {f"barn:/{name}": {"grants": {name: "write"}, "closed": True} for name in ("vets", "nurses", "payroll")}}  # fmt: skip
        (folder / "office.yaml").write_text(json.dumps(plan))
        yield folder


def carried(office: Office, steps) -> carrying.Carried:
    def credentials(system: str):
        words = {"hall": (ROOT, ldap.PASSWORD), "meadow": ("reader", WORD)}
        return lambda user, host: Credentials(*words.get(system.partition(" ")[0], ("", "")))

    carriers = carrying.Carriers(office, credentials)
    with closing(carriers), warnings.catch_warnings():
        # The library still uses what later versions of Python leave out.
        warnings.simplefilter("ignore", DeprecationWarning)
        return carrying.carry_out(office.ledger.journal, steps, carriers, now)


def systems_of(done: carrying.Carried) -> list[str]:
    return sorted({step.system for step in done.made})


def looked_at(folder: Path, run) -> Office:
    run("count", "--quiet", "--office", folder)
    return open_office(folder, today=date.today())


@pytest.mark.judge
@pytest.mark.seeds(1)
def test_who_joins_has_what_the_plan_says_and_nobody_else_anything(
    seed: int, tmp_path: Path, run, monkeypatch
) -> None:
    rng = random.Random(seed)
    names = rng.sample(NAMES, 5)
    with practice(tmp_path, monkeypatch, names[:1]) as folder:
        office = looked_at(folder, run)
        assert all(one.verdict is proving.Verdict.AS_PLANNED for one in proving.ask(office, "first"))
        for name in names[1:]:
            post = rng.choice(sorted(POSTS))
            like = rng.random() < 0.2
            found = joining.ask(office, joining.Newcomer(name, [] if like else [post], "first" if like else ""))
            add_person(folder, found.arrival)
            before = open_office(folder, today=date.today()).with_()
            mine, left = joining.own_steps(before, found.arrival.id)
            steps = [item.step for item in found.work.items]
            assert sorted(map(repr, steps)) == sorted(map(repr, mine)) and not left
            done = carried(before, steps)
            assert not done.stopped and not done.left and len(done.made) == len(steps) > 2, done
            office = looked_at(folder, run)
            proved = proof.prove(before, systems_of(done))
            assert proved.is_as_meant and proved.made == len(done.made), proved
            proofs = proving.ask(office, found.arrival.id)
            assert all(one.verdict is proving.Verdict.AS_PLANNED for one in proofs) and len(proofs) > 2, proofs
            assert not joining.own_steps(office, found.arrival.id)[0]
        # First passwords: by the directory's own rule, set in the service, once; told nowhere but in the letter.
        letter = folder / "letter.txt"
        told = run("join", found.arrival.id, "--passwords", letter, "--yes", "--office", folder, status=None)
        text = letter.read_text()
        words = re.findall(r"password:  (\S+)", text)
        logins = dict(re.findall(r"(\S+)\n    name:      (\S+)", text))
        assert len(words) == len(set(words)) == len(logins) >= 1 and letter.stat().st_mode & 0o777 == 0o600
        assert not any(word.encode() in (folder / "ledger.db").read_bytes() for word in words)
        assert not any(word in told.stdout + told.stderr for word in words) and "passwd" in told.stderr
        if "hall" in logins:
            url = office.plan.systems["hall"].settings["accounts"]["ldap"]["url"]
            dn = f"uid={logins['hall']},ou=people,{ldap.BASE}"
            sign_in = ["ldapwhoami", "-x", "-ZZ", "-H", url, "-D", dn, "-w", words[list(logins).index("hall")]]
            tried = subprocess.run(sign_in, env=os.environ | {"LDAPTLS_REQCERT": "never"}, capture_output=True)
            assert tried.returncode == 0
        assert (
            "is there already"
            in run("join", found.arrival.id, "--passwords", letter, "--office", folder, status=2).stderr
        )
        logins = [line.partition(":")[0] for line in (folder / "shadow").read_text().splitlines()]
        assert len(logins) == 5 and (folder / "shadow").read_text().count(":!:") == 4


@pytest.mark.judge
@pytest.mark.seeds(1)
def test_who_moves_and_leaves_has_what_the_plan_says_and_nobody_else_anything(
    seed: int, tmp_path: Path, run, monkeypatch
) -> None:
    """A new post, and a last day, each carried out on its day: accounts closed, and all that hung on them was told."""
    rng = random.Random(seed)
    names = rng.sample(NAMES, 3)
    with practice(tmp_path, monkeypatch, names[:1]) as folder:
        office = looked_at(folder, run)
        found = joining.ask(office, joining.Newcomer(names[1], ["vet"]))
        add_person(folder, found.arrival)
        carried(open_office(folder, today=date.today()), [item.step for item in found.work.items])
        office, who = looked_at(folder, run), found.arrival.id
        post = rng.choice(["nurse", "bookkeeper"])
        moved = moving.ask(office, who, [post], None, None, "")
        assert [one for one in moved.changes if one.after.value == "none"] and "group" not in {
            one.what for one in moved.stays
        }
        put_move(folder, who, moved.posts, {key: one.login for key, one in moved.choices.items()}, moved.unlisted)
        before = open_office(folder, today=date.today())
        assert before.readers
        steps = [item.step for item in moved.work[0][1].items]
        done = carried(before, steps)
        assert not done.stopped and len(done.made) == len(steps) >= 3, done
        office = looked_at(folder, run)
        proved = proof.prove(before, systems_of(done))
        assert proved.is_as_meant, proved
        assert all(one.verdict is proving.Verdict.AS_PLANNED for one in proving.ask(office, who))
        (folder / "tree" / "vets" / "left here.txt").write_text("x" * 7)
        uid = next(one.account.ident for one in office.principals["barn"] if one.person == who)
        os.chown(folder / "tree" / "vets" / "left here.txt", int(uid), 4901)
        office = looked_at(folder, run)
        last, after = date.today(), date.today() + timedelta(days=1)
        left = leaving.ask(office, who, last, "first", {})
        assert {str(one.place) for one, _ in left.hanging if one.what == "owned"} == {"barn:/vets"}
        assert not left.without_successor and sum(one.what == "account" for one, _ in left.hanging) == 3
        put_last_day(folder, who, last, "first", {})
        before = open_office(folder, today=after)
        steps = [item.step for item in left.work.items]
        done = carried(before, steps)
        assert not done.stopped and len(done.made) == len(steps), done
        run("count", "--quiet", "--office", folder)
        office = open_office(folder, today=after)
        proofs = proving.ask(office, who)
        assert sum(one.what == "account" for one in proofs) == 3
        assert {one.verdict for one in proofs if one.what == "account"} == {proving.Verdict.AS_PLANNED}, proofs
        assert not [one for one in proofs if one.verdict is proving.Verdict.BEYOND], proofs
        run("check", "--only", "left-but-open", "--office", folder, "--today", after, status=0)


def test_what_hangs_on_somebody_is_all_that_a_slow_search_finds(demo: Path) -> None:
    """Person by person: files by owner, links, hand-outs, devices and guests of the tables, and lines of the plan."""
    office = open_office(demo, today=date(2026, 11, 23))
    shared = json.loads((demo / "meadow.shared.json").read_text())
    with open(demo / "meadow.csv", newline="") as file:
        rows = list(csv.DictReader(file))
    of_uid: Counter[str] = Counter()
    for folder, _, files in os.walk(demo / "barn"):
        of_uid.update(str(os.lstat(os.path.join(folder, name)).st_uid) for name in files)
    lines = (demo / "office.yaml").read_text().splitlines()
    for person, known in office.plan.people.items():
        found = hanging.hanging_on(office, person)
        logins = {system: set(some) for system, some in known.accounts.items()}
        mine = logins.get("meadow", set())
        slow = Counter({"meadow": sum(row["owner"] in mine and row["type"] == "file" for row in rows)})
        uids = {one.account.ident for one in office.principals["barn"] if one.person == person}
        slow["barn"] = sum(of_uid[uid] for uid in uids) if os.geteuid() == 0 else -1
        told: Counter[str] = Counter()
        for one in found:
            if one.what in ("owned", "home") and " or another's" not in one.detail:
                system = one.place if isinstance(one.place, str) else one.place.system
                told[system] += int(re.sub(",", "", (re.search(r"([0-9,]+) files?", one.detail) or ["", "0"])[1]))
        assert told["meadow"] == slow["meadow"], person
        # Whoever is superuser owns what is nobody's, and links are no files that are counted.
        if "0" not in uids and slow["barn"] >= 0:
            assert told["barn"] >= slow["barn"] > -1, person
        ids = {re.split(r"[, ]", one.detail)[0] for one in found if one.what in ("link", "handed out", "was handed")}
        day = "2026-11-23"
        links = {f"link:{one['id']}" for one in shared["links"] if one["maker"] in mine and not _over(one, day)}
        given = {
            f"hand-out:{one['id']}" for one in shared["hand-outs"] if one["giver"] in mine and not _over(one, day)
        }
        assert links | given <= ids, (person, links | given, ids)
        assert sum(one.what == "device" for one in found) == sum(one["owner"] in mine for one in shared["devices"])
        named = {int(one.place.split()[1]) for one in found if one.what == "in the plan"}
        word = re.compile(rf"(?<![\w.@/-]){person}(?![\w.@-])")
        texts = {
            n
            for n, line in enumerate(lines, start=1)
            if word.search(line.partition(" #")[0]) and not line.startswith(f"  {person}: {{")
        }
        texts = {n for n in texts if f"meadow: {person}" not in lines[n - 1] and "because:" not in lines[n - 1]}
        assert texts <= named | _of_accounts(lines, person), (person, texts - named)


def _over(one: dict[str, str], day: str) -> bool:
    is_off = (
        str(one.get("on", "yes")) == "no"
        or one.get("uses-left") == "0"
        or one.get("reply") in ("waiting", "declined")
    )
    return (
        is_off
        or (bool(one.get("expires")) and one["expires"] < day)
        or (bool(one.get("starts")) and one["starts"] > day)
    )


def _of_accounts(lines: list[str], person: str) -> set[int]:
    """Return the lines on which a word like a person's is a login, a name of a file or of another thing."""
    return {
        n
        for n, line in enumerate(lines, start=1)
        if re.search(rf"[:/] ?{person}\b.*accounts|accounts:.*{person}", line)
    }


def test_each_account_stands_in_a_row_of_its_own(demo: Path, run) -> None:
    told = run("people", "--accounts", "--format", "csv", "--office", demo).stdout
    rows = {(row["system"], row["login"]): row for row in csv.DictReader(io.StringIO(told))}
    hale = rows["barn", "jhale"]
    assert hale["allowed_bytes"] == "60000000" and int(hale["used_bytes"]) + int(hale["free_bytes"]) == 60_000_000
    assert rows["loft", "jhale"]["allowed_bytes"] == "" and rows["loft", "mbrand"]["state"] == "disabled"
    assert rows["meadow", "birch"]["service"] == "off" and rows["meadow", "vane"]["service"] == "not entitled"
    only = run("people", "hale", "--accounts", "--format", "csv", "--office", demo).stdout
    assert {row["login"] for row in csv.DictReader(io.StringIO(only))} == {"jhale", "hale"}


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("join", "Ada Larke", "--post", "nurze"), "did you mean nurse"),
        (("join", "Ada Larke", "--post", "nurse", "--login", "barn=jhale"), "the login is Jonas Hale's"),
        (("join", "Ada Larke", "--post", "nurse", "--login", "bern=x"), "no system is called 'bern'"),
        (
            ("join", "Ada Larke", "--post", "nurse", "--start", "2027-02-01", "--last-day", "2027-01-01"),
            "before the first",
        ),
        (("join", "Ada Larke", "--post", "nurse", "--id", "hale"), "the plan has this name already"),
        (("join", "王", "--post", "nurse"), "no letter that a login can have"),
        (("move", "croft", "--post", "nurse"), "they hold this post already"),
        (("move", "brand", "--post", "vet", "--start", "2027-03-01"), "leaves on 2026-12-18"),
        (("move", "croft", "--post", "desk", "--start", "2026-12-14", "--overlap", "2026-12-01"), "before the move"),
        (("leave", "hale", "--successor", "fenn"), "nothing says when hale leaves"),
        (("leave", "hale", "--last-day", "2026-12-31", "--successor", "hale"), "hale after themselves"),
        (("leave", "hale", "--last-day", "2026-12-31", "--successor", "brand"), "brand, who leaves on 2026-12-18"),
        (("leave", "frost", "--last-day", "2026-12-31", "--write"), "nothing was written"),
    ],
)
def test_what_cannot_be_is_said_in_one_line_and_the_plan_unharmed(demo: Path, run, words, said: str) -> None:
    before = (demo / "office.yaml").read_bytes()
    wrong = run(*words, "--office", demo, "--today", "2026-11-23", status=2).stderr
    assert said in wrong and wrong.count("\n") == 1 and (demo / "office.yaml").read_bytes() == before


def test_a_newcomer_like_somebody_needs_no_identifier_yet(demo: Path, run) -> None:
    """An entry of an NT list names nobody whose account is only to be made."""
    told = run("join", "Rowan Lark", "--like", "thistle", "--office", demo, "--today", "2026-11-23").stdout
    assert "Rowan Lark (rowan-lark) starts on 2026-11-23" in told and "make the account rlark" in told


@pytest.mark.parametrize(
    ("source", "why", "is_there"),
    [
        ("passwd:3", "a line that is no account or group: 'alark:x:52O77:100'", True),
        ("passwd:3", "a line that is no account or group: 'alarkin:x:52O77:100'", False),
        ("ldaps://dir.example:636", "the directory gave 500 entries and no more: its limit on size", True),
        ("limits.csv:4", "a row that cannot be read: on 'home' is none of folder, person", False),
    ],
)
def test_nobody_gets_a_second_account_for_a_first_that_was_not_read(
    source: str, why: str, is_there: bool, tmp_path: Path, run
) -> None:
    assert bool(why_perhaps_there([NotSeen.of_source(source, why)], "alark")) == is_there
    if not source.startswith("passwd"):
        return
    (tmp_path / "tree").mkdir()
    (tmp_path / "passwd").write_text(f"bo:x:4001:4001::/:/bin/sh\n{why.partition(chr(39))[2].rstrip(chr(39))}\n")
    (tmp_path / "group").write_text("bo:x:4001:\n")
    (tmp_path / "office.yaml").write_text(
        "office: Test\nsystems: {barn: {source: tree, path: tree, accounts: {passwd: passwd, group: group}}}\n"
        "people: {alark: {name: Ada Lark, accounts: {barn: alark}}, bo: {name: Bo, accounts: {barn: bo}}}\n"
    )
    run("count", "--quiet", "--office", tmp_path)
    told = run("mend", "--office", tmp_path, status=1).stdout
    assert "make the account alark" in told and ("it may be there already" in told) == is_there
