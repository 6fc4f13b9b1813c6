"""What is left of an account that some steps close: the groups that it stays in, and what is open by it."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.survey.accounts import AccountState
from neatledger.questions.office import Office

__all__ = ["remains_of_closed"]


def remains_of_closed(then: Office, steps: Sequence[Step]) -> list[str]:
    """Say of the accounts that some steps close which groups they stay in; `then` is the office after these."""
    parts = []
    closed = [one for one in steps if isinstance(one, AccountStep) and one.after is not AccountState.OPEN]
    for step in closed:
        reader = then.imagined.get(step.system) or then.readers.get(step.system)
        groups = [] if reader is None else [one.name for one in reader.groups if step.login in one.members]
        if groups:
            parts.append(f"{step.login} on {step.system} in {', '.join(groups)}")
    if not closed:
        return []
    stays = [f"Closed accounts stay in groups: {'; '.join(parts)}."] if parts else []
    return [*stays, "What is open by a closed account (sessions, files) stays open until it ends."]
