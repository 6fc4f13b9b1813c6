"""Names for the identifiers that stand in lists: ``group:2001:r-x`` becomes ``group vets (2001) r-x``."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.accounts import Account, Group

__all__ = ["EntryNames", "ident_names"]


def ident_names(accounts: Iterable[Account], groups: Iterable[Group]) -> tuple[dict[str, str], dict[str, str]]:
    """Return identifier → login and identifier → group name; several names of one are joined by a slash."""
    users: dict[str, list[str]] = {}
    names: dict[str, list[str]] = {}
    for account in accounts:
        users.setdefault(account.ident, []).append(account.login)
    for group in groups:
        names.setdefault(group.ident, []).append(group.name)
    return (
        {ident: "/".join(dict.fromkeys(logins)) for ident, logins in users.items()},
        {ident: "/".join(dict.fromkeys(found)) for ident, found in names.items()},
    )


class EntryNames(dict[str, str]):
    """Entry text → the same with names; works entries out as they are asked for.

    Arguments: logins and group names by identifier, and the numbers of the item's owner and group, so
    that ``user::`` and ``group::`` can be named too.
    """

    def __init__(self, users: dict[str, str], groups: dict[str, str]) -> None:
        super().__init__()
        self._users = users
        self._groups = groups

    def get(self, key: str, default: object = None) -> str:
        """Return an entry's text with names for numbers."""
        parts = key.split(":")
        if len(parts) == 3 and parts[1]:
            known = {"user": self._users, "group": self._groups}.get(parts[0], {})
            name = known.get(parts[1])
            return f"{parts[0]} {name or 'unknown'} ({parts[1]}) {parts[2]}"
        words = {"user": "owner", "group": "owning group", "other": "everyone else", "mask": "mask"}
        if len(parts) == 3 and parts[0] in words:
            return f"{words[parts[0]]} {parts[2]}"
        return key

    def group(self, ident: str) -> str:
        """Return a group's name with its identifier."""
        return f"{self._groups.get(ident, 'unknown')} ({ident})"
