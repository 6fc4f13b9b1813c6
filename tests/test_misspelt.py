"""Every name that is given is looked up, in every command: a slip of the hand is refused with what is near."""

from __future__ import annotations

import re
from datetime import date
from pathlib import Path

import pytest

from neatledger.errors import UnknownNameError
from neatledger.questions.office import open_office

FOLDER, PERSON, GROUP, SYSTEM, CHECK = "barn:/Payrol", "thistel", "payrol", "barm", "plan-difers"
MEANT = {FOLDER: "barn:/Payroll", PERSON: "thistle", GROUP: "payroll", SYSTEM: "barn", CHECK: "plan-differs"}
CALLS = [
    f"who {FOLDER}", f"who {SYSTEM}:/Payroll", f"who {FOLDER} --side plan", f"reach {PERSON}", f"reach {PERSON} --side plan",
    f"why {PERSON} barn:/Payroll", f"why thistle {FOLDER}", f"reach thistle {PERSON}", f"reach {FOLDER}",
    f"reach --side both {PERSON}", f"reach --side both {FOLDER}", f"people {PERSON}", f"folders {FOLDER}",
    f"changes {PERSON} barn:/Payroll", f"changes thistle {FOLDER}", f"reach {PERSON} --compare rook", f"reach rook --compare {PERSON}",
    f"check {FOLDER}", f"check {PERSON}", f"check {SYSTEM}", f"check --only {CHECK}",
    f"mend {FOLDER}", f"mend {PERSON}", f"mend --only {CHECK}", f"links {FOLDER}", f"links --opens {FOLDER}",
    f"links --made-by {PERSON}", f"links --given-to {PERSON}", f"trail {PERSON}", f"trail {FOLDER}", "trail --address hall-notebok",
    f"unused {PERSON}", f"unused {FOLDER}", f"unused {SYSTEM}", f"protect {FOLDER}", f"space {FOLDER}", f"space {PERSON} barn:/Payroll",
    f"space thistle {FOLDER}", "limits hoem", f"space --forecast {FOLDER}", f"space --by kind {FOLDER}", f"space --by version {SYSTEM}", f"devices {PERSON} --would-hold",
    f"suppose --member {GROUP}=thistle", f"suppose --member payroll={PERSON}", f"suppose --no-member {GROUP}=thistle", f"suppose --grant {FOLDER}=thistle:read",
    f"suppose --grant barn:/Payroll={PERSON}:read", f"suppose --revoke barn:/Payroll={PERSON}", f"suppose --close {PERSON}", f"suppose --delete {PERSON}",
    f"suppose --push {FOLDER}", f"suppose --owning-group barn:/Payroll={GROUP}", f"suppose --limit {FOLDER}=5MB", "suppose --band hoem=5MB", f"suppose --newcomers {SYSTEM}=5",
    f"suppose --relocate {FOLDER}=attic", f"suppose --versions {SYSTEM}=2", "suppose --unshare link:k99", f"suppose --sharing-rule link-days=5 --rule-for {FOLDER}",
    f"suppose --sharing-rule link-days=5 --rule-for {PERSON}", f"suppose --like {PERSON}", f"how {FOLDER} thistle=read", f"how barn:/Payroll {PERSON}=read",
    f"folders {FOLDER} --new-item", f"folders {FOLDER} --pushed", f"count {SYSTEM}", f"ledger --not-seen {SYSTEM}", f"join --verify {PERSON}", f"leave {PERSON}",
    f"plan {PERSON}", f"plan {FOLDER}", f"connect --test {SYSTEM}", f"check --only {CHECK} barn:/Payroll --accept x --yes",
]  # fmt: skip


def test_a_slip_of_the_hand_is_refused_with_what_is_near(demo: Path, run) -> None:
    for call in CALLS:
        done = run(*call.split(), "--office", demo, "--today", "2026-11-23", status=2)
        assert not done.stdout and done.stderr.count("\n") == 1, call
        words = {*re.split("[ =]", call), *re.split("[ =:]", call)}
        meant = [MEANT[word] for word in MEANT if word in words]
        assert all(one in done.stderr for one in meant), (call, done.stderr)


@pytest.mark.parametrize("call", ["suppose --relocate barn:/Payroll=atic"])
def test_a_pool_that_nobody_named_before_is_called_new(demo: Path, run, call: str) -> None:
    assert "the new disk atic" in run(*call.split(), "--office", demo, "--today", "2026-11-23").stdout


def test_people_are_found_by_whatever_they_are_called_in_any_case(demo: Path) -> None:
    office = open_office(demo, today=date(2026, 11, 23))
    principals = [one for some in office.principals.values() for one in some if one.person in office.plan.people]
    for person in office.plan.people.values():
        words = {person.id, person.id.upper(), person.name, person.name.casefold()}
        words |= {f"{one.system}:{one.account.login}" for one in principals if one.person == person.id}
        for word in words:
            assert office.find_planned(word) == office.find_person(word).id == person.id, word
    # A word of a name, or a part, finds whom it finds alone; several are named, and a letter finds nobody.
    assert office.find_planned("Priya") == office.find_planned("pri") == "quill"
    with pytest.raises(UnknownNameError, match="several people are called") as told:
        office.find_planned("nurses@pellowmere.example")
    assert "croft, lark" in told.value.hint
    for nobody in ("o", "quilt", ""):
        with pytest.raises(UnknownNameError, match="has no person"):
            office.find_planned(nobody)
