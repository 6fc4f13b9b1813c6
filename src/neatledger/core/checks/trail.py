"""What looks wrong in what was done, and what the records of it lack."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.trail.signs.contract import Sign, SignKind
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]

_DEFAULT_KEEP_DAYS = 400


def _signs(office: OfficeFacts, kind: SignKind) -> Iterator[Finding]:
    """Yield the signs of a kind, one finding for each account and place."""
    grouped: dict[tuple[Address | str, str], list[Sign]] = {}
    for one in office.trail.signs:
        if one.sign.kind is kind:
            place = _place(one.sign)
            grouped.setdefault((place, one.person), []).append(one.sign)
    for (place, person), signs in grouped.items():
        last = signs[-1]
        evidence = f"{last.first.astimezone():%Y-%m-%d %H:%M}: {f'{person}: ' if person else ''}{last.words}"
        if last.threshold > 1:
            evidence += f" (told from {last.threshold:,} on)"
        if len(signs) > 1:
            evidence += f"; {len(signs):,} times since {signs[0].first.astimezone():%Y-%m-%d}"
        people, day = (person,) if person else (), last.first.astimezone().date()
        yield Finding(kind.value, place, evidence, people=people, happened=day)


def _place(sign: Sign) -> Address | str:
    if sign.path:
        return Address(sign.system, sign.path)
    return f"{sign.system}:{sign.login}" if sign.login else sign.system


def _gaps(office: OfficeFacts) -> Iterator[Finding]:
    for system, gap in office.trail.gaps:
        span = f"{gap.after.astimezone():%Y-%m-%d %H:%M} to {gap.before.astimezone():%Y-%m-%d %H:%M}"
        yield Finding("records-missing", system, f"{span}: {gap.why}")


def _kept_too_short(office: OfficeFacts) -> Iterator[Finding]:
    if not office.trail.systems:
        return
    settings = office.plan.settings
    kept = settings.get("trail-days", _DEFAULT_KEEP_DAYS)
    for name, default in (("guest-remove-days", 180), ("guest-idle-days", 90)):
        days = settings.get(name, default)
        if kept <= days:
            evidence = f"records are kept for {kept} days, and whether a guest is idle is asked of {days} ({name})"
            yield Finding("records-kept-too-short", "settings: trail-days", evidence)
            return


def _not_read(office: OfficeFacts) -> Iterator[Finding]:
    for system, day in office.trail.last_read.items():
        days = office.plan.settings.get("trail-read-days", 7)
        if day is None:
            yield Finding("log-not-read", system, "its log was never read, or never told anything")
        elif (office.today - day).days > days:
            yield Finding("log-not-read", system, f"its log was last read on {day}; told of after {days} days")


_OF_SIGNS: tuple[tuple[SignKind, Severity, str, str], ...] = (
    (
        SignKind.LEFT_BUT_ACTIVE,
        Severity.HIGH,
        "an account that should be closed was used",
        "close the account, and see what was done: trail PERSON",
    ),
    (
        SignKind.ONE_UNKNOWN_KIND,
        Severity.HIGH,
        "many files were renamed to one unknown type",
        "take the account off the network, then see what was hit: trail PERSON -a",
    ),
    (
        SignKind.MASS_DELETION,
        Severity.HIGH,
        "far more files were deleted than before",
        "ask whoever did it; trail FOLDER --only delete says what is to be brought back",
    ),
    (
        SignKind.LOGGING_CHANGED,
        Severity.HIGH,
        "what is logged was changed",
        "ask whoever did it, and switch it on again",
    ),
    (
        SignKind.ACCOUNT_TRIED,
        Severity.MEDIUM,
        "many sign-ins of one account were refused",
        "ask its owner; change the password if one was let in",
    ),
    (
        SignKind.ACCOUNTS_TRIED,
        Severity.MEDIUM,
        "one address tried many accounts",
        "shut that address out, and see whether one was let in: trail --only sign-in",
    ),
    (
        SignKind.UNKNOWN_ACCOUNT,
        Severity.MEDIUM,
        "an account that was never counted was used",
        "find out whose it is; count again if it is new",
    ),
    (
        SignKind.MASS_RENAMING,
        Severity.MEDIUM,
        "far more files were renamed than before",
        "ask whoever did it: trail PERSON --only rename",
    ),
    (
        SignKind.NOTHING_WRITTEN,
        Severity.MEDIUM,
        "a log that always had entries has none now",
        "see whether the system still writes it",
    ),
    (
        SignKind.MASS_WRITING,
        Severity.LOW,
        "far more files were written than before",
        "ask whoever did it: trail PERSON --only change",
    ),
    (
        SignKind.WIDENED_AND_NARROWED,
        Severity.LOW,
        "rights were changed, and changed again soon after",
        "see who got in meanwhile: trail FOLDER",
    ),
    (SignKind.UNUSUAL_HOUR, Severity.LOW, "a sign-in at an unusual hour", "ask them"),
    (SignKind.UNUSUAL_PLACE, Severity.LOW, "a sign-in from an unusual network", "ask them"),
)


def _of(kind: SignKind) -> Callable[[OfficeFacts], Iterator[Finding]]:
    return partial(_signs, kind=kind)


CHECKS = (
    *(Check(kind.value, severity, summary, advice, _of(kind)) for kind, severity, summary, advice in _OF_SIGNS),
    Check(
        "records-missing",
        Severity.MEDIUM,
        "part of the log is missing",
        "see who can alter the log; nothing can be said of that time",
        _gaps,
    ),
    Check(
        "log-not-read",
        Severity.LOW,
        "the log is not read",
        "run count --logs, or count, by the clock",
        _not_read,
    ),
    Check(
        "records-kept-too-short",
        Severity.LOW,
        "logs are kept for a shorter time than is needed",
        "raise trail-days in the plan's settings",
        _kept_too_short,
    ),
)
