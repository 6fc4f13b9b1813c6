"""Trees of all list models, by lot, and what every check, table and explanation says of them: as it was last looked at."""

from __future__ import annotations

import random
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import product
from types import SimpleNamespace

import numpy as np
import pytest

from neatledger.core.access.amounts import amounts_of
from neatledger.core.access.comparing import compare
from neatledger.core.access.differences import differences_at
from neatledger.core.access.divergence import divergences
from neatledger.core.access.everyone import Everyone
from neatledger.core.access.map import map_of
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.access.pushing import push_down
from neatledger.core.access.row_pairs import rows_of_one_count
from neatledger.core.access.shares import Share, SystemTerms
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import FileClass, access_to
from neatledger.core.checks.contract import OfficeFacts, ReviewFacts, SpaceFacts, SystemFacts, TrailFacts, stranger
from neatledger.core.checks.finding import Finding
from neatledger.core.checks.table import CHECKS
from neatledger.core.drafting.folders import draft_folders, rights_that_differ
from neatledger.core.lists import posix
from neatledger.core.lists.rights import Level
from neatledger.core.lists.table import MODELS
from neatledger.core.people.homes import HomeFolder, match_homes
from neatledger.core.people.principals import Principal, only_in
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.reviews.pack import Choice, Decision, PackRow
from neatledger.core.space.synced import find_synced
from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.core.trail.coverage import Gap
from neatledger.core.trail.signs.contract import Sign, SignKind
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS, NotSeen, SeenState
from neatledger.core.tree.table import folder_paths
from neatledger.office.read import parse_plan
from recording import cells_of, gates_of, plain, worded
from strategies import _table, table_of_rows
from test_boundaries import DAY
from test_recorded_lists import BODIES, GROUPS, PEOPLE, Names, default_of, holders

SHAPE = {
    "name": [b"", b"a", b"h", b"z", b"b", b"c", b"ada", b"Ben", b"ben", b"d"],
    "parent": [-1, 0, 0, 0, 1, 1, 2, 2, 2, 4],
    "first_child": [1, 4, 6, 9, 9, 10, 10, 10, 10, 10],
    "children": [3, 2, 3, 0, 1, 0, 0, 0, 0, 0],
}
TREES = list(product(MODELS, range(12)))
LEVELS = ("none", "list", "view", "read", "write", "manage")


def _principals(model: str, rng: random.Random, *, many: bool) -> list[Principal]:
    found = []
    for number, one in enumerate(holders(model)):
        state = rng.choice(
            (AccountState.OPEN, AccountState.OPEN, AccountState.OPEN, AccountState.UNKNOWN, AccountState.DISABLED)
        )
        person = one.login if one.login != "fay" else "cy"
        account = Account(
            one.login,
            one.user,
            "0",
            person.title(),
            f"{one.login}@x.example",
            state=state,
            may_use=rng.random() < 0.9,
        )
        kind = Kind.SERVICE if one.login == "root" else Kind.GUEST if one.login == "gus" else Kind.STAFF
        found.append(Principal(person, person.title(), kind, "barn", account, one, number < 3))
    if many:
        # So many others come first that those who are drawn stand beyond the first word of bits.
        found = [only_in(f"x{n}", "barn", (), f"x{n}") for n in range(62)] + found
    return found


def _plan(rng: random.Random) -> Plan:
    def grants() -> str:
        held = rng.sample(("ada", "ben", "cy", "vets", "desk", "everyone", "staff"), rng.randrange(4))
        return "{" + ", ".join(f"{one}: {rng.choice(LEVELS)}" for one in held) + "}"

    closed = [", closed: true" if rng.random() < 0.3 else "" for _ in range(3)]
    places = [
        f"  'barn:{path}': {{grants: {grants()}{more}{', owner: ada' if rng.random() < 0.3 else ''}}}"
        for path, more in zip(("/", "/a", "/a/b"), closed, strict=True)
        if rng.random() < 0.7
    ]
    bounds = [
        f"  - {{name: e{n}, folder: 'barn:{rng.choice(('/a', '/**', '/h/*'))}', {rng.choice(('at-least', 'at-most', 'exactly'))}: {rng.choice(LEVELS[1:])}, holders: [{rng.choice(('ada', 'vets', 'everyone', 'staff'))}]}}"
        for n in range(rng.randrange(3))
    ]
    text = "office: X\nsystems: {barn: {source: listing, path: t.csv, homes: [/h]}}\npeople:\n"
    text += "".join(
        f"  {one}: {{name: {one.title()}, email: {one}@x.example, accounts: {{barn: {one}}}}}\n"
        for one in ("ada", "ben", "cy")
    )
    text += "groups: {vets: {members: [ada, ben]}, desk: {members: [ben]}}\n"
    text += "folders:\n" + "\n".join(places) + "\n" if places else "folders: {}\n"
    text += "expectations:\n" + "\n".join(bounds) + "\n" if bounds else ""
    text += "sharing: {sensitive: ['barn:/a/b']}\n" if rng.random() < 0.5 else ""
    return replace(parse_plan(text, "office.yaml"), today=DAY)


class Drawn:
    """One system with its folders, files, lists and people, and the plan that speaks of it."""

    def __init__(self, model: str, seed: int) -> None:
        rng = self.rng = random.Random(f"tree {model} {seed}")
        rows, kind = len(SHAPE["name"]), MODELS[model]
        self.bodies = [BODIES[model](rng) for _ in range(6)]
        self.idents = [*PEOPLE[model], GROUPS[model][0], "7" if model != "nt" else "S-1-5-21-9-9-9-1", ""]
        columns = dict(SHAPE)
        columns |= {
            name: [rng.choice(some) for _ in range(rows)]
            for name, some in (("list", range(6)), ("owner", range(6)), ("bytes", (0, 4096)))
        }
        columns["default"] = [rng.choice((-1, -1, *range(6))) if kind.has_defaults else -1 for _ in range(rows)]
        states = [SeenState.WHOLE] * 8 + [SeenState.NOT_OPENED, SeenState.LIST_UNKNOWN, SeenState.OTHER_FILE_SYSTEM]
        columns["state"] = [int(rng.choice(states)) for _ in range(rows)]
        columns |= {
            "links": [rng.choice((0, 0, 2)) for _ in range(rows)],
            "specials": [rng.choice((0, 0, 1)) for _ in range(rows)],
        }
        sorts = sorted(
            (
                rng.randrange(rows),
                rng.randrange(6),
                rng.randrange(6),
                rng.randrange(1, 9),
                rng.randrange(3),
                rng.choice((0, 10, 2000)),
            )
            for _ in range(12)
        )
        odd = sorted((rng.randrange(rows), b"f%d" % n, rng.randrange(6), rng.randrange(6)) for n in range(3))
        self.folders = _table(columns, COLUMNS["folders"])
        self.classes = table_of_rows(sorts, "classes", ("folder", "list", "owner", "files", "kind", "bytes"))
        self.odd = table_of_rows(odd, "odd", ("folder", "name", "list", "owner"))
        self.collisions = table_of_rows([(2, b"Ben")], "collisions")
        shares = None
        if model == "nt" and rng.random() < 0.6:
            shares = tuple(
                Share(f"s{n}", path, BODIES["nt"](rng), rng.random() < 0.2)
                for n, path in enumerate(rng.sample((b"/", b"/a", b"/a/b"), 2))
            )
        self.terms = SystemTerms(kind, rng.random() < 0.8, rng.random() < 0.1, shares)
        self.people, self.model, self.plan = _principals(model, rng, many=seed % 4 == 3), model, _plan(rng)
        self.matrix = Matrix(
            self.folders, self.classes, self.bodies, self.idents, [*self.people, stranger()], terms=self.terms
        )
        self.everyone = Everyone(self.matrix)
        self.path_of = folder_paths(self.folders)

    @property
    def numbers(self) -> dict[str, list[int]]:
        found: dict[str, list[int]] = {}
        for number, one in enumerate(self.people):
            found.setdefault(one.person, []).append(number)
        return found

    def access(self, row: int, who: list[Principal]):
        chain, at = [], row
        while at >= 0:
            body, state = self.bodies[self.folders["list"][at]], SeenState(int(self.folders["state"][at]))
            chain.append(
                Item(self.path_of(at), MODELS[self.model].parse(body), self.idents[self.folders["owner"][at]], state)
            )
            at = int(self.folders["parent"][at])
        mine = [n for n in range(self.classes.rows) if self.classes["folder"][n] == row]
        files = [
            FileClass(
                MODELS[self.model].parse(self.bodies[self.classes["list"][n]]),
                self.idents[self.classes["owner"][n]],
                int(self.classes["files"][n]),
            )
            for n in mine
        ]
        return access_to(chain[::-1], who, files if chain[0].state is SeenState.WHOLE else None, terms=self.terms)

    @property
    def facts(self) -> OfficeFacts:
        accounts = tuple(one.account for one in self.people)
        groups = (
            Group("vets", GROUPS[self.model][0], ("ada", "ben")),
            Group("desk", GROUPS[self.model][1], ("ben", "dee")),
            Group("empty", "99"),
        )
        homes = [
            HomeFolder(Address("barn", self.path_of(row)), self.idents[self.folders["owner"][row]])
            for row in (6, 7, 8)
        ]
        seen = (NotSeen(b"/z", "permission denied"),) if self.rng.random() < 0.5 else ()
        system = SystemFacts(
            "barn", self.everyone, accounts, groups, self.odd, self.collisions, match_homes(homes, accounts), (b"/h",), seen, Names().user,
            lambda row, who: self.access(row, [who]), Names(),
        )  # fmt: skip
        space = SpaceFacts(
            statuses=(), full_on=lambda _: None, promises=(), kept={}, bins={}, held={}, barred=(), homes=(), twice=()
        )  # type: ignore[arg-type,return-value]
        return OfficeFacts(self.plan, [system], DAY, lambda: space, list)


@pytest.mark.parametrize(("model", "seed"), TREES)
def test_what_all_checks_say_of_a_tree(model: str, seed: int, recorded) -> None:
    facts = Drawn(model, seed).facts
    recorded([worded(one) for check in CHECKS.values() for one in check.find(facts)])


@pytest.mark.parametrize(("model", "seed"), TREES)
def test_what_tables_say_of_a_tree(model: str, seed: int, recorded) -> None:
    drawn = Drawn(model, seed)
    everyone, numbers = drawn.everyone, drawn.numbers
    people = [person for person in numbers if person != "root" and person[0] != "x"]
    rows = np.arange(drawn.folders.rows)
    other = Everyone(
        Matrix(
            drawn.folders,
            drawn.classes,
            drawn.bodies[::-1],
            drawn.idents,
            [*drawn.people, stranger()],
            terms=drawn.terms,
        )
    )
    named = {one: numbers[one] for one in people}
    amounts = amounts_of(everyone, people, rows % 2 == 0)
    groups = {"vets": frozenset({"ada", "ben"}), "desk": frozenset({"ben", "dee"})}
    drafted = draft_folders("barn", everyone, named, groups, lambda row: ("desk",) if row % 2 else (), [(b"h",)])
    table = find_synced(
        everyone,
        drawn.classes,
        table_of_rows([], "large"),
        rows == 5,
        [1],
        None,
    )
    default = None
    if MODELS[model].has_defaults:
        default = default_of(drawn.bodies[0]) or posix.pack_body(0o755, 0)
    pushed = [
        [
            one.row,
            one.files,
            len(one.lost),
            {who: int(has) for who, has in one.gains.items()},
            {who: int(has) for who, has in one.loses.items()},
        ]
        for one in push_down(drawn.matrix, drawn.bodies, default, 1, keeps_own=seed % 2 == 0)
    ]
    flags = PeopleFlags(everyone, people).flags(rows)
    pairs = rows_of_one_count(drawn.folders, drawn.folders)
    recorded({
        "cells": cells_of(everyone), "divergent": [f"{one.row} {one.difference.address} {one.difference.person} {one.difference.spell()} {int(one.difference.beyond)}" for one in divergences(drawn.plan, "barn", everyone, named)],
        "map": map_of(everyone, people, [3, 9], 4, 2), "changed": compare(everyone, other, people, pairs), "amounts": amounts, "drafted": drafted,
        "differ": {str(address): [int(one) for one in some] for address, some in rights_that_differ("barn", everyone, named, [(b"h",)]).items()},
        "flags": flags, "apart": [[one, other, compare(everyone, everyone, [one], pairs, others=[other])] for one, other in (("ada", "ben"), ("ben", "cy"))], "synced": table, "pushed": pushed,
    })  # fmt: skip


@pytest.mark.parametrize(("model", "seed"), list(product(MODELS, range(6))))
def test_how_access_to_a_tree_is_explained(model: str, seed: int, recorded) -> None:
    drawn = Drawn(model, seed)
    told = {}
    for row, (person, numbers) in product((0, 4, 9), drawn.numbers.items()):
        if person[0] == "x":
            continue
        access = drawn.access(row, [drawn.people[number] for number in numbers])
        told[f"{row} {person}"] = [int(access.rights), access.is_known, plain(access.counts)] + [
            [f"{way.name} {int(way.rights)} {way.is_known} {plain(way.counts)}", gates_of(way, Names())]
            for way in access.ways
        ]  # fmt: skip
    path = Address("barn", drawn.path_of(4))
    asked = {
        person: drawn.access(4, [drawn.people[number] for number in numbers])
        for person, numbers in drawn.numbers.items()
    }
    told["differences"] = [
        f"{one.person} {one.spell()} {one.is_known}" for one in differences_at(drawn.plan, path, asked)
    ]
    recorded(told)


@pytest.mark.parametrize("seed", range(20))
def test_what_checks_say_of_records_and_reviews(seed: int, recorded, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TZ", "UTC")
    time.tzset()
    drawn, rng = Drawn("posix", seed % 12), random.Random(f"records {seed}")
    moments = [datetime(2026, 6, rng.randrange(1, 15), rng.randrange(24), tzinfo=UTC) for _ in range(12)]
    signs = [
        SimpleNamespace(
            sign=Sign(rng.choice(list(SignKind)[:3]), "barn", rng.choice(("", "ada")), rng.choice((b"", b"", b"/a")), moment, moment, 3, rng.choice((1, 2)), "x happened"),
            person=rng.choice(("", "ada", "ben")),
        )
        for moment in moments
    ]  # fmt: skip
    trail = TrailFacts(
        rng.choice(((), ("barn",))), signs, [("barn", Gap(moments[0], moments[1], "lost"))] if rng.random() < 0.5 else (),
        {"barn": rng.choice((None, DAY - timedelta(days=7), DAY - timedelta(days=8), DAY - timedelta(days=3)))},
    )  # fmt: skip
    rows = [
        PackRow(
            f"t{n}",
            Address("barn", drawn.path_of(rng.randrange(10))),
            rng.choice(("ada", "ben", "cy")),
            "N",
            rng.choice(list(Level)),
            "",
            "",
            "",
            Level.NONE,
        )
        for n in range(6)
    ]
    reviews = ReviewFacts(
        {Address("barn", b"/a"): DAY - timedelta(days=rng.choice((30, 31)))},
        [Decision(row, rng.choice(list(Choice)), rng.choice((None, Level.READ)), "cy", DAY) for row in rows],
    )
    settings = {
        key: rng.choice(values)
        for key, values in {
            "review-days": (30, 90),
            "trail-days": (60, 90, 91, 181),
            "trail-read-days": (3,),
            "guest-idle-days": (60,),
        }.items()
        if rng.random() < 0.6
    }
    plan = replace(drawn.plan, settings=settings)
    office = replace(drawn.facts, plan=plan, load_trail=lambda: trail, load_reviews=lambda: reviews)
    told = [worded(one) for name in CHECKS for one in _of_records(office, name)]
    monkeypatch.undo()
    time.tzset()
    recorded(told)


def _of_records(office: OfficeFacts, name: str) -> list[Finding]:
    check = CHECKS[name]
    module = getattr(check.find, "func", check.find).__module__.rpartition(".")[2]
    return list(check.find(office)) if module in ("trail", "reviews") else []
