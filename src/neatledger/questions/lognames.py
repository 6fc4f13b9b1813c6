"""The logs that the plan names, by system."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, cast

from neatledger.questions.office import Office

__all__ = ["logs_in", "logs_of", "name_of", "systems_with_logs"]


def logs_in(settings: Mapping[str, Any]) -> Sequence[Mapping[str, Any]]:
    """Return the logs that a system's settings name."""
    return cast(Sequence[Mapping[str, Any]], settings.get("logs") or ())


def name_of(log: Mapping[str, Any]) -> str:
    """Return what a log is called: its file, or its form where it is none."""
    return str(log.get("file") or log["form"])


def systems_with_logs(office: Office) -> list[str]:
    """Return the systems whose logs the plan names."""
    return [name for name, system in office.plan.systems.items() if logs_in(system.settings)]


def logs_of(office: Office, system: str) -> list[str]:
    """Return the logs that the plan names for a system."""
    planned = office.plan.systems.get(system)
    return [] if planned is None else [name_of(one) for one in logs_in(planned.settings)]
