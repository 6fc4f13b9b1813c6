"""The people with their accounts and groups, and one person's sheet."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date

from neatledger.core.people.homes import HomeMatch
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus
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


def _group_names(principal: Principal, groups: Mapping[str, Sequence[Group]]) -> list[str]:
    return [group.name for group in groups.get(principal.system, ()) if group.ident in principal.holder.groups]


def _state(plan: Plan, person: str, principals: Sequence[Principal], today: date) -> str:
    planned = plan.people.get(person)
    if not principals:
        return "no account"
    closed = {principal.account.state for principal in principals} - {AccountState.OPEN}
    if planned and not planned.is_here(today):
        ended = "left" if planned.end and planned.end < today else "not yet here"
        return (
            f"{ended}, closed"
            if len(closed) and all(not principal.is_open for principal in principals)
            else f"{ended}, still open"
        )
    shut = [principal.system for principal in principals if not principal.account.may_use]
    unbought = [
        principal.system
        for principal in principals
        if not principal.account.is_entitled and principal.account.may_use
    ]
    if not closed and unbought and not shut:
        return f"open, not entitled to {', '.join(dict.fromkeys(unbought))}"
    if not closed:
        return f"open, no service on {', '.join(dict.fromkeys(shut))}" if shut else "open"
    return "/".join(sorted(state.value for state in closed)) + (
        " in part" if any(s.is_open for s in principals) else ""
    )


def people_report(
    plan: Plan,
    principals: Iterable[Principal],
    groups: Mapping[str, Sequence[Group]],
    today: date,
    *,
    with_services: bool,
) -> Report:
    """List everyone of both sides: the plan's people first, then accounts that stand for themselves."""
    of_person: dict[str, list[Principal]] = {person: [] for person in plan.people}
    for principal in principals:
        of_person.setdefault(principal.person, []).append(principal)
    rows: list[Sequence[Cell]] = []
    services = 0
    for person, mine in of_person.items():
        planned = plan.people.get(person)
        kind = planned.kind if planned else mine[0].kind
        if planned is None and kind.value == "service" and not with_services:
            services += 1
            continue
        names = [name for principal in mine for name in _group_names(principal, groups)]
        rows.append(
            (
                person,
                planned.name if planned else mine[0].name,
                kind.value,
                _state(plan, person, mine, today),
                tuple(f"{principal.system}:{principal.account.login}" for principal in mine),
                tuple(dict.fromkeys(names)),
                (planned.email if planned else mine[0].account.email) or "",
                planned is not None,
                planned.start.isoformat() if planned and planned.start else "",
                planned.end.isoformat() if planned and planned.end else "",
                max((principal.account.last_seen for principal in mine), default=""),
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
    principals: Sequence[Principal],
    groups: Mapping[str, Sequence[Group]],
    homes: Iterable[HomeMatch],
    today: date,
    space: Iterable[LimitStatus] = (),
    shared: Iterable[Sequence[Cell]] = (),
) -> Report:
    """Make one person's sheet: everything about them on both sides."""
    planned = plan.people.get(person)
    name = planned.name if planned else principals[0].name if principals else person
    rows: list[Sequence[Cell]] = [("state", "", _state(plan, person, principals, today), "")]
    if planned:
        rows.append(("e-mail", "", planned.email or "none", "plan"))
        dates = [f"{word} {day}" for word, day in (("from", planned.start), ("to", planned.end)) if day]
        rows.append(("dates", "", " ".join(dates) or "none", "plan"))
        rows += [("group", "plan", group, _through(plan, person, group)) for group in plan.groups_of[person]]
    for principal in principals:
        account = principal.account
        message = f"id {account.ident}, {account.state.value}" + (
            "" if account.may_use else ", the service is not on"
        )
        message += f", last seen {account.last_seen}" if account.last_seen else ""
        rows.append(("account", principal.system, account.login, message))
        rows += _admission_rows(principal)
        if principal.holder.privileges:
            rows.append(
                ("privilege", principal.system, ", ".join(sorted(principal.holder.privileges)), "whatever lists say")
            )
        for group in groups.get(principal.system, ()):
            if group.ident in principal.holder.groups:
                how = "primary group" if group.ident == account.primary else "member"
                rows.append(("group", principal.system, group.name, f"id {group.ident}, {how}"))
    mine = {(principal.system, principal.account.login) for principal in principals}
    for home in homes:
        if any((home.address.system, account.login) in mine for account in home.accounts):
            rows.append(("home", home.address.system, home.address, home.because))
    for line in space:
        limit, left = line.settings.limit, line.left
        message = f"of {show_limit(limit)} allowed, {show_size(left or 0)} left, " if limit is not None else ""
        rows.append(("space", line.target.system, f"{show_size(line.amount)} used", message + line.state(today)))
    rows += shared
    kind = planned.kind.value if planned else principals[0].kind.value if principals else ""
    return Report("person", f"{name} ({person}), {kind}", _SHEET, rows)


def _admission_rows(principal: Principal) -> list[Sequence[Cell]]:
    """Say how an account came to a service, and as what."""
    admission, rows = principal.account.admission, list[Sequence[Cell]]()
    if admission.roles is not None:
        every = "every role, whatever else is ticked" if "top" in admission.roles else ""
        rows.append(("role", principal.system, ", ".join(sorted(admission.roles)) or "none", every))
    if admission.entitlements or not principal.account.is_entitled:
        lacks = "" if principal.account.is_entitled else "not the one that the service asks for"
        rows.append(("entitlement", principal.system, ", ".join(admission.entitlements) or "none", lacks))
    if admission.is_guest:
        days = f"on {admission.invited}" if admission.invited else ""
        rows.append(("guest", principal.system, f"invited by {admission.inviter or 'nobody known'}", days))
    if admission.second_factor is not None:
        rows.append(("second factor", principal.system, "yes" if admission.second_factor else "no", ""))
    if admission.password_set:
        rows.append(
            (
                "password",
                principal.system,
                f"set on {admission.password_set}".replace("set on never", "never changed"),
                "",
            )
        )
    return rows


def _through(plan: Plan, person: str, group: str) -> str:
    if person in plan.groups[group].members:
        return "member"
    inner = [name for name in plan.groups[group].members if person in plan.members.get(name, ())]
    return "through " + ", ".join(inner)
