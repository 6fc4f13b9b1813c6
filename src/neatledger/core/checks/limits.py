"""Limits on space: what the plan asks for and the system does not do, and what cannot be right."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import timedelta

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.plan.notices import About
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_field, show_limit, show_size, unit_fault
from neatledger.core.space.when import Meeting
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]

_FULL_WITHIN_DAYS = 90
# How far off a limit is that was given in the wrong unit: thousands for 1024s of one to five steps, or a whole step.


def _place(status: LimitStatus) -> Address | str:
    return status.target.address if status.target.on is On.FOLDER else status.target.key


def _not_enforced(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        planned, found = status.plan_settings, status.found_settings
        if planned is None or found is None or planned.limit is UNLIMITED or not planned.enforced:
            continue
        if found.limit is UNLIMITED:
            evidence = f"planned to block at {show_limit(planned.limit)}; the system has no limit"
            yield Finding("limit-not-enforced", _place(status), evidence)
        elif not found.enforced:
            evidence = f"planned to block at {show_limit(planned.limit)}; the system only warns"
            yield Finding("limit-not-enforced", _place(status), evidence)


def _differs(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        planned, found = status.plan_settings, status.found_settings
        if status.planned is None or planned is None or found is None or status.planned.band is not None:
            continue
        if found.limit is not UNLIMITED and found.limit != planned.limit:
            evidence = f"planned {show_limit(planned.limit)}, the system has {show_limit(found.limit)}"
            yield Finding("limit-differs", _place(status), evidence)
        elif found.limit is not UNLIMITED and not planned.enforced and found.rule != planned.rule:
            # One that is to be enforced and is not has a check of its own.
            evidence = f"planned to be {planned.rule}, the system has it {found.rule}"
            yield Finding("limit-differs", _place(status), evidence)


def _off_band(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        placed, found = status.planned, status.found_settings
        if placed is None or placed.band is None:
            continue
        planned = placed.settings
        if found is not None and found.limit is not UNLIMITED and found.limit != planned.limit:
            evidence = (
                f"band {placed.band.name} gives {show_limit(planned.limit)}, the system has {show_limit(found.limit)}"
            )
            yield Finding("off-band", _place(status), evidence)
        elif placed.exceptions and not placed.because:
            fields = ", ".join(show_field(each.field, each.own) for each in placed.exceptions)
            since = f" since {placed.since}" if placed.since else ""
            evidence = f"an exception of band {placed.band.name} ({fields}){since}, and nobody said why"
            yield Finding("off-band", _place(status), evidence)


def _ambiguous_zero(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        if status.found is not None and status.found.limit == 0:
            evidence = f"the system has 0: nothing may be stored, or no limit? {show_size(status.amount)} are used"
            yield Finding("ambiguous-zero", _place(status), evidence)


def _to_nobody(office: OfficeFacts) -> Iterator[Finding]:
    seen: set[tuple[str, int]] = set()
    for status in office.space.statuses:
        placed = status.planned
        key = placed.key if placed else status.target.key
        name = f"band {placed.band.name}" if placed and placed.band and "warn" not in placed.own else key
        settings = status.plan_settings
        warn = status.pool.warn if status.pool else settings.warn if settings else ()
        for level, names in warn:
            why = _why_unreached(office, names)
            if why and (name, level) not in seen:
                seen.add((name, level))
                place = name if name != key or "*" in key else _place(status)
                yield Finding("warning-to-nobody", place, f"at {level} %: {why}")


def _why_unreached(office: OfficeFacts, names: tuple[str, ...]) -> str:
    """Return why a warning reaches nobody, "" where it reaches someone."""
    if not names:
        return "nobody is told"
    plan = office.plan
    if plan.notices.rules and not any(one.about is About.LIMIT for one in plan.notices.rules):
        return "the plan's notices tell of no limits"
    people = {name for name in names if name in plan.people}
    for name in names:
        people |= plan.members.get(name, set())
    if any(plan.people[name].email and plan.is_here(name) for name in people):
        return ""
    return f"{', '.join(names)} has left or has no e-mail address"


def _unlimited(office: OfficeFacts) -> Iterator[Finding]:
    limited = {promise.pool for promise in office.space.promises if promise.size is not None}
    if not limited:
        return
    for status in office.space.statuses:
        is_said = (
            status.planned is not None
            and status.plan_settings is not None
            and status.plan_settings.limit is UNLIMITED
        )
        if status.target.on is On.FOLDER and is_said and status.settings.limit in (UNLIMITED, 0):
            evidence = f"the plan says no limit, and {show_size(status.amount)} lie in a pool that ends"
            yield Finding("unlimited-in-pool", _place(status), evidence)
    for promise in office.space.promises:
        if promise.pool in limited and not promise.limits:
            evidence = f"{show_size(promise.size or 0)}, and nothing in it has a limit that blocks"
            yield Finding("unlimited-in-pool", promise.pool, evidence)


def _below_use(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        limit = status.settings.limit
        # An ambiguous zero is told by its own check.
        if isinstance(limit, int) and limit and status.amount > limit:
            watched = "it only warns" if status.settings.grace_days is None else "it only warns until then"
            stops = "nothing more can be stored there" if status.is_enforced(office.today) else watched
            used = f"{show_size(status.amount)} used of {show_limit(limit)}, {status.state(office.today)}"
            yield Finding("below-use", _place(status), f"{used}: {stops}")


def _overpromised(office: OfficeFacts) -> Iterator[Finding]:
    for promise in office.space.promises:
        if promise.beyond:
            promised, size = show_size(promise.promised), show_size(promise.size or 0)
            evidence = f"{promised} promised by {promise.limits} limits, of {size}"
            yield Finding("overpromised", promise.pool, f"{evidence}: {show_size(promise.beyond)} too much")


def _beyond_entitlement(office: OfficeFacts) -> Iterator[Finding]:
    found: dict[str, list[LimitStatus]] = {}
    for status in office.space.statuses:
        limit = status.settings.limit
        if isinstance(limit, int) and isinstance(status.entitled, int) and limit > status.entitled:
            found.setdefault(status.planned.key if status.planned else status.target.key, []).append(status)
    for key, statuses in found.items():
        first = statuses[0]
        allowed, entitled = show_limit(first.settings.limit), show_limit(first.entitled or UNLIMITED)
        evidence = f"{allowed} is allowed, {entitled} is what they are entitled to"
        more = f" ({len(statuses)} people)" if len(statuses) > 1 else ""
        yield Finding("beyond-entitlement", key, evidence + more)


def _suspicious_unit(office: OfficeFacts) -> Iterator[Finding]:
    siblings: dict[tuple[object, ...], list[LimitStatus]] = {}
    for status in office.space.statuses:
        limit = status.settings.limit
        if not limit or status.target.on is On.POOL:
            continue
        above = status.target.address.parts[:-1] if status.target.on is On.FOLDER else ()
        siblings.setdefault((status.target.on, status.target.system, above), []).append(status)
    for statuses in siblings.values():
        # The usual limit among them, and what the plan says of each.
        usual, often = Counter(status.settings.limit for status in statuses).most_common(1)[0]
        for status in statuses:
            planned = status.plan_settings.limit if status.plan_settings else None
            limit = status.settings.limit
            # Three alike are a habit; two may be chance.
            for likely in dict.fromkeys([planned, usual if often > 2 else None]):
                if not isinstance(limit, int) or not isinstance(likely, int):
                    continue
                message = unit_fault(limit, likely)
                if message:
                    # The plan's own word is the better hint, and is tried first.
                    because = "as planned" if likely == planned else "as those beside it"
                    evidence = f"{show_limit(limit)}, and not {show_limit(likely)} {because}: {message}"
                    yield Finding("suspicious-unit", _place(status), evidence)
                    break


def _full_soon(office: OfficeFacts) -> Iterator[Finding]:
    days = office.plan.settings.get("full-within-days", _FULL_WITHIN_DAYS)
    for status in office.space.statuses:
        if not status.settings.limit or status.fullness >= 1:
            continue
        when = office.space.full_on(status)
        # What is full already has a finding of its own.
        if when.meeting is Meeting.ON and when.day and when.day <= office.today + timedelta(days=days):
            latest = f"and {when.latest}" if when.latest else "and much later"
            evidence = f"{show_size(status.amount)} of {show_limit(status.settings.limit)}; full on {when.day}"
            yield Finding("full-soon", _place(status), f"{evidence}, between {when.earliest} {latest}")


def _items_run_out(office: OfficeFacts) -> Iterator[Finding]:
    for status in office.space.statuses:
        if status.items_warned is not None:
            yield Finding("files-run-out", _place(status), f"{status.items_words}, whatever space is left")


CHECKS = (
    Check(
        "limit-not-enforced",
        Severity.HIGH,
        "the limit should block, but only warns",
        "let the system block at it, or plan it as a warning",
        _not_enforced,
    ),
    Check(
        "overpromised",
        Severity.MEDIUM,
        "limits promise more than the disk holds",
        "lower limits (limits shows which), or enlarge the pool, before everyone comes to collect",
        _overpromised,
    ),
    Check(
        "full-soon",
        Severity.HIGH,
        "will be full soon",
        "make room, or raise the limit in time (space --forecast, space --by kind)",
        _full_soon,
    ),
    Check(
        "files-run-out",
        Severity.MEDIUM,
        "nearly at the number of files allowed",
        "remove small files (space --by kind), or have the number raised: space that is left does not help",
        _items_run_out,
    ),
    Check(
        "below-use",
        Severity.MEDIUM,
        "more is used than the limit allows",
        "raise it or clean up",
        _below_use,
    ),
    Check(
        "suspicious-unit",
        Severity.MEDIUM,
        "the limit is off by exactly one unit",
        "set it again: kB, MB, GB are powers of 1000, KiB, MiB, GiB of 1024",
        _suspicious_unit,
    ),
    Check(
        "ambiguous-zero",
        Severity.MEDIUM,
        "the system has a limit of 0",
        "say no limit, or a size: some systems take 0 for the one, some for the other",
        _ambiguous_zero,
    ),
    Check(
        "off-band",
        Severity.LOW,
        "the limit differs from its band",
        "put it right on the system, or say in the plan since when and why it is an exception",
        _off_band,
    ),
    Check(
        "limit-differs",
        Severity.MEDIUM,
        "the limit differs from the plan",
        "put the system right, or the plan",
        _differs,
    ),
    Check(
        "warning-to-nobody",
        Severity.MEDIUM,
        "a warning reaches nobody",
        "name someone who is here and has an e-mail address",
        _to_nobody,
    ),
    Check(
        "unlimited-in-pool",
        Severity.LOW,
        "no limit here, on a disk that can fill up",
        "give it a limit that blocks, or accept it",
        _unlimited,
    ),
    Check(
        "beyond-entitlement",
        Severity.LOW,
        "the limit is above what people are entitled to",
        "lower the limit, or buy more: what is beyond cannot be used",
        _beyond_entitlement,
    ),
)
