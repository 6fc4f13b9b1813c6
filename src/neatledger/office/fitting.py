"""What is left of a plan's values when what does not fit the schema is taken out: the rest is looked at all the same.

A fault must not hide the others. What is taken out leaves its name behind wherever others may speak of it, so that no
fault is told that only the taking out has made.
"""

from __future__ import annotations

from typing import Any

from jsonschema_rs import ValidationError, ValidationErrorKind

from neatledger.office.faults import Schema, without_empty
from neatledger.office.yamltext import Marks, Path

__all__ = ["take_what_fits"]

_MOST_ROUNDS = 20
# Of these what is at fault is left out key by key: their name stays, and others may speak of them.
_NAMED = ("people", "groups", "bands", "folders")
# Of these an entry with a fault goes as a whole: so many steps down it begins.
_WHOLE = {"limits": 3, "pools": 2, "entitlements": 2, "expectations": 2, "accepted": 2, "barred": 2}
_PLACEHOLDER = {"source": "tree", "path": "."}


def take_what_fits(value: Any, marks: Marks, schema: Schema) -> bool:
    """Take out of a plan's values, in place, what does not fit; false where too little is left to look at."""
    if not isinstance(value, dict) or not isinstance(value.get("systems"), dict) or not value["systems"]:
        return False
    value.setdefault("office", "")
    for name, one in value["systems"].items():
        value["systems"][name] = {} if one is None else one
    for _ in range(_MOST_ROUNDS):
        errors = list(schema.validator.iter_errors(without_empty(value, top=True)))
        if not errors:
            return True
        # From the end of the file: what comes before keeps its place in its list meanwhile.
        for path in sorted({each for error in errors for each in _at_fault(error)}, key=_from_the_end):
            _drop(value, marks, path)
    return False


def _from_the_end(path: Path) -> list[tuple[int, str]]:
    return [(-one, "") if isinstance(one, int) else (0, one) for one in path]


def _at_fault(error: ValidationError) -> list[Path]:
    path: Path = tuple(error.instance_path)
    if isinstance(error.kind, ValidationErrorKind.PropertyNames):
        return [(*path, str(error.kind.error.instance))]
    if isinstance(error.kind, ValidationErrorKind.AdditionalProperties):
        return [(*path, key) for key in error.kind.unexpected]
    return [path]


def _drop(value: dict[str, Any], marks: Marks, path: Path) -> None:
    if not path:
        return
    if path[0] == "systems":
        if len(path) > 1:
            value["systems"][path[1]] = dict(_PLACEHOLDER)
        return
    if path[0] in _NAMED and len(path) == 2 and _has(value, path):
        part = value[str(path[0])]
        if part[path[1]] in ({}, None):
            part.pop(path[1])
        else:
            part[path[1]] = {}
        return
    # Half a limit is none: it would be told a second time that something lacks.
    path = path[: _WHOLE.get(str(path[0]), len(path))]
    if not _has(value, path):
        return
    above: Any = value
    for step in path[:-1]:
        above = above[step]
    last = path[-1]
    above.pop(last)
    if isinstance(last, int):
        _close_up(marks, path[:-1], last)


def _has(value: Any, path: Path) -> bool:
    for step in path:
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            return False
    return True


def _close_up(marks: Marks, above: Path, gone: int) -> None:
    """Let the marks of what comes after a member of a list follow it to its new place."""
    depth = len(above)
    moved: Marks = {}
    for path in [one for one in marks if one[:depth] == above and len(one) > depth]:
        number = path[depth]
        if isinstance(number, int) and number >= gone:
            mark = marks.pop(path)
            if number > gone:
                moved[(*above, number - 1, *path[depth + 1 :])] = mark
    marks.update(moved)
