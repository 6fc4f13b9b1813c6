"""Whom an entry speaks of, and who that is: of one holder, or of a crowd as a bit set."""

from __future__ import annotations

from enum import Enum

from neatledger.core.lists.holders import Crowd, Holder

__all__ = ["Subject"]


class Subject(Enum):
    """Whom an entry names; the value is how lists of roles store it.

    EITHER is an identifier that may be a user's or a group's; SIGNED_IN are all who sign in; UNKNOWN is someone who
    cannot be told, whom an entry may name or not.
    """

    USER = "u"
    GROUP = "g"
    EITHER = "e"
    OWNER = "o"
    EVERYONE = "a"
    SIGNED_IN = "s"
    UNKNOWN = "?"

    def names(self, ident: str, holder: Holder, owns: bool) -> bool:
        """Tell whether an entry with this identifier speaks of a holder, who owns the item or not."""
        match self:
            case Subject.USER:
                return ident == holder.user
            case Subject.GROUP:
                return ident in holder.groups
            case Subject.EITHER:
                return ident == holder.user or ident in holder.groups
            case Subject.OWNER:
                return owns
            case Subject.UNKNOWN:
                return False
            case _:
                return True

    def among(self, ident: str, crowd: Crowd, owns: bool) -> int:
        """Return the bit set of those whom an entry with this identifier speaks of."""
        match self:
            case Subject.USER:
                return crowd.by_user.get(ident, 0)
            case Subject.GROUP:
                return crowd.by_group.get(ident, 0)
            case Subject.EITHER:
                return crowd.by_user.get(ident, 0) | crowd.by_group.get(ident, 0)
            case Subject.OWNER:
                return crowd.all if owns else 0
            case Subject.UNKNOWN:
                return 0
            case _:
                return crowd.all
