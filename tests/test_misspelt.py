"""Every name that is given is looked up, in every command: a slip of the hand is refused with what is near."""

from __future__ import annotations

import re
from datetime import date
from pathlib import Path

import pytest

from neatledger.errors import UnknownNameError
from neatledger.questions.office import open_office

FOLDER, PERSON, GROUP, SYSTEM, CHECK = "barn:/Payrol", "thistel", "payrll", "barm", "plan-difers"
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


SLIPS = [
    ("whoo barn:/Payroll", "there is no command 'whoo' (did you mean who?)"),
    ("gather", "gather is now: neatledger count"),
    ("who", "who wants FOLDER (as in: neatledger who barn:/Payroll)"),
    ("who Payrol", "no folder is called 'Payrol' (did you mean barn:/Payroll?)"),
    ("who barn/Payroll", "no folder is called 'barn/Payroll' (did you mean barn:/Payroll?)"),
    ("who barn:/Payroll rook", "one word too many: 'rook' (as in: neatledger who barn:/Payroll)"),
    ("who barn:/Payroll --level reed", "--level 'reed' is none of any, list, view, add-only, read, write, manage (did you mean read?)"),
    ("who barn:/Payroll -f cvs", "--format 'cvs' is none of table, csv, json, jsonl, xml, parquet (did you mean csv?)"),
    ("who barn:/Payroll -o x.pdf", "x.pdf: who does not write pdf (it writes table, csv, json, jsonl, xml, parquet: -o FILE.csv)"),
    ("who barn:/Payroll -c persn", "there is no column 'persn' (did you mean person?)"),
    ("who barn:/Payroll -n ten", "-n/--top: not a whole number: 'ten' (see: neatledger who --help)"),
    ("who barn:/Payroll --as-of 16.11.2026", "--as-of: not a date: '16.11.2026' (write it as 2026-11-16) (see: neatledger who --help)"),
    ("who barn:/Payroll --as-of 11/16/2026", "--as-of: not a date: '11/16/2026' (write it as 2026-11-16) (see: neatledger who --help)"),
    ("who barn:/Payroll --as-of 2026-02-30", "--as-of: there is no day '2026-02-30' (see: neatledger who --help)"),
    ("why barn:/Payroll payroll", "nobody is called 'payroll' (it is a group: neatledger groups payroll)"),
    ("why rook", "why wants PERSON|FOLDER (as in: neatledger why thistle barn:/Payroll)"),
    ("people --guest", "people has no option --guest (did you mean --guests"),
    ("people pri nurses", "one word too many: 'nurses' (as in: neatledger people)"),
    ("space --by knd", "--by 'knd' is none of folder, owner, group, kind, sort, system, file, version (did you mean kind?)"),
    ("check payrol", "no person, folder or system is called 'payrol' (did you mean barn:/Payroll?)"),
    ("check 999", "no problem has the number or name '999' (check lists them, 1 to"),
    ("mend 900", "no problem has the number or name '900' (check lists them, 1 to"),
    ("mend barn:/Rota barn:/Payroll", "two folders: barn:/Rota and barn:/Payroll (name one)"),
    ("limits hoem", "no band is called 'hoem' (did you mean home?)"),
    ("join Ann_Ray --post nurs --start 2026-12-01", "several posts are called 'nurs' (say which: nurse, trainee)"),
    ("join Ann_Ray --post nurze --start 2026-12-01", "no post is called 'nurze' (did you mean nurse?)"),
    ("join Ann_Ray --post nurse --from 2026-12-01", "--from is now: --start (see: neatledger join --help)"),
    ("groups pay loft", "no group payroll on loft was found (groups lists what there is)"),
    ("trail --only deleted", "delete, rights, account, share, logging (did you mean delete?)"),
    ("expiring --within 2x", "--within: not a span: '2x' (write 7d, 2w, 6m or 1y) (see: neatledger expiring --help)"),
    ("report offce", "'offce' is none of office, access, people, sharing, space, protection, mend (did you mean office?)"),
    ("report office -o x.doc", "no report is written as .doc (write: report office -o office.html (a page) or -o office.xlsx)"),
    ("help bnd", "'bnd' is no command, and no word with a meaning of its own here (did you mean band"),
]  # fmt: skip


@pytest.mark.parametrize(("call", "said"), SLIPS)
def test_what_is_typed_wrongly_is_told_with_what_would_be_right(demo: Path, run, call: str, said: str) -> None:
    about_office = (
        [] if call.split()[0] in ("whoo", "gather", "help") else ["--office", demo, "--today", "2026-11-23"]
    )
    done = run(*call.split(), *about_office, status=2)
    assert done.stderr.count("\n") == 1 and not done.stdout
    assert said in done.stderr.removeprefix("neatledger: ")


def test_groups_posts_bands_and_systems_are_found_by_any_part_in_any_case(demo: Path, run) -> None:
    day = ("--office", demo, "--today", "2026-11-23")
    for word in ("payroll", "PAYROLL", "payr"):
        assert run("groups", word, *day).stdout.startswith("payroll: 3 people.")
    assert "joins payroll on barn" in run("suppose", "--member", "PAYR=thistle", *day, status=None).stdout
    for word in ("Front desk", "fro"):
        assert "starts on 2026-12-07" in run("join", "Ann Ray", "--post", word, "--start", "2026-12-07", *day).stdout
    assert run("limits", "HOM", *day).stdout == run("limits", "home", *day).stdout
    assert "3 versions kept on barn" in run("suppose", "--versions", "the main server=3", *day).stdout


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
