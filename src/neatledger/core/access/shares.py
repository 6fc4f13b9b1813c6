"""What stands before the lists of a system: its shares with their own permission, and read-only switches.

A share publishes a folder and all below it. Its permission is an NT list of its own: who is not on it gets
no connection; what it does not give, nobody gets through the share, whatever the lists below say; and
whose permission lacks the right to write data is connected read-only (MS-SMB2 section 3.3.5.7 with
MS-SRVS section 2.2.4.25). A folder may lie under several shares; each is a way of its own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from neatledger.core.lists.contract import AccessList, Decision, Effect, ItemContext, ListModel, Reason, RightSets
from neatledger.core.lists.doubt import judge, judge_all
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.nt import NtModel
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.lists.subjects import Subject
from neatledger.core.tree.address import parts_of

__all__ = ["WRITING", "Mount", "Share", "SystemTerms", "open_to_all", "shares_within"]

WRITING = Right.ADD | Right.CHANGE | Right.DELETE | Right.CLEAR | Right.CLEAR_OWN | Right.MANAGE
_NT = NtModel()


def open_to_all() -> bytes:
    """Return the body of a share's permission that lets everyone do everything."""
    return b"\0\0\0"


@dataclass(frozen=True)
class Share:
    """One share: its name, the path of its folder in the system, its permission (an NT body), its switch.

    A name that ends with a dollar sign is not shown to people who browse the server. A server's own switches stand in
    no descriptor: `enters` are the identifiers that may come in at all (None: all), `writers` those that may write
    though it is read-only; where `is_write_untold`, nobody knows who may write. Where `are_names_unknown`, these were
    said by names that nobody has, and whether others are meant by them nobody knows.
    """

    name: str
    path: bytes
    body: bytes = field(default_factory=open_to_all)
    read_only: bool = False
    place: str = ""  # the path of its folder on the server itself, where that is told
    enters: frozenset[str] | None = None
    writers: frozenset[str] = frozenset()
    is_write_untold: bool = False
    are_names_unknown: bool = False

    @cached_property
    def parts(self) -> tuple[bytes, ...]:
        """The names on the way down to its folder."""
        return parts_of(self.path)

    @property
    def is_hidden(self) -> bool:
        """Tell whether people who browse the server do not see it."""
        return self.name.endswith("$")

    def lies_in(self, other: Share) -> bool:
        """Tell whether the server's folder of this share is that of another, or below it."""
        mine, theirs = (one.place.replace("\\", "/").rstrip("/").casefold() for one in (self, other))
        return bool(mine and theirs) and (mine == theirs or mine.startswith(theirs + "/"))

    @cached_property
    def _list(self) -> AccessList:
        return _NT.parse(self.body)

    def decide(self, holder: Holder) -> Decision:
        """Return what the permission and the switches let through for one holder, with reasons."""
        folder = judge(self._list, ItemContext("\0", True), holder)
        file = judge(self._list, ItemContext("\0", False), holder)
        rights = folder.rights | file.rights
        is_unsure = folder.is_unsure or file.is_unsure
        # The bits for sticky folders are not NT's: they follow the one for deleting children.
        rights |= Right.CLEAR_OWN if rights & Right.CLEAR else Right.NONE
        if self.enters is not None and not holder.idents & self.enters:
            if not holder.maybe & self.enters and not self.are_names_unknown:
                reason = Reason(Effect.STOPS, self.name, Right.NONE, "the share lets only some in, and not them")
                return Decision(Right.NONE, (reason,))
            is_unsure = True
        reads_only = self.is_read_only_for(holder)
        if not rights & (Right.READ | Right.ADD):
            rights = Right.NONE
        elif reads_only or not rights & Right.ADD:
            is_perhaps = bool(holder.maybe & self.writers) or self.are_names_unknown
            is_unsure |= reads_only and bool(rights & Right.ADD) and is_perhaps
            rights &= ~WRITING
        elif self.is_write_untold:
            reason = Reason(Effect.LIMITS, self.name, Right.NONE, "whether anybody may write in it was not told")
            return Decision(rights & ~WRITING, (*folder.reasons, reason), True)
        return Decision(rights, folder.reasons, is_unsure)

    def is_read_only_for(self, holder: Holder) -> bool:
        """Tell whether the switch keeps a holder from writing."""
        return self.read_only and not holder.idents & self.writers

    def decide_all(self, crowd: Crowd) -> RightSets:
        """Decide for a crowd; under `Right.NONE` who gets a connection at all."""
        sets: RightSets = dict.fromkeys(EVERY_RIGHT & ~Right.SHARE, 0)
        sets[Right.UNSURE] = 0
        for is_folder in (True, False):
            for right, who in judge_all(self._list, crowd, is_folder=is_folder)[0].items():
                sets[right] = sets.get(right, 0) | who
        sets[Right.CLEAR_OWN] = sets[Right.CLEAR]
        reads, writes = sets[Right.READ], sets[Right.ADD]
        sure, perhaps = _among(crowd, self.enters)
        may_write, may_perhaps = _among(crowd, self.writers) if self.read_only else (crowd.all, 0)
        if self.are_names_unknown:
            perhaps, may_perhaps = crowd.all & ~sure, crowd.all & ~may_write
        unsure = sets[Right.UNSURE] | perhaps | (may_perhaps & writes)
        if self.is_write_untold:
            unsure |= writes & may_write
            may_write = 0
        connects = 0
        for right in [right for right in sets if right is not Right.UNSURE]:
            sets[right] &= writes & may_write if right & WRITING else reads | writes
            sets[right] &= sure | perhaps
            connects |= sets[right]
        sets[Right.NONE] = connects
        sets[Right.UNSURE] = unsure & (sure | perhaps)
        return sets

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps."""
        path = self.path.decode("utf-8", "surrogateescape")
        facts: dict[str, Any] = {"name": self.name, "path": path, "list": self.body.hex()}
        facts |= {"read_only": self.read_only, "place": self.place}
        if self.enters is not None:
            facts["enters"] = sorted(self.enters)
        if self.writers:
            facts["writers"] = sorted(self.writers)
        facts |= {"is_write_untold": True} if self.is_write_untold else {}
        return facts | ({"are_names_unknown": True} if self.are_names_unknown else {})

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Share:
        """Return a share from what the ledger keeps."""
        path = facts["path"].encode("utf-8", "surrogateescape")
        return cls(
            facts["name"],
            path,
            bytes.fromhex(facts["list"]),
            bool(facts["read_only"]),
            facts.get("place", ""),
            frozenset(facts["enters"]) if "enters" in facts else None,
            frozenset(facts.get("writers", ())),
            bool(facts.get("is_write_untold")),
            bool(facts.get("are_names_unknown")),
        )


def _among(crowd: Crowd, idents: frozenset[str] | None) -> tuple[int, int]:
    """Return who is among some identifiers, and who may be or not; all for None."""
    if idents is None:
        return crowd.all, 0
    sure = perhaps = 0
    for ident in idents:
        sure |= Subject.EITHER.among(ident, crowd, False)
        perhaps |= crowd.maybe.get(ident, 0)
    return sure, perhaps & ~sure


def shares_within(shares: Sequence[Share]) -> list[tuple[Share, Share]]:
    """Return the shares whose folder lies in that of another one, with it; of two of one folder the later one."""
    return [
        (share, other)
        for place, share in enumerate(shares)
        for number, other in enumerate(shares)
        if number != place and share.lies_in(other) and not (other.lies_in(share) and number > place)
    ]


@dataclass(frozen=True, slots=True)
class Mount:
    """A folder of the tree at which something else is mounted: the names down to it, and whether it is read-only."""

    parts: tuple[bytes, ...]
    read_only: bool


@dataclass(frozen=True)
class SystemTerms:
    """The terms on which a system lets people to its lists.

    `model` is the model of its lists; `asks_enter`: the right to enter is asked for on every folder on the way
    down. `shares` is None where a system has no shares of its own: its root is what people reach. `read_only` holds
    for what lies under none of `mounts`; of these the innermost one decides.
    """

    model: ListModel
    asks_enter: bool
    read_only: bool = False
    shares: tuple[Share, ...] | None = None
    mounts: tuple[Mount, ...] = ()

    def mount_over(self, parts: Sequence[bytes]) -> Mount | None:
        """Return the mount that is in force at a folder, None where that is the system's own."""
        found = [mount for mount in self.mounts if tuple(parts[: len(mount.parts)]) == mount.parts]
        return max(found, key=lambda mount: len(mount.parts), default=None)

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any], model: ListModel) -> SystemTerms:
        """Return the terms that a count keeps of a system."""
        shares = facts.get("shares")
        return cls(
            model,
            bool(facts.get("asks_enter", model.asks_enter)),
            bool(facts.get("read_only")),
            None if shares is None else tuple(Share.of_facts(each) for each in shares),
            tuple(
                Mount(parts_of(each["path"].encode("utf-8", "surrogateescape")), bool(each["read_only"]))
                for each in facts.get("mount_points", ())
            ),
        )

    def covering(self, parts: Sequence[bytes]) -> list[Share]:
        """Return the shares that a path lies in, the outermost first."""
        found = [share for share in self.shares or () if tuple(parts[: len(share.parts)]) == share.parts]
        return sorted(found, key=lambda share: len(share.parts))
