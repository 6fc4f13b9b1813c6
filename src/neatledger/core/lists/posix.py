"""POSIX mode bits and POSIX.1e access lists, as the Linux kernel evaluates them.

Source of the rules: POSIX.1-2017 XBD 4.5 "File Access Permissions", the access check algorithm of the
withdrawn POSIX.1e draft 17 section 23.1.5, and Linux (path_resolution(7), acl(5), capabilities(7)).

The rules, in the kernel's order:

1. The owner is decided by the owner bits alone, even when these give less than "other".
2. When the mode's group bits are all zero, Linux does not look at the list: the mode decides.
3. A named user's entry, cut by the mask, decides alone.
4. Of the group entries that match (the owning group's and named ones, each cut by the mask) one must
   grant the *whole* request; entries are not summed. Once any matched, "other" is out.
5. Else the "other" entry decides.

Adding to and removing from a folder needs write and search in one request (`_WX`), so these may come
from no two entries. Laws: for every list and holder the crowd's answer is the single one's; a list
without named entries and mask decides as its mode alone.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from neatledger.core.lists.contract import (
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
from neatledger.core.lists.rights import ALL_RIGHTS, Right
from neatledger.errors import FormatError

__all__ = [
    "APPEND_ONLY",
    "IMMUTABLE",
    "NO_ENTRIES",
    "Entry",
    "PosixList",
    "PosixModel",
    "pack_body",
    "pack_entries",
    "unpack_entries",
]

_R, _W, _X = 4, 2, 1
_WX = _W | _X
_STICKY, _SETGID = 0o1000, 0o2000
# Flags of an inode that refuse even the superuser (ioctl_iflags(2)) are kept above the twelve bits of the mode.
IMMUTABLE, APPEND_ONLY = 0o10000, 0o20000
_UNREAD = 0xFFFF  # no mode has so many bits: a list that could not be read
NO_ENTRIES = b""

# Entry tags of the extended attribute system.posix_acl_access (linux/posix_acl_xattr.h).
USER_OBJ, USER, GROUP_OBJ, GROUP, MASK, OTHER = 0x01, 0x02, 0x04, 0x08, 0x10, 0x20
_HEAD = struct.Struct("<HI")
_ENTRY = struct.Struct("<HHI")
_TAGS = {USER_OBJ: "user", USER: "user", GROUP_OBJ: "group", GROUP: "group", MASK: "mask", OTHER: "other"}
_FLAG_WORDS = {
    IMMUTABLE: "immutable: nobody may change it",
    APPEND_ONLY: "append-only: it may only be added to",
}
_WORDS = {USER_OBJ: "owner", GROUP_OBJ: "its own group", MASK: "mask", OTHER: "everyone else"}


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: its tag, permission bits (0–7) and, for named ones, the uid or gid (0–2³²−1)."""

    tag: int
    perm: int
    ident: int = 0xFFFFFFFF

    def __str__(self) -> str:
        """Return the entry as acl(5) writes it, with numbers."""
        ident = str(self.ident) if self.tag in (USER, GROUP) else ""
        return f"{_TAGS[self.tag]}:{ident}:{_spell(self.perm)}"

    def word(self, names: Names) -> str:
        """Return the entry with the name behind its number, which stays beside it."""
        match self.tag:
            case 0x02:
                return f"user {names.user(str(self.ident))} ({self.ident}) {_spell(self.perm)}"
            case 0x08:
                return f"group {names.group(str(self.ident))} ({self.ident}) {_spell(self.perm)}"
            case _:
                return f"{_WORDS[self.tag]} {_spell(self.perm) if self.perm else 'nothing (---)'}"


@dataclass(frozen=True, slots=True)
class PosixList:
    """Mode bits (12), owning group, and the entries of the list (empty where the mode is all)."""

    mode: int
    gid: str
    named_users: tuple[tuple[str, int], ...]
    group_obj: int
    named_groups: tuple[tuple[str, int], ...]
    mask: int | None
    has_entries: bool

    @property
    def named(self) -> frozenset[str]:
        """The identifiers that its entries name, the owning group's among them."""
        return frozenset([self.gid, *(ident for ident, _ in (*self.named_users, *self.named_groups))])

    def decide(self, context: ItemContext, holder: Holder) -> Decision:
        """Decide for one holder; the superuser's override is not part of the list (see `overrides`)."""
        if self.mode == _UNREAD:
            return Decision(Right.NONE, (_NOT_READ,), is_unsure=True)
        match = _match(self, context, holder)
        cut = 7 if match.mask is None else match.mask
        # Several group entries may match, and each is asked alone: r of one and w of another are not rw (acl(5)).
        left = [entry.perm & cut for entry in match.entries]
        owns = holder.user == context.owner
        rights = _rights(
            any(perm & _R for perm in left),
            any(perm & _W for perm in left),
            any(perm & _X for perm in left),
            any(perm & _WX == _WX for perm in left),
            self.mode,
            folder=context.is_folder,
            own=owns,
        )
        reasons = tuple(_reasons(match, rights, folder=context.is_folder))
        if owns:
            rights |= Right.MANAGE
            reasons += (Reason(Effect.GRANTS, "owner", Right.MANAGE, "the owner may change the list"),)
        elif context.is_folder and rights & Right.CLEAR_OWN:
            reasons += (Reason(Effect.LIMITS, "sticky", Right.CLEAR_OWN, "only one's own items may be removed"),)
        return Decision(rights, reasons)

    def decide_all(self, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
        """Decide for a crowd at once; the same rules on bit sets."""
        mode = self.mode
        if mode == _UNREAD:
            return {Right.UNSURE: crowd.all}, {Right.UNSURE: crowd.all}
        own = [crowd.all if allowed else 0 for allowed in _requests(mode >> 6 & 7)]
        return (
            self._as_rights(self._sets_of_others(crowd), 0, mode, is_folder, own=False),
            self._as_rights(own, crowd.all, mode, is_folder, own=True),
        )

    @staticmethod
    def _as_rights(sets: list[int], manage: int, mode: int, is_folder: bool, *, own: bool) -> RightSets:
        read, write, enter, change = sets
        if not is_folder:
            return {Right.READ: read, Right.CHANGE: write, Right.MANAGE: manage}
        return {
            Right.ENTER: enter,
            Right.LIST: read,
            Right.READ: read & enter,
            Right.ADD: change,
            # In a sticky folder only what is one's own may go, but for the folder's owner (inode(7)).
            Right.CLEAR_OWN if mode & _STICKY and not own else Right.CLEAR: change,
            Right.MANAGE: manage,
        }

    def _sets_of_others(self, crowd: Crowd) -> list[int]:
        mode = self.mode
        sets = [0, 0, 0, 0]
        rest = crowd.all
        # The kernel looks at entries only where the group bits, which stand for the mask, are not all off.
        by_list = self.has_entries and mode & 0o070
        if by_list:
            cut = 7 if self.mask is None else self.mask
            for ident, perm in self.named_users:
                who = crowd.by_user.get(ident, 0) & rest
                # A user entry decides alone: no group of theirs is looked at after it.
                rest &= ~who
                _allow(sets, who, perm & cut)
            groups = [(self.gid, self.group_obj & cut)]
            groups += [(ident, perm & cut) for ident, perm in self.named_groups]
        else:
            groups = [(self.gid, mode >> 3 & 7)]
        matched = 0
        for ident, perm in groups:
            who = crowd.by_group.get(ident, 0) & rest
            matched |= who
            _allow(sets, who, perm)
        # Whoever matched any group is not "other", even where no group entry gave anything.
        _allow(sets, rest & ~matched, mode & 7)
        return sets

    @property
    def entries(self) -> list[Entry]:
        """The entries in the order of the text form (acl(5)); those that the mode stands for among them."""
        found = [Entry(USER_OBJ, self.mode >> 6 & 7)]
        found += [Entry(USER, perm, int(ident)) for ident, perm in self.named_users]
        found.append(Entry(GROUP_OBJ, self.group_obj))
        found += [Entry(GROUP, perm, int(ident)) for ident, perm in self.named_groups]
        if self.mask is not None:
            found.append(Entry(MASK, self.mask))
        return [*found, Entry(OTHER, self.mode & 7)]

    def describe(self, names: Names, *, is_folder: bool = True) -> list[str]:
        """Return the entries in words, in the order of the text form."""
        if self.mode == _UNREAD:
            return ["a list that could not be read"]
        flags = [word for bit, word in _FLAG_WORDS.items() if self.mode & bit]
        return [entry.word(names) for entry in self.entries] + [f"flag {word}" for word in flags]

    def locked(self, *, is_folder: bool) -> Right:
        """Return what the flags of the inode keep from everybody, whatever lists and roles give.

        An immutable item is not changed, and nothing is made or removed in it; an append-only folder may be added to,
        and an append-only file cannot be opened for writing anywhere but at its end (ioctl_iflags(2)).
        """
        if self.mode == _UNREAD or not self.mode & (IMMUTABLE | APPEND_ONLY):
            return Right.NONE
        if not is_folder:
            return Right.CHANGE | Right.DELETE | Right.MANAGE
        locked = Right.DELETE | Right.MANAGE | Right.CLEAR | Right.CLEAR_OWN
        return locked | Right.ADD if self.mode & IMMUTABLE else locked

    def view(self, *, is_folder: bool) -> ListView:
        """Return what the checks want to know; named entries count as the mask leaves them."""
        mode = self.mode
        if mode == _UNREAD:
            return ListView({}, {}, Right.NONE, True, False, unsure=1)
        cut = 7 if self.mask is None else self.mask
        live = bool(mode & 0o070)

        def given(perm: int) -> Right:
            return _rights(*_requests(perm), mode, folder=is_folder, own=False)

        users = {ident: given(perm & cut) if live else Right.NONE for ident, perm in self.named_users}
        groups = {ident: given(perm & cut) if live else Right.NONE for ident, perm in self.named_groups}
        # With a mask the group bits of the mode are the mask, and the owning group has an entry of its own.
        own = self.group_obj & cut if self.has_entries and live else mode >> 3 & 7
        groups[self.gid] = groups.get(self.gid, Right.NONE) | given(own)
        return ListView(users, groups, given(mode & 7), not self.has_entries, bool(mode & _STICKY))


def pack_body(mode: int, gid: int, entries: bytes = NO_ENTRIES, flags: int = 0) -> bytes:
    """Pack the stored form: 12 mode bits, the owning gid, entries as in the Linux attribute, and flags of the inode.

    Flags are `IMMUTABLE` and `APPEND_ONLY`.
    """
    return _HEAD.pack(mode & 0o7777 | flags, gid) + entries


def pack_entries(entries: Iterable[Entry]) -> bytes:
    """Pack entries as the kernel wants them: sorted by tag and identifier."""
    ordered = sorted(entries, key=lambda entry: (entry.tag, entry.ident))
    return b"".join(_ENTRY.pack(entry.tag, entry.perm, entry.ident) for entry in ordered)


def unpack_entries(body: bytes) -> list[Entry]:
    """Return the entries of a stored list, those that its mode stands for where it has none of its own."""
    mode = _HEAD.unpack_from(body)[0]
    found = [Entry(*each) for each in _ENTRY.iter_unpack(body[_HEAD.size :])]
    if found:
        return found
    return [Entry(USER_OBJ, mode >> 6 & 7), Entry(GROUP_OBJ, mode >> 3 & 7), Entry(OTHER, mode & 7)]


def _parse(body: bytes) -> PosixList:
    if len(body) < _HEAD.size or (len(body) - _HEAD.size) % _ENTRY.size:
        raise FormatError("a stored POSIX list has a length that no list has", f"{len(body)} bytes")
    mode, gid = _HEAD.unpack_from(body)
    users: list[tuple[str, int]] = []
    groups: list[tuple[str, int]] = []
    group_obj, mask = mode >> 3 & 7, None
    for tag, perm, ident in _ENTRY.iter_unpack(body[_HEAD.size :]):
        if tag == USER:
            users.append((str(ident), perm))
        elif tag == GROUP:
            groups.append((str(ident), perm))
        elif tag == GROUP_OBJ:
            group_obj = perm
        elif tag == MASK:
            mask = perm
    has_entries = len(body) > _HEAD.size
    return PosixList(mode, str(gid), tuple(users), group_obj, tuple(groups), mask, has_entries)


_NOT_READ = Reason(Effect.LIMITS, "list", Right.NONE, "the list could not be read: what it says is unknown")


def _spell(perm: int) -> str:
    return "".join(letter if perm & bit else "-" for bit, letter in ((_R, "r"), (_W, "w"), (_X, "x")))


def _rights(read: bool, write: bool, enter: bool, change: bool, mode: int, *, folder: bool, own: bool) -> Right:
    """Translate the four requests (r, w, x, and w with x) into rights on a folder or a file."""
    if not folder:
        return (Right.READ if read else Right.NONE) | (Right.CHANGE if write else Right.NONE)
    rights = Right.NONE
    if read:
        rights |= Right.LIST
    if enter:
        rights |= Right.ENTER
    if read and enter:
        rights |= Right.READ
    if change:
        rights |= Right.ADD
        rights |= Right.CLEAR_OWN if mode & _STICKY and not own else Right.CLEAR
    return rights


@dataclass(frozen=True, slots=True)
class _Match:
    """The entries that decide for one holder: one alone, or several of the group class."""

    entries: tuple[Entry, ...]
    mask: int | None
    because: str


def _match(parsed: PosixList, context: ItemContext, holder: Holder) -> _Match:
    mode = parsed.mode
    if holder.user == context.owner:
        return _Match((Entry(USER_OBJ, mode >> 6 & 7),), None, "owns it; the owner's bits decide alone")
    if parsed.has_entries and mode & 0o070:
        for ident, perm in parsed.named_users:
            if ident == holder.user:
                entry = Entry(USER, perm, int(ident))
                return _Match((entry,), parsed.mask, "named by a user entry, which decides alone")
        found = [Entry(GROUP_OBJ, parsed.group_obj)] if parsed.gid in holder.groups else []
        found += [Entry(GROUP, perm, int(ident)) for ident, perm in parsed.named_groups if ident in holder.groups]
        if found:
            return _Match(
                tuple(found), parsed.mask, "in a group named here; one group alone must give all that is asked"
            )
    elif parsed.gid in holder.groups:
        return _Match((Entry(GROUP_OBJ, mode >> 3 & 7),), None, f"is in the owning group {parsed.gid}")
    return _Match((Entry(OTHER, mode & 7),), None, "neither the owner, nor named, nor in a group named here")


def _reasons(match: _Match, rights: Right, *, folder: bool) -> Iterable[Reason]:
    cut = 7 if match.mask is None else match.mask
    for entry in match.entries:
        left = entry.perm & cut
        given = _rights(*_requests(left), 0, folder=folder, own=False) & ~(Right.CLEAR | Right.CLEAR_OWN)
        effect = Effect.GRANTS if left else Effect.STOPS
        yield Reason(effect, entry, given & rights, match.because)
        if left != entry.perm:
            yield Reason(Effect.LIMITS, Entry(MASK, cut), given, f"cuts {entry} to {_spell(left)}")


def _requests(perm: int) -> tuple[bool, bool, bool, bool]:
    return bool(perm & _R), bool(perm & _W), bool(perm & _X), perm & _WX == _WX


class PosixModel:
    """The list model ``posix``."""

    name = "posix"
    asks_enter = True
    groups_may_own = False
    has_defaults = True
    everyone_has: frozenset[str] = frozenset()
    known: Mapping[str, str] = {}
    unread = _HEAD.pack(_UNREAD, 0xFFFFFFFF)

    def parse(self, body: bytes) -> PosixList:
        """Parse a body made by `pack_body`."""
        return _parse(body)

    def owns(self, holder: Holder, owner: str) -> bool:
        """Tell whether a holder counts as the owner."""
        return holder.user == owner

    def group_of(self, body: bytes) -> str:
        """Return the owning group."""
        return str(_HEAD.unpack_from(body)[1]) if len(body) >= _HEAD.size else ""

    def overrides(self, holder: Holder) -> Reason | None:
        """Return everything for uid 0, under whatever name (CAP_DAC_OVERRIDE, CAP_FOWNER)."""
        if holder.user != "0":
            return override_of(holder)
        return Reason(Effect.GRANTS, "uid 0", ALL_RIGHTS, "the superuser, whatever the lists say")

    def new_child(self, above: bytes, default: bytes | None, maker: Maker, *, is_folder: bool) -> bytes:
        """Return what a new child gets: the default list, cut by the usual mode of making, 0777 or 0666.

        Without a default list it has the mode that the usual umask 022 leaves. A setgid folder gives it its
        group (acl(5), "Object creation and default ACLs"; inode(7)).
        """
        mode, gid = _HEAD.unpack_from(above)
        asked = 7 if is_folder else 6
        kept = mode & _SETGID if is_folder else 0  # and never the flags of the inode
        # A setgid folder hands its group down, and to folders the setgid bit too.
        gid = gid if mode & _SETGID else int(maker.group or 0)
        if default is None:
            return pack_body(kept | asked << 6 | (asked & 5) << 3 | asked & 5, gid)
        found = [list(entry) for entry in _ENTRY.iter_unpack(default[_HEAD.size :])]
        # The mode asked for cuts the owner, other, and of the group class the mask, or the group without one.
        cut = MASK if any(entry[0] == MASK for entry in found) else GROUP_OBJ
        perms = {USER_OBJ: 0, cut: 0, OTHER: 0}
        for entry in found:
            if entry[0] in perms:
                entry[1] = perms[entry[0]] = entry[1] & asked
        entries = b"".join(_ENTRY.pack(*entry) for entry in found) if len(found) > 3 else NO_ENTRIES
        return pack_body(kept | perms[USER_OBJ] << 6 | perms[cut] << 3 | perms[OTHER], gid, entries)

    def may_lock(self, body: bytes) -> bool:
        """Tell whether a body has a flag of the inode."""
        mode = _HEAD.unpack_from(body)[0] if len(body) >= _HEAD.size else 0
        return bool(mode & (IMMUTABLE | APPEND_ONLY)) and mode != _UNREAD

    def passes_on(self, above: bytes) -> bool:
        """Tell it of the default list, which says so itself; the mode is told of as such."""
        return True

    def pushed(self, above: bytes, child: bytes, owner: str, *, keeps_own: bool, is_folder: bool) -> bytes:
        """Return a child's body with the entries of `above`, a default list: no entry can be told to be its own."""
        mode, gid = _HEAD.unpack_from(child)
        return self.new_child(pack_body(mode & _SETGID, gid), above, Maker(owner, str(gid)), is_folder=is_folder)

    def followed(self, old: bytes, new: bytes, child: bytes, owner: str, *, is_folder: bool) -> bytes:
        """Return the child's body as it is: each item has a list of its own."""
        return child


def _allow(sets: list[int], who: int, perm: int) -> None:
    if who and perm:
        for number, allowed in enumerate(_requests(perm)):
            if allowed:
                sets[number] |= who
