"""Files of steps: JSON, so that what was supposed can be carried out."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from neatledger.core.steps.contract import Step
from neatledger.core.steps.table import step_of_facts, step_to_facts
from neatledger.errors import FormatError, UsageError
from neatledger.files import write_file

__all__ = ["read_steps", "write_steps"]

_FORM = "neatledger steps"
_VERSION = 1


def write_steps(name: str, steps: Sequence[Step]) -> None:
    """Write steps to a file, whole or not at all."""
    facts = {"form": _FORM, "version": _VERSION, "steps": [step_to_facts(step) for step in steps]}
    write_file(name, (json.dumps(facts, indent=1) + "\n").encode())


def read_steps(name: str) -> list[Step]:
    """Read a file of steps; raises `UsageError` where it cannot be read, `FormatError` where it holds none."""
    try:
        facts = json.loads(Path(name).read_text())
    except OSError as error:
        raise UsageError(f"cannot be read: {error.strerror}", hint=f"--steps {name}") from None
    except (ValueError, RecursionError) as error:
        raise FormatError(f"not a file of steps: {error}", name) from None
    if not isinstance(facts, dict) or facts.get("form") != _FORM or not isinstance(facts.get("steps"), list):
        raise FormatError("not a file of steps", name, "suppose --steps FILE writes one")
    if facts.get("version") != _VERSION:
        raise FormatError(f"steps of another version ({facts.get('version')}, this knows {_VERSION})", name)
    return [step_of_facts(one) for one in facts["steps"]]
