"""NFSv4 access lists, as RFC 8881 section 6 evaluates them.

The rules:

1. Entries count in stored order, allowing and denying; for each bit the first that names the holder
   decides, and what none decides is not given (section 6.2.1).
2. OWNER@ is whoever owns the item, GROUP@ who is in its group, EVERYONE@ everyone, those two included.
3. Inherit-only entries do not count where they stand; audits and alarms never do.
4. An item can be removed by its own right to delete or by the right to delete children on the folder it lies
   in; where neither list speaks of that, who may add to the folder may remove from it (6.2.1.3.2).
5. A folder is passed through with the right to execute.

Nothing is implied for the owner beyond what the entries say. The owner is not part of the stored body.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

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
from neatledger.core.lists.ordered import (
    APPEND_BIT,
    CLEAR_BIT,
    DELETE_BIT,
    EXECUTE_BIT,
    OF_OWNER,
    ONLY_PASSED,
    READ_BIT,
    WRITE_BIT,
    Rule,
    decide_crowd,
    decide_single,
    passed_on,
    rights_of,
    spell_mask,
    unsaid_of,
    weigh,
)
from neatledger.core.lists.privileges import override_of
from neatledger.core.lists.rights import Right
from neatledger.core.lists.subjects import Subject
from neatledger.errors import FormatError

__all__ = [
    "ALLOW",
    "DENY",
    "EVERYONE",
    "GROUP",
    "IS_GROUP",
    "OWNER",
    "SPECIAL",
    "Entry",
    "Nfs4List",
    "Nfs4Model",
    "mode_of",
    "pack_body",
]

ALLOW, DENY, AUDIT, ALARM = 0, 1, 2, 3
INHERITED, IS_GROUP = 0x80, 0x40
OWNER, GROUP, EVERYONE = "OWNER@", "GROUP@", "EVERYONE@"
_ENTRY = struct.Struct("<BBIH")
_WORDS = {ALLOW: "allow", DENY: "deny", AUDIT: "record", ALARM: "alarm"}


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: type, flags, 32-bit mask, and whom it names (OWNER@, GROUP@, EVERYONE@ or an identifier)."""

    type: int
    flags: int
    mask: int
    who: str

    @property
    def _does(self) -> str:
        return _WORDS.get(self.type, f"type {self.type}")

    @property
    def _what(self) -> str:
        return spell_mask(self.mask, is_folder=True)

    def __str__(self) -> str:
        """Return the entry with the identifier that it names."""
        kind = "" if self.who in SPECIAL else "group " if self.flags & IS_GROUP else "user "
        return f"{self._does}:{kind}{self.who}:{self._what}"

    def word(self, names: Names) -> str:
        """Return the entry with a name for its identifier."""
        if self.who in SPECIAL:
            who = _SPECIAL_WORDS[self.who]
        elif self.flags & IS_GROUP:
            who = f"group {names.group(self.who)} ({self.who})"
        else:
            who = f"user {names.user(self.who)} ({self.who})"
        return f"{self._does} {who}: {self._what}"


def pack_body(group: str, entries: list[Entry]) -> bytes:
    """Pack the stored form: the owning group's identifier, and the entries in order."""
    parts = [group.encode("utf-8", "surrogateescape")]
    for entry in entries:
        who = entry.who.encode("utf-8", "surrogateescape")
        if len(who) > 0xFFFF:
            raise FormatError("a name is too long for an entry", f"{len(who)} bytes")
        parts.append(_ENTRY.pack(entry.type, entry.flags, entry.mask, len(who)) + who)
    return struct.pack("<H", len(parts[0])) + b"".join(parts)


def _unpack(body: bytes) -> tuple[str, list[Entry]]:
    try:
        (size,) = struct.unpack_from("<H", body)
        at, entries = 2 + size, []
        group = body[2:at]
        while at < len(body):
            kind, flags, mask, size = _ENTRY.unpack_from(body, at)
            at += _ENTRY.size
            if at + size > len(body):
                raise FormatError("a stored NFSv4 list is cut short", f"byte {at}")
            entries.append(_entry(kind, flags, mask, body[at : at + size]))
            at += size
    except struct.error as error:
        raise FormatError(f"a stored NFSv4 list is damaged: {error}", f"{len(body)} bytes") from None
    return group.decode("utf-8", "surrogateescape"), entries


@dataclass(frozen=True)
class Nfs4List:
    """A list made ready: the owning group, all entries, and those that count where they stand."""

    group: str
    entries: tuple[Entry, ...]

    @cached_property
    def rules(self) -> tuple[Rule, ...]:
        """The entries that count where they stand."""
        found = [_rule(entry, self.group if entry.who == GROUP else "") for entry in self.entries]
        return tuple([rule for rule in found if rule is not None])

    @cached_property
    def _running(self) -> tuple[Rule, ...]:
        """What the entries say of executing, put as if it were reading.

        Who may execute a file may read it: a server cannot tell the one from the other (6.2.1.3.1).
        """
        return tuple([replace(rule, mask=READ_BIT) for rule in self.rules if rule.mask & EXECUTE_BIT])

    @property
    def named(self) -> frozenset[str]:
        """The identifiers that its entries name."""
        return frozenset([rule.ident for rule in self.rules])

    def decide(self, context: ItemContext, holder: Holder) -> Decision:
        """Decide for one holder."""
        if _is_unread(self):
            message = Reason(Effect.LIMITS, "list", Right.NONE, "the list could not be read: what it says is unknown")
            return Decision(Right.UNSAID, (message,), is_unsure=True)
        decision = decide_single(
            self.rules,
            holder,
            is_folder=context.is_folder,
            owns=holder.user == context.owner,
            first=0,
            entry=lambda rule: rule.entry,
            because=_because,
        )
        rights, decided = decision.rights, decision.given | decision.refused
        if context.is_folder:
            # The kernel asks for execute on a folder before it opens anything in it.
            rights = _with_enter(rights)
            # RFC 8881 6.2.1.3.2: where neither list speaks of removal, who may add to a folder may remove from it.
            if not decided & CLEAR_BIT and rights & Right.ADD:
                rights |= Right.CLEAR_UNSAID
        if not decided & DELETE_BIT:
            rights |= Right.UNSAID
        if not context.is_folder and not rights & Right.READ:
            runs = weigh(self._running, holder, holder.user == context.owner)
            if runs.given:
                why = "who may execute a file may read it"
                reason = Reason(Effect.GRANTS, runs.steps[0][0].entry, Right.READ, why)
                rights |= Right.READ
                decision = replace(decision, reasons=(*decision.reasons, reason))
        return replace(decision, rights=rights)

    def decide_all(self, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
        """Decide for a crowd at once; the same rules on bit sets."""
        if _is_unread(self):
            unread = {Right.UNSAID: crowd.all, Right.UNSURE: crowd.all}
            return unread, unread
        # No entry is left unevaluated here: what is not known made the whole list unread above.
        marks = OF_OWNER * any([rule.subject is Subject.OWNER for rule in self.rules])
        forms = decide_crowd(self.rules, marks, crowd, is_folder=is_folder, implied=0)
        runs = () if is_folder else decide_crowd(self._running, marks, crowd, is_folder=False, implied=0)
        for number, form in enumerate(forms):
            sets = form[0]
            if runs:
                sets[Right.READ] |= runs[number][0][Right.READ]
            if is_folder:
                sets[Right.READ] = sets[Right.LIST] & sets[Right.ENTER]
                unsaid = unsaid_of(form, crowd, Right.CLEAR, is_folder=True)
                sets[Right.CLEAR_UNSAID] = unsaid & sets[Right.ADD]
            sets[Right.UNSAID] = unsaid_of(form, crowd, Right.DELETE, is_folder=is_folder)
        return forms[0][0], forms[1][0]

    def locked(self, *, is_folder: bool) -> Right:
        """Return nothing: these lists know no flags."""
        return Right.NONE

    def describe(self, names: Names, *, is_folder: bool = True) -> list[str]:
        """Return the entries in words, in stored order, with where each counts."""
        parts = []
        for entry in self.entries:
            below = " and ".join(word for bit, word in ((0x1, "files"), (0x2, "folders")) if entry.flags & bit)
            marks = (
                [("only" if entry.flags & ONLY_PASSED else "here, and") + f" for {below} below"]
                if below
                else ["here"]
            )
            marks += ["from above"] * bool(entry.flags & INHERITED)
            parts.append(f"{entry.word(names)} [{', '.join(marks)}]")
        return parts or [EMPTY_LIST]

    def view(self, *, is_folder: bool) -> ListView:
        """Return what the checks want to know; who is named gets what the entries for that name give."""

        def given(user: str, groups: frozenset[str]) -> Right:
            weighed = weigh(self.rules, Holder("", user, groups), False)
            return rights_of(weighed.given, is_folder=is_folder)

        users = {rule.ident: given(rule.ident, frozenset()) for rule in self.rules if rule.subject is Subject.USER}
        groups = {
            rule.ident: given("", frozenset({rule.ident})) for rule in self.rules if rule.subject is Subject.GROUP
        }
        own = tuple(entry for entry in self.entries if not entry.flags & INHERITED)
        is_plain = not users and groups.keys() <= {self.group}
        unsure = sum(entry.type not in _WORDS for entry in self.entries)
        return ListView(users, groups, given("", frozenset()), is_plain, False, unsure=unsure, own=own)


@lru_cache(maxsize=262144)
def _entry(kind: int, flags: int, mask: int, who: bytes) -> Entry:
    """Return an entry; lists share few distinct ones."""
    return Entry(kind, flags, mask, who.decode("utf-8", "surrogateescape"))


@lru_cache(maxsize=262144)
def _rule(entry: Entry, group: str) -> Rule | None:
    if entry.flags & ONLY_PASSED or entry.type not in (ALLOW, DENY) or entry.who in _NOBODY:
        return None
    # A name alone does not tell a user from a group: the flag does (6.2.1.4.1).
    subject, ident = _SPECIAL.get(entry.who, (Subject.GROUP if entry.flags & IS_GROUP else Subject.USER, entry.who))
    return Rule(subject, group or ident, entry.mask, entry.type == ALLOW, entry=entry)


_SPECIAL = {
    OWNER: (Subject.OWNER, ""),
    GROUP: (Subject.GROUP, ""),
    EVERYONE: (Subject.EVERYONE, ""),
    # Everybody here comes over the network, and has signed in.
    "NETWORK@": (Subject.EVERYONE, ""),
    "AUTHENTICATED@": (Subject.EVERYONE, ""),
}
# Other ways of coming in (6.2.1.5): nobody who is asked for comes by them.
_NOBODY = frozenset({"INTERACTIVE@", "DIALUP@", "BATCH@", "ANONYMOUS@", "SERVICE@"})
SPECIAL = frozenset({*_SPECIAL, *_NOBODY})
"""The identifiers that are no names (RFC 8881 section 6.2.1.5)."""


_SPECIAL_WORDS = {OWNER: "the owner", GROUP: "its group", EVERYONE: "everyone"}
_SPECIAL_WORDS |= {who: who.rstrip("@").lower() for who in SPECIAL - _SPECIAL_WORDS.keys()}


def _because(rule: Rule) -> str:
    return {
        Subject.OWNER: "owns it",
        Subject.USER: "names them",
        Subject.GROUP: "they are in it",
    }.get(rule.subject, "speaks of everyone")


def _with_enter(rights: Right) -> Right:
    # To read what is in a folder one must pass through it.
    return rights if rights & Right.ENTER else rights & ~Right.READ


class Nfs4Model:
    """The list model ``nfs4``."""

    name = "nfs4"
    asks_enter = True
    groups_may_own = False
    has_defaults = False
    everyone_has: frozenset[str] = frozenset()
    known: Mapping[str, str] = {}
    # Nobody can be said to be given or refused anything: an entry that no evaluation knows.
    unread = pack_body("", [Entry(0xFF, 0, 0, EVERYONE)])

    def parse(self, body: bytes) -> Nfs4List:
        """Parse a body made by `pack_body`; raises `FormatError`."""
        group, entries = _unpack(body)
        return Nfs4List(group, tuple(entries))

    def owns(self, holder: Holder, owner: str) -> bool:
        """Tell whether a holder counts as the owner."""
        return holder.user == owner

    def group_of(self, body: bytes) -> str:
        """Return the owning group."""
        return _unpack(body)[0]

    def overrides(self, holder: Holder) -> Reason | None:
        """Return what the holder's privileges give."""
        return override_of(holder)

    def new_child(self, above: bytes, default: bytes | None, maker: Maker, *, is_folder: bool) -> bytes:
        """Return what a new child gets (section 6.4.3); nothing passed on leaves it to the mode: the owner's."""
        entries = _child_entries(_unpack(above)[1], is_folder=is_folder)
        if not entries:
            mask = 0x1601FF if is_folder else 0x16019F | EXECUTE_BIT
            entries = [Entry(ALLOW, 0, mask, OWNER)]
        return pack_body(maker.group, entries)

    def may_lock(self, body: bytes) -> bool:
        """Return that it does not: these lists know no flags."""
        return False

    def passes_on(self, above: bytes) -> bool:
        """Tell whether any entry is for what is made in the folder."""
        entries = _unpack(above)[1]
        return any(_child_entries(entries, is_folder=is_folder) for is_folder in (True, False))

    def pushed(self, above: bytes, child: bytes, owner: str, *, keeps_own: bool, is_folder: bool) -> bytes:
        """Return a child's body after a push: own entries first, then those passed on."""
        _, passed = _unpack(above)
        group, entries = _unpack(child)
        # Only entries marked as from above are replaced: servers that do not mark them have none to tell apart.
        own = [entry for entry in entries if not entry.flags & INHERITED] if keeps_own else []
        return pack_body(group, own + _child_entries(passed, is_folder=is_folder))

    def followed(self, old: bytes, new: bytes, child: bytes, owner: str, *, is_folder: bool) -> bytes:
        """Return a child's body after the list above was changed; one that has not what came down stands alone.

        These lists cannot say that they are closed to what is above (a `dacl` of section 6.4.3.2 could).
        """
        group, entries = _unpack(child)
        came, comes = (_child_entries(_unpack(body)[1], is_folder=is_folder) for body in (old, new))
        if not any(entry.flags & INHERITED for entry in entries) and came:
            # Servers that mark nothing as from above leave it at its place among the others.
            came, comes = ([replace(one, flags=one.flags & ~INHERITED) for one in some] for some in (came, comes))
        elif [entry for entry in entries if entry.flags & INHERITED] != came:
            return child
        own = len(entries) - len(came)
        return child if entries[own:] != came else pack_body(group, entries[:own] + comes)


def _is_unread(parsed: Nfs4List) -> bool:
    return any([entry.type == 0xFF for entry in parsed.entries])


def _child_entries(entries: list[Entry], *, is_folder: bool) -> list[Entry]:
    found = []
    for entry in entries:
        flags = passed_on(entry.flags, is_folder=is_folder)
        if flags is not None:
            found.append(replace(entry, flags=flags | INHERITED | entry.flags & IS_GROUP))
    return found


def mode_of(parsed: Nfs4List) -> int:
    """Return the nine permission bits of the mode that a list comes to (section 6.3.2).

    For the owner's class OWNER@ and EVERYONE@ count, for the group's GROUP@ and EVERYONE@, for other
    EVERYONE@ alone; writing needs the bits for writing and for appending.
    """
    mode = 0
    for shift, who in ((6, OWNER), (3, GROUP), (0, EVERYONE)):
        # Named users and groups are in no class of the mode.
        counted = [rule for rule in parsed.rules if rule.entry.who in (who, EVERYONE)]
        given = weigh(
            [replace(rule, subject=Subject.EVERYONE) for rule in counted], Holder("", "", frozenset()), True
        ).given
        bits = 4 * bool(given & READ_BIT) + bool(given & EXECUTE_BIT)
        bits += 2 * (given & (WRITE_BIT | APPEND_BIT) == WRITE_BIT | APPEND_BIT)
        mode |= bits << shift
    return mode
