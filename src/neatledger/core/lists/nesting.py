"""Groups inside groups: who is in each by all of them, and rings of groups that contain themselves."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

__all__ = ["expand_members", "find_cycles"]


def expand_members(members: Mapping[str, Iterable[str]], nested: Mapping[str, Iterable[str]]) -> dict[str, set[str]]:
    """Return every group's members, those of groups inside it included; cycles do no harm.

    Arguments: group → its direct members; group → the groups directly inside it.
    """
    result: dict[str, set[str]] = {}
    for start in members:
        seen = {start}
        waiting = [start]
        found: set[str] = set()
        while waiting:
            group = waiting.pop()
            found.update(members.get(group, ()))
            for inner in nested.get(group, ()):
                if inner not in seen:
                    seen.add(inner)
                    waiting.append(inner)
        result[start] = found
    return result


def find_cycles(nested: Mapping[str, Iterable[str]]) -> list[tuple[str, ...]]:
    """Return the rings of groups that contain themselves, each once, beginning with its least name."""
    rings: set[tuple[str, ...]] = set()
    for start in nested:
        trail: list[tuple[str, tuple[str, ...]]] = [(start, (start,))]
        seen: set[str] = set()
        while trail:
            group, path = trail.pop()
            for inner in nested.get(group, ()):
                if inner == start:
                    least = path.index(min(path))
                    rings.add(path[least:] + path[:least])
                elif inner not in seen:
                    seen.add(inner)
                    trail.append((inner, (*path, inner)))
    return sorted(rings)
