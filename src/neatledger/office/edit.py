"""Edit office.yaml in place: comments, order and quoting stay as they were."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq

from neatledger.core.plan.limits import UNLIMITED, On, PlacedLimit
from neatledger.core.plan.plan import Plan
from neatledger.core.reviews.outcome import GrantEdit, apply_edits
from neatledger.core.space.bands import Restating, apply_restating
from neatledger.core.space.sizes import NO_LIMIT, spell_size
from neatledger.core.tree.address import Address
from neatledger.errors import OfficeError
from neatledger.files import locked, write_file
from neatledger.formats.names import show_address
from neatledger.office.addresses import parse_address
from neatledger.office.former import renew_spelling
from neatledger.office.read import PLAN_NAME, parse_plan, read_plan
from neatledger.office.space import NO_GRACE
from neatledger.office.yamltext import load_yaml

__all__ = [
    "add_acceptance",
    "add_accounts",
    "add_system",
    "draft_text",
    "editing",
    "flowing",
    "former_spelling",
    "mapping_at",
    "renew_plan",
    "system_piece",
    "system_text",
    "take_out_draft",
    "to_text",
    "write_draft",
    "write_grants",
    "write_restating",
]


def add_acceptance(office_dir: Path, check: str, place: str, reason: str, until: str | None) -> None:
    """Add an accepted finding to the plan; raises `OfficeError`, or `PlanError` where the result would not do."""
    entry = CommentedMap({"check": check, "place": place, "reason": reason})
    if until:
        entry["until"] = until
    with editing(office_dir) as edited:
        if not edited.get("accepted"):
            edited["accepted"] = CommentedSeq()
        edited["accepted"].append(entry)


def add_accounts(office_dir: Path, accounts: Iterable[tuple[str, str, str]]) -> None:
    """Give accounts to people of the plan: (person, system, login); raises as `add_acceptance`."""
    with editing(office_dir) as edited:
        for person, system, login in accounts:
            one = mapping_at(edited["people"], person)
            one.setdefault("accounts", CommentedMap())
            has = mapping_at(one, "accounts")
            before = has.get(system)
            if before is None:
                has[system] = login
            else:
                has[system] = [*([before] if isinstance(before, str) else before), login]


def renew_plan(office_dir: Path) -> list[str]:
    """Spell the plan's file as it is done today; return what was changed, place by place.

    What the plan means stays as it is; raises as `add_acceptance`.
    """
    changed = former_spelling(office_dir)
    if changed:
        with editing(office_dir) as edited:
            changed = renew_spelling(edited)
    return changed


def former_spelling(office_dir: Path) -> list[str]:
    """Return what in the plan's file is spelled otherwise than today, place by place; raises as `read_plan`."""
    read_plan(office_dir)
    value, _ = load_yaml((office_dir / PLAN_NAME).read_text("utf-8"), PLAN_NAME)
    return renew_spelling(value)


def write_grants(office_dir: Path, plan: Plan, edits: Sequence[GrantEdit]) -> None:
    """Write grants by name into the plan, change them or take them out; raises as `add_acceptance`.

    The plan's folders read afterwards as `apply_edits` has them, or nothing is written.
    """
    then = apply_edits(plan, edits)
    with editing(office_dir, plan, then, meant=_granted) as edited:
        if not edited.get("folders"):
            edited["folders"] = CommentedMap()
        for edit in edits:
            key = next((one for one in edited["folders"] if parse_address(one) == edit.folder), None)
            if key is None:
                key = _address_text(edit.folder)
                edited["folders"][key] = CommentedMap()
            folder = mapping_at(edited["folders"], key)
            if not folder.get("grants"):
                folder["grants"] = CommentedMap()
                folder["grants"].fa.set_flow_style()
            grants = mapping_at(folder, "grants")
            if edit.level is None:
                grants.pop(edit.person, None)
            else:
                grants[edit.person] = edit.level.value


def add_system(office_dir: Path, name: str, settings: Mapping[str, Any], comments: Mapping[str, str]) -> None:
    """Put a system into the plan, each setting with its comment, in place of one of that name if there is any.

    Raises as `add_acceptance`.
    """
    with editing(office_dir) as edited:
        edited["systems"][name] = system_piece(settings, comments)


def system_piece(settings: Mapping[str, Any], comments: Mapping[str, str]) -> CommentedMap:
    """Return a system as it stands in a plan, each setting with its comment."""
    made = CommentedMap({key: flowing(_listed(value)) for key, value in settings.items() if key != "columns"})
    if "columns" in settings:
        # What maps a table is long enough for a line of its own.
        made["columns"] = CommentedMap({key: flowing(_listed(one)) for key, one in settings["columns"].items()})
    for key, why in comments.items():
        if key in made:
            made.yaml_add_eol_comment(why, key)
    return made


def _listed(value: Any) -> Any:
    """Return a value with its lists as they are written on one line."""
    if isinstance(value, Mapping):
        return {key: _listed(one) for key, one in value.items()}
    return tuple(value) if isinstance(value, list) else value


def to_text(value: CommentedMap) -> str:
    """Return a piece of a plan as it is written."""
    out = io.StringIO()
    _yaml().dump(value, out)
    return out.getvalue()


def system_text(name: str, settings: Mapping[str, Any], comments: Mapping[str, str]) -> str:
    """Return a system as it would stand in the plan."""
    return to_text(CommentedMap({"systems": CommentedMap({name: system_piece(settings, comments)})}))


_DRAFTED = "drafted"
_LISTED = "[]"
"""Ends the name of a part that is a list."""


def write_draft(office_dir: Path, plan: Plan, additions: Mapping[str, Mapping[str, tuple[Any, str]]]) -> int:
    """Add what is not there yet, part by part, each marked by a comment; returns how many.

    `additions` are part → key → what is said there and why. Nothing that is there is touched. Raises as
    `add_acceptance`.
    """
    added = 0
    with editing(office_dir) as edited:
        for part, entries in additions.items():
            added += _add_drafted(edited, part, entries)
    return added


def _add_drafted(edited: Any, part: str, entries: Mapping[str, tuple[Any, str]]) -> int:
    """Add entries to a part of the plan (`limits/folders`: what its limits have of folders); what is there stays."""
    if part.endswith(_LISTED):
        return _add_to_list(edited, part.removesuffix(_LISTED), entries)
    added, above = 0, _part_of(edited, part.split("/") if entries else ())
    for key, (value, why) in entries.items():
        if key not in above:
            above[key] = flowing(value)
            above.yaml_add_eol_comment(f"{_DRAFTED}: {why}" if why else _DRAFTED, key)
            added += 1
    return added


def _part_of(edited: Any, names: Sequence[str]) -> Any:
    for name in names:
        if not edited.get(name):
            edited[name] = CommentedMap()
        edited = edited[name]
    return edited


def _add_to_list(edited: Any, part: str, entries: Mapping[str, tuple[Any, str]]) -> int:
    """Add items to a list of the plan; one that is there by name, or is there just so, stays."""
    if not entries:
        return 0
    *above, last = part.split("/")
    holder = _part_of(edited, above)
    if not holder.get(last):
        holder[last] = CommentedSeq()
    items = holder[last]
    items.fa.set_block_style()
    names = {one.get("name") for one in items if isinstance(one, Mapping)} - {None}
    added = 0
    for value, why in entries.values():
        if value.get("name") not in names and not any(_is_same(one, value) for one in items):
            items.append(flowing(value))
            items.yaml_add_eol_comment(f"{_DRAFTED}: {why}" if why else _DRAFTED, len(items) - 1)
            added += 1
    return added


def _is_same(one: Any, value: Mapping[str, Any]) -> bool:
    return isinstance(one, Mapping) and {key: one.get(key) for key in value} == dict(value)


def draft_text(additions: Mapping[str, Mapping[str, tuple[Any, str]]]) -> str:
    """Return additions as they would stand in the plan."""
    whole = CommentedMap()
    for part, entries in additions.items():
        _add_drafted(whole, part, entries)
    return to_text(whole) if whole else ""


def take_out_draft(office_dir: Path) -> int:
    """Take out again what was drafted and still has its mark; returns how many; raises as `add_acceptance`."""
    gone = 0
    with editing(office_dir) as edited:
        for part in _DRAFTED_PARTS:
            gone += _take_marked(edited, part)
        for system in edited["systems"].values():
            gone += _take_marked({"": system}, "")
            for part in ("protection/backups", "protection/snapshots"):
                gone += _take_marked_items(system, part)
            if system.get("protection") == {}:
                del system["protection"]
    return gone


_DRAFTED_PARTS = (
    *("sharing/folders", "sharing/people", "sharing/systems", "sharing"),
    *(
        "limits/folders",
        "limits/people",
        "limits/groups",
        "limits",
        "pools",
        "bands",
        "protection",
        "folders",
        "groups",
        "people",
    ),
)


def _take_marked(edited: Any, part: str) -> int:
    """Take what is marked out of a part of the plan, and the part itself where nothing is left in it."""
    *above, last = part.split("/")
    for name in above:
        edited = edited.get(name) or {}
    entries = edited.get(last)
    if not isinstance(entries, CommentedMap):
        return 0
    marked = [key for key, tokens in entries.ca.items.items() if _is_drafted(tokens) and key in entries]
    for key in marked:
        del entries[key]
        entries.ca.items.pop(key, None)
    if not entries and part:
        del edited[last]
    return len(marked)


def _take_marked_items(edited: Any, part: str) -> int:
    above, last = part.split("/")
    holder = edited.get(above) or {}
    items = holder.get(last)
    if not isinstance(items, CommentedSeq):
        return 0
    marked = [number for number, tokens in items.ca.items.items() if _is_drafted_item(tokens) and number < len(items)]
    for number in sorted(marked, reverse=True):
        del items[number]
    if not items:
        del holder[last]
    return len(marked)


def _is_drafted_item(tokens: Any) -> bool:
    # What is an item of a list has its comment first, and not third.
    return any(
        each is not None and _is_drafted((None, None, each)) for each in tokens or () if not isinstance(each, list)
    )


def _is_drafted(tokens: Any) -> bool:
    comment = tokens[2] if tokens and len(tokens) > 2 else None
    return comment is not None and comment.value.lstrip("# ").startswith(_DRAFTED)


def flowing(value: Any) -> Any:
    """Return a mapping or a list, and what is in it, on one line; anything else as it is."""
    if isinstance(value, tuple):
        return _flow(list(value))
    if not isinstance(value, Mapping):
        return value
    made = CommentedMap({key: flowing(one) for key, one in value.items()})
    made.fa.set_flow_style()
    return made


def _address_text(address: Address) -> str:
    try:
        return f"{address.system}:{address.path.decode()}"
    except UnicodeDecodeError:
        raise OfficeError(f"{show_address(address)} has a name that a plan cannot say: by hand") from None


def _granted(plan: Plan) -> tuple[Any, ...]:
    """Return what a plan says of folders, wherever in the file it says so."""
    return tuple(
        sorted((one.address, tuple(sorted(one.grants.items())), one.closed, one.owner) for one in plan.folders)
    )


_PARTS = {On.FOLDER: "folders", On.PERSON: "people", On.GROUP: "groups"}
_KEYS = {"limit": "limit", "enforced": "rule", "grace_days": "grace-days", "warn": "warn"}


def _yaml_field(name: str, value: Any) -> Any:
    match name:
        case "limit":
            return NO_LIMIT if value is UNLIMITED else spell_size(value)
        case "enforced":
            return "enforced" if value else "watched"
        case "warn":
            return CommentedMap({level: _flow(list(who)) for level, who in value})
        case "grace_days":
            return NO_GRACE if value is None else value
        case _:
            return value


def _flow(names: list[str]) -> CommentedSeq:
    found = CommentedSeq(names)
    found.fa.set_flow_style()
    return found


def write_restating(office_dir: Path, plan: Plan, found: Restating, *, only_try: bool = False) -> None:
    """Write a restated band into the plan, and what becomes of the places that have it; raises as `add_acceptance`.

    The plan reads afterwards exactly as `apply_restating` has it, or nothing is written. `only_try` writes nothing
    in any case, and raises all the same.
    """
    then = apply_restating(plan, found)
    with editing(office_dir, plan, then, only_try=only_try) as edited:
        for name, value in found.after.stated.items():
            if name not in found.before.stated or found.before.stated[name] != value:
                mapping_at(edited["bands"], found.after.name)[_KEYS[name]] = _yaml_field(name, value)
        before = {(one.on, one.key): one for one in plan.space.limits}
        for one in then.space.limits:
            _put_limit(edited["limits"][_PARTS[one.on]], before.get((one.on, one.key)), one)


def _put_limit(part: Any, before: PlacedLimit | None, after: PlacedLimit) -> None:
    if before is None:
        if "*" in after.key:
            raise OfficeError(f"{after.key} cannot have a limit of its own: * would speak of other folders too")
        part[after.key] = CommentedMap({"band": after.band.name} if after.band else {})
        part[after.key].fa.set_flow_style()
    elif _stated(before) == _stated(after):
        return
    entry, had = mapping_at(part, after.key), _stated(before) if before else {}
    for key, value in (now := _stated(after)).items():
        if key not in had or had[key] != value:
            entry[key] = value
    for key in had.keys() - now.keys():
        entry.pop(key, None)


def _stated(one: PlacedLimit) -> dict[str, Any]:
    """Return what the plan's text says of a limit beside its band, by the keys of the text."""
    found = {_KEYS[name]: _yaml_field(name, value) for name, value in one.own.items()}
    if one.since is not None:
        found["since"] = one.since
    return found | ({"because": one.because} if one.because else {})


def _meant(plan: Plan) -> tuple[Any, ...]:
    """Return what a plan says of bands and limits, wherever in the file it says so."""
    bands = {name: dict(band.stated) for name, band in plan.space.bands.items()}
    limits = {
        (one.on, one.key): (one.band.name if one.band else None, dict(one.own), one.since, one.because)
        for one in plan.space.limits
    }
    return bands, limits


def mapping_at(above: Any, key: str) -> Any:
    """Return the mapping at a key to be altered: nobody else's, and with nothing in it that it has from elsewhere."""
    found = above[key]
    if found is None or found.merge or found.anchor.value is not None:
        # What is written once and meant in several places (an anchor and its aliases) stays so for the others.
        plain = CommentedMap(dict(found or {}))
        if found is not None and found.fa.flow_style():
            plain.fa.set_flow_style()
        found = above[key] = plain
    return found


@contextmanager
def editing(
    office_dir: Path,
    before: Plan | None = None,
    then: Plan | None = None,
    *,
    only_try: bool = False,
    meant: Callable[[Plan], tuple[Any, ...]] | None = None,
    results: list[Plan] | None = None,
) -> Iterator[Any]:
    """Give the plan's text to be altered; written back where the result is a plan still.

    Where it is said what the plan means `before` and `then`, as far as `meant` goes (limits and bands), it has to.
    `results` is given the plan as it reads afterwards; with `only_try` nothing is written.
    """
    meant = meant or _meant
    path = office_dir / PLAN_NAME
    # Nobody else's edit may come between reading and writing: it would be lost.
    with nullcontext() if only_try else locked(office_dir):
        try:
            text = path.read_text("utf-8")
        except OSError as error:
            raise OfficeError(f"cannot read the plan: {error.strerror}", str(path)) from None
        if before is not None and meant(parse_plan(text, str(path))) != meant(before):
            raise OfficeError("the plan was changed since it was read", str(path), "call again")
        edited = _yaml().load(text)
        yield edited
        out = io.StringIO()
        _yaml().dump(edited, out)
        result = parse_plan(out.getvalue(), str(path))
        if then is not None and meant(result) != meant(then):
            raise OfficeError("this cannot be written so that it reads as shown", str(path))
        if results is not None:
            results.append(result)
        if not only_try:
            write_file(path, out.getvalue().encode("utf-8"))


def _yaml() -> YAML:
    yaml = YAML()
    yaml.preserve_quotes = True
    yaml.width = 4096
    yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml
