"""A real domain judges what is read of it: who is in which group, and in what state every account is."""

from __future__ import annotations

import json
import os
import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from judges import domain
from neatledger.questions import open_office

pytestmark = pytest.mark.judge
SEED = 20261128 if os.environ.get("CI") else random.SystemRandom().randrange(1 << 32)


@pytest.fixture(scope="module")
def real() -> Iterator[domain.Domain]:
    with domain.Domain(random.Random(SEED)) as found:
        yield found


def plan(folder: Path, real: domain.Domain, **more: object) -> Path:
    ldap = {"url": f"ldap://{real.host}", "base": domain.BASE, "user": f"CN=Administrator,CN=Users,{domain.BASE}",
            "allow-plain": True, **more}  # fmt: skip
    system = {"source": "directory", "lists": "nt", "accounts": {"ldap": ldap, "ids": "sid"}}
    folder.mkdir(exist_ok=True)
    (folder / "office.yaml").write_text(json.dumps({"office": "X", "systems": {"hall": system}}))
    return folder


def test_groups_and_states_are_those_of_the_domain(real, run, tmp_path, monkeypatch) -> None:
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    where = plan(tmp_path / "office", real)
    told = run("gather", "--not-seen", "--office", where).stdout
    office = open_office(where)
    groups = {group.ident: group for group in office.readers["hall"].groups}
    holders = {one.account.login: one for one in office.principals["hall"]}
    # What everybody has by what is known everywhere is no part of what the domain works out.
    for_all = {ident for ident, group in groups.items() if {"S-1-1-0", "S-1-5-11"} & set(group.nested)}
    while more := {one for one, group in groups.items() if for_all & set(group.nested)} - for_all:
        for_all |= more
    for login, (sid, token) in real.tokens.items():
        holder = holders[login].holder
        assert holder.user == sid, SEED
        mine = holder.groups - {"S-1-1-0", "S-1-5-11", "S-1-5-2"}
        assert set(token) <= mine | {"S-1-5-32-545"}, (SEED, login)
        assert mine - set(token) <= for_all, (SEED, login, mine - set(token))
        untold = {ident for ident, group in groups.items() if group.untold}
        assert untold - mine <= holder.maybe, (SEED, login)
    for login, state in real.states.items():
        assert holders[login].account.state.value == state, (SEED, login)
    assert len(groups) == len({group.name for group in groups.values()})
    for sid in ("S-1-5-21-9-8-7-1105", "S-1-5-21-9-8-7-1106"):
        assert (sid in told) == any(sid in one.untold for one in groups.values()), SEED
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", "not the password")
    wrong = run("gather", "--office", where, status=2).stderr
    assert "the name or the password is wrong" in wrong and "TLS" not in wrong
    monkeypatch.setenv("NEATLEDGER_PASSWORD_HALL", real.password)
    empty = run("gather", "--office", plan(tmp_path / "empty", real, base=f"CN=System,{domain.BASE}")).stdout
    assert "there are no people or groups" in empty
    assert (
        "nothing of the name" in run("gather", "--office", plan(tmp_path / "no", real, base="DC=no"), status=2).stderr
    )
