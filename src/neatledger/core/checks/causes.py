"""Findings by their cause: what one step would end, or one thing brought about, stands together and is ranked.

A check may name the cause of a finding: a link, an account, an identifier that nobody has. Else it is the thing that
the finding is of, a folder's list apart from its space. What ranks first is **exposure**: how many people have more
than the plan means, times what the gravest of that is, times how sensitive the place is; and to that what the
severities of the findings themselves come to: ten times as much where it was done, and not only could be.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

from neatledger.core.checks import limits, storing, trail
from neatledger.core.checks.contract import ANYONE, Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.lists.rights import Right
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address

__all__ = ["Cause", "Exposure", "find_causes", "is_of_space"]

_OF_SPACE = frozenset(check.name for check in (*limits.CHECKS, *storing.CHECKS))
_POINTS = {Severity.HIGH: 20, Severity.MEDIUM: 5, Severity.LOW: 2, Severity.ADVICE: 1}
_OF_DEEDS = frozenset(check.name for check in trail.CHECKS)
DONE_TIMES = 10
"""How much more it weighs that something was done: it cannot wait as what might be done can."""
# What somebody may do: seen by names alone, read, changed or removed, opened to others.
_WEIGHTS = (
    (Right.MANAGE | Right.SHARE, 5),
    (Right.ADD | Right.CHANGE | Right.DELETE, 3),
    (Right.READ | Right.VIEW, 2),
)
SENSITIVE, CLOSED = 3, 2
"""How much more it weighs where the plan says that a folder is sensitive, or closed to what lies above."""
LONGEST = 12
"""How many months of standing count at most."""

_Key = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Exposure:
    """How grave a cause is, and of what that is made up; `people` counts everybody for what is open to anyone.

    `months` is for how long it is known to stand, at most `LONGEST`.
    """

    severities: int
    people: int
    weight: int
    sensitivity: int
    months: int = 0

    @property
    def points(self) -> int:
        """The figure that ranks."""
        return self.severities + self.people * self.weight * self.sensitivity + self.months


@dataclass(frozen=True)
class Cause:
    """What brought some findings about: its key, the place it is of, and the findings, the gravest first."""

    key: str
    place: Address | str
    findings: tuple[Finding, ...]
    exposure: Exposure

    @cached_property
    def people(self) -> tuple[str, ...]:
        """Whom the findings name, each once."""
        return tuple(dict.fromkeys(person for one in self.findings for person in one.people))

    @property
    def severity(self) -> Severity:
        """The gravest; one higher where the place is sensitive, for people have too much there."""
        gravest = max((CHECKS[one.check].severity for one in self.findings), key=lambda one: one.rank)
        if self.exposure.sensitivity == SENSITIVE and self.exposure.people:
            return list(Severity)[min(gravest.rank + 1, Severity.HIGH.rank)]
        return gravest


def is_of_space(finding: Finding) -> bool:
    """Tell whether a finding is of space: limits and what is stored."""
    return finding.check in _OF_SPACE


def find_causes(
    findings: Iterable[Finding], plan: Plan, months_of: Callable[[Finding], int] = lambda _: 0
) -> list[Cause]:
    """Return the causes of findings, the gravest first; those that weigh the same in the order of the findings.

    `months_of` tells for how many months a finding is known to stand.
    """
    groups: dict[_Key, list[Finding]] = {}
    for one in findings:
        groups.setdefault(_key_of(one), []).append(one)
    office = max(len(plan.people), 1)
    for some in groups.values():
        # What was done stands before what might be.
        some.sort(key=lambda one: (-CHECKS[one.check].severity.rank, one.check not in _OF_DEEDS))
    found = [
        Cause(key, _place_of(some), tuple(some), _exposure(some, plan, office, max(map(months_of, some))))
        for (_, key), some in groups.items()
    ]
    return sorted(found, key=lambda one: (-one.exposure.points, -one.severity.rank))


def _key_of(finding: Finding) -> _Key:
    if finding.cause:
        return "", finding.cause
    return "space" if is_of_space(finding) else "", str(finding.place)


def _place_of(findings: Sequence[Finding]) -> Address | str:
    """Return the folder that a cause is of: where it has findings on several, the first of the gravest check."""
    folders = [one.place for one in findings if isinstance(one.place, Address)]
    return folders[0] if folders else findings[0].place


def _exposure(findings: Sequence[Finding], plan: Plan, office: int, months: int) -> Exposure:
    months = min(months, LONGEST)
    checks = {one.check for one in findings}
    severities = sum(_POINTS[CHECKS[name].severity] * (DONE_TIMES if name in _OF_DEEDS else 1) for name in checks)
    beyond: dict[str, int] = {}
    sensitivity = 1
    for one in findings:
        weight = _weight(one.rights)
        if not weight:
            continue
        for person in one.people:
            beyond[person] = max(beyond.get(person, 0), weight)
        if isinstance(one.place, Address):
            sensitivity = max(sensitivity, _sensitivity(one.place, plan))
    if not beyond:
        return Exposure(severities, 0, 0, sensitivity, months)
    people = sum(office if person == ANYONE else 1 for person in beyond)
    return Exposure(severities, people, max(beyond.values()), sensitivity, months)


def _points_of(check: str) -> int:
    return _POINTS[CHECKS[check].severity] * (DONE_TIMES if check in _OF_DEEDS else 1)


def _weight(rights: Right) -> int:
    return next((weight for some, weight in _WEIGHTS if rights & some), 1 if rights else 0)


def _sensitivity(place: Address, plan: Plan) -> int:
    if plan.sharing.is_sensitive(place):
        return SENSITIVE
    nearest = max(
        (one for one in plan.folders if place.is_within(one.address)),
        key=lambda one: len(one.address.parts),
        default=None,
    )
    return CLOSED if nearest is not None and nearest.closed else 1
