"""Reviews: what is due, what was decided and is not so, and folders on which nobody decides."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from neatledger.core.access.everyone import FLAG_RIGHTS, flag_rights
from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, level_of
from neatledger.core.reviews.pack import Choice

__all__ = ["CHECKS"]

_TELLING = flag_rights((1 << len(FLAG_RIGHTS)) - 1)


def _review_overdue(office: OfficeFacts) -> Iterator[Finding]:
    days = office.plan.settings.get("review-days")
    for folder in office.plan.folders if days else ():
        decider = folder.decides or folder.owner
        if not decider:
            continue
        last = office.reviews.reviewed.get(folder.address)
        if last is None:
            evidence = f"{decider} was never asked who may do what there"
        elif office.today > last + timedelta(days=days or 0):
            evidence = f"{decider} last said so on {last}; every {days} days it is due"
        else:
            continue
        yield Finding("review-overdue", folder.address, evidence)


def _decision_not_carried_out(office: OfficeFacts) -> Iterator[Finding]:
    for decision in office.reviews.decisions:
        row = decision.row
        facts = office.system(row.folder.system)
        place = None if facts is None else facts.everyone.matrix.find_row(row.folder.parts)
        if decision.choice is Choice.KEEP or facts is None or place is None:
            continue
        mine = [number for number, one in enumerate(facts.principals) if one.person == row.person]
        left = LEVEL_RIGHTS[decision.left]
        has = facts.rights_at(place, mine) & _TELLING
        # To pass through a folder on the way to what lies below is nothing that was decided on.
        beyond = has & ~left & ~(Right.ENTER | Right.DELETE)
        if beyond:
            what = "nothing" if decision.left is Level.NONE else decision.left.value
            evidence = f"{row.person} has {level_of(has).value}; {decision.by} decided on {decision.day}: {what}"
            yield Finding("decision-not-carried-out", row.folder, evidence, people=(row.person,), rights=beyond)


def _folder_without_decider(office: OfficeFacts) -> Iterator[Finding]:
    if not office.plan.settings.get("review-days"):
        return
    for address in office.plan.guarded:
        if not office.plan.decider_of(address):
            yield Finding("folder-without-owner", address, "nobody is named who decides on it in a review")


CHECKS = (
    Check(
        "decision-not-carried-out",
        Severity.HIGH,
        "a review's removals were not made",
        "mend the folder, or have it reviewed again",
        _decision_not_carried_out,
    ),
    Check(
        "review-overdue",
        Severity.MEDIUM,
        "a review is due",
        "ask whoever decides: review make",
        _review_overdue,
    ),
    Check(
        "folder-without-owner",
        Severity.ADVICE,
        "nobody decides who keeps access",
        "name who decides on it in the plan (decides)",
        _folder_without_decider,
    ),
)
