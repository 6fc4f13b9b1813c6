"""People, groups and members from CSV files (columns in docs/listing.md)."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.sources.contract import SourceContext
from neatledger.sources.csvtables import Cells, read_table, yes_or_no

__all__ = ["read_csv_accounts"]


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
            account = _account(cells, names)
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
        )
        for name, ident in names.items()
    ]
    return list(accounts.values()), groups, not_seen


def _account(cells: Cells, groups: Mapping[str, str]) -> Account:
    if not cells["login"] or not cells["id"]:
        raise ValueError("an account wants a login and an id")
    state = cells["state"].strip().casefold() or "open"
    if state not in {each.value for each in AccountState}:
        raise ValueError(f"state {cells['state']!r} is none of {', '.join(each.value for each in AccountState)}")
    return Account(
        cells["login"],
        cells["id"],
        groups.get(cells["primary"], cells["primary"]),
        cells["name"],
        cells["email"],
        state=AccountState(state),
        may_use=yes_or_no(cells["service"], "service") if cells["service"] else True,
        last_seen=_day(cells["last-seen"].strip()),
    )


def _day(text: str) -> date | None:
    try:
        return date.fromisoformat(text[:10]) if text else None
    except ValueError:
        raise ValueError(f"last-seen {text[:40]!r} is no day such as 2026-03-31") from None
