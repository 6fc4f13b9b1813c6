"""Names for the identifiers that stand in lists: ``group:2001:r-x`` becomes ``group vets (2001) r-x``."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from neatledger.core.lists.contract import ListModel
from neatledger.core.survey.accounts import Account, Group

__all__ = ["EntryNames"]

_WORDS = {"user": "owner", "group": "owning group", "other": "everyone else", "mask": "mask"}
_SPECIAL = {"OWNER@": "the owner", "GROUP@": "its group", "EVERYONE@": "everyone"}


def _joined(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    names: dict[str, list[str]] = {}
    for ident, name in pairs:
        names.setdefault(ident, []).append(name)
    return {ident: "/".join(dict.fromkeys(found)) for ident, found in names.items()}


class EntryNames(dict[str, str]):
    """Entry text → the same with names; works entries out as they are asked for.

    Arguments: the accounts and groups of a system, several names of one identifier being joined by a
    slash, and its list model, which knows the identifiers that mean the same everywhere.
    """

    def __init__(self, accounts: Iterable[Account], groups: Iterable[Group], model: ListModel) -> None:
        super().__init__()
        self.users = _joined((account.ident, account.login) for account in accounts)
        self.groups = _joined((group.ident, group.name) for group in groups)
        self._known: Mapping[str, str] = model.known
        self._one_space = model.groups_may_own

    def get(self, key: str, default: object = None) -> str:
        """Return an entry's text with names for identifiers."""
        word, _, rest = key.partition(":")
        if word.split(" ")[0] in ("allow", "deny", "record", "alarm") and ":" in rest:
            who, _, what = rest.partition(":")
            return f"{word} {self._who(who)}: {what}"
        parts = key.split(":")
        if len(parts) == 3 and parts[1]:
            known = {"user": self.users, "group": self.groups}.get(parts[0], {})
            return f"{parts[0]} {known.get(parts[1]) or 'unknown'} ({parts[1]}) {parts[2]}"
        if len(parts) == 3 and parts[0] in _WORDS:
            return f"{_WORDS[parts[0]]} {parts[2]}"
        return key

    def _who(self, text: str) -> str:
        if text in _SPECIAL:
            return _SPECIAL[text]
        kind, space, ident = text.partition(" ")
        if space:
            known = self.users if kind == "user" else self.groups
            return f"{kind} {known.get(ident) or 'unknown'} ({ident})"
        return self.owner(text)

    def group(self, ident: str) -> str:
        """Return a group's name with its identifier."""
        return f"{self.groups.get(ident, 'unknown')} ({ident})"

    def owner(self, ident: str) -> str:
        """Return the name of an item's owner: a user, or a group where groups may own."""
        if not ident:
            return "nobody known"
        found = self.users.get(ident)
        if found is None and self._one_space:
            found = self.groups.get(ident) or self._known.get(ident)
        return found or f"unknown ({ident})"
