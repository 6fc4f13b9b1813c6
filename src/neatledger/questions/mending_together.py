"""Steps that let those work together who may write in a folder: what one of them makes, the others can change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan
from neatledger.core.steps.lists import ListStep
from neatledger.core.steps.together import find_apart, planned_alike, together_item
from neatledger.core.steps.wanted import Meant
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions.mending_grants import grants_on, members_of_groups

__all__ = ["together_steps"]


def together_steps(
    plan: Plan,
    state: ImaginedReader,
    people: Sequence[Principal],
    below: Address | None = None,
) -> Iterator[ListStep]:
    """Yield steps on the folders where the plan lets a group write, and what is made is its maker's alone."""
    system, folders = state.system, state.table("folders")
    path_of = folder_paths(folders)
    members = members_of_groups(people, {group.ident: group.name for group in state.groups})
    for planned, writers, rows in planned_alike(plan, system, folders, people):
        rights = {one.person: plan.rights_at(planned.address, one.person)[0] for one in people}
        grants = grants_on(plan, system, planned.address, state)
        meant = Meant(state.model, people, rights, grants, members)
        for row in rows:
            address = Address(system, path_of(row))
            item = state.folder_state(address.path)
            if item is None or (below is not None and not address.is_within(below)):
                continue
            try:
                apart = find_apart(state.model, item, meant, writers)
                after = None if apart is None else together_item(item, meant, writers)
            except StepError:
                continue
            if after is not None:
                yield ListStep(system, address.path, state.model, item, after)
