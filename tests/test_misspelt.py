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
    f"why {PERSON} barn:/Payroll", f"why thistle {FOLDER}", f"access --person {PERSON}", f"access --below {FOLDER}",
    f"access --side both --person {PERSON}", f"access --side both --below {FOLDER}", f"people {PERSON}", f"folders {FOLDER}",
    f"history {PERSON} barn:/Payroll", f"history thistle {FOLDER}", f"compare {PERSON} rook", f"compare rook {PERSON}",
    f"check --below {FOLDER}", f"check --person {PERSON}", f"check --system {SYSTEM}", f"check --only {CHECK}",
    f"mend --below {FOLDER}", f"mend --person {PERSON}", f"mend --only {CHECK}", f"links --below {FOLDER}", f"links --over {FOLDER}",
    f"links --by {PERSON}", f"links --to {PERSON}", f"trail {PERSON}", f"trail {FOLDER}", "trail --from hall-notebok",
    f"unused {PERSON}", f"unused {FOLDER}", f"unused --system {SYSTEM}", f"protect {FOLDER}", f"space {FOLDER}", f"room {PERSON} barn:/Payroll",
    f"room thistle {FOLDER}", "bands hoem", f"forecast {FOLDER}", f"kinds {FOLDER}", f"versions {SYSTEM}", f"synced {PERSON}",
    f"suppose --into {GROUP}=thistle", f"suppose --into payroll={PERSON}", f"suppose --out-of {GROUP}=thistle", f"suppose --grant {FOLDER}=thistle:read",
    f"suppose --grant barn:/Payroll={PERSON}:read", f"suppose --withdraw barn:/Payroll={PERSON}", f"suppose --close {PERSON}", f"suppose --gone {PERSON}",
    f"suppose --push {FOLDER}", f"suppose --give barn:/Payroll={GROUP}", f"suppose --limit {FOLDER}=5MB", "suppose --band hoem=5MB", f"suppose --join {SYSTEM}=5",
    f"suppose --move {FOLDER}=attic", f"suppose --keep {SYSTEM}=2", "suppose --take-back link:k99", f"suppose --rule link-days=5 --rule-for {FOLDER}",
    f"suppose --rule link-days=5 --rule-for {PERSON}", f"suppose --like {PERSON}", f"want {FOLDER} thistle=read", f"want barn:/Payroll {PERSON}=read",
    f"inherit {FOLDER}", f"inherit {FOLDER} --push", f"gather {SYSTEM}", f"counts --not-seen {SYSTEM}", f"join --prove {PERSON}", f"leave {PERSON}",
    f"plan --show {PERSON}", f"plan --show {FOLDER}", f"connect --test {SYSTEM}", f"accept {CHECK} barn:/Payroll --reason x",
]  # fmt: skip


def test_a_slip_of_the_hand_is_refused_with_what_is_near(demo: Path, run) -> None:
    for call in CALLS:
        done = run(*call.split(), "--office", demo, "--today", "2026-11-23", status=2)
        assert not done.stdout and done.stderr.count("\n") == 1, call
        words = {*re.split("[ =]", call), *re.split("[ =:]", call)}
        meant = [MEANT[word] for word in MEANT if word in words]
        assert all(one in done.stderr for one in meant), (call, done.stderr)


@pytest.mark.parametrize("call", ["suppose --move barn:/Payroll=atic"])
def test_a_pool_that_nobody_named_before_is_called_new(demo: Path, run, call: str) -> None:
    assert "the new pool atic" in run(*call.split(), "--office", demo, "--today", "2026-11-23").stdout


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
