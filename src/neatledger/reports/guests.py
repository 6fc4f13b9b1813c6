"""Guests and devices: who came by whom, what they reach and hold, and what is to happen next."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Protocol

from neatledger.core.lists.rights import Level
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.holders import is_outside
from neatledger.core.space.sizes import show_size
from neatledger.core.survey.accounts import AccountState
from neatledger.core.survey.shared import Device
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, Show, Size, count_of, day_cell, shortened

__all__ = ["HeldCopies", "ReachedBy", "devices_report", "guests_report"]

_GUESTS = (
    Column("guest", "GUEST", cuts=True),
    Column("account", "ACCOUNT", cuts=True),
    Column("email", "E-MAIL", Show.MACHINE),
    Column("state", "STATE"),
    Column("planned", "IN THE PLAN", spare=True),
    Column("inviter", "INVITED BY", spare=True),
    Column("invited", "INVITED", spare=True),
    Column("accepted", "ACCEPTED", Show.MACHINE),
    Column("last_seen", "LAST SEEN"),
    Column("idle_days", "IDLE DAYS", number=True, spare=True),
    Column("reaches", "REACHES", wraps=True),
    Column("folders", "FOLDERS", Show.MACHINE, number=True),
    Column("next", "NEXT", wraps=True),
    Column("files", "", Show.MACHINE),
)
_YES_NO = {True: "yes", False: "no", None: "not told"}
_DEVICES = (
    Column("device", "DEVICE", cuts=True),
    Column("id", "ID", Show.MACHINE),
    Column("owner", "OWNER"),
    Column("kind", "KIND", spare=True),
    Column("state", "STATE"),
    Column("managed", "MANAGED", Show.MACHINE),
    Column("managed_word", "MANAGED", Show.PEOPLE),
    Column("last_seen", "LAST SEEN"),
    Column("held_bytes", "HOLDS", number=True),
    Column("folders", "OF", wraps=True),
    Column("amiss", "NOT IN ORDER", Show.MACHINE),
    Column("faults", "BREAKS A RULE", Show.PEOPLE, wraps=True),
)


_MOST_TOPS = 6


class ReachedBy(Protocol):
    """One guest: the folders where what they reach begins, each with its level, and how many they reach in all."""

    @property
    def principal(self) -> Principal: ...
    @property
    def tops(self) -> Sequence[tuple[Level, bytes]]: ...
    @property
    def folders(self) -> int: ...
    @property
    def files(self) -> Sequence[tuple[Level, bytes]]: ...


def guests_report(found: Sequence[ReachedBy], today: date, idle: int, remove: int, when: str) -> Report:
    """Make the table of guests, those idle for longest first; `idle` and `remove` are days of the plan."""
    ordered = sorted(found, key=lambda one: (-_or(_idle_days(one.principal, today), -1), one.principal.person))
    rows = [_guest_row(one, today, idle, remove) for one in ordered]
    too_long = sum(
        one.principal.account.state is AccountState.OPEN and _or(_idle_days(one.principal, today), 0) > idle
        for one in found
    )
    headline = f"{count_of(len(rows), 'guest')}, {too_long} idle for more than {idle} days and still open ({when})."
    return Report("guests", headline, _GUESTS, rows, empty="no system tells of a guest")


def _or(days: int | None, default: int) -> int:
    return default if days is None else days


def _idle_days(principal: Principal, today: date) -> int | None:
    last = principal.account.last_seen or principal.account.admission.accepted
    return None if last is None else (today - last).days


def _guest_row(one: ReachedBy, today: date, idle: int, remove: int) -> Row:
    principal, account = one.principal, one.principal.account
    admission, days, outside = account.admission, _idle_days(principal, today), is_outside(principal)
    tops = [f"{level.value} {path.decode('utf-8', 'surrogateescape')}" for level, path in (*one.tops, *one.files)]
    if len(tops) > _MOST_TOPS:
        tops = [*tops[:_MOST_TOPS], f"{len(tops) - _MOST_TOPS} more"]
    return {
        "guest": principal.person,
        "account": "none: outside" if outside else f"{principal.system}:{account.login}",
        "email": account.email,
        "state": account.state.value,
        "planned": principal.is_planned,
        "inviter": admission.inviter or ("" if outside else "nobody" if admission.is_guest else "not told"),
        "invited": day_cell(admission.invited),
        "accepted": day_cell(admission.accepted),
        "last_seen": day_cell(account.last_seen),
        "idle_days": days,
        "reaches": tuple(tops) or "nothing",
        "folders": one.folders,
        "files": len(one.files),
        "next": _next(principal, days, today, idle, remove),
    }


def _next(principal: Principal, days: int | None, today: date, idle: int, remove: int) -> str:
    admission = principal.account.admission
    if is_outside(principal):
        return "no account to disable: take back what was handed out"
    if admission.remove_on:
        return f"removed on {admission.remove_on}"
    if admission.disable_on:
        return f"disabled on {admission.disable_on}"
    if days is None:
        unseen = "never seen" if admission.is_guest else "last seen: unknown"
        return "has not accepted" if admission.invited else unseen
    if not principal.is_open:
        return f"remove on {today + timedelta(days=remove - days)}" if days < remove else "remove it now"
    return f"disable on {today + timedelta(days=idle - days)}" if days <= idle else "disable it now"


class HeldCopies(Protocol):
    """A device with whose it is, and all that is not in order with it, in words."""

    @property
    def system(self) -> str: ...
    @property
    def device(self) -> Device: ...
    @property
    def owner(self) -> str: ...
    @property
    def faults(self) -> tuple[str, ...]: ...


def devices_report(found: Sequence[HeldCopies], when: str) -> Report:
    """Make the table of devices, those with most not in order first."""
    ordered = sorted(found, key=lambda one: (not one.faults, -len(one.faults), one.device.last_seen or date.min))
    rows = [_device_row(one) for one in ordered]
    held = sum(one.device.held_bytes or 0 for one in found)
    total = sum(bool(one.faults) for one in found)
    devices = count_of(len(found), "device")
    headline = f"{devices} with {show_size(held)} of copies, {total} of them break a rule"
    said = assured("devices", bool(found) and not total, headline, devices=devices, held=show_size(held), when=when)
    empty = "no system tells of a device"
    return Report("devices", f"{said.text}.", _DEVICES, rows, empty=empty, is_assured=said.is_assured)


def _device_row(one: HeldCopies) -> Row:
    device = one.device
    folders = tuple(f"{one.system}:{path.decode('utf-8', 'surrogateescape')}" for path in device.folders)
    return {
        "device": device.name,
        "id": device.id,
        "owner": one.owner,
        "kind": device.kind,
        "state": device.state,
        "managed": device.managed,
        "managed_word": _YES_NO[device.managed],
        "last_seen": day_cell(device.last_seen),
        "held_bytes": Size(device.held_bytes) if device.held_bytes is not None else None,
        "folders": folders,
        "amiss": one.faults,
        "faults": shortened("; ".join(one.faults)) or "nothing",
    }
