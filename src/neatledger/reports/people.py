"""The people with their accounts and groups, and one person's sheet."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date

from neatledger.core.people.homes import HomeMatch
from neatledger.core.people.principals import Seat
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import Line
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.survey.accounts import AccountState, Group
from neatledger.reports.report import Cell, Column, Report, Show

__all__ = ["people_report", "sheet_report"]

_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("name", "NAME", cuts=True),
    Column("kind", "KIND"),
    Column("state", "STATE", wraps=True),
    Column("accounts", "ACCOUNTS", wraps=True),
    Column("groups", "GROUPS", wraps=True),
    Column("email", "E-MAIL", cuts=True),
    Column("planned", "IN PLAN"),
    Column("start", "START", Show.MACHINE),
    Column("end", "END", Show.MACHINE),
    Column("last_seen", "LAST SEEN", Show.MACHINE),
    Column("roles", "ROLES", Show.MACHINE),
    Column("entitlements", "ENTITLEMENTS", Show.MACHINE),
    Column("services", "SERVICES ON", Show.MACHINE),
)


def _group_names(seat: Seat, groups: Mapping[str, Sequence[Group]]) -> list[str]:
    return [group.name for group in groups.get(seat.system, ()) if group.ident in seat.holder.groups]


def _state(plan: Plan, person: str, seats: Sequence[Seat], today: date) -> str:
    planned = plan.people.get(person)
    if not seats:
        return "no account"
    closed = {seat.account.state for seat in seats} - {AccountState.OPEN}
    if planned and not planned.is_here(today):
        ended = "left" if planned.end and planned.end < today else "not yet here"
        return (
            f"{ended}, closed" if len(closed) and all(not seat.is_open for seat in seats) else f"{ended}, still open"
        )
    shut = [seat.system for seat in seats if not seat.account.may_use]
    unbought = [seat.system for seat in seats if not seat.account.is_entitled and seat.account.may_use]
    if not closed and unbought and not shut:
        return f"open, not entitled to {', '.join(dict.fromkeys(unbought))}"
    if not closed:
        return f"open, no service on {', '.join(dict.fromkeys(shut))}" if shut else "open"
    return "/".join(sorted(state.value for state in closed)) + (" in part" if any(s.is_open for s in seats) else "")


def people_report(
    plan: Plan, seats: Iterable[Seat], groups: Mapping[str, Sequence[Group]], today: date, *, with_services: bool
) -> Report:
    """List everyone of both sides: the plan's people first, then accounts that stand for themselves."""
    of_person: dict[str, list[Seat]] = {person: [] for person in plan.people}
    for seat in seats:
        of_person.setdefault(seat.person, []).append(seat)
    rows: list[Sequence[Cell]] = []
    services = 0
    for person, mine in of_person.items():
        planned = plan.people.get(person)
        kind = planned.kind if planned else mine[0].kind
        if planned is None and kind.value == "service" and not with_services:
            services += 1
            continue
        names = [name for seat in mine for name in _group_names(seat, groups)]
        rows.append(
            (
                person,
                planned.name if planned else mine[0].name,
                kind.value,
                _state(plan, person, mine, today),
                tuple(f"{seat.system}:{seat.account.login}" for seat in mine),
                tuple(dict.fromkeys(names)),
                (planned.email if planned else mine[0].account.email) or "",
                planned is not None,
                planned.start.isoformat() if planned and planned.start else "",
                planned.end.isoformat() if planned and planned.end else "",
                max((seat.account.last_seen for seat in mine), default=""),
                tuple(f"{s.system}:{role}" for s in mine for role in sorted(s.account.admission.roles or ())),
                tuple(f"{s.system}:{name}" for s in mine for name in s.account.admission.entitlements),
                tuple(s.system for s in mine if s.may_come_in),
            )
        )
    notes = [f"{services} service accounts are not shown (--services lists them)."] if services else []
    planned_count = len(plan.people)
    headline = (
        f"{len(rows)} people: {planned_count} of the plan, {len(rows) - planned_count} accounts of nobody in it."
    )
    return Report("people", headline, _COLUMNS, rows, notes, "no people: neither the plan nor the count has any")


_SHEET = (Column("what", "WHAT"), Column("system", "SYSTEM"), Column("value", "VALUE"), Column("because", "BECAUSE"))


def sheet_report(
    plan: Plan,
    person: str,
    seats: Sequence[Seat],
    groups: Mapping[str, Sequence[Group]],
    homes: Iterable[HomeMatch],
    today: date,
    space: Iterable[Line] = (),
    shared: Iterable[Sequence[Cell]] = (),
) -> Report:
    """Make one person's sheet: everything about them on both sides."""
    planned = plan.people.get(person)
    name = planned.name if planned else seats[0].name if seats else person
    rows: list[Sequence[Cell]] = [("state", "", _state(plan, person, seats, today), "")]
    if planned:
        rows.append(("e-mail", "", planned.email or "none", "plan"))
        dates = [f"{word} {day}" for word, day in (("from", planned.start), ("to", planned.end)) if day]
        rows.append(("dates", "", " ".join(dates) or "none", "plan"))
        rows += [("group", "plan", group, _through(plan, person, group)) for group in plan.groups_of[person]]
    for seat in seats:
        account = seat.account
        told = f"id {account.ident}, {account.state.value}" + ("" if account.may_use else ", the service is not on")
        told += f", last seen {account.last_seen}" if account.last_seen else ""
        rows.append(("account", seat.system, account.login, told))
        rows += _admission_rows(seat)
        if seat.holder.privileges:
            rows.append(("privilege", seat.system, ", ".join(sorted(seat.holder.privileges)), "whatever lists say"))
        for group in groups.get(seat.system, ()):
            if group.ident in seat.holder.groups:
                how = "primary group" if group.ident == account.primary else "member"
                rows.append(("group", seat.system, group.name, f"id {group.ident}, {how}"))
    mine = {(seat.system, seat.account.login) for seat in seats}
    for home in homes:
        if any((home.address.system, account.login) in mine for account in home.accounts):
            rows.append(("home", home.address.system, home.address, home.because))
    for line in space:
        limit, left = line.settings.limit, line.left
        told = f"of {show_limit(limit)} allowed, {show_size(left or 0)} left, " if limit is not None else ""
        rows.append(("space", line.place.system, f"{show_size(line.amount)} used", told + line.state(today)))
    rows += shared
    kind = planned.kind.value if planned else seats[0].kind.value if seats else ""
    return Report("person", f"{name} ({person}), {kind}", _SHEET, rows)


def _admission_rows(seat: Seat) -> list[Sequence[Cell]]:
    """Say how an account came to a service, and as what."""
    told, rows = seat.account.admission, list[Sequence[Cell]]()
    if told.roles is not None:
        every = "every role, whatever else is ticked" if "top" in told.roles else ""
        rows.append(("role", seat.system, ", ".join(sorted(told.roles)) or "none", every))
    if told.entitlements or not seat.account.is_entitled:
        lacks = "" if seat.account.is_entitled else "not the one that the service asks for"
        rows.append(("entitlement", seat.system, ", ".join(told.entitlements) or "none", lacks))
    if told.is_guest:
        days = f"on {told.invited}" if told.invited else ""
        rows.append(("guest", seat.system, f"invited by {told.inviter or 'nobody known'}", days))
    if told.second_factor is not None:
        rows.append(("second factor", seat.system, "yes" if told.second_factor else "no", ""))
    if told.password_set:
        rows.append(
            ("password", seat.system, f"set on {told.password_set}".replace("set on never", "never changed"), "")
        )
    return rows


def _through(plan: Plan, person: str, group: str) -> str:
    if person in plan.groups[group].members:
        return "member"
    inner = [name for name in plan.groups[group].members if person in plan.members.get(name, ())]
    return "through " + ", ".join(inner)
