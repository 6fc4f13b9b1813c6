"""What the logs of a system cover: only there can it be said that something was not done."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from typing import TYPE_CHECKING

from neatledger.questions.days import begin_of
from neatledger.questions.lognames import logs_of
from neatledger.questions.office import Office

if TYPE_CHECKING:
    from neatledger.core.trail.coverage import Coverage

__all__ = ["coverage_of", "short_of_today"]


def coverage_of(office: Office, system: str) -> Coverage | None:
    """Return what the logs that the plan names for a system cover, up to the day of the question.

    None where not all of them were read.
    """
    found = office.ledger.trail.coverage(system, logs_of(office, system))
    end = begin_of(office.today + timedelta(days=1))
    return None if found is None or found.first >= end else replace(found, until=min(found.until, end))


def short_of_today(office: Office, since: date) -> list[str]:
    """Say of each system of the plan how far what its log tells lacks of today; nothing where it lacks nothing.

    Where something was not done by the logs, it was only not done as far as they reach. A log in which nothing at
    all stands from some day on (`since`) may not be written any more.
    """
    found = []
    for system in office.plan.systems:
        coverage, logs = coverage_of(office, system), logs_of(office, system)
        known = [one for one in (office.ledger.trail.last_known(system, log) for log in logs) if one]
        last = max((moment for moment, _ in known), default=None)
        if not logs:
            found.append(f"{system} keeps no log that the plan names")
        elif coverage is None or last is None:
            found.append(f"the log of {system} was not read")
        elif coverage.until.astimezone().date() < office.today:
            found.append(f"the log of {system} is read to {coverage.until.astimezone():%Y-%m-%d}")
        elif last < begin_of(since):
            found.append(f"nothing at all stands in the log of {system} since {last.astimezone():%Y-%m-%d}")
    return found
