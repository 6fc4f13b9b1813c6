"""The fewest changes: beside an exhaustive search on small offices, and carried out for real."""

from __future__ import annotations

import json
import os
import random
import subprocess
from collections.abc import Iterator
from itertools import combinations
from pathlib import Path

import pytest

from neatledger.core.access.differences import COMPARED
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.steps.contract import Step
from neatledger.core.steps.grants import grant_steps
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import find_location
from neatledger.questions import want
from neatledger.questions.beside import changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from step_offices import carry, gathered, make_office

SAID = [Level.NONE, Level.LIST, Level.READ, Level.WRITE]


def rights_at(office: Office, address: Address, person: str) -> Right:
    principals = office.people_on(address.system).get(person, [])
    access = office.systems.access(find_location(office.readers[address.system], address), principals)
    return access.rights & COMPARED


def single_changes(office: Office, address: Address, wishes: dict[str, Right]) -> Iterator[list[Step]]:
    """Yield every change that the search knows of, each made on the office as it is."""
    reader = office.readers[address.system]
    for person, rights in wishes.items():
        for one in office.people_on(address.system)[person]:
            for group in reader.groups:
                login = one.account.login
                yield [MemberStep(address.system, group.ident, group.name, login, False, login not in group.members)]
            for given in (rights, None):
                yield _entry(reader, address, Whom(Sort.USER, one.account.ident, one.account.login), given)
    for whom in [*(Whom(Sort.GROUP, one.ident, one.name) for one in reader.groups), Whom(Sort.EVERYONE)]:
        for given in {*wishes.values(), Right.NONE, None}:
            yield _entry(reader, address, whom, given)


def _entry(reader, address: Address, whom: Whom, rights: Right | None) -> list[Step]:
    try:
        return list(grant_steps(ImaginedReader(reader), address.path, reader.model, whom, rights))
    except StepError:
        return []


def is_exact(office: Office, address: Address, wishes: dict[str, Right], steps: list[Step]) -> bool:
    """Judge steps by what comes of them everywhere, as it is worked out for anything that is supposed."""
    try:
        then = imagined_office(office, steps)
    except StepError:
        return False
    for one in changes_between(office, then):
        if one.change.person not in wishes or not one.address.is_within(address):
            return False
    managed = COMPARED & ~Right.MANAGE
    for person, rights in wishes.items():
        has = rights_at(then, address, person)
        if rights & COMPARED & ~has or has & ~rights & managed:
            return False
    return True


def random_wishes(office: Office, rng: random.Random) -> tuple[Address, dict[str, Right]]:
    path_of = folder_paths(office.readers["barn"].table("folders"))
    address = Address("barn", path_of(rng.randrange(office.readers["barn"].table("folders").rows)))
    overrides = office.readers["barn"].terms.model.overrides
    people = [
        person
        for person, mine in office.people_on("barn").items()
        if len(mine) == 1 and overrides(mine[0].holder) is None and mine[0].may_come_in
    ]
    chosen = rng.sample(people, rng.randint(1, min(3, len(people))))
    return address, {person: LEVEL_RIGHTS.get(rng.choice(SAID), Right.NONE) for person in chosen}


@pytest.mark.judge
@pytest.mark.seeds(2)
def test_no_fewer_changes_do_it_and_nobody_else_has_anything_else(seed: int, tmp_path: Path, run) -> None:
    rng = random.Random(seed)
    office = gathered(make_office(tmp_path, seed, 7), run)
    address, wishes = random_wishes(office, rng)
    found = want.ask(office, address, wishes)
    if is_exact(office, address, wishes, []):
        assert not found.changes
        return
    singles = [some for some in single_changes(office, address, wishes) if some]
    exact = [some for some in singles if is_exact(office, address, wishes, some)]
    if found.is_exact:
        assert is_exact(office, address, wishes, found.steps)
    if exact:
        assert found.is_exact and len(found.changes) == 1
        assert not found.changes[0].is_entry or not any(isinstance(some[0], MemberStep) for some in exact)
    if not found.is_exact or len(found.changes) > 2:
        pairs = list(combinations(singles, 2))
        for first, second in rng.sample(pairs, min(len(pairs), 150)):
            assert not is_exact(office, address, wishes, [*first, *second]), "two changes would have done"
    if found.changes and found.is_exact:
        before = {person: _all_rights(office, person) for person in office.people_on("barn")}
        carry(office, found.steps)
        now = gathered(tmp_path, run)
        for person in before.keys() - wishes.keys():
            assert _all_rights(now, person) == before[person], f"{person} has something else now"


def _all_rights(office: Office, person: str) -> dict[bytes, Right]:
    path_of = folder_paths(office.readers["barn"].table("folders"))
    rows = range(office.readers["barn"].table("folders").rows)
    return {path_of(row): rights_at(office, Address("barn", path_of(row)), person) for row in rows}


def test_what_is_wanted_of_a_group_is_one_entry_and_of_a_leaver_nothing(demo: Path, run) -> None:
    told = run("how", "barn:/Records", "nurses=read", "--office", demo, status=1).stdout
    assert "teal" in told and "no account on barn" in told and "change: group nurses" in told
    kept = demo / "steps.json"
    told = run("how", "barn:/Payroll", "una=write", "--steps", kept, "--office", demo).stdout
    assert "1 change gives just that" in told and "The plan says otherwise" in told
    assert "ledgerwood" in run("mend", kept, "--office", demo, status=None).stdout
    assert "no level is called" in run("how", "barn:/Payroll", "una=wrte", "--office", demo, status=2).stderr


OFFICE = """\
office: Test
systems:
  barn: {{source: tree, path: tree, may-change: true, accounts: {{passwd: passwd, group: group}}}}
people:
  ada: {{name: Ada, accounts: {{barn: ada}}}}
  bo: {{name: Bo, accounts: {{barn: bo}}}}
  cy: {{name: Cy, accounts: {{barn: cy}}}}
groups: {{vets: {{members: [{members}]}}}}
folders: {{"barn:/Work": {{grants: {{vets: write{more}}}}}}}
"""


def test_what_the_plan_would_have_to_say_is_all_that_it_would(tmp_path: Path, run) -> None:
    """Said in the plan, mend leaves what was made; not said, it would take it back."""
    (tmp_path / "passwd").write_text(
        "".join(f"{name}:x:{n}:{n}::/:/bin/sh\n" for n, name in enumerate(("ada", "bo", "cy"), 4001))
    )
    (tmp_path / "group").write_text("vets:x:4100:ada\n" + "".join(f"own{n}:x:{n}:\n" for n in (4001, 4002, 4003)))
    (tmp_path / "tree" / "Work").mkdir(parents=True)
    (tmp_path / "tree").chmod(0o755)
    (tmp_path / "tree" / "Work").chmod(0o2770)
    os.chown(tmp_path / "tree" / "Work", 0, 4100)
    entries = ["-m", "d:g::rwx", "-m", "d:o::---", tmp_path / "tree" / "Work"]
    subprocess.run(["setfacl", *entries], check=True)
    plan = tmp_path / "office.yaml"
    plan.write_text(OFFICE.format(members="ada", more=""))
    run("count", "--quiet", "--office", tmp_path)
    assert not json.loads(run("mend", "--format", "json", "--office", tmp_path).stdout)["rows"]
    wishes = ("--member", "vets=bo", "--grant", "barn:/Work=cy:read", "--steps", tmp_path / "steps.json")
    told = run("suppose", *wishes, "--office", tmp_path).stdout
    words = told.partition("office.yaml would have to say:\n")[2].partition("\n\n")[0].splitlines()
    assert [line.strip() for line in words[:2]] == ["groups, vets: add bo", "folders, barn:/Work: give cy read"], told
    run("mend", tmp_path / "steps.json", "--carry-out", "--yes", "--expect", "2", "--office", tmp_path)
    undone = run("mend", "--office", tmp_path, status=1).stdout
    assert "bo loses" in undone and "cy loses" in undone
    for members, more, left in [("ada, bo", "", "cy"), ("ada", ", cy: read", "bo"), ("ada, bo", ", cy: read", "")]:
        plan.write_text(OFFICE.format(members=members, more=more))
        rows = json.loads(run("mend", "--format", "json", "--office", tmp_path, status=None).stdout)["rows"]
        assert bool(rows) == bool(left) and all(left in str(row) for row in rows), (members, more, rows)
    # Taking it back, the plan would have to say that; where it never said so, nothing.
    back = ("suppose", "--revoke", "barn:/Work=cy", "--steps", tmp_path / "back.json", "--office", tmp_path)
    assert "cy would not have what it gives to cy" in run(*back).stdout
    plan.write_text(OFFICE.format(members="ada, bo", more=""))
    assert "office.yaml" not in run(*back).stdout
