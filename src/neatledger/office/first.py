"""The first plan of an office, with a remark on what can come next."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import Any

from ruamel.yaml import YAML

from neatledger.office.read import parse_plan

__all__ = ["first_plan"]

_NEXT = """
# What comes next, each as you need it; accounts that nobody here has stand as themselves.
#
# people:
#   ada: {name: Ada Example, email: ada@office.example, accounts: {%(system)s: ada}}
# groups:
#   front-desk: {members: [ada]}
# folders:
#   %(system)s:/Records: {grants: {front-desk: write}}
# expectations:
#   - {folder: "%(system)s:/Records", at-most: read, holders: [guests]}
"""


def first_plan(
    office: str, trees: Mapping[str, str], accounts: Mapping[str, str] | None, homes: Sequence[str]
) -> str:
    """Return the text of a first office.yaml; raises `PlanError` where a name will not do."""
    systems: dict[str, Any] = {}
    for name, path in trees.items():
        systems[name] = {
            "source": "tree",
            "path": path,
            "accounts": dict(accounts) if accounts else "machine",
        }
        if homes:
            systems[name]["homes"] = list(homes)
    out = io.StringIO()
    YAML().dump({"office": office, "systems": systems}, out)
    text = out.getvalue() + _NEXT % {"system": next(iter(trees))}
    parse_plan(text, "the new plan")
    return text
