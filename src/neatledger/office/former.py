"""Plans of before: what was spelled otherwise then is read as it is spelled today."""

from __future__ import annotations

from collections.abc import Callable, Iterator, MutableMapping
from typing import Any

from neatledger.office.yamltext import KEY, Marks, Path

__all__ = ["FORMER_LEVELS", "renew_spelling"]

FORMER_LEVELS = {"drop": "add-only"}
"""Level → what it is called today."""
_BOUNDS = ("at-least", "at-most", "exactly")
_SHARED = {True: "folders and files", False: "folders"}
Mapping = MutableMapping[str, Any]


def renew_spelling(value: Any, marks: Marks | None = None) -> list[str]:
    """Spell a plan's values, in place, as they are spelled today; return what was changed, place by place.

    What does not fit the schema is left as it is. `marks` are moved along with the keys.
    """
    if not isinstance(value, MutableMapping):
        return []
    changed = []
    for path, grants in _inner(value, ("folders",), "grants"):
        for holder in [holder for holder, level in grants.items() if _is_former(level)]:
            changed.append(_put(grants, holder, FORMER_LEVELS[grants[holder]], (*path, holder)))
    for place, expectation in enumerate(_listed(value.get("expectations"))):
        for bound in (bound for bound in _BOUNDS if _is_former(expectation.get(bound))):
            level = FORMER_LEVELS[expectation[bound]]
            changed.append(_put(expectation, bound, level, ("expectations", place, bound)))
    for path, rule in _rules(value):
        if isinstance(rule.get("single-files"), bool) and "share" not in rule:
            words = _SHARED[rule["single-files"]]
            changed.append(f"{_spell((*path, 'single-files'))}: now share: {words}")
            _rename(rule, "single-files", "share", words)
            for end in ((), (KEY,)):
                if marks is not None and (*path, "single-files", *end) in marks:
                    marks[(*path, "share", *end)] = marks[(*path, "single-files", *end)]
    return changed


def _is_former(level: object) -> bool:
    return isinstance(level, str) and level in FORMER_LEVELS


def _put(into: Mapping, key: str, word: str, path: Path) -> str:
    text = f"{_spell(path)}: {into[key]}, now {word}"
    into[key] = word
    return text


def _spell(path: Path) -> str:
    return " ".join(str(part + 1) if isinstance(part, int) else part for part in path)


def _rename(into: Mapping, key: str, other: str, word: str) -> None:
    """Put a value under another key, at the same place where the mapping keeps places."""
    insert: Callable[..., None] | None = getattr(into, "insert", None)
    place = list(into).index(key)
    del into[key]
    if insert is None:
        into[other] = word
    else:
        insert(place, other, word)


def _rules(value: Mapping) -> Iterator[tuple[Path, Mapping]]:
    sharing = value.get("sharing")
    if not isinstance(sharing, MutableMapping):
        return
    if isinstance(sharing.get("office"), MutableMapping):
        yield ("sharing", "office"), sharing["office"]
    for part in ("systems", "people", "folders"):
        yield from _inner(sharing, (part,), "", start=("sharing",))


def _inner(value: Mapping, keys: Path, key: str, start: Path = ()) -> Iterator[tuple[Path, Mapping]]:
    """Yield the mappings of a part of the plan, or what each has under a key; with their paths."""
    part = value.get(str(keys[0]))
    for name, inner in part.items() if isinstance(part, MutableMapping) else ():
        found = inner.get(key) if key and isinstance(inner, MutableMapping) else inner
        if isinstance(found, MutableMapping):
            yield (*start, *keys, name, *((key,) if key else ())), found


def _listed(value: Any) -> Iterator[Mapping]:
    for entry in value if isinstance(value, list) else ():
        yield entry if isinstance(entry, MutableMapping) else {}
