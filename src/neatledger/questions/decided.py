"""What was decided in reviews, above the plan: what somebody who answers for a folder took away is not given back."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.lists.rights import LEVEL_RIGHTS, Right
from neatledger.core.reviews.pack import Choice, Decision
from neatledger.core.tree.address import Address
from neatledger.questions.office import Office

__all__ = ["Decided", "newest_decisions"]


def newest_decisions(office: Office) -> list[Decision]:
    """Return what was decided until the day of the question, the newest decision on each person and folder."""
    newest: dict[tuple[Address, str], Decision] = {}
    _, taken = office.ledger.reviews.read()
    for answer in taken:
        for decision in answer.decisions:
            key = decision.row.folder, decision.row.person
            if decision.day <= office.today and (key not in newest or newest[key].day <= decision.day):
                newest[key] = decision
    return list(newest.values())


class Decided:
    """The decisions that took something away, as they bound what the plan gives."""

    def __init__(self, decisions: Iterable[Decision]) -> None:
        self._taken: dict[str, list[Decision]] = {}
        for one in decisions:
            self._taken.setdefault(one.row.person, []).append(one)

    def over(self, address: Address, person: str) -> Decision | None:
        """Return what bounds somebody on a folder: the decision on it, or on the nearest above that has one."""
        found = [one for one in self._taken.get(person, ()) if address.is_within(one.row.folder)]
        nearest = max(found, key=lambda one: len(one.row.folder.parts), default=None)
        return None if nearest is None or nearest.choice is Choice.KEEP else nearest

    def bounded(self, address: Address, person: str, rights: Right) -> Right:
        """Return of what the plan gives somebody on a folder that which was left to them."""
        decision = self.over(address, person)
        return rights if decision is None else rights & LEVEL_RIGHTS[decision.left]

    def why(self, address: Address, person: str) -> str:
        """Say that it was decided so, and what is to be said in the plan; nothing where nothing was decided."""
        decision = self.over(address, person)
        if decision is None:
            return ""
        return (
            f"a review took it away on {decision.day} ({decision.row.folder}: {decision.left.value}), and the plan"
            " still gives it: change it there, or decide anew"
        )
