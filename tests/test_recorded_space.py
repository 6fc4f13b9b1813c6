"""Limits, room, pools, bands, versions and what is supposed of them, by lot: as it was when it was last looked at."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import date, timedelta

import pytest

from neatledger.core.checks.contract import HomeUse, OfficeFacts, SpaceFacts
from neatledger.core.checks.table import CHECKS
from neatledger.core.drafting.limits import FoundOn, LimitDrafter
from neatledger.core.plan.limits import UNLIMITED, Band, On, PlacedLimit, Pool, Settings
from neatledger.core.plan.plan import Kind, Person, Plan, PlanSystem
from neatledger.core.plan.space import Barred, BarredFiles, Entitlement, SpacePlan, SpaceRules
from neatledger.core.space.bands import apply_restating, restate
from neatledger.core.space.limit_table import (
    LimitStatus,
    LimitTarget,
    PoolFolders,
    entitled_space,
    folders_in_pool,
    held_by_sums,
    join_pools,
    pool_of,
    pools_of,
)
from neatledger.core.space.promises import promises
from neatledger.core.space.room import Newcomer, find_room, statuses_above
from neatledger.core.space.sizes import show_between, show_limit, show_share, show_size, spell_size, unit_fault
from neatledger.core.space.supposing import (
    Supposed,
    suppose_band,
    suppose_join,
    suppose_limit,
    suppose_move,
    suppose_use,
)
from neatledger.core.space.versions import Changes, bound_versions
from neatledger.core.space.when import Meeting, When
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from recording import properties, tried, worded

DAY = date(2026, 6, 15)
PATHS = ("/", "/a", "/a/b", "/h", "/h/ada", "/h/bob", "/h/*")
SIZES = (0, 1, 10, 99, 100, 101, 500, 999, 1000, 1001, 5000)


def _settings(rng: random.Random) -> dict[str, object]:
    said: dict[str, object] = {"limit": rng.choice((*SIZES, UNLIMITED))}
    if rng.random() < 0.4:
        said["enforced"] = rng.random() < 0.5
        said["grace_days"] = rng.choice((None, 0, 7, 14))
    if rng.random() < 0.4:
        said["warn"] = tuple((level, ("ada",)) for level in sorted(rng.sample((50, 80, 95), 2)))
    return said


def _found(rng: random.Random, on: On, name: str) -> FoundLimit | None:
    if rng.random() < 0.4:
        return None
    more = {
        "used": rng.choice((None, *SIZES)),
        "kept_back": rng.choice((0, 0, 5)),
        "by": rng.choice(("", "quotas")),
        "is_told": rng.random() < 0.9,
    }
    more |= {"block": rng.choice((1, 1, 10)), "is_own": rng.random() < 0.8}
    if rng.random() < 0.3:
        more |= {"items": rng.choice((1, 10, 100)), "items_used": rng.choice((None, 0, 1, 9, 10, 89, 90, 100))}
    if on is On.POOL:
        more["leaves_out"] = rng.choice(((), ("/a",), ("/h/ada",)))
    return FoundLimit(on, name, rng.choice((*SIZES, UNLIMITED)), rng.random() < 0.7, **more)  # type: ignore[arg-type]


def office(rng: random.Random) -> tuple[Plan, list[LimitStatus]]:
    """A plan with bands, limits, pools and entitlements, and what one count says of each."""
    bands = {name: Band(name, _settings(rng)) for name in ("small", "large")}
    keys = [(On.FOLDER, f"barn:{path}", path) for path in PATHS]
    keys += [(On.PERSON, f"barn:{name}", name) for name in ("ada", "bob", "staff")] + [
        (On.GROUP, "barn:vets", "vets")
    ]
    placed, lines = [], []
    for on, key, name in keys:
        band = rng.choice((None, *bands.values()))
        own = _settings(rng) if band is None or rng.random() < 0.3 else {}
        one = PlacedLimit(on, key, "barn", name, band, own) if rng.random() < 0.8 else None
        placed += [one] if one else []
        if name not in ("/h/*", "staff"):
            since = None if rng.random() < 0.4 else DAY - timedelta(days=rng.choice((0, 1, 6, 7, 13, 14, 15)))
            entitled = rng.choice((UNLIMITED, 50, 1000)) if on is On.PERSON else UNLIMITED
            lines.append(
                LimitStatus(
                    LimitTarget(on, "barn", name),
                    rng.choice(SIZES),
                    one,
                    _found(rng, on, name),
                    over_since=since,
                    entitled=entitled,
                    is_reported=rng.random() < 0.3,
                )
            )
    pools = {
        "disk": Pool("disk", ("barn:/",), rng.choice((None, *SIZES))),
        "attic": Pool("attic", ("barn:/a", "loft:/"), 500),
    }
    people = {name: Person(name, name, Kind.STAFF, accounts={"barn": (name,)}) for name in ("ada", "bob")}
    paid = Entitlement("paid", ("ada", "staff"), ("barn",), rng.choice((5, 100, 1000)))
    space = SpacePlan(bands=bands, limits=tuple(placed), pools=pools, entitlements=(paid,))
    systems = {"barn": PlanSystem("barn", "tree", {}, homes=(b"/h",)), "loft": PlanSystem("loft", "tree", {})}
    lines += [
        LimitStatus(
            LimitTarget(On.POOL, "barn", name), rng.choice(SIZES), None, _found(rng, On.POOL, name), pool=pool
        )
        for name, pool in pools.items()
    ]
    return Plan("X", "", systems, people, {}, (), (), (), {}, space=space), lines


def _short(found: Supposed) -> object:
    lines = [
        f"{one.target.key} {one.used} {one.amount} {show_limit(one.settings.limit)} {one.state(DAY)}"
        for one in found.statuses
    ]
    return [
        lines,
        found.shifts,
        found.moved,
        found.notes,
        {name: one.holds for name, one in found.plan.space.pools.items()},
    ]


@pytest.mark.parametrize("seed", range(14))
def test_what_is_said_of_limits(seed: int, recorded) -> None:
    plan, lines = office(random.Random(seed))
    told: dict[str, object] = {}
    for one in lines:
        told[one.target.key] = [
            properties(one), one.state(DAY), one.grace_left(DAY), one.is_enforced(DAY), [one.would_be_over(size) for size in SIZES],
            properties(one.as_planned()), one.without_found().settings,
        ]  # fmt: skip
    told["promises"] = [properties(one) for one in promises(plan, lines, DAY)]
    told["pools"] = [[one.name, folders_in_pool(plan, one, "barn")] for one in pools_of(plan, "barn")]
    told["joined"] = [
        [one.target.key, one.used, one.found and one.found.used] for one in join_pools([*lines, *lines[-2:]])
    ]
    recorded(told)


@pytest.mark.parametrize("seed", range(16))
def test_what_room_there_is(seed: int, recorded) -> None:
    rng = random.Random(seed)
    plan, lines = office(rng)
    told = []
    for person, path in (
        (person, path) for person in ("ada", "bob", "cy") for path in (b"/", b"/a/b", b"/h/ada", b"/z")
    ):
        newcomer = Newcomer(
            person,
            Address("barn", path),
            rng.choice(("", "vets")),
            rng.choice(("", "", "only to look")),
            rng.random() < 0.2,
        )
        room = find_room(plan, lines, newcomer, DAY)
        told.append(
            [
                room.left,
                room.is_known,
                room.largest,
                [f"{one.what}: {one.left} {one.usable} {one.stops} {one.because}" for one in room.stops],
                len(room.stopping),
            ]
        )
        told.append(
            [
                [one.target.key for one in statuses_above(lines, newcomer.folder)],
                pool_of(plan, newcomer.folder) and pool_of(plan, newcomer.folder).name,
            ]
        )
        told.append(entitled_space(plan, "barn", person))
    recorded(told)


@pytest.mark.parametrize("seed", range(14))
def test_what_is_supposed_of_limits(seed: int, recorded) -> None:
    rng = random.Random(seed)
    plan, lines = office(rng)
    supposed, size = Supposed(plan, tuple(lines)), rng.choice((*SIZES, UNLIMITED))
    told = {
        "limit": [_short(suppose_limit(supposed, key, size)) for key in rng.sample([one.target.key for one in lines], 3)],
        "band": _short(suppose_band(supposed, "small", size, DAY)),
        "join": _short(suppose_join(supposed, "barn", rng.choice((1, 3)))),
        "move": _short(suppose_move(suppose_move(supposed, Address("barn", b"/a/b"), "new", 7), Address("barn", b"/h"), "attic", 9)),
        "use": _short(suppose_use(supposed, [rng.choice((0, 5, -5)) for _ in lines], "so")),
        "none": [tried(suppose_limit, supposed, "barn:/none", 1), tried(suppose_band, supposed, "none", 1, DAY), tried(suppose_join, supposed, "none", 1)],
    }  # fmt: skip
    stated = {"limit": size} | rng.choice(
        ({}, {"enforced": True}, {"grace_days": 3}, {"enforced": True, "grace_days": 3})
    )
    for bring_back in ((), ("barn:/a", "barn:ada", "barn:/none")):
        found = restate(
            lines,
            plan.space.bands["small"],
            stated,
            DAY,
            bring_back=bring_back,
            later_only=rng.random() < 0.3,
            insist=rng.random() < 0.3,
        )
        told[f"restated {len(bring_back)}"] = [
            [f"{move.status.target.key} {move.outcome.name} {move.falls_below} {move.after}" for move in found.moves],
            found.unknown, len(found.kept), len(found.dropped), found.after, apply_restating(plan, found).space.limits,
        ]  # fmt: skip
    recorded(told)


@pytest.mark.parametrize("seed", range(20))
def test_what_versions_take(seed: int, recorded) -> None:
    rng = random.Random(seed)
    kinds = ("odt", "dcm", "psd")
    history = [
        {
            kind: Changes(
                files := rng.choice((0, 1, 5, 10)), files * rng.choice((1, 10)), rng.randrange(5), rng.randrange(12)
            )
            for kind in kinds
            if rng.random() < 0.9
        }
        for _ in range(rng.choice((1, 2, 4)))
    ]
    measured = rng.choice((None, {"odt": rng.randrange(50), "psd": 3}))
    rules = SpaceRules(versions={"": rng.choice((0, 2, 8)), "dcm": rng.choice((0, 32))})
    keep = rng.choice((None, {"": rng.choice((0, 1, 2, 100))}, {"odt": 3}))
    recorded([properties(one) for one in bound_versions(history, measured, rules, keep)])


@pytest.mark.parametrize("seed", range(20))
def test_what_limits_are_drafted(seed: int, recorded) -> None:
    rng = random.Random(seed)
    drafter = LimitDrafter(rng.choice(((), ("home",))))
    usual = [rng.choice((5, 7)) * 10**9 for _ in range(2)]
    for system in ("barn", "loft"):
        sizes = [rng.choice((*usual, usual[0], 0, 5000, UNLIMITED, 5 * 2**30)) for _ in range(12)]
        settings = [Settings(size, rng.random() < 0.9) for size in sizes]
        names = [f"/Homes/{one}" for one in "abcdef"] + ["/Scans", "/"]
        found = [FoundOn(On.FOLDER, name, one) for name, one in zip(names, settings, strict=False)]
        found += [
            FoundOn(On.PERSON, name, one) for name, one in zip(("ada", "bob", "cy", "dee"), settings[8:], strict=True)
        ]
        found.append(FoundOn(On.GROUP, "vets", rng.choice(settings)))
        drafter.add(
            system,
            found,
            {"/Homes": [f"/Homes/{one}" for one in "abcdefgh"[: rng.randrange(5, 9)]]},
            ["/Homes"],
            ["ada", "bob", "cy"],
        )
    recorded(drafter.found)


def test_how_sizes_are_told(recorded) -> None:
    sizes = sorted(
        {
            number * unit + off
            for unit in (1, 10**3, 2**10, 10**6, 2**20, 10**9, 2**30, 10**12, 10**15)
            for number in (0, 1, 5, 999)
            for off in (-1, 0, 1)
        }
        - {-1}
    )
    told = {
        size: [show_size(size), show_size(size, binary=True), spell_size(size), show_limit(size)] for size in sizes
    }
    shares = [
        show_share(part, whole) for whole in (0, 1, 7, 1000, 10**6) for part in (0, 1, 5, 7, 999, 1000, 1001, 10**6)
    ]
    faults = {f"{one} {other}": unit_fault(one, other) for one in sizes for other in sizes if unit_fault(one, other)}
    recorded(
        [
            told,
            shares,
            [show_between(low, high) for low, high in ((0, 0), (1, 1), (1, 2), (999, 1001), (10**6, 10**6 + 1))],
            faults,
        ]
    )


def test_what_folders_hold_is_added_up_without_what_lies_elsewhere(recorded) -> None:
    held = {b"/": 100, b"/a": 40, b"/a/b": 15, b"/a/c": 5, b"/d": 30}
    places = [Address("barn", path) for path in held]
    found = {}
    for holds in ((places[0],), (places[1], places[4]), (places[1], places[2]), ()):
        for without in (
            (),
            (places[1],),
            (places[2], places[3]),
            (places[1], places[2]),
            (Address("barn", b"/none"),),
        ):
            key = f"{[one.path for one in holds]} {[one.path for one in without]}"
            found[key] = held_by_sums(held.get, PoolFolders(holds, without))
    recorded(found)


@pytest.mark.parametrize("seed", range(30))
def test_what_all_checks_say_of_space(seed: int, recorded) -> None:
    rng = random.Random(f"checks {seed}")
    plan, lines = office(rng)
    extra = [replace(one, target=replace(one.target, name="cy")) for one in lines if one.target.on is On.PERSON][:1]
    lines += extra
    rules = SpaceRules(
        versions=rng.choice((None, {"": 0}, {"": 8, "dcm": 32})), bin_days=rng.choice((None, 0, 30, UNLIMITED)), starter=rng.choice((None, (2, 100)))
    )  # fmt: skip
    people = {
        name: replace(one, email=rng.choice(("", f"{name}@x.example")), end=rng.choice((None, DAY, DAY - timedelta(days=1)))) for name, one in plan.people.items()
    }  # fmt: skip
    stored = rng.choice(((), (Address("barn", b"/reports"),), (Address("barn", b"/a"), Address("barn", b"/"))))
    settings = {"full-within-days": 30, "large-bin-percent": 10} if rng.random() < 0.5 else {}
    plan = replace(
        plan,
        people=people,
        settings=settings,
        today=DAY,
        space=replace(plan.space, rules={"barn": rules}, stored=stored, mailed=rng.choice(((), ("ada",)))),
    )
    history = [
        {kind: Changes(5, 500, 2, 3) for kind in ("odt", "dcm")},
        {kind: Changes(6, 600, 3, 5) for kind in ("odt", "dcm")},
    ]
    held = rng.choice((0, 99, 100, 1000))
    ahead = DAY + timedelta(days=rng.choice((29, 30, 31, 89, 90, 91)))
    when = When(rng.choice((Meeting.ON, Meeting.ON, Meeting.UNEVEN)), ahead, ahead, rng.choice((None, ahead)))
    barred = [
        BarredFiles(
            Address("barn", b"/a"),
            "exe",
            "ada",
            2,
            2000,
            Barred(Address("barn", b"/"), frozenset({"exe"}), rng.choice(("", "no programs"))),
        )
    ]
    homes = [
        HomeUse(Address("barn", f"/h/{n}".encode()), files, size)
        for n, (files, size) in enumerate(((2, 100), (3, 100), (2, 101), (0, 0)))
    ]
    space = SpaceFacts(
        lines, promises(plan, lines, DAY), lambda _: when, {"barn": bound_versions(history, rng.choice((None, {"odt": 40})), rules)}, {"barn": rng.choice((None, 0, 5, 10, 500))},
        {"barn": held}, barred, homes, [(Address("barn", b"/a"), Address("barn", b"/d"))],
    )  # fmt: skip
    facts = OfficeFacts(plan, [], DAY, lambda: space, list)
    found = [
        one
        for name, check in CHECKS.items()
        if check.find.__module__.rpartition(".")[2] in ("limits", "storing")
        for one in check.find(facts)
        if one.check == name
    ]
    recorded([worded(one) for one in found])
