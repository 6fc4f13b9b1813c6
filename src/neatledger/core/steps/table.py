"""The kinds of steps, and steps as values of JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.devices import DeviceStep
from neatledger.core.steps.folders import FolderStep, PushStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.teams import TeamStep
from neatledger.errors import FormatError

__all__ = ["KINDS", "step_of_facts", "step_to_facts"]

KINDS: dict[str, type[Step]] = {
    one.kind: one
    for one in (
        ListStep, FilesStep, PushStep, FolderStep, ShareStep, GroupStep, MemberStep, AccountStep, ServiceStep,
        WholeAccountStep, LimitStep, TeamStep, HandOutStep, LinkStep, DeviceStep,
    )
}  # fmt: skip
"""Kind → class, in the order in which worklists show them."""


def step_to_facts(step: Step) -> dict[str, Any]:
    """Return a step as values of JSON."""
    return {"kind": step.kind, "system": step.system, **step.to_facts()}


def step_of_facts(facts: Any) -> Step:
    """Return the step that `step_to_facts` wrote down; raises `FormatError`."""
    try:
        if not isinstance(facts, Mapping) or facts["kind"] not in KINDS:
            raise ValueError("no known kind")
        return KINDS[facts["kind"]].of_facts(str(facts["system"]), facts)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise FormatError(f"not a step: {error}", str(facts)[:60]) from None
