"""People, groups and members from CSV files (columns in docs/listing.md)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from functools import partial
from typing import Any

from neatledger.core.survey.accounts import ANYONE_ELSE, Account, AccountState, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.sources.contract import SourceContext
from neatledger.sources.csvtables import Cells, read_table, yes_or_no

__all__ = ["read_csv_accounts"]

_STATES = {state.value: state for state in AccountState}


def read_csv_accounts(
    context: SourceContext, setting: Mapping[str, Any]
) -> tuple[list[Account], list[Group], list[NotSeen]]:
    """Read ``people`` and, where given, ``groups`` and ``members``; rows that cannot be read are noted."""
    not_seen: list[NotSeen] = []

    def miss(table: str, line: int, why: object) -> None:
        not_seen.append(NotSeen.of_source(f"{context.office_dir / setting[table]}:{line}", str(why)))

    names: dict[str, str] = {}
    inside: dict[str, list[tuple[str, str]]] = {}
    if "groups" in setting:
        for line, cells in read_table(context, "groups", setting["groups"], ("name", "id"), not_seen):
            if cells["name"] and cells["id"]:
                names.setdefault(cells["name"], cells["id"])
            else:
                miss("groups", line, "a group wants a name and an id")
    accounts: dict[str, Account] = {}
    for line, cells in read_table(context, "people", setting["people"], ("login", "id"), not_seen):
        try:
            account = _account(cells, names, partial(miss, "people", line))
        except ValueError as error:
            miss("people", line, error)
            continue
        accounts.setdefault(account.login, account)
    if "members" in setting:
        for line, cells in read_table(context, "members", setting["members"], ("group", "member"), not_seen):
            group, member, kind = cells["group"], cells["member"], cells["kind"]
            if group not in names:
                miss("members", line, f"no group is called {group!r}")
            elif (kind == "group" or member not in accounts) and member in names:
                inside.setdefault(group, []).append(("group", member))
            elif member in accounts:
                inside.setdefault(group, []).append(("person", member))
            else:
                miss("members", line, f"no account or group is called {member!r}")
    groups = [
        Group(
            name,
            ident,
            tuple(member for kind, member in inside.get(name, ()) if kind == "person"),
            tuple(member for kind, member in inside.get(name, ()) if kind == "group"),
            # Without a table of members nobody says who is in a group: an account's primary one is not all of them.
            () if "members" in setting else (ANYONE_ELSE,),
        )
        for name, ident in names.items()
    ]
    return list(accounts.values()), groups, not_seen


def _account(cells: Cells, groups: Mapping[str, str], note: Callable[[str], None]) -> Account:
    """Return an account; what its row says of it and cannot be read is noted and unknown, and the account stays."""
    if not cells["login"] or not cells["id"]:
        raise ValueError("an account wants a login and an id")
    word = cells["state"].strip().casefold() or "open"
    state = AccountState.UNKNOWN if "state" in cells.unknown else _STATES.get(word)
    if state is None:
        note(f"state {cells['state'][:40]!r} is none of {', '.join(_STATES)}: it is unknown")
        state = AccountState.UNKNOWN
    may_use = True
    try:
        may_use = yes_or_no(cells["service"], "service") if cells["service"] else True
    except ValueError as error:
        note(f"{error}: it is unknown")
        state = AccountState.UNKNOWN if state is AccountState.OPEN else state
    if "service" in cells.unknown and state is AccountState.OPEN:
        state = AccountState.UNKNOWN
    return Account(
        cells["login"],
        cells["id"],
        groups.get(cells["primary"], cells["primary"]),
        cells["name"],
        cells["email"],
        state=state,
        may_use=may_use,
        last_seen=_day(cells["last-seen"].strip(), note),
    )


def _day(text: str, note: Callable[[str], None]) -> date | None:
    try:
        return date.fromisoformat(text[:10]) if text else None
    except ValueError:
        note(f"last-seen {text[:40]!r} is no day such as 2026-03-31: it is unknown")
        return None
