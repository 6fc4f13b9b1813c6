"""What a service shares, from where the plan says: its own listing over HTTP, or tables in CSV or JSON files.

Tables and columns: docs/sharing.md. Rows that cannot be read are noted as not seen, and the rest is read.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import urlencode

from neatledger.core.plan.limits import Limit
from neatledger.core.survey.accounts import ADMINISTRATOR, TOP, USER, Account, Admission
from neatledger.core.survey.shared import Member, Shared, TeamFolder, Towards
from neatledger.core.survey.survey import Facts
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError
from neatledger.formats.shared import (
    Fields,
    account_status_of,
    device_of,
    hand_out_of,
    link_of,
    member_of,
    placed_rule_of,
    team_of,
)
from neatledger.sources.accounts import Found
from neatledger.sources.contract import SourceContext
from neatledger.sources.csvtables import read_table
from neatledger.sources.http import MOST_PAGES, Web
from neatledger.sources.theirs import check_headings, mapped_columns, near_misses, put_in_our_words

__all__ = ["TABLES", "read_shared"]

TABLES = (
    "service",
    "teams",
    "team-members",
    "hand-outs",
    "links",
    "guests",
    "standing",
    "devices",
    "rules",
    "activity",
)
_PAGE, _ROUNDS = 500, 4
_SIGN_IN = "sign-in"
T = TypeVar("T")
Row = tuple[str, Fields]
Read = Callable[[str], Iterator[Row]]


def read_shared(context: SourceContext, found: Found, facts: Facts) -> Shared | None:
    """Read what `sharing` in the settings names, and put what it says of accounts into them.

    None where the plan names nothing; raises `SourceError` where it cannot be read at all.
    """
    setting = context.settings.get("sharing")
    if setting is None:
        return None
    if isinstance(setting, str):
        setting = dict.fromkeys(TABLES, setting)
    if "url" in setting:
        url = str(setting["url"]).rstrip("/")
        with Web(context, url) as web:
            rows = {table: list(_over_http(web, url, table, setting, context, found.not_seen)) for table in TABLES}
        return _Reader(lambda table: iter(rows[table]), found).read(facts)
    return _Reader(lambda table: _from_file(context, setting, table, found), found).read(facts)


# Where rows come from -------------------------------------------------------------------------------


def _over_http(
    web: Web, url: str, table: str, setting: Mapping[str, Any], context: SourceContext, not_seen: list[NotSeen]
) -> Iterator[Row]:
    """Read one table page by page; all of it again where it changed between pages, as its mark tells."""
    size, fault = int(setting.get("page", _PAGE)), ""
    for _ in range(_ROUNDS):
        items: list[Any] = []
        mark: object = None
        fault = ""
        pages = 0
        while not fault:
            pages += 1
            if pages > MOST_PAGES:
                raise SourceError(f"more than {MOST_PAGES:,} pages of {table}", url, "let page in the plan be larger")
            answer = web.ask_json(f"{url}/{table}?{urlencode({'from': len(items), 'count': size})}")
            page, total = answer.get("items"), answer.get("total")
            if not isinstance(page, list) or not isinstance(total, int):
                raise SourceError(f"no table {table}: items and total are not there", url)
            if items and answer.get("mark") != mark:
                fault = f"{table} changed between pages"
            elif not page and len(items) < total:
                fault = f"a page of {table} without rows at {len(items)} of {total}"
            mark = answer.get("mark")
            items += page
            context.progress(len(page))
            if len(items) >= total:
                break
        if not fault and len(items) == total:
            return _json_rows(context, table, items, f"{url}/{table}", not_seen)
    raise SourceError(f"the pages do not fit together: {fault or 'more rows than told'}", url, "count again later")


def _json_rows(
    context: SourceContext, table: str, items: Sequence[Any], where: str, not_seen: list[NotSeen]
) -> Iterator[Row]:
    """Yield rows of JSON by our columns' names, with where each stands; raises `SourceError`."""
    mapped = mapped_columns(context.settings.get("columns", {}), table)
    objects = [item if isinstance(item, dict) else {} for item in items]
    keys = dict.fromkeys(str(key) for item in objects for key in item)
    if objects:
        check_headings(mapped, keys, table, where)
        not_seen += [NotSeen.of_source(where, why) for why in near_misses(table, keys, mapped)]
    ours = {theirs.heading: column for column, theirs in mapped.items()}
    for number, item in enumerate(objects, start=1):
        row = {ours.get(str(key), str(key)): value for key, value in item.items()}
        unknown = put_in_our_words(row, mapped, f"{where}:{number}", not_seen)
        yield f"{where}:{number}", Fields(row, unknown)


def _from_file(context: SourceContext, setting: Mapping[str, Any], table: str, found: Found) -> Iterator[Row]:
    name = setting.get(table)
    if not name:
        return
    path = context.office_dir / str(name)
    if str(name).casefold().endswith(".json"):
        yield from _json_rows(context, table, _json_items(path, table), str(path), found.not_seen)
        return
    for line, cells in read_table(context, table, str(name), (), found.not_seen):
        yield f"{path}:{line}", Fields(cells, cells.unknown)


def _json_items(path: Path, table: str) -> list[Any]:
    try:
        value = json.loads(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise SourceError(f"cannot read the file: {error}", str(path)) from None
    except ValueError as error:
        raise SourceError(f"this is no JSON: {error}", str(path)) from None
    items = value.get(table) if isinstance(value, dict) else value
    if items is None:
        return []
    if not isinstance(items, list):
        raise SourceError(f"no list of {table} is in it", str(path))
    return items


# What rows come to ----------------------------------------------------------------------------------


class _Reader:
    """Makes records of rows, and notes those that cannot be read."""

    def __init__(self, rows: Read, found: Found) -> None:
        self._rows = rows
        self._found = found

    def _each(self, table: str, make: Callable[[Fields, int], T]) -> Iterator[T]:
        for number, (where, row) in enumerate(self._rows(table), start=1):
            try:
                made = make(row, number)
            except ValueError as error:
                self._miss(where, f"a row of {table} that cannot be read: {error}")
                continue
            for doubt in row.doubts:
                self._miss(where, f"{doubt}: it is unknown")
            yield made

    def _miss(self, where: str, why: str) -> None:
        self._found.not_seen.append(NotSeen.of_source(where, why))

    def read(self, facts: Facts) -> Shared:
        """Return what the service shares; accounts get what it says of them."""
        settings = list(self._each("service", _settings_of))
        is_on, wants, versions, bin_days = settings[-1] if settings else (None, "", None, None)
        running = is_on is not False
        self._settle_accounts(wants, facts)
        hand_outs = tuple({one.id: one for one in self._each("hand-outs", hand_out_of)}.values())
        links = tuple({one.id: one for one in self._each("links", link_of)}.values())
        devices = tuple(self._each("devices", device_of))
        rules = tuple(self._each("rules", lambda row, _: placed_rule_of(row)))
        shared = Shared(self._teams(), hand_outs, links, devices, rules, running, wants, versions, bin_days)
        self._name_strangers(shared)
        return shared

    def _teams(self) -> tuple[TeamFolder, ...]:
        teams = {one.path: one for one in self._each("teams", lambda row, _: team_of(row))}
        members: dict[bytes, list[Member]] = {}
        for path, member in self._each("team-members", lambda row, _: member_of(row)):
            if path in teams:
                members.setdefault(path, []).append(member)
            else:
                self._miss(os.fsdecode(path), "a member of a team folder that is not there")
        return tuple(replace(one, members=tuple(members.get(path, ()))) for path, one in teams.items())

    def _settle_accounts(self, wants: str, facts: Facts) -> None:
        known: dict[str, tuple[Admission, date | None]] = {}
        for table in ("standing", "guests"):
            for one in self._each(table, lambda row, _: account_status_of(row)):
                before, last = known.get(one.login, (Admission(), None))
                guest = replace(one.admission, is_guest=True) if table == "guests" else one.admission
                known[one.login] = _joined(before, guest), _latest(one.last_seen, last)
        signed_in: dict[str, date | None] = {}
        for who, when in self._each("activity", _sign_in):
            signed_in[who] = _latest(when, signed_in.get(who))
        privileges: dict[str, list[str]] = facts.setdefault("privileges", {})
        accounts = []
        for account in self._found.accounts:
            reported, seen = known.pop(account.login, (Admission(), None))
            admission = _joined(account.admission, reported)
            roles = admission.roles
            if roles is not None and roles & {ADMINISTRATOR, TOP}:
                privileges.setdefault(account.ident, []).append("everything")
            last_seen = _latest(account.last_seen, seen, signed_in.get(account.login))
            accounts.append(_admitted(account, admission, wants, last_seen))
        self._found.accounts = accounts
        for login in known:
            self._miss(login, "the service tells of an account that nobody has")

    def _name_strangers(self, shared: Shared) -> None:
        """Note holders that no account or group is called; where no groups were told, theirs are unknown."""
        self._found.add_untold_groups(
            [one.holder for team in shared.teams for one in team.members if one.is_group]
            + [one.receiver for one in shared.hand_outs if one.towards is Towards.GROUP]
        )
        logins = {account.login for account in self._found.accounts}
        groups = {group.name for group in self._found.groups}
        for team in shared.teams:
            for member in team.members:
                if member.holder not in (groups if member.is_group else logins):
                    kind = "group" if member.is_group else "account"
                    self._miss(os.fsdecode(team.path), f"a member, {member.holder!r}, whom no {kind} is called")
        known = {Towards.PERSON: logins, Towards.GROUP: groups}
        for one in shared.hand_outs:
            if one.receiver not in known.get(one.towards, {one.receiver}):
                message = f"hand-out {one.id} is for {one.receiver!r}, whom no {one.towards.value} is called"
                self._miss(os.fsdecode(one.path), message)


def _settings_of(row: Fields, _: int) -> tuple[bool | None, str, int | None, Limit | None]:
    """Return whether a service runs, what it asks for, how many versions it keeps, and its bin for how many days."""
    return (
        row.flag("running"),
        row.text("entitlement"),
        row.perhaps(row.number, "keep-versions", None),
        row.perhaps(row.days, "keep-bin-days", None),
    )


def _sign_in(row: Fields, _: int) -> tuple[str, date | None]:
    return (row.text("who"), row.day("when")) if row.text("did") == _SIGN_IN else ("", None)


def _latest(*days: date | None) -> date | None:
    return max((day for day in days if day is not None), default=None)


def _joined(first: Admission, more: Admission) -> Admission:
    """Return what two tables say of one account; the second speaks where the first is silent."""
    return Admission(
        roles=more.roles if first.roles is None else first.roles,
        entitlements=first.entitlements or more.entitlements,
        is_guest=first.is_guest or more.is_guest,
        inviter=first.inviter or more.inviter,
        invited=first.invited or more.invited,
        accepted=first.accepted or more.accepted,
        second_factor=more.second_factor if first.second_factor is None else first.second_factor,
        password_set=first.password_set or more.password_set,
        is_first_password=first.is_first_password or (more.is_first_password and first.password_set is None),
        disable_on=first.disable_on or more.disable_on,
        remove_on=first.remove_on or more.remove_on,
        ends=first.ends or more.ends,
        lacks_switch=first.lacks_switch or more.lacks_switch,
    )


def _admitted(account: Account, admission: Admission, wants: str, seen: date | None) -> Account:
    # A top administrator has every role, whatever else is ticked.
    may_use = admission.roles is None or bool(admission.roles & {USER, TOP})
    return replace(
        account,
        admission=admission,
        may_use=account.may_use and may_use,
        is_entitled=not wants or wants in admission.entitlements,
        last_seen=seen,
    )
