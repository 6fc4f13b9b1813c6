"""What the server and the directory of the second site wrote down since spring, and what went wrong in November.

A folder of scans that is deleted one evening; a machine on which a student's files become another kind; letterheads
put into all invoices at once; an account that is over and used; rights that are opened for an evening, and a log that
is switched off after that.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

__all__ = ["directory_text", "log_text"]

_FIRST_DAY = datetime(2026, 3, 2, tzinfo=UTC)  # a Monday
_LAST_DAY = datetime(2026, 11, 20, tzinfo=UTC)
_SCANS, _INVOICES, _NOTES = 240, 210, 220
_STONE = "vstone", "10.1.2.14", "books-1", "Accounts"
_QUILL = "pquill", "10.1.2.33", "theatre-2", "Scans"
_THISTLE = "tthistle", "10.1.2.35", "student-1", "Public"
_KESTREL = "zkestrel", "10.1.2.9", "desk-9", "Accounts"

_Deed = tuple[datetime, str, str, str, str, str]


def log_text(since: datetime | None, until: datetime) -> str:
    """Return the lines of what was done after a moment (None: from the beginning), up to another."""
    lines = sorted([*_routine(), *_november()])
    return "".join(
        f"{when.isoformat()} loft smbd_audit: {who}|{address}|{device}|{share}|{rest}\n"
        for when, who, address, device, share, rest in lines
        if (since is None or when > since) and when <= until
    )


def _routine() -> Iterator[_Deed]:
    """Yield what is done on working days."""
    day, number = _FIRST_DAY, 0
    while day <= _LAST_DAY:
        if day.weekday() < 5:
            yield from _working_day(day + timedelta(hours=8), number)
            number += 1
        day += timedelta(days=1)


def _working_day(at: datetime, number: int) -> Iterator[_Deed]:
    yield at, *_STONE, "connect|ok|Accounts"
    for minute in (25, 130, 290):
        path = "/srv/loft/Accounts/Ledger 2026.ods"
        yield at + timedelta(minutes=minute), *_STONE, f"create_file|ok|0x112|file|overwrite_if|{path}"
    for scan in range(2):
        path = f"/srv/loft/Scans/2026/Dental {number:03d}-{scan}.dcm"
        yield (
            at + timedelta(minutes=41 + 75 * scan), "scanner2", "10.1.2.40", "scanner", "Scans",
            f"create_file|ok|0x112|file|create|{path}",
        )  # fmt: skip
    yield (
        at + timedelta(minutes=95), "orook", "10.1.2.21", "theatre-1", "Surgery",
        "create_file|ok|0x89|file|open|/srv/loft/Surgery/Protocols/Dental.odt",
    )  # fmt: skip
    if number % 5 == 3:
        yield (
            at + timedelta(minutes=200), "margaret.thorne", "10.1.2.11", "office-1", "Surgery",
            "create_file|ok|0x112|file|open|/srv/loft/Surgery/Theatre list.ods",
        )  # fmt: skip
    if number % 10 == 4:
        path = f"/srv/loft/Scans/2026/Dental {number:03d}-0.dcm"
        yield at + timedelta(minutes=310), *_QUILL, f"create_file|ok|0x89|file|open|{path}"


def _at(day: int, hour: int, minute: int = 0) -> datetime:
    return datetime(2026, 11, day, hour, minute, tzinfo=UTC)


def _november() -> Iterator[_Deed]:
    # Somebody tidied up on a Thursday evening, and took more than they thought.
    evening = _at(19, 18, 42)
    yield evening, *_QUILL, "connect|ok|Scans"
    for number in range(_SCANS):
        path = f"/srv/loft/Scans/2025/Dental {number + 1:03d}.dcm"
        yield evening + timedelta(seconds=20 + number), *_QUILL, f"unlinkat|ok|{path}"
    end = evening + timedelta(seconds=21 + _SCANS)
    yield end, *_QUILL, "create_file|ok|0x10100|dir|open|/srv/loft/Scans/2025"
    yield end + timedelta(seconds=1), *_QUILL, "unlinkat|ok|/srv/loft/Scans/2025"
    # A student's machine takes every file that it can reach, and leaves one nobody can open.
    noon = _at(17, 13, 20)
    for number in range(_NOTES):
        name = f"/srv/loft/Public/Drop/Notes {number:03d}.{('odt', 'pdf', 'jpg', 'ods')[number % 4]}"
        yield noon + timedelta(seconds=number), *_THISTLE, f"renameat|ok|{name}|{name}.zzx"
    for number in range(_INVOICES):
        path = f"/srv/loft/Accounts/Invoices/{number:03d}.odt"
        yield _at(18, 11) + timedelta(seconds=2 * number), *_STONE, f"create_file|ok|0x112|file|open|{path}"
    # Rights were opened for an evening.
    for hour in (17, 20):
        yield _at(18, hour, 5), *_KESTREL, "fset_nt_acl|ok|/srv/loft/Accounts"
    yield (
        _at(18, 18, 30),
        *_THISTLE[:3],
        "Accounts",
        "create_file|ok|0x89|file|open|/srv/loft/Accounts/Ledger 2026.ods",
    )
    yield _at(18, 9, 12), "mbrand", "10.1.2.33", "locum-1", "Surgery", "connect|ok|Surgery"
    path = "/srv/loft/Scans/Referrals/Referral.pdf"
    yield _at(17, 10, 2), "olddesk", "10.1.2.8", "desk-2", "Scans", f"create_file|ok|0x89|file|open|{path}"
    for number in range(2):
        yield (
            _at(17, 10, 5) + timedelta(seconds=40 * number), *_THISTLE[:3], "Surgery",
            "unlinkat|fail (Permission denied)|/srv/loft/Surgery/Theatre list.ods",
        )  # fmt: skip


_DOMAIN = "dc=loft,dc=pellowmere,dc=example"
_OVERLAY = """dn: olcOverlay={0}auditlog,olcDatabase={1}mdb,cn=config
changetype: modify
replace: olcAuditlogFile
-
"""


def directory_text(since: datetime | None, until: datetime) -> str:
    """Return what the directory wrote of its changes after a moment (None: from the beginning), up to another."""
    admin, kestrel = f"cn=admin,{_DOMAIN}", f"uid=zkestrel,ou=people,{_DOMAIN}"
    blocks = [(datetime(2026, month, 2, 7, 30, tzinfo=UTC), admin, _password(month)) for month in range(3, 12)]
    blocks.append((_at(18, 20, 15), kestrel, _OVERLAY))
    return "".join(
        _block(when, who, text) for when, who, text in blocks if (since is None or when > since) and when <= until
    )


def _block(when: datetime, who: str, text: str) -> str:
    moment = f"{when.timestamp():.0f}"
    return f"# modify {moment} {_DOMAIN} {who} IP=10.1.2.9:51000 conn=7\n{text}# end modify {moment}\n\n"


def _password(month: int) -> str:
    login = ("orook", "pquill", "ward")[month % 3]
    return f"dn: uid={login},ou=people,{_DOMAIN}\nchangetype: modify\nreplace: shadowLastChange\n-\n"
