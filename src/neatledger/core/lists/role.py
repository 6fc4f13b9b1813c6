"""Lists of plain "holder has level" entries, as team-folder services and WebDAV servers keep them.

Entries stand in order, and each grants or denies rights: the first that names a holder and speaks of a right
decides it (RFC 3744 section 6), and what no entry decides is not given. A list of levels has no denials. Lists
are whole: what comes from above stands in them. A folder inside a team folder may have no list of its own;
there the members' roles decide alone, and the list lets everything through (`OPEN`).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from neatledger.core.lists.contract import (
    EMPTY_LIST,
    Decision,
    Effect,
    ItemContext,
    ListView,
    Maker,
    Names,
    Reason,
    RightSets,
)
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.privileges import override_of
from neatledger.core.lists.rights import EVERY_RIGHT, Level, Right, level_of, spell_rights
from neatledger.core.lists.subjects import Subject
from neatledger.errors import FormatError

__all__ = ["OPEN", "Entry", "RoleList", "RoleModel", "pack_body"]

OPEN = b"~"
_UNREAD = b"?"
_WORDS = {
    Subject.USER: "user",
    Subject.GROUP: "group",
    Subject.EITHER: "",
    Subject.OWNER: "the owner",
    Subject.EVERYONE: "everyone",
    Subject.SIGNED_IN: "everyone signed in",
}
# What only files have, and what only folders have.
_OF_FOLDERS = Right.ENTER | Right.LIST | Right.ADD | Right.CLEAR


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: whom it names, what it grants or denies, and whether it came from the folder above."""

    subject: Subject
    ident: str
    rights: Right
    allows: bool = True
    inherited: bool = False

    def __str__(self) -> str:
        """Return the entry with the identifier that it names."""
        return self._word(self.ident)

    def word(self, names: Names) -> str:
        """Return the entry with the name of whom it names."""
        match self.subject:
            case Subject.USER:
                return self._word(_named(names.user(self.ident), self.ident))
            case Subject.GROUP:
                return self._word(_named(names.group(self.ident), self.ident))
            case Subject.EITHER:
                return self._word(names.holder(self.ident))
            case _:
                return self._word(self.ident)

    def _word(self, whom: str) -> str:
        who = f"{_WORDS.get(self.subject, 'someone not known:')} {whom}".strip()
        level = level_of(self.rights)
        what = spell_rights(self.rights) if level in (Level.MIXED, Level.NONE) else level.value
        return f"{'' if self.allows else 'deny '}{who} {what}"

    def names(self, holder: Holder, owns: bool) -> bool:
        """Tell whether the entry speaks of a holder."""
        return self.subject.names(self.ident, holder, owns)

    def among(self, crowd: Crowd, owns: bool) -> int:
        """Return the bit set of those whom the entry speaks of."""
        return self.subject.among(self.ident, crowd, owns)


def _named(name: str, ident: str) -> str:
    """Return a name with its identifier, where the two are not one."""
    return ident if name == ident else f"{name} ({ident})"


def pack_body(entries: list[Entry]) -> bytes:
    """Return the stored form of a list."""
    lines = [
        "\t".join(
            (
                one.subject.value,
                "+" if one.allows else "-",
                f"{int(one.rights):x}",
                str(int(one.inherited)),
                one.ident,
            )
        )
        for one in entries
    ]
    return "\n".join(lines).encode("utf-8", "surrogateescape")


@dataclass(frozen=True)
class RoleList:
    """A parsed list; `is_open` lets everything through, `is_unread` could not be read."""

    entries: tuple[Entry, ...]
    is_open: bool = False
    is_unread: bool = False

    @cached_property
    def unsure(self) -> Right:
        """The rights that entries which cannot be evaluated speak of."""
        rights = Right.NONE
        for entry in self.entries:
            if entry.subject == Subject.UNKNOWN:
                rights |= entry.rights
        return rights

    @property
    def named(self) -> frozenset[str]:
        """The identifiers that its entries name."""
        return frozenset([entry.ident for entry in self.entries])

    def decide(self, context: ItemContext, holder: Holder) -> Decision:
        """Decide for one holder."""
        if self.is_unread:
            message = Reason(Effect.LIMITS, "list", Right.NONE, "the list could not be read: what it says is unknown")
            return Decision(Right.NONE, (message,), is_unsure=True)
        if self.is_open:
            message = Reason(Effect.GRANTS, "no list", EVERY_RIGHT, "no list of its own: the team folder decides")
            return Decision(EVERY_RIGHT & ~Right.CLEAR_OWN, (message,))
        given = refused = Right.NONE
        reasons = []
        owns = holder.user == context.owner
        for entry in self.entries:
            rights = entry.rights if context.is_folder else entry.rights & ~_OF_FOLDERS
            bits = rights & ~(given | refused)
            if not bits or not entry.names(holder, owns):
                continue
            why = (
                "it names them"
                if entry.subject in (Subject.USER, Subject.EITHER) and entry.ident == holder.user
                else "they are in it"
            )
            why = {Subject.OWNER: "they own it"}.get(
                entry.subject, "speaks of everyone" if entry.subject in (Subject.EVERYONE, Subject.SIGNED_IN) else why
            )
            if entry.allows:
                given |= bits
                reasons.append(Reason(Effect.GRANTS, entry, bits, why))
            else:
                refused |= bits
                reasons.append(Reason(Effect.STOPS, entry, Right.NONE, why))
        open_rights = self.unsure & ~(given | refused) & (EVERY_RIGHT if context.is_folder else ~_OF_FOLDERS)
        if open_rights:
            reasons += [
                Reason(Effect.LIMITS, one, Right.NONE, "cannot be evaluated here: it may count or not")
                for one in self.entries
                if one.subject == Subject.UNKNOWN
            ]
        if not reasons:
            reasons.append(Reason(Effect.STOPS, "no entry", Right.NONE, "no entry names them or a group of theirs"))
        return Decision(given, tuple(reasons), bool(open_rights))

    def decide_all(self, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
        """Decide for a crowd at once; the same rules on bit sets."""
        if self.is_unread:
            return {Right.UNSURE: crowd.all}, {Right.UNSURE: crowd.all}
        if self.is_open:
            everything = dict.fromkeys(EVERY_RIGHT & ~Right.CLEAR_OWN, crowd.all)
            return everything, everything
        return self._sweep(crowd, is_folder, False), self._sweep(crowd, is_folder, True)

    def _sweep(self, crowd: Crowd, is_folder: bool, owns: bool) -> RightSets:
        given: RightSets = {}
        refused: RightSets = {}
        for entry in self.entries:
            who = entry.among(crowd, owns)
            rights = entry.rights if is_folder else entry.rights & ~_OF_FOLDERS
            for right in rights:
                left = who & ~(given.get(right, 0) | refused.get(right, 0))
                sets = given if entry.allows else refused
                sets[right] = sets.get(right, 0) | left
        unsure = 0
        for right in self.unsure if is_folder else self.unsure & ~_OF_FOLDERS:
            unsure |= crowd.all & ~(given.get(right, 0) | refused.get(right, 0))
        if unsure:
            given[Right.UNSURE] = unsure
        return given

    def locked(self, *, is_folder: bool) -> Right:
        """Return nothing: these lists know no flags."""
        return Right.NONE

    def describe(self, names: Names, *, is_folder: bool = True) -> list[str]:
        """Return the entries in words."""
        if self.is_unread:
            return ["could not be read"]
        if self.is_open:
            return ["no list of its own: the members of the team folder"]
        return [one.word(names) + (" [from above]" if one.inherited else "") for one in self.entries] or [EMPTY_LIST]

    def view(self, *, is_folder: bool) -> ListView:
        """Return what the checks want to know."""

        def given(holder: Holder) -> Right:
            # Nobody owns it here: what its owner has by that is no part of what an entry gives.
            named = self.decide(ItemContext("\0", is_folder), holder)
            return Right.NONE if self.is_open else named.rights

        of = {
            subject: [one.ident for one in self.entries if one.subject is subject]
            for subject in (Subject.USER, Subject.GROUP, Subject.EITHER)
        }
        unsure = sum(one.subject == Subject.UNKNOWN for one in self.entries) + self.is_unread
        return ListView(
            {ident: given(Holder("", ident, frozenset())) for ident in of[Subject.USER]},
            {ident: given(Holder("", "", frozenset({ident}))) for ident in of[Subject.GROUP]},
            given(Holder("", "", frozenset())),
            not self.entries and not self.is_open,
            False,
            {ident: given(Holder("", ident, frozenset({ident}))) for ident in of[Subject.EITHER]},
            unsure=unsure,
            own=tuple(one for one in self.entries if not one.inherited),
        )


def _parse_line(line: str) -> Entry:
    letter, sign, rights, inherited, ident = line.split("\t", 4)
    return Entry(Subject(letter), ident, Right(int(rights, 16)), sign == "+", inherited == "1")


class RoleModel:
    """The list model ``role``."""

    name = "role"
    asks_enter = False
    groups_may_own = False
    has_defaults = False
    everyone_has: frozenset[str] = frozenset()
    known: Mapping[str, str] = {}
    unread = _UNREAD

    def parse(self, body: bytes) -> RoleList:
        """Parse a body made by `pack_body`; raises `FormatError`."""
        if body in (OPEN, _UNREAD):
            return RoleList((), is_open=body == OPEN, is_unread=body == _UNREAD)
        try:
            lines = body.decode("utf-8", "surrogateescape").split("\n") if body else []
            return RoleList(tuple(_parse_line(line) for line in lines))
        except ValueError as error:
            raise FormatError(f"a stored list is damaged: {error}") from None

    def owns(self, holder: Holder, owner: str) -> bool:
        """Tell whether a holder counts as the owner."""
        return holder.user == owner

    def group_of(self, body: bytes) -> str:
        """Return nothing: these lists know no owning group."""
        return ""

    def overrides(self, holder: Holder) -> Reason | None:
        """Return what the holder's privileges give."""
        return override_of(holder)

    def new_child(self, above: bytes, default: bytes | None, maker: Maker, *, is_folder: bool) -> bytes:
        """Return what a new child gets: the list above, as it is."""
        return self._inherited(above)

    def may_lock(self, body: bytes) -> bool:
        """Return that it does not: these lists know no flags."""
        return False

    def passes_on(self, above: bytes) -> bool:
        """Return that it does: every list is passed on whole."""
        return True

    def pushed(self, above: bytes, child: bytes, owner: str, *, keeps_own: bool, is_folder: bool) -> bytes:
        """Return a child's body after a push: its own entries first, then those from above."""
        if above in (OPEN, _UNREAD):
            return child if keeps_own else above
        own = [one for one in self.parse(child).entries if not one.inherited] if keeps_own else []
        return pack_body([*own, *self.parse(self._inherited(above)).entries])

    def followed(self, old: bytes, new: bytes, child: bytes, owner: str, *, is_folder: bool) -> bytes:
        """Return a child's body after the list above was changed; one that is not what came down stands alone."""
        if child == old:
            return new
        if self.pushed(old, child, owner, keeps_own=True, is_folder=is_folder) != child:
            return child
        return self.pushed(new, child, owner, keeps_own=True, is_folder=is_folder)

    def _inherited(self, above: bytes) -> bytes:
        if above in (OPEN, _UNREAD):
            return above
        entries = self.parse(above).entries
        return pack_body([Entry(one.subject, one.ident, one.rights, one.allows, True) for one in entries])
