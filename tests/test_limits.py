"""Limits, bands, promises and room: laws on random offices, and the plan's text."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from neatledger.core.lists.holders import Holder
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import UNLIMITED, Band, On, PlacedLimit, Pool, Settings
from neatledger.core.plan.plan import Kind, Person, Plan, PlanSystem
from neatledger.core.plan.space import Entitlement, SpacePlan, SpaceRules
from neatledger.core.space.bands import Outcome, apply_restating, restate
from neatledger.core.space.limit_table import (
    LimitStatus,
    LimitTarget,
    PoolFolders,
    build_limit_table,
    held_by_sums,
    pool_of,
)
from neatledger.core.space.promises import promise_of, promises
from neatledger.core.space.room import Newcomer, find_room
from neatledger.core.space.sizes import UNITS, parse_limit, parse_size, show_share, show_size, spell_size
from neatledger.core.space.supposing import Supposed, suppose_band, suppose_join, suppose_limit, suppose_move
from neatledger.core.space.versions import Changes, bound_versions
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.core.tree.patterns import match_path
from neatledger.errors import PlanError, UnknownNameError
from neatledger.office.edit import write_restating
from neatledger.office.read import parse_plan
from neatledger.reports.bars import WIDTH, bar

DAY = date(2026, 11, 23)
sizes = st.integers(0, 10**14)


@given(sizes)
def test_sizes_are_written_exactly_and_shown_to_three_figures(size: int) -> None:
    assert parse_size(spell_size(size)) == size
    for is_binary in (False, True):
        number, unit = show_size(size, binary=is_binary).split(" ")
        shown = float(number.replace(",", "")) * UNITS[unit]
        assert abs(shown - size) <= 0.006 * size
        assert unit == "B" or (unit[1] == "i") == is_binary


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("20 GB", 20 * 10**9),
        ("18 GiB", 18 * 2**30),
        ("1.5TiB", 3 * 2**39),
        ("0 B", 0),
        ("0.5 kB", 500),
        (" 7 MB ", 7 * 10**6),
    ],
)
def test_powers_of_1000_and_1024_are_never_mixed(text: str, size: int) -> None:
    assert parse_size(text) == size
    assert parse_limit("no  limit") is UNLIMITED


@pytest.mark.parametrize("text", ["20", "20 KB", "20 gb", "20 Gb", "-1 GB", "1,5 GB", "none", "", "GB", "1e3 B"])
def test_what_could_be_either_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="write 20 GB"):
        parse_size(text)


@given(st.integers(0, 10**6), st.integers(1, 10**6))
def test_percents_and_bars_say_full_only_of_what_is_full(part: int, whole: int) -> None:
    shown, marks = show_share(part, whole), bar(part / whole)
    assert len(marks) == WIDTH
    assert (shown == "0 %") == (part == 0)
    assert (marks == "#" * WIDTH) == (part == whole) and marks.endswith(">") == (part > whole)
    assert part >= whole or int(shown.strip("<").split()[0].replace(",", "")) < 100


# A small office made at random -------------------------------------------------------------------

PATHS = ("/", "/a", "/a/b", "/a/b/c", "/d", "/d/e")
limits = st.one_of(st.just(UNLIMITED), st.integers(0, 1000))
warns = st.lists(st.sampled_from([50, 80, 95]), unique=True).map(
    lambda levels: tuple((level, ("ada",)) for level in sorted(levels))
)
stated = st.fixed_dictionaries({"limit": limits}, optional={"enforced": st.booleans(), "warn": warns})


@st.composite
def offices(draw) -> tuple[Plan, list[LimitStatus]]:
    """A plan with bands and limits on nested folders, people and a group, and the lines of one count."""
    bands = {name: Band(name, draw(stated)) for name in ("small", "large")}
    placed = []
    keys = [(On.FOLDER, f"barn:{path}", path) for path in PATHS]
    keys += [(On.PERSON, f"barn:{name}", name) for name in ("ada", "bob")] + [(On.GROUP, "barn:vets", "vets")]
    for on, key, name in keys:
        sort = draw(st.sampled_from(["none", "band", "exception", "own"]))
        band = bands[draw(st.sampled_from(sorted(bands)))] if sort in ("band", "exception") else None
        if sort != "none":
            placed.append(PlacedLimit(on, key, "barn", name, band, {} if sort == "band" else draw(stated)))
    pools = {"disk": Pool("disk", ("barn:/",), draw(st.integers(1, 2000))), "attic": Pool("attic", ("barn:/d",), 500)}
    people = {name: Person(name, name, Kind.STAFF, accounts={"barn": (name,)}) for name in ("ada", "bob")}
    space = SpacePlan(bands=bands, limits=tuple(placed), pools=pools)
    plan = Plan("X", "", {"barn": PlanSystem("barn", "tree", {})}, people, {}, (), (), (), {}, space=space)
    used = {path: draw(st.integers(0, 400)) for path in PATHS}
    # What is used grows towards the root.
    for path in sorted(PATHS, key=len, reverse=True):
        inside = [
            other
            for other in PATHS
            if other != path and other.rsplit("/", 1)[0] in (path, path.rstrip("/")) and other != "/"
        ]
        used[path] += sum(used[other] for other in inside)
    lines = []
    for one in placed:
        amount = used.get(one.name, draw(st.integers(0, 500)))
        found = None
        if draw(st.booleans()):
            found = FoundLimit(
                one.on, one.name, draw(limits), draw(st.booleans()), draw(st.one_of(st.none(), st.integers(0, 30)))
            )
        since = draw(st.one_of(st.none(), st.integers(0, 60).map(lambda days: DAY - timedelta(days=days))))
        lines.append(LimitStatus(LimitTarget(one.on, "barn", one.name), amount, one, found, over_since=since))
    for pool, path in (("disk", "/"), ("attic", "/d")):
        lines.append(LimitStatus(LimitTarget(On.POOL, "barn", pool), used[path], pool=pools[pool]))
    return plan, lines


@given(offices(), st.sampled_from(["ada", "bob"]), st.sampled_from(PATHS), st.sampled_from(["", "vets"]))
def test_room_never_exceeds_any_limit_above_and_is_the_least_of_them(
    office, person: str, path: str, group: str
) -> None:
    plan, lines = office
    folder = Address("barn", path.encode())
    room = find_room(plan, lines, Newcomer(person, folder, group, ""), DAY)
    bounds = []
    for line in lines:
        is_above = line.target.on is On.FOLDER and folder.is_within(line.target.address)
        is_theirs = (line.target.on, line.target.name) in ((On.PERSON, person), (On.GROUP, group))
        pool = pool_of(plan, folder)
        is_pool = line.target.on is On.POOL and pool is not None and line.target.name == pool.name
        limit = line.settings.limit
        if (is_above or is_theirs or is_pool) and limit is not UNLIMITED and (is_pool or line.is_enforced(DAY)):
            bounds.append(max(0, limit - line.amount))
    assert room.left == (min(bounds) if bounds else None)
    lefts = [stop.usable for stop in room.stopping]
    assert lefts == sorted(lefts) and len(lefts) == len(bounds)
    assert find_room(plan, lines, Newcomer(person, folder, group, "closed"), DAY).left == 0


@given(offices())
def test_a_parent_promises_its_limit_and_never_less_than_is_used(office) -> None:
    plan, lines = office
    for promise in promises(plan, lines, DAY):
        assert promise.promised >= promise.used
        folders = [
            line
            for line in lines
            if line.target.on is On.FOLDER
            and (found := pool_of(plan, line.target.address))
            and found.name == promise.pool
        ]
        whole, held = promise_of(folders, DAY)
        assert whole >= held
        for line in folders:
            if not line.is_enforced(DAY):
                continue
            below = [other for other in folders if other.target.address.is_within(line.target.address)]
            mine, within = promise_of(below, DAY)
            # Its own limit caps what is promised inside it.
            assert mine == max(line.settings.limit or 0, line.amount) >= within
        tops = sum(max(line.settings.limit or 0, line.amount) for line in folders if line.is_enforced(DAY))
        assert whole <= tops


@given(offices(), st.sampled_from(["small", "large"]), stated, st.booleans(), st.booleans(), st.data())
def test_restating_twice_is_restating_once(office, name: str, new, later_only: bool, insist: bool, data) -> None:
    plan, lines = office
    keys = [line.target.key for line in lines if line.planned]
    named = data.draw(st.lists(st.sampled_from(keys), unique=True)) if keys else []
    options = {"bring_back": named, "later_only": later_only, "insist": insist}
    once = restate(lines, plan.space.bands[name], new, DAY, **options)
    after = apply_restating(plan, once)
    lines_after = _with_plan(lines, after)
    for move in once.moves:
        (line,) = (line for line in lines_after if line.target == move.status.target)
        assert line.planned is not None and line.planned.settings == move.after
        if move.outcome is Outcome.MOVES:
            assert move.after == move.on_band and not line.planned.exceptions
        before, limit = move.before.limit, move.after.limit
        falls = limit is not UNLIMITED and (before is UNLIMITED or limit < before) and move.status.amount > limit
        if move.outcome in (Outcome.MOVES, Outcome.BROUGHT_BACK) and falls:
            assert insist, "no limit falls below what is used unless that is insisted on"
        if move.outcome is Outcome.LATER:
            assert move.after == move.before and later_only
    others = [
        line for line in lines if line.planned and (line.planned.band is None or line.planned.band.name != name)
    ]
    assert all(line.planned in after.space.limits for line in others)
    twice = restate(lines_after, after.space.bands[name], new, DAY, **options)
    again = apply_restating(after, twice)
    assert {one.key: one.settings for one in again.space.limits} == {
        one.key: one.settings for one in after.space.limits
    }
    assert again.space.bands == after.space.bands


def _with_plan(lines: list[LimitStatus], plan: Plan) -> list[LimitStatus]:
    placed = {(one.on, one.key): one for one in plan.space.limits}
    return [replace(line, planned=placed.get((line.target.on, line.target.key))) for line in lines]


@given(offices(), limits)
def test_what_is_supposed_changes_what_was_said_and_nothing_else(office, limit) -> None:
    plan, lines = office
    before = Supposed(plan, tuple(lines))
    target = lines[0]
    assume(target.target.on is not On.POOL)
    after = suppose_limit(before, target.target.key, limit)
    changed = [(was, now) for was, now in zip(before.statuses, after.statuses, strict=True) if was != now]
    assert all(was.target.key == target.target.key and now.settings.limit == limit for was, now in changed)
    moved = suppose_move(before, Address("barn", b"/d"), "new", 100)
    amounts = {line.target.name: line.amount for line in moved.statuses if line.target.on is On.POOL}
    was = {line.target.name: line.amount for line in lines if line.target.on is On.POOL}
    assert amounts["new"] == 100 and amounts["attic"] == max(0, was["attic"] - 100) and amounts["disk"] == was["disk"]
    assert pool_of(moved.plan, Address("barn", b"/d/e")).name in ("new", "attic")
    joined = suppose_join(before, "barn", 3)
    assert len(joined.statuses) == len(lines) + 3
    banded = suppose_band(before, "small", limit, DAY)
    assert banded.plan.space.bands["small"].stated["limit"] == limit
    with pytest.raises(UnknownNameError):
        suppose_band(before, "none", limit, DAY)


# One count as a system shows it ------------------------------------------------------------------


class Counted:
    """A system with a few folders, two people and a group."""

    name, rules = "barn", SpaceRules()
    groups = (Group("vets", "3001", ("ada",)),)

    def __init__(self, *found: FoundLimit) -> None:
        self.found = found
        self.tells = frozenset(one.on for one in found)
        self.principals = [
            Principal(
                name, name, Kind.STAFF, "barn", Account(name, ident, "3001"), Holder(ident, "3001", frozenset()), True
            )
            for name, ident in (("ada", "2001"), ("bob", "2002"))
        ]

    def used_in(self, path: bytes) -> int | None:
        return {b"/": 900, b"/Homes/ada": 300, b"/Homes/bob": 100}.get(path)

    def is_elsewhere(self, path: bytes) -> bool:
        return False

    def held_of(self, folders: PoolFolders) -> int:
        return held_by_sums(self.used_in, folders)

    def seen_again(self, folders: PoolFolders, folders_of) -> int:
        return 0

    def folders_like(self, pattern: bytes) -> list[bytes]:
        assert pattern == b"/Homes/*"
        return [b"/Homes/ada", b"/Homes/bob"]

    def used_by_owner(self) -> dict[str, int]:
        return {"2001": 310, "2002": 120}

    def used_by_group(self) -> dict[str, int]:
        return {"3001": 430}


PLAN = """
office: X
systems: {barn: {source: tree, path: x}}
people: {ada: {email: a@x.example, accounts: {barn: ada}}, bob: {accounts: {barn: bob}}}
groups: {vets: {members: [ada, bob]}}
bands:
  home: {limit: 200 B, warn: {80: [ada]}} # for everyone
limits:
  folders:
    barn:/Homes/*: {band: home}
    barn:/Homes/bob: {band: home, limit: 150 B, rule: watched, grace-days: 14, since: 2026-01-02, because: thesis}
    barn:/gone: {limit: 1 kB}
  people:
    barn:staff: {limit: 500 B, rule: watched}
    barn:vets: {limit: 400 B}
    barn:bob: {limit: no limit}
  groups:
    barn:vets: {limit: 1 kB}
pools: {disk: {holds: ["barn:/"], size: 1 kB, warn: {85: [ada]}}}
entitlements: {basic: {holders: [vets], systems: [barn], space: 350 B}, more: {holders: [bob], systems: [barn]}}
"""


def test_places_have_what_speaks_of_them_nearest() -> None:
    plan = parse_plan(PLAN, "office.yaml")
    lines = {
        line.target.key: line
        for line in build_limit_table(plan, Counted(FoundLimit(On.FOLDER, "/Homes/ada", 250, used=290)))
    }
    ada, bob = lines["barn:/Homes/ada"], lines["barn:/Homes/bob"]
    assert (ada.planned.exceptions, bool(bob.planned.exceptions)) == ((), True)
    assert [each.field for each in bob.planned.exceptions] == ["limit", "enforced", "grace_days"]
    assert (ada.settings.limit, ada.amount, ada.difference, ada.state(DAY)) == (250, 290, -10, "over")
    # The system tells of folders, and has none here: that is no limit, whatever the plan says.
    assert bob.found_settings == Settings(UNLIMITED) and bob.state(DAY) == "no limit"
    assert lines["barn:/gone"].used is None
    assert (lines["barn:ada"].settings.limit, lines["barn:bob"].settings.limit) == (400, UNLIMITED)
    assert (lines["barn:ada"].entitled, lines["barn:bob"].entitled) == (350, UNLIMITED)
    assert lines["barn:vets"].amount == 430 and lines["disk"].state(DAY) == "past 85 %"
    silent = {line.target.key: line for line in build_limit_table(plan, Counted())}
    assert silent["barn:/Homes/ada"].settings.limit == 200 and silent["barn:/Homes/ada"].found_settings is None


@pytest.mark.parametrize(
    ("days", "enforced", "state"),
    [
        (None, False, "over, 14 days left"),
        (3, False, "over, 11 days left"),
        (14, True, "over, grace is up"),
        (40, True, "over, grace is up"),
    ],
)
def test_a_watched_limit_is_enforced_when_its_grace_is_up(days: int | None, enforced: bool, state: str) -> None:
    placed = PlacedLimit(
        On.FOLDER, "barn:/a", "barn", "/a", None, {"limit": 100, "enforced": False, "grace_days": 14}
    )
    since = None if days is None else DAY - timedelta(days=days)
    line = LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 120, placed, over_since=since)
    assert (line.is_enforced(DAY), line.state(DAY)) == (enforced, state)


def test_every_fault_of_the_plan_on_space_is_told_with_its_place() -> None:
    text = (
        PLAN.replace("200 B", "200")
        .replace("grace-days: 14", "grace-days: soon")
        .replace("limit: 1 kB}\n  people", "limit: 1 KB}\n  people")
    )
    with pytest.raises(PlanError) as told:
        parse_plan(text, "office.yaml")
    assert len(told.value.faults) == 3 and all(
        "such as" in each.expected or "number" in each.expected for each in told.value.faults
    )
    text = (
        PLAN.replace("80: [ada]", "80: [eve]")
        .replace("{band: home}", "{band: hoem}")
        .replace('["barn:/"]', '["loft:/"]')
    )
    text = text.replace("barn:vets: {limit: 400 B}", "barn:nobody: {limit: 400 B}").replace(
        "{limit: no limit}", "{rule: watched}"
    )
    with pytest.raises(PlanError) as told:
        parse_plan(text, "office.yaml")
    words = " ".join(f"{each.found} {each.expected}" for each in told.value.faults)
    assert len(told.value.faults) == 5
    assert all(word in words for word in ("'eve'", "'hoem'", "'loft'", "'nobody'", "no `limit` and no `band`"))


def test_the_plan_is_edited_in_place_and_comes_back_as_it_was_meant(tmp_path: Path) -> None:
    (tmp_path / "office.yaml").write_text(PLAN)
    plan = parse_plan(PLAN, "office.yaml")
    lines = build_limit_table(plan, Counted())
    found = restate(lines, plan.space.bands["home"], {"limit": 120, "warn": ((90, ("ada", "bob")),)}, DAY)
    outcomes = {move.status.target.name: move.outcome for move in found.moves}
    assert outcomes == {"/Homes/ada": Outcome.KEPT, "/Homes/bob": Outcome.STAYS}
    write_restating(tmp_path, plan, found)
    text = (tmp_path / "office.yaml").read_text()
    assert "# for everyone" in text and "because: thesis" in text
    again = {
        line.target.name: line
        for line in build_limit_table(parse_plan(text, "x"), Counted())
        if line.target.on is On.FOLDER
    }
    for move in found.moves:
        assert again[move.status.target.name].planned.settings == move.after
    ada = again["/Homes/ada"].planned
    assert (ada.settings.limit, ada.since, ada.because, bool(ada.exceptions)) == (200, DAY, "holds more", True)
    back = restate(
        list(again.values()),
        parse_plan(text, "x").space.bands["home"],
        {},
        DAY,
        bring_back=["barn:/Homes/ada"],
        insist=True,
    )
    write_restating(tmp_path, parse_plan(text, "x"), back)
    last = parse_plan((tmp_path / "office.yaml").read_text(), "x")
    (ada,) = (one for one in last.space.limits if one.key == "barn:/Homes/ada")
    assert (ada.exceptions, ada.settings.limit, ada.since) == ((), 120, None)


class Walked(Counted):
    """The same system with four homes, of which patterns mean some."""

    homes = tuple(b"/Homes/" + name for name in (b"ada", b"adam", b"bob", b"eve"))

    def __init__(self, used: Mapping[bytes, int]) -> None:
        super().__init__()
        self.used = used

    def used_in(self, path: bytes) -> int | None:
        return self.used.get(path)

    def folders_like(self, pattern: bytes) -> list[bytes]:
        return [path for path in self.homes if match_path(pattern, path)]


FIELD_TEXTS = {
    "limit": ["no limit", "100 B", "200 B", "300 B"],
    "rule": ["enforced", "watched"],
    "grace-days": ["none", "7"],
    "warn": ["{}", "{80: [ada]}"],
}


@st.composite
def stating(draw, *, limit: bool = False) -> list[str]:
    """Fields of a limit as text; days of grace only where they may stand."""
    fields = [name for name in FIELD_TEXTS if (limit and name == "limit") or draw(st.booleans())]
    if "grace-days" in fields and "rule" not in fields:
        fields.append("rule")
    chosen = {name: draw(st.sampled_from(FIELD_TEXTS[name])) for name in fields}
    if chosen.get("grace-days") == "7":
        chosen["rule"] = "watched"
    return [f"{name}: {text}" for name, text in chosen.items()]


@st.composite
def banded_plans(draw) -> str:
    """A plan in which patterns, people by class and groups have a band, with own values equal to it among them."""
    entries: dict[str, list[str]] = {"folders": [], "people": [], "groups": []}
    keys = {
        "folders": ["/Homes/*", "/Homes/ada*", "/Homes/bob", "/Homes/eve/", "/gone"],
        "people": ["everyone", "vets", "ada"],
        "groups": ["vets"],
    }
    anchors: list[str] = []
    for part, names in keys.items():
        for name in draw(st.permutations(names)):
            if not draw(st.booleans()):
                continue
            if anchors and draw(st.integers(0, 3)) == 0:
                entries[part].append(f"    barn:{name}: *{draw(st.sampled_from(anchors))}")
                continue
            band = draw(st.sampled_from([["band: home"], ["band: home"], ["band: other"], []]))
            own = draw(stating(limit=not band))
            anchor = f"&a{len(anchors)} " if draw(st.booleans()) else ""
            anchors += [anchor[1:-1]] if anchor else []
            if own and draw(st.booleans()):
                own += ["since: 2026-01-02", "because: thesis"]
            entries[part].append(f"    barn:{name}: {anchor}{{{', '.join(band + own)}}} # {name}")
    limits = [f"  {part}:\n" + "\n".join(lines) for part, lines in entries.items() if lines]
    bands = "\n".join(f"  {name}: {{{', '.join(draw(stating()))}}}" for name in ("home", "other"))
    head = PLAN.split("bands:")[0].replace("members: [ada, bob]", "members: [ada, bob], names: {barn: doctors}")
    return f"{head}bands:\n{bands}\n" + ("limits:\n" + "\n".join(limits) + "\n" if limits else "")


@settings(max_examples=20)
@given(banded_plans(), stating(), st.booleans(), st.booleans(), st.data())
def test_a_band_is_written_as_the_preview_said(text: str, new: list[str], later: bool, insist: bool, data) -> None:
    plan = parse_plan(text, "office.yaml")
    used = {path: data.draw(st.integers(0, 300)) for path in Walked.homes}
    statuses = build_limit_table(plan, Walked(used))
    stated = parse_plan(f"{PLAN.split('bands:')[0]}bands: {{x: {{{', '.join(new)}}}}}", "x").space.bands["x"].stated
    exceptions = [
        status.target.key
        for status in statuses
        if status.planned and status.planned.exceptions and status.planned.band.name == "home"
    ]
    named = data.draw(st.lists(st.sampled_from(exceptions), unique=True)) if exceptions else []
    options = {"bring_back": named, "later_only": later, "insist": insist}
    found = restate(statuses, plan.space.bands["home"], stated, DAY, **options)
    assert not found.unknown
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "office.yaml").write_text(text)
        write_restating(Path(folder), plan, found, only_try=True)
        assert (Path(folder) / "office.yaml").read_text() == text
        write_restating(Path(folder), plan, found)
        written = (Path(folder) / "office.yaml").read_text()
    again = parse_plan(written, "office.yaml")
    now = {status.target: status for status in build_limit_table(again, Walked(used))}
    said = {move.status.target: move for move in found.moves}
    assert now.keys() == {status.target for status in statuses}
    for status in statuses:
        after, move = now[status.target].planned, said.get(status.target)
        if move is None:
            # What has another band, or none, stays to the letter.
            had = status.planned
            assert (after is None) == (had is None)
            assert had is None or replace(after, line=0, band=None) == replace(had, line=0, band=None)
            continue
        assert after.settings == move.after and after.band.name == "home"
        if move.outcome in (Outcome.MOVES, Outcome.ENDS, Outcome.BROUGHT_BACK):
            assert not after.exceptions and not after.own and not after.because
        if move.outcome is Outcome.STAYS:
            assert (after.since, after.because) == (status.planned.since, status.planned.because)
    assert again.space.bands["home"].stated == found.after.stated
    assert stated.items() <= found.after.stated.items()
    assert again.space.bands["other"].stated == plan.space.bands["other"].stated
    if "&a" not in text:
        assert [line for line in text.split() if "#" in line] == [line for line in written.split() if "#" in line]
    # Saying it once more changes nothing more.
    twice = restate(list(now.values()), again.space.bands["home"], stated, DAY, later_only=later, insist=insist)
    assert {move.status.target: move.after for move in twice.moves} == {
        target: move.after for target, move in said.items()
    }


def test_an_entitlement_bounds_a_persons_room() -> None:
    plan = parse_plan(PLAN, "office.yaml")
    lines = build_limit_table(plan, Counted())
    room = find_room(plan, lines, Newcomer("ada", Address("barn", b"/Homes/bob"), "vets", ""), DAY)
    assert [(stop.what, stop.left) for stop in room.stopping] == [
        ("entitlement basic", 40),
        ("limit on ada's files", 90),
        ("pool disk", 100),
        ("limit on the files of vets", 570),
    ]
    assert [stop.what for stop in room.stops if not stop.stops] == ["limit on barn:/Homes/bob"]
    assert isinstance(plan.space.entitlements[0], Entitlement)


kinds = st.dictionaries(
    st.sampled_from(["odt", "dcm"]),
    st.tuples(*(st.integers(0, 50),) * 4).map(
        lambda four: Changes(four[0], four[1], min(four[2], four[0]), min(four[3], four[0]))
    ),
    min_size=1,
)


@given(st.lists(kinds, min_size=1, max_size=6), st.integers(0, 40), st.integers(0, 40))
def test_versions_lie_between_their_bounds_and_never_beyond_the_worst(history, kept: int, keep: int) -> None:
    for one in bound_versions(history, None, SpaceRules(versions={"": kept}), {"": keep}):
        assert min(one.low, one.high) >= 0 and max(one.low, one.high) <= one.worst == kept * one.size
        assert one.then_worst == keep * one.size
        low, high = one.freed
        assert low <= high and (keep != kept or (low, high) == (0, 0)) and high <= max(one.low, one.high)
        assert not (keep < kept and low < 0) and not (keep > kept and high > 0)
    for one in bound_versions(history, {"odt": 60}, SpaceRules(versions={"odt": 30, "": kept}), {"": 10}):
        if one.kind == "odt":
            assert one.expected == (60, 60) and one.freed == (0, 40)
