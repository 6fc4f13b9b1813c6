"""What a JSON Schema validator says, in words for the person who wrote the file."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from jsonschema_rs import Draft202012Validator, ValidationError, ValidationErrorKind

from neatledger.errors import Fault
from neatledger.formats.nearest import nearest
from neatledger.office.yamltext import KEY, Marks, Path

__all__ = ["Schema", "schema_faults", "without_empty"]

_LONGEST_SHOWN = 80
_TYPES = {
    "object": "a mapping (key: value)",
    "array": "a list",
    "string": "a text",
    "integer": "a whole number",
    "boolean": "true or false",
}


@dataclass(frozen=True)
class Schema:
    """A JSON Schema with what judges by it, which takes longer to make than to ask."""

    value: dict[str, Any]

    @cached_property
    def validator(self) -> Draft202012Validator:
        """What says whether values fit."""
        return Draft202012Validator(self.value)


def schema_faults(value: Any, marks: Marks, schema: Schema, where: str) -> list[Fault]:
    """Return every place where `value` does not fit `schema`, in the order of the file."""
    # An empty entry ("staff:" and nothing more) means that all is as by default.
    value = without_empty(value, top=True)
    found: list[tuple[int, int, Fault]] = []
    for error in schema.validator.iter_errors(value):
        for path, what, expected in _explain(error, schema.value):
            line, column = _mark(marks, path)
            found.append((line, column, Fault(f"{where}:{line}:{column}", what, expected)))
    found.sort(key=lambda each: each[:2])
    return list(dict.fromkeys(fault for _, _, fault in found))


def without_empty(value: Any, *, top: bool = False) -> Any:
    """Return values as the schema looks at them: an entry that is empty has all as by default."""
    if isinstance(value, dict):
        kept = {key: without_empty(item) for key, item in value.items()}
        return {key: item for key, item in kept.items() if item is not None} if top else _filled(kept)
    if isinstance(value, str):
        # Half a surrogate pair is no text that the validator takes; nothing that the schema asks hangs on it.
        return value if value.isascii() else value.encode("utf-8", "backslashreplace").decode()
    return [without_empty(item) for item in value] if isinstance(value, list) else value


def _filled(value: dict[str, Any]) -> dict[str, Any]:
    return {key: {} if item is None else item for key, item in value.items()}


def _near(word: str, known: Iterable[Any]) -> str:
    """Return the words that are most like one, as the beginning of what is expected."""
    found = nearest(word, map(str, known))
    return f"{' or '.join(found)}? " if found else ""


def _mark(marks: Marks, path: Path) -> tuple[int, int]:
    while path not in marks and path:
        path = path[:-1]
    return marks.get(path, (1, 1))


_OF_PLACE = re.compile(r"([a-z]+)://|(?=postgres)([a-z]+):")
_PLAIN_PLACE = re.compile(r"[a-z]+://[^\s:@?#]*(:\d+)?(/[^\s:@?#]*)?")


def _show(value: Any) -> str:
    if isinstance(value, dict):
        return "a mapping" if value else "nothing"
    if isinstance(value, list):
        return "a list"
    if isinstance(value, bool):
        return str(value).lower()
    if value is None:
        return "nothing"
    # A password that was put into an address is not shown to whoever looks on.
    text = re.sub(r"://[^/@\s]*@", "://…@", repr(value))
    if isinstance(value, str) and (kind := _OF_PLACE.match(value)) and not _PLAIN_PLACE.fullmatch(value):
        # What else stands in the address of a server may be one too.
        text = f"'{kind[1] or kind[2]}:…'"
    return text if len(text) <= _LONGEST_SHOWN else f"{text[: _LONGEST_SHOWN - 20]}… ({len(text):,} signs)"


def _explain(error: ValidationError, whole: dict[str, Any]) -> Iterator[tuple[Path, str, str]]:
    path: Path = tuple(error.instance_path)
    *above, keyword = error.schema_path
    schema: Any = whole
    for step in above:
        schema = schema[step]
    if isinstance(error.kind, ValidationErrorKind.PropertyNames):
        # A fault of a key: the validator reports it at the mapping that has the key.
        name = str(error.kind.error.instance)
        yield (*path, name, KEY), f"the key {name!r}", schema.get("title", str(schema[keyword]))
    else:
        yield from _explain_value(path, str(keyword), schema, error)


def _explain_value(
    path: Path, keyword: str, schema: dict[str, Any], error: ValidationError
) -> Iterator[tuple[Path, str, str]]:
    rule: Any = schema[keyword]
    instance: Any = error.instance
    match keyword:
        case "additionalProperties":
            allowed = schema.get("properties", {})
            for key in instance:
                if key not in allowed:
                    yield (*path, key, KEY), f"the key {key!r}", _near(key, allowed) + "one of: " + ", ".join(allowed)
        case "required":
            for key in rule:
                if key not in instance:
                    about = schema.get("properties", {}).get(key, {}).get("description", "")
                    yield path, f"no `{key}`", f"`{key}: …`" + (f" ({about.rstrip('.')})" if about else "")
        case "oneOf" if all(isinstance(option, dict) and set(option) == {"required"} for option in rule):
            if not isinstance(instance, dict):
                # That it is no mapping is told by itself.
                return
            keys = [option["required"][0] for option in rule]
            given = [key for key in keys if key in instance]
            yield path, " and ".join(given) or "none of them", "exactly one of: " + ", ".join(keys)
        case "type":
            kinds = [rule] if isinstance(rule, str) else rule
            expected = " or ".join(_TYPES.get(kind, kind) for kind in kinds)
            yield path, _show(instance), schema.get("title", expected) if rule == "string" else expected
        case "enum":
            yield path, _show(instance), _near(str(instance), rule) + "one of: " + ", ".join(map(str, rule))
        case "minItems" | "minLength" | "minProperties":
            yield path, "nothing in it", "at least one"
        case _:
            yield path, _show(instance), schema.get("title", error.message)
