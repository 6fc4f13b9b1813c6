"""YAML text to plain values that remember where they stood.

Scalars follow the core schema of YAML 1.2 (section 10.3): only ``true`` and ``false`` are booleans, and
dates stay text. Keys are always text.
"""

from __future__ import annotations

import re
from typing import Any

import yaml

from neatledger.errors import Fault, PlanError

__all__ = ["KEY", "Marks", "Path", "load_yaml"]

Path = tuple[str | int, ...]
KEY = "\0key"
Marks = dict[Path, tuple[int, int]]
"""Path of keys and places → line and column (from 1) of the value; `(*path, KEY)` for a key itself."""

_INTEGER = re.compile(r"^[-+]?(0|[1-9][0-9]*)$")
_FLOAT = re.compile(r"^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$")
_WORDS = {"true": True, "True": True, "false": False, "False": False, "null": None, "~": None, "": None}
_MOST_VALUES = 1_000_000
# Longer ones count nothing, and Python does not read them (sys.get_int_max_str_digits).
_LONGEST_NUMBER = 40
_Loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


def load_yaml(text: str, where: str, faults: list[Fault] | None = None) -> tuple[Any, Marks]:
    """Return the value of a document and the marks of all that is in it; raises `PlanError`.

    Faults that leave the rest readable (a key twice) are put into `faults` where it is given, and raised else.
    """
    marks: Marks = {}
    collected = faults is not None
    faults = [] if faults is None else faults
    try:
        node = yaml.compose(text, Loader=_Loader)
        value = None if node is None else _value(node, (), marks, faults, where, ())
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        place = f"{where}:{mark.line + 1}:{mark.column + 1}" if mark else where
        raise PlanError([Fault(place, error.problem or "a fault", "YAML")]) from None
    except yaml.YAMLError as error:
        raise PlanError([Fault(where, str(error).replace("\n", " "), "YAML text in UTF-8")]) from None
    except RecursionError:
        raise PlanError([Fault(where, "one inside the other beyond all bounds", "a plan")]) from None
    if faults and not collected:
        raise PlanError(faults)
    return value, marks


def _value(
    node: yaml.Node, path: Path, marks: Marks, faults: list[Fault], where: str, open_nodes: tuple[int, ...]
) -> Any:
    line, column = node.start_mark.line + 1, node.start_mark.column + 1
    if len(marks) > _MOST_VALUES:
        # Aliases in aliases multiply: a page of text may stand for more than any memory holds.
        raise PlanError(
            [Fault(f"{where}:{line}", f"more than {_MOST_VALUES:,} values", "a plan without such aliases")]
        )
    # A mapping or list is marked at its key, which stands where people look for it.
    if isinstance(node, yaml.ScalarNode):
        marks[path] = line, column
    else:
        marks.setdefault(path, (line, column))
    if id(node) in open_nodes:
        faults.append(Fault(f"{where}:{line}:{column}", "an alias inside what it stands for", "a tree"))
        return None
    inside = (*open_nodes, id(node))
    if isinstance(node, yaml.SequenceNode):
        return [_value(item, (*path, place), marks, faults, where, inside) for place, item in enumerate(node.value)]
    if isinstance(node, yaml.MappingNode):
        found: dict[str, Any] = {}
        for key, item in node.value:
            name = key.value if isinstance(key, yaml.ScalarNode) else ""
            at = f"{where}:{key.start_mark.line + 1}:{key.start_mark.column + 1}"
            if not isinstance(key, yaml.ScalarNode):
                faults.append(Fault(at, "a key that is no word", "a word"))
            elif name in found:
                faults.append(Fault(at, f"{name!r} for the second time", "each key once"))
            else:
                marks[(*path, name)] = marks[(*path, name, KEY)] = key.start_mark.line + 1, key.start_mark.column + 1
                found[name] = _value(item, (*path, name), marks, faults, where, inside)
        return found
    assert isinstance(node, yaml.ScalarNode)
    return _scalar(node)


def _scalar(node: yaml.ScalarNode) -> Any:
    text: str = node.value
    if node.style in ("'", '"', "|", ">"):
        return text
    if text in _WORDS:
        return _WORDS[text]
    if len(text) > _LONGEST_NUMBER:
        return text
    if _INTEGER.match(text):
        return int(text)
    if not _FLOAT.match(text):
        return text
    number = float(text)
    # Of the value 20.0 a schema says that it is whole (JSON Schema 2020-12, validation 6.1.1).
    return int(number) if number.is_integer() and abs(number) < 10**_LONGEST_NUMBER else number
