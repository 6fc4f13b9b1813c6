"""The office as it would be after some steps: every question can be put to it as to the one that was found."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.steps.contract import Step
from neatledger.ledger.imagined import imagine
from neatledger.questions.office import Office

__all__ = ["imagined_office"]


def imagined_office(office: Office, steps: Iterable[Step]) -> Office:
    """Return an office as it would be; raises `StepError` where a step does not fit."""
    return office.with_(imagined=imagine(office.readers, office.imagined, steps))
