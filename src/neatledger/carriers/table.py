"""The carriers by the source that a system is read from; adding one is a file beside this one and a row here."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Any

from neatledger.carriers.contract import ByHand, Carrier, CarrierContext
from neatledger.core.steps.contract import Step
from neatledger.errors import StepError

__all__ = ["CARRIERS", "by_hand", "load_carrier"]

CARRIERS: dict[str, tuple[str, str]] = {
    "tree": ("neatledger.carriers.tree", "TreeCarrier"),
}
"""Source → the module of its carrier, with `by_hand` in it, and the class there."""


def by_hand(source: str, step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step on a system of this source; nothing where its carrier can."""
    if source not in CARRIERS:
        return "a system of this sort is changed by its own tools"
    ask: ByHand = import_module(CARRIERS[source][0]).by_hand
    return ask(step, settings)


def load_carrier(source: str, context: CarrierContext) -> Carrier:
    """Return the carrier of a system; raises `StepError` where a system of this sort is changed by people alone."""
    if source not in CARRIERS:
        raise StepError("a system of this sort is changed by its own tools", context.system, "mend gives the texts")
    module, name = CARRIERS[source]
    carrier: Carrier = getattr(import_module(module), name)(context)
    return carrier
