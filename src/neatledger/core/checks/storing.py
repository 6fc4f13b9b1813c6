"""Storing: versions and bins, barred kinds, unused homes, trees counted twice, reports on their own disk."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.space.limit_table import pool_of
from neatledger.core.space.sizes import show_size
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]

_LARGE_BIN_PERCENT = 5


def _versions_eat(office: OfficeFacts) -> Iterator[Finding]:
    for system, kinds in office.space.kept.items():
        pool = pool_of(office.plan, Address(system, b"/"))
        status = next(
            (
                one
                for one in office.space.statuses
                if pool and one.target.on is On.POOL and one.target.name == pool.name
            ),
            None,
        )
        if status is None or status.settings.limit is UNLIMITED or status.left is None:
            continue
        taken = sum(each.measured or 0 for each in kinds)
        high, worst = sum(each.high for each in kinds), sum(each.worst for each in kinds)
        if worst - taken > status.left:
            most = max(kinds, key=lambda each: each.worst)
            evidence = f"up to {show_size(worst)} by what is kept, {show_size(high)} by the changes seen;"
            evidence += f" {show_size(status.left)} left in the pool;"
            evidence += f" most by {most.kind}, {most.kept} versions of {show_size(most.size)}"
            yield Finding("versions-eat-limit", system, evidence)


def _bin_for_ever(office: OfficeFacts) -> Iterator[Finding]:
    share = office.plan.settings.get("large-bin-percent", _LARGE_BIN_PERCENT)
    for system, held in office.space.bins.items():
        if office.plan.space.rules_of(system).bin_days is not UNLIMITED or held is None:
            continue
        whole = office.space.held.get(system, 0)
        if held * 100 >= share * whole and held:
            evidence = f"{show_size(held)} of {show_size(whole)}, and nothing ever leaves it"
            yield Finding("bin-for-ever", system, evidence)


def _neither(office: OfficeFacts) -> Iterator[Finding]:
    for system in office.space.bins:
        rules = office.plan.space.rules_of(system)
        has_none = rules.versions is not None and not any(rules.versions.values())
        if has_none and rules.bin_days == 0:
            yield Finding("no-bin-no-versions", system, "what is deleted or saved over is gone at once")


def _barred(office: OfficeFacts) -> Iterator[Finding]:
    for one in office.space.barred:
        why = f" ({one.rule.because})" if one.rule.because else ""
        evidence = f"{one.files} {one.kind} of {one.owner}, {show_size(one.size)}{why}"
        yield Finding("barred-kind-stored", one.folder, evidence)


def _starter_only(office: OfficeFacts) -> Iterator[Finding]:
    for home in office.space.homes:
        starter = office.plan.space.rules_of(home.address.system).starter
        if starter is not None and home.files <= starter[0] and home.size <= starter[1]:
            evidence = f"{home.files} files of {show_size(home.size)}: no more than a new home has"
            yield Finding("starter-home", home.address, evidence)


def _twice(office: OfficeFacts) -> Iterator[Finding]:
    for folder, other in office.space.twice:
        evidence = f"shows the same tree as {other}; it is counted there"
        yield Finding("seen-twice", folder, evidence)


def _own_disk(office: OfficeFacts) -> Iterator[Finding]:
    space = office.plan.space
    if not space.stored or any(_has_address(office, name) for name in space.mailed):
        return
    pools = {pool.name for address in space.stored if (pool := pool_of(office.plan, address)) is not None}
    warned = {status.target.name for status in office.space.statuses if status.target.on is On.POOL}
    if pools <= warned and len(pools) == 1:
        where = ", ".join(map(str, space.stored))
        evidence = f"the report on space goes to {where} alone, in the pool {pools.pop()} that it warns about"
        yield Finding("report-on-its-disk", space.stored[0], evidence)


def _has_address(office: OfficeFacts, name: str) -> bool:
    people = {name} if name in office.plan.people else office.plan.members.get(name, set())
    return any(office.plan.people[one].email for one in people)


CHECKS = (
    Check(
        "versions-eat-limit",
        Severity.LOW,
        "old versions can take more than the space left",
        "keep fewer versions of large kinds (suppose --versions SYSTEM=N shows what that frees)",
        _versions_eat,
    ),
    Check(
        "bin-for-ever",
        Severity.LOW,
        "the bin is large and never emptied",
        "empty it, and let it be emptied after some days from now on",
        _bin_for_ever,
    ),
    Check(
        "no-bin-no-versions",
        Severity.MEDIUM,
        "the system has no bin and no old versions",
        "switch one on: a slip of the hand is final there",
        _neither,
    ),
    Check(
        "barred-kind-stored",
        Severity.LOW,
        "files of a type that is not allowed are stored",
        "ask the owner to take them away (space --by kind --only not-allowed lists them)",
        _barred,
    ),
    Check(
        "starter-home",
        Severity.ADVICE,
        "the home holds no more than a new one",
        "ask whether the account is needed",
        _starter_only,
    ),
    Check(
        "seen-twice",
        Severity.ADVICE,
        "one tree is seen under two paths",
        "write same-as into the plan: its space is counted once",
        _twice,
    ),
    Check(
        "report-on-its-disk",
        Severity.LOW,
        "the report on space lies only on the disk it warns about",
        "send it to someone as well: a full disk takes no report",
        _own_disk,
    ),
)
