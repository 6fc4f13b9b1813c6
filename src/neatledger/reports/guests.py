"""Guests and devices: who came by whom, what they reach and hold, and what is to happen next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.people.principals import Principal
from neatledger.core.sharing.holders import is_outside
from neatledger.core.space.sizes import show_size
from neatledger.core.survey.shared import Device
from neatledger.reports.report import Cell, Column, Report, Show, Size, count_of

__all__ = ["GuestFacts", "devices_report", "guests_report"]

_GUESTS = (
    Column("guest", "GUEST", cuts=True),
    Column("account", "ACCOUNT", cuts=True),
    Column("email", "E-MAIL", Show.MACHINE),
    Column("state", "STATE"),
    Column("planned", "IN THE PLAN"),
    Column("inviter", "INVITED BY"),
    Column("invited", "INVITED", spare=True),
    Column("accepted", "ACCEPTED", Show.MACHINE),
    Column("last_seen", "LAST SEEN"),
    Column("idle_days", "IDLE DAYS", number=True),
    Column("reaches", "REACHES", wraps=True),
    Column("folders", "FOLDERS", number=True),
    Column("next", "NEXT", wraps=True),
)
_YES_NO = {True: "yes", False: "no", None: "not told"}
_DEVICES = (
    Column("device", "DEVICE", cuts=True),
    Column("id", "ID", Show.MACHINE),
    Column("owner", "OWNER"),
    Column("kind", "KIND", spare=True),
    Column("state", "STATE"),
    Column("managed", "MANAGED"),
    Column("last_seen", "LAST SEEN"),
    Column("held_bytes", "HOLDS", number=True),
    Column("folders", "OF", wraps=True),
    Column("amiss", "AMISS", wraps=True),
)


@dataclass(frozen=True, slots=True)
class GuestFacts:
    """One guest: the principal, the top folders reached with what and by which way, and how many folders in all."""

    principal: Principal
    reaches: Sequence[str]
    folders: int


def guests_report(found: Sequence[GuestFacts], today: date, idle: int, remove: int, when: str) -> Report:
    """Make the table of guests, those idle for longest first; `idle` and `remove` are days of the plan."""
    rows: list[Sequence[Cell]] = []
    for one in found:
        account, admission = one.principal.account, one.principal.account.admission
        last = account.last_seen or admission.accepted
        days = (today - date.fromisoformat(last[:10])).days if last else None
        outside = is_outside(one.principal)
        rows.append(
            (
                one.principal.person,
                "none: outside" if outside else f"{one.principal.system}:{account.login}",
                account.email,
                account.state.value,
                one.principal.is_planned,
                admission.inviter or ("" if outside else "nobody" if admission.is_guest else "not told"),
                admission.invited,
                admission.accepted,
                account.last_seen,
                days,
                tuple(one.reaches) or "nothing",
                one.folders,
                _next(one.principal, days, today, idle, remove),
            )
        )
    rows.sort(key=lambda row: (-(row[9] if isinstance(row[9], int) else -1), str(row[0])))
    told_idle = sum(isinstance(row[9], int) and row[9] > idle and row[3] == "open" for row in rows)
    headline = f"{count_of(len(rows), 'guest')}, {told_idle} idle for more than {idle} days and still open ({when})."
    return Report("guests", headline, _GUESTS, rows, empty="no system tells of a guest")


def _next(principal: Principal, days: int | None, today: date, idle: int, remove: int) -> str:
    admission = principal.account.admission
    if is_outside(principal):
        return "no account to disable: take back what was handed out"
    if admission.remove_on:
        return f"removed on {admission.remove_on}"
    if admission.disable_on:
        return f"disabled on {admission.disable_on}"
    if days is None:
        return (
            "has not accepted"
            if admission.invited
            else "never seen"
            if admission.is_guest
            else "not told when last seen"
        )
    if not principal.is_open:
        return f"remove on {today + timedelta(days=remove - days)}" if days < remove else "remove it now"
    return f"disable on {today + timedelta(days=idle - days)}" if days <= idle else "disable it now"


def devices_report(
    found: Sequence[tuple[str, Device, Sequence[str]]], owners: dict[str, str], when: str, *, machine: bool
) -> Report:
    """Make the table of devices (system, device, what is amiss), those with most amiss first."""
    rows: list[Sequence[Cell]] = []
    for system, one, amiss in sorted(found, key=lambda each: (not each[2], -len(each[2]), each[1].last_seen)):
        folders = tuple(f"{system}:{path.decode('utf-8', 'surrogateescape')}" for path in one.folders)
        rows.append(
            (
                one.name,
                one.id,
                owners.get(one.owner, one.owner),
                one.kind,
                one.state,
                one.managed if machine else _YES_NO[one.managed],
                one.last_seen,
                Size(one.held_bytes) if one.held_bytes is not None else None,
                folders if machine else ", ".join(folders),
                tuple(amiss) if machine else "; ".join(amiss) or "nothing",
            )
        )
    held = sum(one.held_bytes or 0 for _, one, _ in found)
    total = sum(bool(amiss) for _, _, amiss in found)
    headline = (
        f"{count_of(len(found), 'device')} with {show_size(held)} of copies, {total} with something amiss ({when})."
    )
    return Report("devices", headline, _DEVICES, rows, empty="no system tells of a device")
