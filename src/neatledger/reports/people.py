"""The people with their accounts and groups, and one person's sheet."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.people.homes import HomeMatch
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.posts import Beyond, HeldPost
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.survey.accounts import AccountState, Group
from neatledger.core.survey.shared import Device
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text
from neatledger.reports.report import Aside, Cell, Column, Pointer, Report, Row, Show, Size, count_of, day_cell

__all__ = ["SharedBy", "Sheet", "accounts_report", "people_report", "sheet_report"]

_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("name", "NAME", cuts=True),
    Column("kind", "KIND", spare=True),
    Column("state", "STATE", wraps=True),
    Column("accounts", "ACCOUNTS", wraps=True),
    Column("posts", "POSTS", wraps=True, spare=True),
    Column("groups", "GROUPS", wraps=True),
    Column("email", "E-MAIL", cuts=True, spare=True),
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
    states = dict.fromkeys(_state_of(principal) for principal in principals)
    where = {
        word: [one.system for one in principals if _state_of(one) == word]
        for word in sorted(states, key=lambda one: one != _OPEN)
    }
    if planned and not planned.is_here(today):
        ended = "left" if planned.end and planned.end < today else "not yet here"
        still = list(dict.fromkeys(one.system for one in principals if one.is_open))
        return f"{ended}, still open on {', '.join(still)}" if still else f"{ended}, closed"
    if len(where) == 1:
        return str(next(iter(where)))
    return "; ".join(f"{word} on {', '.join(dict.fromkeys(some))}" for word, some in where.items())


_OPEN = "open"


def _state_of(one: Principal) -> str:
    """Return how one account stands: its state, or what else keeps it from the service."""
    if one.account.state is not AccountState.OPEN:
        return str(one.account.state.value)
    if not one.account.may_use:
        return "without the service"
    return _OPEN if one.account.is_entitled else "without entitlement"


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
    rows = [_person_row(plan, person, mine, groups, today) for person, mine in of_person.items()]
    folded = [row for row in rows if with_services or row["planned"] or row["kind"] != Kind.SERVICE.value]
    hidden = len(rows) - len(folded)
    are = "is" if hidden == 1 else "are"
    note = Aside(f"{count_of(hidden, 'service account')} {are} not shown (people --services).")
    notes: list[str] = [note] if hidden else []
    others = len(rows) - len(plan.people)
    counted = f"{len(plan.people):,} of the plan, {count_of(others, 'account')} matched with nobody in it"
    headline = f"{count_of(len(rows), 'person')}: {counted}."
    empty = "only service accounts" if hidden else "no people: neither the plan nor the count has any"
    return Report("people", headline, _COLUMNS, rows, notes, empty, folded)


def _person_row(
    plan: Plan, person: str, mine: Sequence[Principal], groups: Mapping[str, Sequence[Group]], today: date
) -> Row:
    planned = plan.people.get(person)
    kind = planned.kind if planned else mine[0].kind
    names = [name for principal in mine for name in _group_names(principal, groups)]
    seen = [principal.account.last_seen for principal in mine if principal.account.last_seen]
    return {
        "person": person,
        "name": planned.name if planned else mine[0].name,
        "kind": kind.value,
        "state": _state(plan, person, mine, today),
        "accounts": tuple(f"{principal.system}:{principal.account.login}" for principal in mine),
        "posts": tuple(held.post for held in plan.posts_of(person)) if planned else (),
        "groups": tuple(dict.fromkeys(names)),
        "email": (planned.email if planned else mine[0].account.email) or "",
        "planned": planned is not None,
        "start": day_cell(planned.start if planned else None),
        "end": day_cell(planned.end if planned else None),
        "last_seen": day_cell(max(seen, default=None)),
        "roles": tuple(f"{s.system}:{role}" for s in mine for role in sorted(s.account.admission.roles or ())),
        "entitlements": tuple(f"{s.system}:{name}" for s in mine for name in s.account.admission.entitlements),
        "services": tuple(s.system for s in mine if s.may_come_in),
    }


_ACCOUNTS = (
    Column("person", "PERSON", cuts=True),
    Column("system", "SYSTEM"),
    Column("login", "LOGIN", cuts=True),
    Column("state", "STATE"),
    Column("roles", "ROLE", spare=True),
    Column("service", "SERVICE"),
    Column("used_bytes", "USED", number=True),
    Column("allowed_bytes", "ALLOWED", number=True),
    Column("free_bytes", "FREE", number=True),
    Column("last_seen", "LAST SEEN"),
)


def accounts_report(plan: Plan, found: Sequence[tuple[Principal, LimitStatus | None]], when: str) -> Report:
    """Show one row an account, those of one person together."""
    order = {person: place for place, person in enumerate(plan.people)}
    ranked = sorted(found, key=lambda one: (order.get(one[0].person, len(order)), one[0].person))
    rows = [_one_account(one, status) for one, status in ranked]
    several = "Space is a person's on the system: several accounts there share it."
    people = len({one.person for one, _ in found})
    headline = f"{count_of(len(rows), 'account')} of {count_of(people, 'person')} (count of {when})."
    return Report("accounts", headline, _ACCOUNTS, rows, [Aside(several)], "there are no accounts")


def _one_account(one: Principal, status: LimitStatus | None) -> Row:
    account = one.account
    limit = None if status is None or not status.is_told else status.settings.limit
    allowed: Cell = None if limit is None else "no limit"
    free = allowed
    if isinstance(limit, int) and status is not None:
        allowed, free = Size(limit), Size(status.left or 0)
    return {
        "person": one.person,
        "system": one.system,
        "login": account.login,
        "state": account.state.value,
        "roles": tuple(sorted(account.admission.roles or ())),
        "service": "off" if not account.may_use else "on" if account.is_entitled else "not entitled",
        "used_bytes": None if status is None else Size(status.amount),
        "allowed_bytes": allowed,
        "free_bytes": free,
        "last_seen": day_cell(account.last_seen) or "not told",
    }


_SHEET = (Column("what", "WHAT"), Column("system", "SYSTEM"), Column("value", "VALUE"), Column("because", "BECAUSE"))


class Sheet(Protocol):
    """All that both sides say of one person; `homes` are those of everybody."""

    @property
    def person(self) -> str: ...
    @property
    def principals(self) -> Sequence[Principal]: ...
    @property
    def groups(self) -> Mapping[str, Sequence[Group]]: ...
    @property
    def homes(self) -> Sequence[HomeMatch]: ...
    @property
    def space(self) -> Sequence[LimitStatus]: ...
    @property
    def shared(self) -> Sequence[SharedBy]: ...
    @property
    def hanging(self) -> Sequence[_Hangs]: ...
    @property
    def ends(self) -> Sequence[Lapse]: ...


class _Hangs(Protocol):
    """One thing that hangs on somebody."""

    @property
    def what(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def detail(self) -> str: ...


class SharedBy(Protocol):
    """What one person shares on one system: live links and hand-outs made, hand-outs received, devices."""

    @property
    def system(self) -> str: ...
    @property
    def links(self) -> int: ...
    @property
    def handed_out(self) -> int: ...
    @property
    def was_handed(self) -> int: ...
    @property
    def devices(self) -> Sequence[Device]: ...


def _fact(what: str, system: str, value: Cell, because: str = "") -> Row:
    return {"what": what, "system": system, "value": value, "because": because}


_SHEET_SHOWN = (
    Column("account", "ACCOUNT", Show.PEOPLE),
    Column("login", "LOGIN", Show.PEOPLE, spare=True),
    Column("account_state", "STATE", Show.PEOPLE, wraps=True),
    Column("last_seen", "LAST SEEN", Show.PEOPLE),
    Column("used", "USED", Show.PEOPLE, number=True),
    Column("limit", "LIMIT", Show.PEOPLE, number=True),
    Column("groups", "GROUPS", Show.PEOPLE, wraps=True),
)


def sheet_report(plan: Plan, sheet: Sheet, today: date, problems: Sequence[int] | None) -> Report:
    """Make one person's sheet: everything about them on both sides.

    `problems` are the numbers of what is wrong; None: that was not looked at.
    """
    person, principals = sheet.person, sheet.principals
    planned = plan.people.get(person)
    name = planned.name if planned else principals[0].name if principals else person
    columns = [*_SHEET_SHOWN, *(Column(one.key, one.head, Show.MACHINE) for one in _SHEET)]
    shown = [_account_row(one, sheet) for one in principals]
    headline = f"{name}{_posts_now(plan, person, today)}. {_accounts_words(plan, person, principals, today)}"
    if problems is not None:
        concerns = "concerns" if len(problems) == 1 else "concern"
        headline += f"; {count_of(len(problems), 'problem')} {concerns} {person}"
    headline += "."
    report = Report("person", headline, columns, _sheet_rows(plan, sheet, today), [], "no account was found", shown)
    if planned:
        days = [f"{word} {day}" for word, day in (("from", planned.start), ("last day", planned.end)) if day]
        report.lead = [f"E-mail {planned.email or 'none'}{''.join(f', {word}' for word in days)}."]
    report.notes = _sheet_notes(sheet, shown)
    word = quoted_text(person)
    report.pointers = [
        *([Pointer("The problems", f"check {word}")] if problems else []),
        *([Pointer("Problems: not looked for, it takes a while", f"check {word}")] if problems is None else []),
        Pointer(f"What {person} can reach", f"reach {word}"),
    ]
    return report


def _posts_now(plan: Plan, person: str, today: date) -> str:
    planned = plan.people.get(person)
    if planned is None:
        return ", not in the plan"
    posts = [held for held in planned.posts if held.is_held(today)]
    words = ", ".join(f"{plan.posts[held.post].name}{f' until {held.until}' if held.until else ''}" for held in posts)
    return f", {words}" if words else ""


def _accounts_words(plan: Plan, person: str, principals: Sequence[Principal], today: date) -> str:
    """Say how many accounts somebody has, and how many of them are open."""
    if not principals:
        return "No account was found"
    some = sum(_state_of(one) == _OPEN for one in principals)
    many = count_of(len(principals), "account")
    planned = plan.people.get(person)
    left = planned is not None and planned.end is not None and planned.end < today
    text = f"All {many} are open" if 1 < some == len(principals) else f"{some:,} of {many} open"
    return f"Left on {planned.end}; {text[:1].lower()}{text[1:]}" if planned and left else text


def _account_row(principal: Principal, sheet: Sheet) -> Row:
    account, system = principal.account, principal.system
    status = next((one for one in sheet.space if one.target.system == system), None)
    limit = None if status is None or not status.is_told else status.settings.limit
    return {
        "account": system,
        "login": account.login,
        "account_state": _state_of(principal),
        "last_seen": day_cell(account.last_seen) or "?",
        "used": "?" if status is None or not status.is_counted else Size(status.amount),
        "limit": "?" if limit is None else "no limit" if limit is UNLIMITED else Size(int(limit)),
        "groups": tuple(_group_names(principal, sheet.groups)),
    }


def _sheet_notes(sheet: Sheet, shown: Sequence[Row]) -> list[str]:
    """Say what hangs on somebody, what they share, and what ends next."""
    notes = []
    if any("?" in (row["last_seen"], row["used"], row["limit"]) for row in shown):
        notes.append("? not reported by the system.")
    mine = {(principal.system, principal.account.login) for principal in sheet.principals}
    homes = [
        show_address(home.address)
        for home in sheet.homes
        if any((home.address.system, account.login) in mine for account in home.accounts)
    ]
    notes += [Aside(f"HOME  {', '.join(homes)}")] if homes else []
    if sheet.hanging:
        notes.append(Aside("ON LEAVING"))
        notes += [
            Aside(f"  {_HANGS.get(each.what, each.what)} {_place_text(each.place)}: {each.detail}")
            for each in sheet.hanging
        ]
    for one in sheet.shared:
        counts = ((one.links, "link"), (one.handed_out, "hand-out given"), (one.was_handed, "hand-out received"))
        words = [f"{number:,} {word}" for number, word in counts if number]
        words += [f"device {each.name}, {each.state}" for each in one.devices]
        notes += [Aside(f"SHARED on {one.system}: {', '.join(words)}")] if words else []
    notes += [
        Aside(f"NEXT  {day_cell(lapse.day)}  {lapse.what} {_place_text(lapse.place)}: {lapse.then}")
        for lapse in sheet.ends[:_ENDS]
    ]
    return notes


_ENDS = 3


def _sheet_rows(plan: Plan, sheet: Sheet, today: date) -> list[Row]:
    """Return every fact of somebody, as machines have them."""
    person, principals = sheet.person, sheet.principals
    planned = plan.people.get(person)
    rows: list[Row] = [_fact("state", "", _state(plan, person, principals, today))]
    if planned:
        rows.append(_fact("e-mail", "", planned.email or "none", "plan"))
        dates = [f"{word} {day}" for word, day in (("from", planned.start), ("to", planned.end)) if day]
        rows.append(_fact("dates", "", " ".join(dates) or "none", "plan"))
        rows += [_fact("post", "plan", held.post, _post_words(held, today)) for held in planned.posts]
        rows += [_fact("group", "plan", group, _through(plan, person, group)) for group in plan.groups_of[person]]
        rows += [_fact("beyond posts", "plan", _beyond_of(one), _beyond_words(one, today)) for one in planned.beyond]
    for principal in principals:
        rows += _account_rows(principal, sheet.groups)
    mine = {(principal.system, principal.account.login) for principal in principals}
    for home in sheet.homes:
        if any((home.address.system, account.login) in mine for account in home.accounts):
            rows.append(_fact("home", home.address.system, home.address, home.because))
    rows += [_space_row(status, today) for status in sheet.space]
    for one in sheet.shared:
        rows += _shared_rows(one, person)
    rows += [_fact(_HANGS.get(each.what, each.what), "", each.place, each.detail) for each in sheet.hanging]
    for lapse in sheet.ends:
        rows.append(_fact("ends", "", day_cell(lapse.day), f"{lapse.what} {_place_text(lapse.place)}: {lapse.then}"))
    return rows


_HANGS = {"owned": "owns", "group": "alone in", "team folder": "manages alone"}


def _place_text(place: Address | str) -> str:
    return place if isinstance(place, str) else show_address(place)


def _account_rows(principal: Principal, groups: Mapping[str, Sequence[Group]]) -> list[Row]:
    account, system = principal.account, principal.system
    message = f"id {account.ident}, {account.state.value}" + ("" if account.may_use else ", the service is not on")
    message += f", last seen {account.last_seen}" if account.last_seen else ""
    rows = [_fact("account", system, account.login, message), *_admission_rows(principal)]
    if principal.holder.privileges:
        names = ", ".join(sorted(principal.holder.privileges))
        rows.append(_fact("privilege", system, names, "whatever lists say"))
    if principal.holder.perhaps:
        names = ", ".join(sorted(principal.holder.perhaps))
        rows.append(_fact("privilege", system, names, "not known: by a group whose members were not all told"))
    for group in groups.get(system, ()):
        if group.ident in principal.holder.groups:
            how = "primary group" if group.ident == account.primary else "member"
            rows.append(_fact("group", system, group.name, f"id {group.ident}, {how}"))
    return rows


def _space_row(status: LimitStatus, today: date) -> Row:
    limit, left = status.settings.limit, status.left
    allowed = "" if limit is UNLIMITED else f"of {show_limit(limit)} allowed, {show_size(left or 0)} left, "
    return _fact("space", status.target.system, f"{show_size(status.amount)} used", allowed + status.state(today))


def _shared_rows(one: SharedBy, person: str) -> list[Row]:
    """Say what a person shared, was given, and has copies of on devices."""
    counts = (
        ("links", one.links, "links --only live --made-by"),
        ("handed out", one.handed_out, "links --only live --made-by"),
        ("was handed", one.was_handed, "links --only live --given-to"),
    )
    rows = [_fact(what, one.system, number, f"{asks} {person} lists them") for what, number, asks in counts if number]
    for device in one.devices:
        held = "" if device.held_bytes is None else f", holds {show_size(device.held_bytes)}"
        seen = day_cell(device.last_seen) or "never"
        rows.append(_fact("device", one.system, device.name, f"{device.state}{held}, last seen {seen}"))
    return rows


def _admission_rows(principal: Principal) -> list[Row]:
    """Say how an account came to a service, and as what."""
    admission, system = principal.account.admission, principal.system
    rows: list[Row] = []
    if admission.roles is not None:
        every = "every role, whatever else is ticked" if "top" in admission.roles else ""
        rows.append(_fact("role", system, ", ".join(sorted(admission.roles)) or "none", every))
    if admission.entitlements or not principal.account.is_entitled:
        lacks = "" if principal.account.is_entitled else "not the one that the service asks for"
        rows.append(_fact("entitlement", system, ", ".join(admission.entitlements) or "none", lacks))
    if admission.is_guest:
        days = f"on {admission.invited}" if admission.invited else ""
        rows.append(_fact("guest", system, f"invited by {admission.inviter or 'nobody known'}", days))
    if admission.second_factor is not None:
        rows.append(_fact("second factor", system, "yes" if admission.second_factor else "no"))
    if admission.is_first_password:
        rows.append(_fact("password", system, "never changed"))
    elif admission.password_set is not None:
        rows.append(_fact("password", system, f"set on {admission.password_set}"))
    return rows


def _post_words(held: HeldPost, today: date) -> str:
    days = [f"{word} {day}" for word, day in (("from", held.start), ("until", held.until)) if day]
    if not held.is_held(today):
        days.append("over" if held.until and held.until < today else "not yet")
    return ", ".join([*days, *([held.because] if held.because else [])])


def _beyond_of(one: Beyond) -> Cell:
    return f"group {one.group}" if one.folder is None else one.folder


def _beyond_words(one: Beyond, today: date) -> str:
    until = f", until {one.until}" if one.until else ""
    return f"{one.because}{until}{', over' if one.is_over(today) else ''}"


def _through(plan: Plan, person: str, group: str) -> str:
    if person in plan.groups[group].members:
        return "member"
    if given := plan.why_given(person, group):
        return given
    inner = [name for name in plan.groups[group].members if person in plan.members.get(name, ())]
    return "through " + ", ".join(inner)
