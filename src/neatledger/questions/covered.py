"""What the logs of a system cover: only there can it be said that something was not done."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import TYPE_CHECKING

from neatledger.questions.days import begin_of
from neatledger.questions.lognames import logs_of
from neatledger.questions.office import Office

if TYPE_CHECKING:
    from neatledger.core.trail.coverage import Coverage

__all__ = ["coverage_of"]


def coverage_of(office: Office, system: str) -> Coverage | None:
    """Return what the logs that the plan names for a system cover, up to the day of the question.

    None where not all of them were read.
    """
    found = office.ledger.trail.coverage(system, logs_of(office, system))
    end = begin_of(office.today + timedelta(days=1))
    return None if found is None or found.first >= end else replace(found, until=min(found.until, end))
