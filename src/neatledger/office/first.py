"""The first plan of an office, with a remark on what can come next."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap

from neatledger.office.edit import system_piece
from neatledger.office.read import parse_plan

__all__ = ["SCHEMA_NAME", "first_plan"]

SCHEMA_NAME = "office.schema.json"
_HEAD = f"""\
# yaml-language-server: $schema={SCHEMA_NAME}
# (an editor that knows this line completes the keys of a plan; neatledger plan --schema makes that file)
#
# What comes next: neatledger connect adds systems, count looks at them, draft --write writes people, groups, folders
# and limits as they were found. By hand, each as you need it; accounts that nobody here has stand as themselves:
#
#   people: {{ada: {{name: Ada Example, email: ada@office.example, accounts: {{%(system)s: ada}}}}}}
#   groups: {{front-desk: {{members: [ada]}}}}
#   folders: {{"%(system)s:/Records": {{grants: {{front-desk: write}}}}}}
#   expectations: [{{folder: "%(system)s:/Records", at-most: read, holders: [guests]}}]
"""


def first_plan(office: str, systems: Mapping[str, tuple[Mapping[str, Any], Mapping[str, str]]]) -> str:
    """Return the text of a first office.yaml: systems by name with their settings and a comment on each.

    Raises `PlanError` where a name will not do.
    """
    pieces = CommentedMap({name: system_piece(*one) for name, one in systems.items()})
    out = io.StringIO()
    yaml = YAML()
    yaml.width = 4096
    yaml.dump(CommentedMap({"office": office, "systems": pieces}), out)
    text = _HEAD % {"system": next(iter(systems))} + out.getvalue()
    parse_plan(text, "the new plan")
    return text
