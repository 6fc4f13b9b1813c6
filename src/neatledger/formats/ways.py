"""A way to a folder in words: through what somebody has what they have, and what they may do."""

from __future__ import annotations

import re
from dataclasses import replace

from neatledger.core.access.tree_gates import Gate
from neatledger.core.access.ways import Way
from neatledger.core.lists.contract import Names, Reason, word_entry
from neatledger.core.lists.rights import Level, Right, level_of

__all__ = ["WAY_WORDS", "may_words", "plain_through", "through_words", "way_by"]

_TELLING = Right.LIST | Right.READ | Right.ADD | Right.CHANGE | Right.DELETE | Right.MANAGE
WAY_WORDS = {
    "share": "the lists", "team": "team folder", "handed": "hand-out", "link": "link", "admin": "administrator",
    "any": "all of these",
}  # fmt: skip
"""A way → how people speak of it."""
_MAY = {
    Level.NONE: "nothing",
    Level.LIST: "see names only",
    Level.VIEW: "look, not take away",
    Level.ADD_ONLY: "add, not read",
    Level.READ: "read",
    Level.WRITE: "read and write",
    Level.MANAGE: "read, write and decide who may",
}
_DEEDS = (
    (Right.READ, "read"),
    (Right.VIEW, "look"),
    (Right.ADD, "add"),
    (Right.DELETE, "delete"),
    (Right.MANAGE, "decide who may"),
)


def may_words(rights: Right) -> str:
    """Say what somebody may do in a folder, as those say it who decide on it."""
    level = level_of(rights)
    if level in _MAY:
        return _MAY[level]
    seen = rights & ~Right.VIEW if rights & Right.READ else rights
    words = [word for right, word in _DEEDS if seen & right]
    if not words:
        return "see names only" if rights & Right.LIST else "pass through only"
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


_NUMBERS = re.compile(r" \((?:\d+|S-1-[\d-]+)\)")
_GIVEN = re.compile(
    r"(?: nothing \(---\)| [r-][w-][x-]|: [^,]*| (?:manage|write|(?<!be )read|view|(?<!no )list|add-only|mixed|none))"
    r"(?=$|, cut|\))"
)


def through_words(way: Way, names: Names, system: str) -> str:
    """Say through what somebody has what a way gives: without numbers and bits, which `why` shows."""
    if way.name == "admin" and way.rights:
        return f"administrator of {system}"
    text = plain_through(way_by(way, names))
    text = text.replace("stopped by allow ", "stopped by ").removeprefix("allow ")
    if text.startswith("user "):
        text = "named in the list" + text[text.find(",") :] if "," in text else "named in the list"
    if text in ("owner", "the owner"):
        return "owns it"
    if way.name in ("handed", "link"):
        return text if way.name == "handed" else "a link"
    text = re.sub(r"the list \([^)]*\)$", "the list", text)
    return text.replace(", cut by the share ", ", limited by share ").replace(", cut by ", ", limited by ")


def plain_through(by: str) -> str:
    """Return what gives somebody something without the numbers of accounts and the bits of entries."""
    way, colon, rest = by.partition(": ")
    if way in WAY_WORDS:
        by = rest if colon else WAY_WORDS[way]
    return _GIVEN.sub("", _NUMBERS.sub("", by))


def way_by(way: Way, names: Names) -> str:
    """Say which entry gives a way its rights, or which gate stops it first."""
    gate, reason = _telling(way)
    if reason is None:
        return gate.name
    text = word_entry(reason.entry, names)
    where = f" on {gate.place.decode(errors='replace')}" if gate.stops and gate.name == "enter" else ""
    if gate.stops:
        return text if gate.is_unsure else f"stopped by {text}{where}"
    # What a share or a read-only system takes away of it is part of the answer.
    cuts = [each for each in way.gates if each.name not in ("giver", "enter") or gate.name != "given"]
    cut = next((each for each in cuts if gate.passes & _TELLING & ~each.passes), None)
    if cut is None or cut is gate:
        return text
    by = (
        f"the share {way.through}"
        if cut.name == "share"
        else word_entry(cut.reasons[0].entry, names)
        if cut.reasons
        else cut.name
    )
    return f"{text}, cut by {f'the list ({by})' if cut.name == 'list' else by}"


# The gates of team folders, hand-outs and links whose entries give the rights; what comes after them only cuts.
_GIVING = {"team": "member", "handed": "given", "link": "carries"}


def _telling(way: Way) -> tuple[Gate, Reason | None]:
    """Return the gate that a row names with its entry: the first that stops, or the one that gives."""
    gate = next((each for each in way.gates if each.name == _GIVING.get(way.name)), None)
    if gate is None or way.first_stop is not None or not way.is_known:
        return way.decided_by
    reason = max(gate.reasons, key=lambda each: each.rights.bit_count())
    giver = next((each for each in way.gates if each.name == "giver"), None)
    if giver is not None:
        reason = replace(reason, entry=f"{reason.entry} from {giver.reasons[0].entry}")
    return gate, reason
