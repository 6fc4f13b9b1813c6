"""A real domain judges what is read of it: who is in which group, and in what state every account is."""

from __future__ import annotations

import csv
import io
import json
import os
import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from judges import domain
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import AccountState
from neatledger.ledger.imagined import ImaginedReader
from neatledger.office.edit_people import put_move
from neatledger.questions import carrying, joining, moving, open_office, proving
from neatledger.questions.imagined import imagined_office
from step_offices import carry, gathered, resume

pytestmark = pytest.mark.judge
SEED = 20261128 if os.environ.get("CI") else random.SystemRandom().randrange(1 << 32)


@pytest.fixture(scope="module")
def real() -> Iterator[domain.Domain]:
    with domain.Domain(random.Random(SEED)) as found:
        yield found


def plan(folder: Path, real: domain.Domain, *, may_change: bool = False, **more: object) -> Path:
    ldap = {"url": f"ldap://{real.host}", "base": domain.BASE, "user": f"CN=Administrator,CN=Users,{domain.BASE}",
            "allow-plain": True, **more}  # fmt: skip
    system = {"source": "directory", "lists": "nt", "accounts": {"ldap": ldap, "ids": "sid"}}
    system |= {"may-change": True} if may_change else {}
    folder.mkdir(exist_ok=True)
    (folder / "office.yaml").write_text(json.dumps({"office": "X", "systems": {"hall": system}}))
    return folder


# Right of the table → what is asked for: FILE_LIST_DIRECTORY, FILE_ADD_FILE, DELETE, WRITE_DAC (MS-DTYP 2.4.3).
RIGHTS = {"list": 0x1, "add": 0x2, "delete": 0x10000, "manage": 0x40000}


def test_a_share_opens_to_everybody_as_when_it_is_tried(real, run, tmp_path, monkeypatch) -> None:
    rng = random.Random(SEED)
    sids = sorted(
        {sid for mine, token in real.tokens.values() for sid in (mine, *token) if sid.startswith("S-1-5-21-")}
    )
    masks = [0x1200A9, 0x1301BF, 0x1F01FF, 0x2, 0x10000, 0x40000, 0x1]

    def ace() -> str:
        kind, whom = rng.choice("AAAD"), rng.choice([*sids, "S-1-5-11", "S-1-5-32-545", "S-1-1-0"])
        return f"({kind};;{rng.choice(masks):#x};;;{whom})"

    folders = {f"f{number}": "D:P" + "".join(ace() for _ in range(rng.randrange(5))) for number in range(14)}
    tried = real.try_share(folders, list(RIGHTS.values()))
    monkeypatch.setenv("NEATLEDGER_PASSWORD_LOFT", real.password)
    ldap = {"url": f"ldap://{real.host}", "base": domain.BASE, "user": f"CN=Administrator,CN=Users,{domain.BASE}",
            "allow-plain": True}  # fmt: skip
    system = {"source": "smb", "host": real.host, "user": "Administrator", "shares": ["office"],
              "accounts": {"ldap": ldap, "ids": "sid"}}  # fmt: skip
    (tmp_path / "office.yaml").write_text(json.dumps({"office": "X", "systems": {"loft": system}}))
    run("count", "--office", tmp_path)
    table = csv.DictReader(io.StringIO(run("reach", "--all", "--format", "csv", "--office", tmp_path).stdout))
    cells = {(row["account"], row["folder"]): row for row in table if row["way"] == "share"}
    known = 0
    for login, given in tried.items():
        for name in folders:
            row = cells[login, f"loft:/office/{name}"]
            expected = given[name] if given is not None else [False] * len(RIGHTS)
            if row["level"] != "unknown":
                known += 1
                assert [row[right] == "1" for right in RIGHTS] == expected, (SEED, login, name, folders[name])
    assert known > len(tried) * len(folders) / 2 and any(tried.values())


def test_a_ticket_signs_in_too(real, start, tmp_path) -> None:
    env = real.ticket(tmp_path)
    where = plan(tmp_path / "office", real, url="ldap://hall.pellowmere.example", user="", **{"sign-in": "kerberos"})
    assert start("count", "--office", where, env=env).returncode == 0
    assert len(open_office(where).principals["hall"]) > 20
    wrong = start("count", "--office", where, env=env | {"KRB5CCNAME": f"{tmp_path}/none"}, status=2).stderr
    assert "Kerberos says: No Kerberos credentials available" in wrong and wrong.count("\n") == 1


def test_a_ticket_signs_in_to_a_share_too(real, start, tmp_path) -> None:
    env = real.ticket(tmp_path)
    real.try_share({"seen": "D:P(A;;FA;;;BA)"}, [1])
    system = {"source": "smb", "host": "hall.pellowmere.example", "shares": ["office"], "sign-in": "kerberos"}
    office = tmp_path / "office"
    office.mkdir()
    (office / "office.yaml").write_text(json.dumps({"office": "X", "systems": {"loft": system}}))
    assert start("count", "--office", office, env=env).returncode == 0
    assert "loft:/office/seen" in start("folders", "--office", office, env=env).stdout
    wrong = start("count", "--office", office, env=env | {"KRB5CCNAME": f"{tmp_path}/none"}, status=2).stderr
    assert "the Kerberos ticket does not sign in" in wrong and wrong.count("\n") == 1


def test_groups_and_states_are_those_of_the_domain(real, run, tmp_path, monkeypatch) -> None:
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    where = plan(tmp_path / "office", real)
    told = run("count", "--not-seen", "--office", where).stdout
    office = open_office(where)
    groups = {group.ident: group for group in office.readers["hall"].groups}
    holders = {one.account.login: one for one in office.principals["hall"]}
    for login, (sid, token) in real.tokens.items():
        holder = holders[login].holder
        assert holder.user == sid, SEED
        mine = holder.groups - {"S-1-1-0", "S-1-5-11", "S-1-5-2"}
        assert set(token) == mine, (SEED, login, set(token) ^ mine)
        untold = {ident for ident, group in groups.items() if group.untold}
        assert untold - mine <= holder.maybe, (SEED, login)
    for login, state in real.states.items():
        assert holders[login].account.state.value == state, (SEED, login)
    assert len(groups) == len({group.name for group in groups.values()})
    for sid in ("S-1-5-21-9-8-7-1105", "S-1-5-21-9-8-7-1106"):
        assert (sid in told) == any(sid in one.untold for one in groups.values()), SEED
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", "not the password")
    wrong = run("count", "--office", where, status=2).stderr
    assert "the name or the password is wrong" in wrong and "TLS" not in wrong
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    empty = run("count", "--office", plan(tmp_path / "empty", real, base=f"CN=System,{domain.BASE}")).stdout
    assert "there are no people or groups" in empty
    assert (
        "nothing of the name" in run("count", "--office", plan(tmp_path / "no", real, base="DC=no"), status=2).stderr
    )


def test_accounts_closed_and_members_moved_are_so_in_the_domain(real, run, tmp_path, monkeypatch) -> None:
    """Steps carried out in a domain: what its own tools then tell is what was supposed; and taken back."""
    rng = random.Random(SEED)
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    where = plan(tmp_path / "office", real, may_change=True)
    office = gathered(where, run)
    state = ImaginedReader(office.readers["hall"])
    steps: list[Step] = []
    for login, word in rng.sample(sorted(real.states.items()), len(real.states)):
        if word in ("open", "disabled"):
            sides = (AccountState.OPEN, AccountState.DISABLED)
            steps.append(AccountStep("hall", login, *(sides if word == "open" else sides[::-1])))
    steps = steps[:8]
    domain_groups = [one for one in state.groups if one.ident.startswith("S-1-5-21-")]
    while len(steps) < 24:
        group, one = rng.choice(domain_groups), rng.choice(state.accounts)
        step = MemberStep("hall", group.ident, group.name, one.login, False, one.login not in group.members)
        if one.primary == group.ident or any(
            isinstance(each, MemberStep) and each.group == group.ident for each in steps
        ):
            if rng.random() < 0.9:
                continue
            break
        steps.append(step)
    before = real.tell()
    done = carry(office, steps, real.password, f"CN=Administrator,CN=Users,{domain.BASE}")
    assert not done.stopped and len(done.made) == len(steps) > 8, SEED
    after = gathered(where, run)
    told = real.tell()
    supposed = imagined_office(office, steps)
    for login, (_, token) in told.items():
        mine = next(one for one in supposed.principals["hall"] if one.account.login == login).holder.groups
        assert set(token) == mine - {"S-1-1-0", "S-1-5-11", "S-1-5-2"}, (SEED, login)
    assert {one.login: one.state for one in after.readers["hall"].accounts} == {
        one.login: one.state for one in supposed.readers["hall"].accounts
    }
    first, second = [login for login, word in real.states.items() if word == "open"][:2]
    grown = [GroupStep("hall", "Trio #2", "Trio #2", True, first)]
    grown += [MemberStep("hall", "Trio #2", "Trio #2", second, False, True)]
    done = carry(after, grown, real.password, f"CN=Administrator,CN=Users,{domain.BASE}")
    assert not done.stopped, SEED
    made = next(one for one in gathered(where, run).readers["hall"].groups if one.name == "Trio #2")
    assert made.ident.startswith("S-1-5-21-") and sorted(made.members) == sorted([first, second])
    assert not resume(after, carrying.undo, real.password, f"CN=Administrator,CN=Users,{domain.BASE}").left
    undone = resume(after, carrying.undo, real.password, f"CN=Administrator,CN=Users,{domain.BASE}")
    assert not undone.left and real.tell() == before, SEED
    assert {one.login: one.state for one in gathered(where, run).readers["hall"].accounts} == {
        one.login: one.state for one in office.readers["hall"].accounts
    }


def test_who_changes_posts_is_moved_in_the_domain_and_nobody_else(real, run, tmp_path, monkeypatch) -> None:
    """A post brings somebody into one group, and a move into another: what the domain's own tools tell of everybody."""
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    admin = f"CN=Administrator,CN=Users,{domain.BASE}"
    where = plan(tmp_path / "office", real, may_change=True)
    office = gathered(where, run)
    alone = [one for one in office.readers["hall"].groups if one.ident.startswith("S-1-5-21-") and not one.nested]
    ours = [
        one for one in alone if int(one.ident.rpartition("-")[2]) > 1000 and not one.untold and "(" not in one.name
    ]
    first, second = ours[:2]
    login = next(
        one
        for one, state in real.states.items()
        if state == "open" and not {first.ident, second.ident} & set(real.tokens[one][1])
    )
    value = json.loads((where / "office.yaml").read_text())
    names = {"first": first.name, "second": second.name}
    value["groups"] = {key: {"names": {"hall": name}} for key, name in names.items()}
    value["posts"] = {key: {"groups": [key], "accounts": {"hall": "{last}"}} for key in names}
    value["people"] = {"them": {"name": "Some Body", "accounts": {"hall": login}, "posts": ["first"]}}
    (where / "office.yaml").write_text(json.dumps(value))
    before = real.tell()
    for post, gone, come in (("", None, first), ("second", first, second)):
        office = gathered(where, run)
        if post:
            found = moving.ask(office, "them", [post], None, None, "")
            assert found.groups == (["first"], ["second"])
            put_move(where, "them", found.posts, {}, found.unlisted)
            office = gathered(where, run)
        steps, _ = joining.own_steps(office, "them")
        assert carry(office, steps, real.password, admin).is_over, SEED
        told = real.tell()
        assert come.ident in told[login][1] and (gone is None or gone.ident not in told[login][1]), SEED
        assert {key: one for key, one in told.items() if key != login} == {
            key: one for key, one in before.items() if key != login
        }, SEED
        proofs = proving.ask(gathered(where, run), "them")
        assert {one.verdict for one in proofs} == {proving.Verdict.AS_PLANNED}, proofs
