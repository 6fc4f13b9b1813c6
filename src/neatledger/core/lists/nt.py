"""NT security descriptors, as MS-DTYP section 2.5.3.2 evaluates them.

The rules:

1. Where there is no list (a null list) everyone may do all; an empty list gives nobody anything.
2. Entries count in stored order, allowing and denying; for each bit the first that names the holder decides.
3. Inherit-only entries do not count where they stand; CREATOR OWNER and CREATOR GROUP name nobody.
4. Generic bits stand for the bits of files (MS-SMB2 2.2.13.1, MS-FSA 2.1.5.1).
5. Who owns the item, also through a group that owns it, may read and change its list, unless an entry for
   OWNER RIGHTS counts on it: then the owner has from that what it says.
6. Entries with conditions or for objects are not evaluated here, nor are damaged ones: what they could
   change is unknown. Entries of types that the access check does not know do nothing; they are reported.

An item can be removed by the right to delete on itself or the right to delete children on the folder it
lies in (MS-FSA 2.1.5.1.2). The owner is not part of the stored body.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

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
from neatledger.core.lists.descriptors import (
    AUTO_INHERITED,
    CALLBACK_TYPES,
    CONTAINER_INHERIT,
    DACL_PRESENT,
    INHERITED,
    OBJECT_INHERIT,
    OBJECT_TYPES,
    PROTECTED,
    Ace,
    AceType,
    Acl,
    Descriptor,
    ace_of_body,
    pack_acl,
    pack_sid,
    split_acl,
    unpack_acl,
    unpack_sid,
)
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.identifiers import (
    AUTHENTICATED,
    CREATOR_GROUP,
    CREATOR_OWNER,
    EVERYONE,
    NETWORK,
    OWNER_RIGHTS,
    WELL_KNOWN,
)
from neatledger.core.lists.ordered import (
    LIST_BIT,
    OF_OWNER,
    ONLY_PASSED,
    Rule,
    decide_crowd,
    decide_single,
    passed_on,
    rights_of,
    spell_mask,
    weigh,
)
from neatledger.core.lists.privileges import override_of
from neatledger.core.lists.rights import Right
from neatledger.core.lists.subjects import Subject
from neatledger.errors import FormatError

__all__ = ["FULL", "NtEntry", "NtList", "NtModel", "child_acl", "map_generic", "pack_body", "unpack_body"]

_HEAD = struct.Struct("<HB")
_KEPT = DACL_PRESENT | AUTO_INHERITED | PROTECTED
_ALL_BITS = 0xFFFFFFFF
FULL = 0x001F01FF
# Generic rights are no bits of files: every check maps them first (MS-DTYP 2.4.3).
_GENERIC = ((0x80000000, 0x00120089), (0x40000000, 0x00120116), (0x20000000, 0x001200A0), (0x10000000, FULL))
_OWNER_BITS = 0x00020000 | LIST_BIT  # read the descriptor, change its list
_ALLOWS = frozenset({AceType.ALLOW, AceType.ALLOW_OBJECT, AceType.ALLOW_CALLBACK, AceType.ALLOW_CALLBACK_OBJECT})
_DENIES = frozenset({AceType.DENY, AceType.DENY_OBJECT, AceType.DENY_CALLBACK, AceType.DENY_CALLBACK_OBJECT})
_COUNTING = _ALLOWS | _DENIES  # the access check looks at no other type
_SILENT = frozenset({0x02, 0x03, 0x07, 0x08, 0x0D, 0x0E, 0x0F, 0x10, 0x11, 0x12, 0x13})  # audit, labels, resources
_UNEVALUATED = OBJECT_TYPES | CALLBACK_TYPES
_SYSTEM = "S-1-5-18"
_SIGNED_IN = frozenset({EVERYONE, AUTHENTICATED, NETWORK})  # what whoever signs in over the network has


_NULL = Rule(Subject.EVERYONE, "", _ALL_BITS, True)  # what a null list amounts to


def map_generic(mask: int) -> int:
    """Replace the generic bits of a mask by those of files."""
    for bit, stands_for in _GENERIC:
        if mask & bit:
            mask = mask & ~bit | stands_for
    return mask


def pack_body(descriptor: Descriptor) -> bytes:
    """Pack what the list of a descriptor decides by: control bits, group and DACL; owner and SACL apart."""
    group = pack_sid(descriptor.group) if descriptor.group else b""
    control = descriptor.control & _KEPT
    dacl = b"" if descriptor.dacl is None else pack_acl(descriptor.dacl)
    return _HEAD.pack(control, len(group)) + group + dacl


def _head(body: bytes) -> tuple[int, int]:
    """Return the control bits of a body, and where its list begins."""
    if len(body) < _HEAD.size:
        raise FormatError("a stored NT list is cut short", f"{len(body)} bytes")
    control, size = _HEAD.unpack_from(body)
    return control, _HEAD.size + size


def unpack_body(body: bytes) -> Descriptor:
    """Return the descriptor that a stored body was packed from, without owner; raises `FormatError`."""
    control, at = _head(body)
    group = unpack_sid(body[_HEAD.size : at]) if at > _HEAD.size else ""
    return Descriptor("", group, unpack_acl(body, at) if at < len(body) else None, None, control)


@dataclass(frozen=True, slots=True)
class NtList:
    """A descriptor made ready: its body, its control bits, and the rules that count."""

    body: bytes
    control: int
    is_null: bool
    rules: tuple[Rule, ...]
    marks: int

    @property
    def aces(self) -> tuple[Ace, ...]:
        """All entries in stored order; none for a null list."""
        dacl = unpack_body(self.body).dacl
        return () if dacl is None else dacl.aces

    @property
    def named(self) -> frozenset[str]:
        """The identifiers that its entries name."""
        return frozenset([rule.ident for rule in self.rules])

    def decide(self, context: ItemContext, holder: Holder) -> Decision:
        """Decide for one holder; privileges are not part of the list (see `overrides`)."""
        owns = _owns(holder, context.owner)
        # An entry for OWNER RIGHTS takes away what an owner has of itself (MS-DTYP 2.5.3.2).
        implied = owns and not self.marks & OF_OWNER
        decision = decide_single(
            self.rules,
            holder,
            is_folder=context.is_folder,
            owns=owns,
            first=_OWNER_BITS if implied else 0,
            entry=lambda rule: "no list" if rule is _NULL else NtEntry(rule.entry),
            because=lambda rule: _because(rule, holder),
        )
        if implied:
            message = Reason(Effect.GRANTS, "owner", Right.MANAGE, "the owner may read and change the list")
            decision = replace(decision, reasons=(*decision.reasons, message))
        return decision

    def decide_all(self, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
        """Decide for a crowd at once; the same rules on bit sets."""
        implied = 0 if self.marks & OF_OWNER else _OWNER_BITS
        rules, marks = self.rules, self.marks
        (others, _), (owners, _) = decide_crowd(rules, marks, crowd, is_folder=is_folder, implied=implied)
        return others, owners

    def locked(self, *, is_folder: bool) -> Right:
        """Return nothing: these lists know no flags."""
        return Right.NONE

    def describe(self, names: Names, *, is_folder: bool = True) -> list[str]:
        """Return the entries in words, in stored order, with where each counts."""
        if self.is_null:
            return ["no list at all: everyone may do everything"]
        parts = []
        for ace in self.aces:
            marks = [
                mark
                for mark in (_where(ace) if is_folder else "", "from above" if ace.flags & INHERITED else "")
                if mark
            ]
            word = NtEntry(ace).word(names)
            parts.append(f"{word} [{', '.join(marks)}]" if marks else word)
        return parts or [EMPTY_LIST]

    def view(self, *, is_folder: bool) -> ListView:
        """Return what the checks want to know; who is named gets what the entries for that name give."""
        # A stranger has what everybody who signs in has, and nothing by name.
        everyone = rights_of(weigh(self.rules, Holder("", "", _SIGNED_IN), False).given, is_folder=is_folder)
        aces = self.aces
        named: dict[str, Right] = {}
        for rule in self.rules:
            if rule.subject is Subject.EITHER and rule.ident not in WELL_KNOWN:
                alone = Holder("", rule.ident, frozenset())
                named[rule.ident] = rights_of(weigh(self.rules, alone, False).given, is_folder=is_folder)
        return ListView(
            users={},
            groups={},
            everyone=everyone,
            is_plain=not named,
            is_sticky=False,
            either=named,
            is_ordered=_is_ordered(aces),
            is_closed=bool(self.control & PROTECTED),
            unsure=sum(_is_unevaluated(ace) for ace in aces),
            own=tuple(NtEntry(ace) for ace in aces if not ace.flags & INHERITED),
        )


def _rules(ace: Ace) -> tuple[Rule, ...]:
    # An entry for the creator counts nowhere itself: it is a pattern for what is made below.
    if ace.is_inherit_only or ace.type not in _COUNTING or ace.sid in (CREATOR_OWNER, CREATOR_GROUP):
        return ()
    if ace.raw is not None:
        # Damaged: nobody knows whom it names. It may refuse or allow everyone everything.
        return tuple(Rule(Subject.EVERYONE, "", _ALL_BITS, allows, True, ace) for allows in (False, True))
    subject = (
        Subject.OWNER if ace.sid == OWNER_RIGHTS else Subject.EVERYONE if ace.sid == EVERYONE else Subject.EITHER
    )
    return (Rule(subject, ace.sid, map_generic(ace.mask), ace.type in _ALLOWS, ace.type in _UNEVALUATED, ace),)


@lru_cache(maxsize=262144)
def _rules_of(raw: bytes) -> tuple[tuple[Rule, ...], int]:
    """Return the rules of an entry and their mark; lists share few distinct ones."""
    rules = _rules(ace_of_body(raw[0], raw[1], raw[4:]))
    return rules, rules[0].mark if rules else 0


@dataclass(frozen=True, slots=True)
class NtEntry:
    """An entry of a descriptor as a reason: what it does, whom it names, and what it speaks of."""

    ace: Ace

    @property
    def _kept(self) -> str:
        """What an entry is called that is kept as it came; "" for others."""
        ace = self.ace
        if ace.raw == b"" and ace.type == AceType.ALLOW:
            return "a list that could not be read"
        if ace.raw is not None or ace.type not in _COUNTING | _SILENT:
            return f"entry of type 0x{ace.type:02x}, kept as it is ({len(ace.raw or b'')} bytes)"
        return ""

    @property
    def _does(self) -> str:
        kind = self.ace.type
        word = "allow" if kind in _ALLOWS else "deny" if kind in _DENIES else "record"
        return word + (" (condition)" if kind in CALLBACK_TYPES else " (object)" if kind in OBJECT_TYPES else "")

    @property
    def _what(self) -> str:
        return spell_mask(map_generic(self.ace.mask), is_folder=True)

    def __str__(self) -> str:
        """Return the entry with the identifier that it names."""
        return self._kept or f"{self._does}:{self.ace.sid}:{self._what}"

    def word(self, names: Names) -> str:
        """Return the entry with a name for its identifier."""
        return self._kept or f"{self._does} {names.holder(self.ace.sid)}: {self._what}"


_FLAGS = ((0x1, "files"), (0x2, "folders"))


def _where(ace: Ace) -> str:
    """Say where an entry counts; nothing where it counts as usual: here, and for all below."""
    if ace.flags & 0xF == OBJECT_INHERIT | CONTAINER_INHERIT:
        return ""
    below = " and ".join(word for bit, word in _FLAGS if ace.flags & bit)
    once = " one level down" if ace.flags & 0x4 else " below"
    if ace.is_inherit_only:
        return f"only for {below}{once}" if below else "nowhere"
    return f"here, and for {below}{once}" if below else "only here"


def _owns(holder: Holder, owner: str) -> bool:
    # A group may own an item here, and then all in it are owners.
    return bool(owner) and (holder.user == owner or owner in holder.groups)


class NtModel:
    """The list model ``nt``."""

    name = "nt"
    asks_enter = False
    groups_may_own = True
    has_defaults = False
    everyone_has = _SIGNED_IN
    known: Mapping[str, str] = WELL_KNOWN
    unread = _HEAD.pack(DACL_PRESENT, 0) + pack_acl(Acl((Ace(AceType.ALLOW, 0, 0, "", raw=b""),)))

    def parse(self, body: bytes) -> NtList:
        """Parse a body made by `pack_body`; raises `FormatError`."""
        control, at = _head(body)
        # No list at all (a null DACL) is not an empty list: it lets everyone do all (MS-DTYP 2.4.6).
        if at >= len(body):
            return NtList(body, control, True, (_NULL,), 0)
        rules: list[Rule] = []
        marks = 0
        for raw in split_acl(body, at)[1]:
            found, mark = _rules_of(raw)
            rules += found
            marks |= mark
        return NtList(body, control, False, tuple(rules), marks)

    def owns(self, holder: Holder, owner: str) -> bool:
        """Tell whether a holder counts as the owner."""
        return _owns(holder, owner)

    def group_of(self, body: bytes) -> str:
        """Return nobody: the group of a descriptor is carried along, and no system counts by it."""
        return ""

    def overrides(self, holder: Holder) -> Reason | None:
        """Return what the holder's privileges give."""
        return override_of(holder)

    def new_child(self, above: bytes, default: bytes | None, maker: Maker, *, is_folder: bool) -> bytes:
        """Return what a new child gets; where nothing is passed on, its maker and the system get all."""
        dacl = unpack_body(above).dacl
        aces = child_acl(() if dacl is None else dacl.aces, maker, is_folder=is_folder)
        control = DACL_PRESENT | AUTO_INHERITED
        if not aces:
            # Nothing is passed on: the maker's token has a default list, which gives maker and system all.
            aces, control = tuple(Ace(AceType.ALLOW, 0, FULL, sid) for sid in (maker.user, _SYSTEM)), DACL_PRESENT
        return pack_body(Descriptor("", maker.group, Acl(aces), None, control))

    def may_lock(self, body: bytes) -> bool:
        """Return that it does not: these lists know no flags."""
        return False

    def passes_on(self, above: bytes) -> bool:
        """Tell whether any entry is for what is made in the folder."""
        dacl = unpack_body(above).dacl
        return dacl is not None and any(ace.flags & (OBJECT_INHERIT | CONTAINER_INHERIT) for ace in dacl.aces)

    def pushed(self, above: bytes, child: bytes, owner: str, *, keeps_own: bool, is_folder: bool) -> bytes:
        """Return a child's body after a push: own entries first, then those passed on (MS-DTYP 2.5.3.4)."""
        here, there = unpack_body(above), unpack_body(child)
        # What is closed to the folder above stays so, and a null list has no entries to join with others.
        if keeps_own and (there.control & PROTECTED or there.dacl is None):
            return child
        passed = () if here.dacl is None else here.dacl.aces
        fresh = child_acl(passed, Maker(owner, there.group), is_folder=is_folder)
        own = () if there.dacl is None else tuple(ace for ace in there.dacl.aces if not ace.flags & INHERITED)
        aces = (*own, *fresh) if keeps_own else fresh
        control = there.control & ~PROTECTED | AUTO_INHERITED | DACL_PRESENT
        return pack_body(replace(there, dacl=Acl(aces), control=control))

    def followed(self, old: bytes, new: bytes, child: bytes, owner: str, *, is_folder: bool) -> bytes:
        """Return a child's body after the list above was changed; one that has not what came down stands alone.

        A flag closes a child to what is above (MS-DTYP 2.5.3.4.4), and so does having something else from there: what
        it never had it is not given. Servers that mark nothing as from above leave it at the end.
        """
        there = unpack_body(child)
        if there.control & PROTECTED or there.dacl is None:
            return child
        maker = Maker(owner, there.group)
        came, comes = (
            child_acl(dacl.aces if dacl is not None else (), maker, is_folder=is_folder)
            for dacl in (unpack_body(old).dacl, unpack_body(new).dacl)
        )
        aces, control = there.dacl.aces, there.control
        if any(ace.flags & INHERITED for ace in aces) or not came:
            if [ace for ace in aces if ace.flags & INHERITED] != list(came):
                return child
            control |= AUTO_INHERITED
        else:
            came, comes = (
                tuple(replace(ace, flags=ace.flags & ~INHERITED) for ace in each) for each in (came, comes)
            )
        own = len(aces) - len(came)
        if own < 0 or aces[own:] != came:
            return child
        return pack_body(replace(there, dacl=Acl((*aces[:own], *comes), there.dacl.revision), control=control))


def _is_unevaluated(ace: Ace) -> bool:
    if ace.type in _SILENT:
        return False
    return ace.raw is not None or ace.type not in _COUNTING or ace.type in _UNEVALUATED


def _because(rule: Rule, holder: Holder) -> str:
    match rule.subject:
        case Subject.OWNER:
            return "speaks of the owner"
        case Subject.EVERYONE:
            return "a null list lets everyone do all" if rule is _NULL else "speaks of everyone"
        case _:
            return "names them" if rule.ident == holder.user else "they are in it"


def _is_ordered(aces: Iterable[Ace]) -> bool:
    """Tell whether own entries stand before passed-on ones, and among the own refusals first."""
    ranks = [
        2 if ace.flags & INHERITED else 0 if ace.type in _DENIES else 1
        for ace in aces
        if ace.raw is None and ace.type in _COUNTING
    ]
    return ranks == sorted(ranks)


def child_acl(aces: Iterable[Ace], maker: Maker, *, is_folder: bool) -> tuple[Ace, ...]:
    """Return the entries that a child gets from the folder above (MS-DTYP 2.5.3.4.3 to 2.5.3.4.5).

    An entry for the creator becomes one for the maker that counts, and stays as it is for those below.
    """
    found: list[Ace] = []
    for ace in aces:
        flags = passed_on(ace.flags, is_folder=is_folder)
        if flags is None or ace.type in _SILENT:
            continue
        # What could not be read, and what only goes through here, is handed on as it stands.
        if ace.raw is not None or flags & ONLY_PASSED:
            found.append(replace(ace, flags=flags | INHERITED))
            continue
        sid = {CREATOR_OWNER: maker.user, CREATOR_GROUP: maker.group}.get(ace.sid, ace.sid)
        mask = map_generic(ace.mask)
        # One entry is enough where nothing has to be replaced, or nothing lies below.
        if (sid, mask) == (ace.sid, ace.mask) or not flags:
            found.append(replace(ace, flags=flags | INHERITED, sid=sid or ace.sid, mask=mask))
            continue
        if sid:
            found.append(replace(ace, flags=INHERITED, sid=sid, mask=mask))
        found.append(replace(ace, flags=flags | ONLY_PASSED | INHERITED))
    return tuple(found)
