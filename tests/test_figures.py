"""What is worked out of figures, by hand on small examples: versions, supposing, usage, grouping."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

import numpy as np
import pytest

from neatledger.core.plan.limits import UNLIMITED, Band, On, PlacedLimit, Pool
from neatledger.core.plan.plan import Kind, Person, Plan, PlanSystem
from neatledger.core.plan.space import Entitlement, SpacePlan, SpaceRules
from neatledger.core.space.bands import Outcome, restate
from neatledger.core.space.figures import Figures, add_up
from neatledger.core.space.limit_table import (
    LimitStatus,
    LimitTarget,
    join_pools,
    limits_of_newcomer,
    pool_of,
    pools_of,
)
from neatledger.core.space.promises import promises
from neatledger.core.space.room import Newcomer, find_room
from neatledger.core.space.sizes import parse_limit, parse_size, show_between, show_share, show_size, spell_size
from neatledger.core.space.supposing import Supposed, suppose_band, suppose_limit, suppose_move, suppose_use
from neatledger.core.space.usage import FOLDERS, Again, Usage, find_totals
from neatledger.core.space.versions import Changes, bound_versions
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS
from neatledger.errors import UnknownNameError
from strategies import _table, table_of_rows

DAY = date(2026, 6, 15)
# Three counts of one kind: two new files among five that changed, then four more changes.
HISTORY = [
    {"psd": Changes(10, 100, 9, 9), "doc": Changes(3, 30)},
    {"psd": Changes(12, 110, 3, 5)},
    {"psd": Changes(12, 120, 2, 4), "doc": Changes(0, 0), "new": Changes(2, 500, 2, 2)},
]


@pytest.mark.parametrize(("kept", "keep", "measured", "expected"), [
    # kept, another number, what the system shows → low, high, worst, then the same, and what it frees
    (1, None, None, (30, 70, 120, None, None, None, None)),
    (5, None, None, (30, 70, 600, None, None, None, None)),
    (1, 0, None, (30, 70, 120, 0, 0, 0, (30, 70))),
    (0, 2, None, (0, 0, 0, 30, 70, 240, (-70, -30))),
    (2, 1, 80, (30, 70, 240, 30, 70, 120, (0, 40))),
    (1, 2, 80, (30, 70, 120, 30, 70, 240, (-80, 0))),
    (2, 2, 80, (30, 70, 240, 30, 70, 240, (0, 0))),
    (0, 1, 80, (0, 0, 0, 30, 70, 120, (10, 80))),
])  # fmt: skip
def test_versions_by_hand(kept: int, keep: int | None, measured: int | None, expected) -> None:
    known = None if measured is None else {"psd": measured}
    found = bound_versions(HISTORY, known, SpaceRules(versions={"": kept}), None if keep is None else {"": keep})
    assert {one.kind for one in found} == {"psd", "new"}, "a kind that is gone takes nothing"
    (one,) = [one for one in found if one.kind == "psd"]
    assert (one.low, one.high, one.worst, one.then_low, one.then_high, one.then_worst, one.freed) == expected
    assert one.expected == ((measured, measured) if measured is not None else (one.low, one.high))
    (new,) = [one for one in found if one.kind == "new"]
    assert (new.low, new.high, new.worst) == (0, 0, 500 * kept), "what came has no older version yet"


# Supposing --------------------------------------------------------------------------------------------


def office() -> Supposed:
    """A disk with two folders, one on a band, and a person."""
    band = Band("small", {"limit": 100, "enforced": True})
    placed = [
        PlacedLimit(On.FOLDER, "barn:/a", "barn", "/a", band, {}),
        PlacedLimit(On.FOLDER, "barn:/b", "barn", "/b", band, {"limit": 70}),
    ]
    space = SpacePlan(bands={"small": band}, limits=tuple(placed), pools={"disk": Pool("disk", ("barn:/",), 500)})
    plan = Plan("X", "", {"barn": PlanSystem("barn", "tree", {})}, {}, {}, (), (), (), {}, space=space)
    found = FoundLimit(On.FOLDER, "/a", 100, used=60)
    statuses = (
        LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), 50, placed[0], found),
        LimitStatus(LimitTarget(On.FOLDER, "barn", "/b"), 90, placed[1]),
        LimitStatus(LimitTarget(On.POOL, "barn", "disk"), 200, None, FoundLimit(On.POOL, "disk", 500, used=210), pool=space.pools["disk"]),
        LimitStatus(LimitTarget(On.PERSON, "barn", "ada"), 10),
    )  # fmt: skip
    return Supposed(plan, statuses)


def by_key(supposed: Supposed) -> dict[str, LimitStatus]:
    return {status.target.key: status for status in supposed.statuses}


def test_another_limit_holds_on_both_sides_and_on_nothing_else() -> None:
    before = office()
    after = suppose_limit(before, "barn:/a", 30)
    changed = by_key(after)["barn:/a"]
    assert (changed.settings.limit, changed.plan_settings.limit, changed.state(DAY)) == (30, 30, "over")
    assert changed.planned.band.name == "small" and changed.planned.exceptions
    assert [one for one in after.statuses if one.target.key != "barn:/a"] == list(before.statuses[1:])
    new = by_key(suppose_limit(before, "barn:ada", 5))["barn:ada"]
    assert new.settings.limit == 5 and new.is_over and new.planned.band is None
    pool = by_key(suppose_limit(before, "disk", 150))["disk"]
    assert (pool.pool.size, pool.settings.limit, pool.left) == (150, 150, -60)
    assert by_key(suppose_limit(before, "disk", UNLIMITED))["disk"].settings.limit is UNLIMITED
    with pytest.raises(UnknownNameError, match="barn:/none"):
        suppose_limit(before, "barn:/none", 1)


@pytest.mark.parametrize(
    ("limit", "of_a", "of_b"), [(200, 200, 70), (60, 60, 70), (59, 100, 70), (UNLIMITED, UNLIMITED, 70)]
)
def test_a_band_restated_never_falls_below_what_is_used(limit, of_a, of_b) -> None:
    after = by_key(suppose_band(office(), "small", limit, DAY))
    assert (after["barn:/a"].settings.limit, after["barn:/b"].settings.limit) == (of_a, of_b)
    assert after["disk"] == by_key(office())["disk"]


def test_what_becomes_of_each_place_of_a_band() -> None:
    supposed, band = office(), office().plan.space.bands["small"]

    def outcomes(limit: int, **more) -> list[Outcome]:
        return [move.outcome for move in restate(supposed.statuses, band, {"limit": limit}, DAY, **more).moves]

    assert outcomes(100) == [Outcome.SAME, Outcome.STAYS]
    assert outcomes(70) == [Outcome.MOVES, Outcome.ENDS]
    assert outcomes(60) == [Outcome.MOVES, Outcome.STAYS] and outcomes(59) == [Outcome.KEPT, Outcome.STAYS]
    assert outcomes(59, insist=True)[0] is Outcome.MOVES
    assert outcomes(120, later_only=True) == [Outcome.LATER, Outcome.STAYS]
    assert outcomes(95, bring_back=["barn:/b"])[1] is Outcome.BROUGHT_BACK
    # The same limit, otherwise stated, stops nobody who was not stopped before.
    over = replace(supposed.statuses[0], used=500, found=None)
    (move,) = restate([over], band, {"limit": 100, "enforced": False}, DAY).moves
    assert move.outcome is Outcome.MOVES and move.falls_below and not move.after.enforced
    found = restate(supposed.statuses, band, {"limit": 95}, DAY, bring_back=["barn:/b", "barn:/a", "barn:/x"])
    assert found.unknown == ("barn:/a", "barn:/x") and [move.falls_below for move in found.moves] == [False, False]


def test_a_folder_moved_takes_its_use_from_one_pool_to_another() -> None:
    after = suppose_move(office(), Address("barn", b"/a"), "attic", 60)
    assert after.shifts == {"disk": -60, "attic": 60} and after.moved == ((Address("barn", b"/a"), "disk", "attic"),)
    pools = by_key(after)
    assert (pools["disk"].amount, pools["disk"].used, pools["attic"].amount) == (150, 140, 60)
    assert pool_of(after.plan, Address("barn", b"/a/x")).name == "attic"
    assert pool_of(after.plan, Address("barn", b"/ab")).name == "disk"
    back = suppose_move(after, Address("barn", b"/a"), "disk", 60)
    assert by_key(back)["disk"].amount == 210 and back.shifts == {"disk": 0, "attic": 0}


def test_more_in_use_at_once_is_where_it_is_said_to_be_and_never_below_nothing() -> None:
    before = office()
    amounts = [-500 if one.target.name == "disk" else 0 for one in before.statuses]
    after = suppose_use(before, amounts, "so")
    assert by_key(after)["disk"].amount == 0 and after.shifts == {"disk": -500} and after.notes == ("so",)
    others = [
        (one, was) for one, was in zip(after.statuses, before.statuses, strict=True) if one.target.name != "disk"
    ]
    assert others and all(one is was for one, was in others)


def test_a_pool_of_two_systems_is_one() -> None:
    disk = Pool("disk", ("barn:/", "loft:/"), 100)
    halves = [
        LimitStatus(LimitTarget(On.POOL, name, "disk"), used, pool=disk) for name, used in (("barn", 3), ("loft", 4))
    ]
    (one,) = join_pools(halves)
    assert one.used == 7
    plan = replace(office().plan, space=replace(office().plan.space, pools={"disk": disk}))
    assert [pool.name for pool in pools_of(plan, "loft")] == ["disk"] and [
        pool.name for pool in pools_of(plan, "x")
    ] == ["x"]


# Usage ------------------------------------------------------------------------------------------------


def usage(again: tuple[Again, ...] = (), hard: dict | None = None, kept=None, inodes=(1, 2, 3, 4)) -> Usage:
    """Root with ``a`` (and ``a/x``) and ``b``; three files in a/x, one in b, and what has several names."""
    folders = {
        "name": [b"", b"a", b"b", b"x"],
        "parent": [-1, 0, 0, 1],
        "first_child": [1, 3, 4, 4],
        "children": [2, 1, 0, 0],
    }
    folders |= {
        "bytes": [1, 1, 1, 1],
        "occupied": [4, 4, 4, 4],
        "inode": list(inodes),
        "device": [7] * 4,
        "owner": [0, 0, 1, 1],
    }
    classes = {
        "folder": [2, 3],
        "list": [0, 0],
        "owner": [1, 0],
        "kind": [1, 0],
        "files": [1, 3],
        "bytes": [50, 30],
        "occupied": [60, 40],
        "changed": [0, 0],
    }
    none = {kind: table_of_rows([], kind) for kind in ("others", "hard")}
    table = (
        none["hard"]
        if hard is None
        else _table({name: hard.get(name, [0] * len(hard["folder"])) for name in COLUMNS["hard"]}, COLUMNS["hard"])
    )
    return Usage(
        _table(folders, COLUMNS["folders"]), _table(classes, COLUMNS["classes"]), none["others"], table, again, kept
    )


def totals(found: Usage) -> list[list[int]]:
    return found.totals.tolist()


def test_folders_hold_their_files_and_all_below() -> None:
    assert totals(usage()) == [[4, 84, 116], [3, 32, 48], [1, 51, 64], [3, 31, 44]]
    items = usage().items
    assert usage().by(items.owner) == {0: (3, 32, 48), 1: (1, 52, 68)}
    assert usage().by(items.kind, 1) == {0: (3, 30, 40), FOLDERS: (0, 2, 8)}
    assert usage().own_at(3) == [3, 31, 44] and usage().own.tolist()[0] == [0, 1, 4]
    folder, key, figures = usage().roll_up_by(items.kind)
    rolled = {(f, k): tuple(each) for f, k, each in zip(folder.tolist(), key.tolist(), figures.tolist(), strict=True)}
    assert rolled[0, 0] == (3, 30, 40) and rolled[1, FOLDERS] == (0, 2, 8) and (2, 0) not in rolled
    kept = find_totals(usage())
    assert kept["totals"]["occupied"].tolist() == [116, 48, 64, 44]


def test_a_file_of_two_names_counts_once_where_both_are_held() -> None:
    # One name in a/x, one in b, as one class each: the second in reading order is taken off at the root.
    names = {
        "folder": [3, 2],
        "kind": [0, 1],
        "owner": [0, 1],
        "bytes": [10, 10],
        "occupied": [12, 12],
        "inode": [9, 9],
        "device": [7, 7],
    }
    found = usage(hard=names)
    assert totals(found) == [[3, 74, 104], [3, 32, 48], [1, 51, 64], [3, 31, 44]]
    other = usage(hard=names | {"device": [7, 8]})
    assert totals(other)[0] == [4, 84, 116], "the same number on another device is another file"
    both_here = usage(hard=names | {"folder": [3, 3]})
    assert totals(both_here)[3] == [2, 21, 32] and both_here.own_at(3) == [2, 21, 32]


def test_a_tree_that_is_counted_elsewhere_is_taken_off_where_it_meets_the_other() -> None:
    assert totals(usage((Again(2, 3),)))[0] == [3, 33, 52] and totals(usage((Again(2, 3),)))[2] == [1, 51, 64]
    assert totals(usage((Again(1, -1),)))[0] == [1, 52, 68]
    seen = usage(inodes=(1, 2, 2, 4))
    assert totals(seen)[0] == [3, 33, 52] and seen.folders_again() == [(2, 1)]
    assert usage(inodes=(0, 0, 0, 0)).folders_again() == [], "no number is no identity"
    assert totals(usage(kept=np.array([True, True, False, True])))[0] == [3, 33, 52]


# Sizes ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("text", "size"), [
    ("0 B", 0), ("17 B", 17), ("1.5 kB", 1500), ("1 KiB", 1024), ("2 GB", 2 * 10**9), ("1 TiB", 1024**4),
])  # fmt: skip
def test_sizes_are_read(text: str, size: int) -> None:
    assert parse_size(text) == size == parse_limit(text)


@pytest.mark.parametrize(("size", "shown", "binary", "spelled"), [
    (0, "0 B", "0 B", "0 B"), (999, "999 B", "999 B", "999 B"), (1000, "1 kB", "1000 B", "1 kB"), (1024, "1.02 kB", "1 KiB", "1 KiB"),
    (9_994, "9.99 kB", "9.76 KiB", "9994 B"), (9_995, "10.0 kB", "9.76 KiB", "9995 B"), (99_949, "99.9 kB", "97.6 KiB", "99949 B"),
    (99_950, "100 kB", "97.6 KiB", "99950 B"), (-1500, "-1.50 kB", "-1.46 KiB", None), (10**21, "1,000 EB", "867 EiB", "1000 EB"),
])  # fmt: skip
def test_sizes_are_shown(size: int, shown: str, binary: str, spelled: str | None) -> None:
    assert show_size(size) == shown and show_size(size, binary=True).replace(",", "") == binary
    if spelled is not None:
        assert parse_size(spell_size(size)) == size


def test_parts_and_bounds_are_shown() -> None:
    shares = [show_share(part, 1000) for part in (0, 1, 10, 994, 999, 1000, 1500)]
    assert shares == ["0 %", "<1 %", "1 %", "99 %", "99 %", "100 %", "150 %"]
    assert show_between(5, 5) == "5 B" and show_between(0, 2000) != show_between(2000, 2000)
    assert add_up([Figures(1, 2, 3), Figures(4, 5, 6)]) == Figures(5, 7, 9) and not Figures() and Figures(0, 0, 1)
    assert Figures(1, 2, 3) - Figures(1, 1, 1) == Figures(0, 1, 2)
    assert Figures(1, 2, 3).measured("bytes") == 2 and Figures(1, 2, 3).measured("occupied") == 3


# Room, and what a newcomer has ------------------------------------------------------------------------


def entitled(space: object, *holders: str) -> Entitlement:
    return Entitlement("basic", holders or ("ada",), ("barn",), space)


@pytest.mark.parametrize(("entitlements", "refusal", "stops"), [
    ((), "", [("limit on barn:/a", 40), ("pool disk", 290)]),
    ((entitled(UNLIMITED),), "", [("limit on barn:/a", 40), ("pool disk", 290)]),
    ((entitled(30),), "", [("entitlement basic", 20), ("limit on barn:/a", 40), ("pool disk", 290)]),
    ((entitled(30), entitled(60)), "", [("limit on barn:/a", 40), ("entitlement basic", 50), ("pool disk", 290)]),
    ((entitled(30), entitled(UNLIMITED)), "", [("limit on barn:/a", 40), ("pool disk", 290)]),
    ((entitled(30, "bo"),), "", [("limit on barn:/a", 40), ("pool disk", 290)]),
    ((entitled(5),), "closed", [("entitlement basic", -5), ("access", 0), ("limit on barn:/a", 40), ("pool disk", 290)]),
])  # fmt: skip
def test_what_stops_a_person_first(entitlements, refusal: str, stops) -> None:
    supposed = office()
    people = {"ada": Person("ada", "Ada", Kind.STAFF)}
    plan = replace(supposed.plan, people=people, space=replace(supposed.plan.space, entitlements=entitlements))
    room = find_room(plan, supposed.statuses, Newcomer("ada", Address("barn", b"/a/x"), "vets", refusal), DAY)
    assert [(stop.what, stop.left) for stop in room.stopping] == stops
    assert room.left == max(0, stops[0][1])


def test_room_counts_groups_and_what_is_left_out() -> None:
    group = PlacedLimit(On.GROUP, "barn:vets", "barn", "vets", None, {"limit": 25})
    mine = LimitStatus(LimitTarget(On.GROUP, "barn", "vets"), 20, group)
    supposed = office()
    statuses = (*supposed.statuses, mine)
    asked = Newcomer("ada", Address("barn", b"/a"), "vets", "")
    assert find_room(supposed.plan, statuses, asked, DAY).stopping[0].what == "limit on the files of vets"
    other = find_room(supposed.plan, statuses, replace(asked, group="nurses"), DAY)
    assert [stop.what for stop in other.stopping] == ["limit on barn:/a", "pool disk"]
    apart = replace(supposed.statuses[0].found, leaves_out=("/a/x",))
    outside = find_room(supposed.plan, (replace(supposed.statuses[0], found=apart), *statuses[1:]), replace(asked, folder=Address("barn", b"/a/x/y")), DAY)  # fmt: skip
    assert [stop.what for stop in outside.stopping] == ["limit on the files of vets", "pool disk"]


def test_a_newcomer_has_what_staff_have_and_a_home_as_patterns_give_it() -> None:
    placed = (
        PlacedLimit(On.GROUP, "k", "barn", "staff", None, {"limit": 1}),
        PlacedLimit(On.PERSON, "k", "loft", "staff", None, {"limit": 2}),
        PlacedLimit(On.PERSON, "k", "barn", "guests", None, {"limit": 3}),
        PlacedLimit(On.PERSON, "k", "barn", "staff", None, {"limit": 4}),
        PlacedLimit(On.FOLDER, "k", "barn", "/Homes/*", None, {"limit": 5}),
        PlacedLimit(On.FOLDER, "k", "barn", "/Other/*", None, {"limit": 6}),
    )
    plan = replace(
        office().plan, space=replace(office().plan.space, limits=placed, entitlements=(entitled(7, "staff"),))
    )
    found = limits_of_newcomer(plan, "barn", "new", [b"/Homes"], 9)
    assert [(one.target.key, one.settings.limit, one.amount, one.entitled) for one in found] == [
        ("barn:new", 4, 9, 7), ("barn:/Homes/new", 5, 9, UNLIMITED),
    ]  # fmt: skip
    assert len(limits_of_newcomer(plan, "barn", "new", [b"/Else"], 9)) == 1


@pytest.mark.parametrize(
    ("planned", "found", "counts"), [(False, False, False), (True, False, True), (False, True, True)]
)
def test_a_persons_limit_counts_where_either_side_says_it(planned: bool, found: bool, counts: bool) -> None:
    placed = PlacedLimit(On.PERSON, "barn:ada", "barn", "ada", None, {"limit": 12}) if planned else None
    told = FoundLimit(On.PERSON, "ada", 12) if found else None
    mine = LimitStatus(LimitTarget(On.PERSON, "barn", "ada"), 10, placed, told)
    room = find_room(office().plan, (mine,), Newcomer("ada", Address("barn", b"/x"), "", ""), DAY)
    assert [stop.what for stop in room.stops] == (["limit on ada's files"] if counts else [])


@pytest.mark.parametrize(
    ("limit", "used", "fullness"),
    [(0, 0, 1.0), (0, 5, 2.0), (10, 5, 0.5), (10, 10, 1.0), (10, 20, 2.0), (UNLIMITED, 5, -1.0)],
)
def test_how_full_a_place_is(limit: object, used: int, fullness: float) -> None:
    placed = PlacedLimit(On.FOLDER, "barn:/a", "barn", "/a", None, {"limit": limit})
    assert LimitStatus(LimitTarget(On.FOLDER, "barn", "/a"), used, placed).fullness == fullness


def test_a_folder_in_no_pool_is_promised_by_none() -> None:
    plan = replace(office().plan, space=replace(office().plan.space, pools={"disk": Pool("disk", ("barn:/b",), 500)}))
    (promise,) = promises(plan, office().statuses, DAY)
    assert promise.by_folders == 90 + (210 - 90) and promise.limits == 1


def test_trees_counted_elsewhere_are_taken_off_once_also_one_in_another() -> None:
    both = usage((Again(1, -1), Again(3, -1)))
    assert totals(both)[0] == totals(usage((Again(1, -1),)))[0] == [1, 52, 68]
    apart = usage((Again(1, -1), Again(2, -1)))
    assert totals(apart)[0] == [0, 1, 4]
