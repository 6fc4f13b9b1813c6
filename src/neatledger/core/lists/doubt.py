"""Lists put to holders of whom it is not told whether they are in some of the groups that the lists name.

Where a system did not tell all members of a group, everyone else on it may be in it or not. An answer is sure where
it is the same either way, and unknown where it hangs on that. It is enough to ask as if in one such group at a time:
in an ordered list the first entry that speaks of a bit decides it, so whatever groups one is in, one entry decides,
and one group makes it speak; in a POSIX list more groups only add to what each gives alone.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from neatledger.core.lists.contract import (
    AccessList,
    Decision,
    Effect,
    ItemContext,
    ListModel,
    Names,
    Reason,
    RightSets,
)
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Right

__all__ = ["WHO_IS_NOT_TOLD", "UntoldGroup", "judge", "judge_all", "judge_item", "judge_owners"]

WHO_IS_NOT_TOLD = "who is in it was not all told: they may be or not"
"""Why it is unknown what a group gives to somebody."""


@dataclass(frozen=True, slots=True)
class UntoldGroup:
    """A group whose members were not all told, as the reason why an answer is unknown."""

    ident: str

    def __str__(self) -> str:
        """Return the group with its identifier."""
        return f"group {self.ident}"

    def word(self, names: Names) -> str:
        """Return the group with its name."""
        return f"group {names.holder(self.ident)}"


def judge(access_list: AccessList, context: ItemContext, holder: Holder) -> Decision:
    """Decide for one holder; unsure where that hangs on a group whose members were not all told."""
    decision = access_list.decide(context, holder)
    if not holder.maybe:
        return decision
    reasons = []
    for group in sorted(holder.maybe & (access_list.named | {context.owner})):
        # Whoever is in the group that owns an item owns it; what the entries say to its members is asked by itself.
        may_own = group == context.owner != holder.user
        contexts = [context, replace(context, owner="")] if may_own else [context]
        others = [access_list.decide(one, holder.as_in(group)) for one in contexts]
        if any(other.rights != decision.rights or other.is_unsure for other in others):
            reasons.append(Reason(Effect.LIMITS, UntoldGroup(group), Right.NONE, WHO_IS_NOT_TOLD))
    if not reasons:
        return decision
    return replace(decision, reasons=(*decision.reasons, *reasons), is_unsure=True)


def judge_all(access_list: AccessList, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
    """Decide for a crowd as `AccessList.decide_all` does; under `Right.UNSURE` also who may be in groups or not."""
    forms = access_list.decide_all(crowd, is_folder=is_folder)
    if not crowd.maybe:
        return forms
    for group in crowd.maybe.keys() & access_list.named:
        others = access_list.decide_all(crowd.as_in(group), is_folder=is_folder)
        forms = _with_doubt(forms[0], others[0]), _with_doubt(forms[1], others[1])
    return forms


def judge_item(model: ListModel, owner: str, body: bytes, crowd: Crowd, *, is_folder: bool) -> dict[Right, int]:
    """Return by right to whom an item's list gives it, its owner among them."""
    others, owners = judge_all(model.parse(body), crowd, is_folder=is_folder)
    mine = crowd.by_user.get(owner, 0)
    mine |= crowd.by_group.get(owner, 0) if model.groups_may_own else 0
    return {
        right: (owners.get(right, 0) & mine) | (others.get(right, 0) & ~mine)
        for right in others.keys() | owners.keys()
    }


def judge_owners(access_list: AccessList, crowd: Crowd, group: str, *, is_folder: bool) -> int:
    """Return who may be in a group, and so own what it owns, with another answer than they have without."""
    without, _ = access_list.decide_all(crowd, is_folder=is_folder)
    _, within = access_list.decide_all(crowd.as_in(group), is_folder=is_folder)
    return _with_doubt(without, within)[Right.UNSURE] & crowd.maybe.get(group, 0)


def _with_doubt(sets: RightSets, others: RightSets) -> RightSets:
    unsure = sets.get(Right.UNSURE, 0) | others.get(Right.UNSURE, 0)
    for right in sets.keys() | others.keys():
        unsure |= sets.get(right, 0) ^ others.get(right, 0)
    return sets | {Right.UNSURE: unsure}
