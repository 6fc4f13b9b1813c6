"""Names for the identifiers that stand in lists and own items."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from neatledger.core.lists.contract import ListModel
from neatledger.core.survey.accounts import Account, Group

__all__ = ["BareIdents", "EntryNames"]


def _joined(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    names: dict[str, list[str]] = {}
    for ident, name in pairs:
        names.setdefault(ident, []).append(name)
    return {ident: "/".join(dict.fromkeys(found)) for ident, found in names.items()}


class BareIdents:
    """Identifiers as they stand in lists, in place of names: two counts may have other names for the same ones."""

    def user(self, ident: str) -> str:
        """Return the identifier of a user."""
        return ident

    def group(self, ident: str) -> str:
        """Return the identifier of a group."""
        return ident

    def holder(self, ident: str) -> str:
        """Return the identifier of a user or a group."""
        return ident

    def owner(self, ident: str) -> str:
        """Return the identifier of an owner."""
        return ident

    def numbered_group(self, ident: str) -> str:
        """Return the identifier of a group."""
        return ident


class EntryNames:
    """The names of one system: logins by identifier, names of groups, and what means the same everywhere.

    Arguments: the accounts and groups of a system, several names of one identifier being joined by a
    slash, and its list model, which knows the identifiers that mean the same everywhere.
    """

    def __init__(self, accounts: Iterable[Account], groups: Iterable[Group], model: ListModel) -> None:
        self.users = _joined((account.ident, account.login) for account in accounts)
        self.groups = _joined((group.ident, group.name) for group in groups)
        self._known: Mapping[str, str] = model.known
        self._groups_may_own = model.groups_may_own

    def user(self, ident: str) -> str:
        """Return the login of a user."""
        return self.users.get(ident, "unknown")

    def group(self, ident: str) -> str:
        """Return the name of a group."""
        return self.groups.get(ident, "unknown")

    def holder(self, ident: str) -> str:
        """Return the name of a user or a group, whichever it is, or of what is known everywhere."""
        found = self.users.get(ident) or self.groups.get(ident) or self._known.get(ident)
        return found or f"unknown ({ident})"

    def owner(self, ident: str) -> str:
        """Return the name of an item's owner: a user, or a group where groups may own."""
        if not ident:
            return "nobody known"
        return self.holder(ident) if self._groups_may_own else self.users.get(ident) or f"unknown ({ident})"

    def numbered_group(self, ident: str) -> str:
        """Return a group's name with its identifier."""
        return f"{self.group(ident)} ({ident})"
