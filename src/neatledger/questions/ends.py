"""Which findings each step of a worklist ends, and what there is to do for one cause of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.core.checks import limits
from neatledger.core.checks.causes import Cause, is_of_space
from neatledger.core.checks.contract import Finding
from neatledger.core.checks.table import CHECKS
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.tree.address import Address
from neatledger.questions import worklist
from neatledger.questions.office import Office
from neatledger.questions.suppose_access import OF_ACCESS, gone_and_come
from neatledger.questions.worklist import WorkItem, Worklist

__all__ = ["CauseMending", "findings_ended", "mending_of_cause", "steps_of_cause"]

_OF_LIMITS = frozenset(check.name for check in limits.CHECKS)
_OF_GROWTH = frozenset({"full-soon", "files-run-out"})
"""Checks that look at past counts, which no step of a worklist alters, and take longest."""


@dataclass(frozen=True, slots=True)
class CauseMending:
    """The steps that end findings of one cause, those findings, and why others of its differences would stay."""

    items: Sequence[WorkItem]
    ended: Sequence[Finding]
    reasons: Sequence[str]
    work: Worklist


def mending_of_cause(office: Office, cause: Cause) -> CauseMending:
    """Return what `mend` has for a cause: what it says of it, and nothing else."""
    work = worklist.ask(office)
    ends = findings_ended(office, work)
    chosen = steps_of_cause(work, ends, cause)
    subjects = {one.subject for one in cause.findings}
    ended = [one for number in chosen for one in ends[number] if one.subject in subjects]
    places = {one.place for one in cause.findings}
    people = {*cause.people}
    reasons = dict.fromkeys(
        one.why
        for one in work.left
        if one.difference.address in places and (not people or one.difference.person in people)
    )
    return CauseMending([work.items[number] for number in chosen], ended, list(reasons), work)


def findings_ended(office: Office, found: Worklist) -> list[list[Finding]]:
    """Return for every step the findings that end with it; one that several must end is with the last of them."""
    ends: list[list[Finding]] = [[] for _ in found.items]
    if not found.items:
        return ends
    only = OF_ACCESS if office.is_large else [name for name in CHECKS if name not in _OF_GROWTH]
    gone, _ = gone_and_come(office, found.then, only)
    for finding in gone:
        places = [number for number, item in enumerate(found.items) if _may_end(item, finding)]
        if places:
            ends[places[-1]].append(finding)
    return ends


def steps_of_cause(found: Worklist, ends: Sequence[Sequence[Finding]], cause: Cause) -> list[int]:
    """Return which steps of a worklist end findings of a cause: all that are of its folder, link or account."""
    subjects = {one.subject for one in cause.findings}
    is_of_folder = isinstance(cause.place, Address) and not cause.findings[0].cause
    of_space = is_of_space(cause.findings[0])
    return [
        number
        for number, (item, some) in enumerate(zip(found.items, ends, strict=True))
        if any(one.subject in subjects for one in some)
        or (
            is_of_folder
            and item.step.place == cause.place
            and isinstance(item.step, LimitStep) == of_space
            and not isinstance(item.step, LinkStep | HandOutStep)
        )
    ]


def _may_end(item: WorkItem, finding: Finding) -> bool:
    """Tell whether a step changes what a finding speaks of: its folder for whom it names, or its account."""
    step, place = item.step, finding.place
    if item.refused or isinstance(step, LimitStep) != (finding.check in _OF_LIMITS):
        return False
    if finding.cause.startswith(("link:", "hand-out:")):
        # Several may lead to one folder: each is ended by what is done with itself.
        return finding.cause == f"{step.target.replace(' ', ':', 1)} on {step.system}"
    if not isinstance(place, Address):
        return place in (f"{step.system}:{step.target}", step.target, step.system)
    if step.place == place:
        return True
    subject = _people(finding.evidence)
    return any(
        (place.is_within(one.address) or one.address.is_within(place)) and (one.person in subject or not step.place)
        for one in item.effects
    )


def _people(evidence: str) -> Sequence[str]:
    return evidence.replace(",", " ").replace(":", " ").split()
