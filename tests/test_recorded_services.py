"""Services over trees and shares, by lot: ways and their gates, tables, what is used: as it was when it was last looked at."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import product

import numpy as np
import pytest

from histories import table_of
from neatledger.core.access.everyone import Everyone
from neatledger.core.lists.posix import PosixModel
from neatledger.core.lists.role import RoleModel
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.sharing.exposing import Exposer
from neatledger.core.sharing.holders import principals_beside
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import find_file_losses, find_losses, take_back
from neatledger.core.space.usage import Again, Usage, find_totals
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.core.trail.entries import find_entries, find_names, used_by_member
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.uses import uses_of
from neatledger.core.tree.address import Address
from neatledger.core.tree.order import TreeOrder
from neatledger.errors import UnknownNameError
from recording import cells_of, gates_of
from shared_offices import NO_PLAN, SystemTerms
from shared_offices import Office as Shared
from shared_offices import Tree as SharedTree
from strategies import table_of_rows
from test_boundaries import DAY
from test_recorded_lists import Names, holders
from test_recorded_sharing import shared
from test_recorded_tree import Drawn

RENAMED = {b"/t": b"/a", b"/t/x": b"/a/b", b"/Homes": b"/h", b"/Homes/bo": b"/h/Ben", b"/u": b"/z"}
GROUP_IDENTS = {"vets": "21", "desk": "22"}


def _tree(model: str, rng: random.Random) -> SharedTree:
    drawn = Drawn(model, rng.randrange(1000))
    return SharedTree(
        {"role": RoleModel(), "posix": PosixModel()}[model], drawn.folders, drawn.classes, drawn.bodies, drawn.idents
    )


def _people(system: str, rng: random.Random) -> list[Principal]:
    found = []
    for number, login in enumerate(("ada", "bo", "cy", "gus", "eve")):
        one = holders("role")[number]
        admin = frozenset({"everything"}) if rng.random() < 0.15 else frozenset()
        holder = replace(
            one, login=login, groups=one.groups | ({"21"} if rng.random() < 0.4 else set()), privileges=admin
        )
        state = rng.choice(
            (AccountState.OPEN, AccountState.OPEN, AccountState.OPEN, AccountState.UNKNOWN, AccountState.DISABLED)
        )
        email = f"{login}@{rng.choice(('x', 'out'))}.example"
        account = Account(
            login,
            holder.user,
            "0",
            login.title(),
            email,
            state=state,
            may_use=rng.random() < 0.9,
            is_entitled=rng.random() < 0.9,
        )
        kind = Kind.GUEST if login == "gus" else Kind.STAFF
        found.append(Principal(login, login.title(), kind, system, account, holder, rng.random() < 0.8))
    return found


def office(seed: int) -> Shared:
    rng = random.Random(f"service {seed}")
    mine, share = _tree("role", rng), _tree("posix", rng)
    given = shared(rng)
    given = replace(
        given,
        links=tuple(replace(one, path=RENAMED[one.path]) for one in given.links),
        hand_outs=tuple(replace(one, path=RENAMED[one.path]) for one in given.hand_outs),
        teams=tuple(
            replace(
                one,
                path=RENAMED[one.path],
                over=rng.choice((None, Address("barn", b"/a"), Address("barn", b"/h"), Address("barn", b"/none"))),
            )
            for one in given.teams
        ),
    )
    people = _people("meadow", rng)
    service = Service(
        "meadow",
        given,
        [*people, *principals_beside("meadow", given, people, NO_PLAN)],
        GROUP_IDENTS,
        DAY,
        rng.random() < 0.1,
    )
    return Shared(mine, share, _people("barn", rng)[:4], service, SystemTerms(RoleModel(), False, service.read_only))


@pytest.mark.parametrize("seed", range(24))
def test_how_access_to_a_service_is_explained(seed: int, recorded) -> None:
    made = office(seed)
    told = {}
    for row in (0, 1, 4, 7):
        ways = made.ways(row)
        for number, principal in enumerate(made.service.principals):
            access = ways.access([number])
            if access.ways:
                told[f"{row} {principal.account.login}"] = [int(access.rights), access.is_known, access.counts] + [
                    [f"{way.name} {way.through} {int(way.rights)} {way.is_known} {way.counts}", gates_of(way, Names())]
                    for way in access.ways
                ]  # fmt: skip
        told[f"{row} alone"] = sorted(ways.of_file_alone)
    recorded(told)


@pytest.mark.parametrize("seed", range(20))
def test_what_tables_say_of_a_service(seed: int, recorded) -> None:
    made = office(seed)
    told: dict[str, object] = {
        f"narrow {is_narrow}": cells_of(Everyone(made.matrix(is_narrow))) for is_narrow in (False, True)
    }
    lost = []
    for what in ("link:k0", "hand-out:h1", "member:/a=bo", "guest:gus"):
        try:
            after, words, top = take_back(made.service, what)
        except UnknownNameError as error:
            lost.append(str(error))
            continue
        other = replace(made, service=after)
        before, then = Everyone(made.matrix(False)), Everyone(other.matrix(False))
        if len(after.principals) == len(made.service.principals):
            of_files = [list(find_file_losses(b"/a/b", made.ways(row), other.ways(row))) for row in (1, 4)]
            lost.append([words, find_losses(before, then, (top,)), of_files])
        else:
            lost.append([words, "", ""])
    told["lost"] = lost
    recorded(told)


@pytest.mark.parametrize("seed", range(15))
def test_what_is_used_where(seed: int, recorded) -> None:
    rng = random.Random(f"use {seed}")
    drawn = Drawn("posix", seed)
    rows = drawn.folders.rows
    inodes = [rng.choice((n, n, 3)) for n in range(100, 100 + rows)]
    folders = drawn.folders.with_column("inode", np.array(inodes, dtype=np.uint64)).with_column(
        "device", np.array([rng.choice((1, 1, 2)) for _ in range(rows)], dtype=np.uint64)
    )
    hard = sorted(
        (
            rng.randrange(rows),
            rng.randrange(6),
            rng.randrange(6),
            rng.choice((-1, 0, 1)),
            rng.choice((7, 8, 9)),
            100,
            4096,
            1,
        )
        for _ in range(6)
    )
    others = sorted(
        (rng.randrange(rows), rng.randrange(6), rng.randrange(6), rng.randrange(1, 4), 10, 0) for _ in range(3)
    )
    tables = table_of_rows(others, "others"), table_of_rows(hard, "hard")
    kept = None if rng.random() < 0.5 else np.array([rng.random() < 0.8 for _ in range(rows)])
    again = rng.choice(((), (Again(4, 5),), (Again(3, -1),)))
    usage = Usage(folders, drawn.classes, *tables, again=again, kept=kept)
    other = Usage(folders, drawn.classes, *tables)
    large = sorted(
        (rng.randrange(rows), b"f%d.odt" % n, 0, 0, rng.randrange(3), 9 * 2**20 + n, 0, 5 + n) for n in range(3)
    )
    exposer = Exposer(TreeOrder(folders), drawn.classes, table_of_rows(large, "large"), [b"odt", b"dcm", b""])
    recorded({
        "totals": usage.totals.tolist(), "own": [usage.own_at(row) for row in range(rows)], "again": usage.folders_again(),
        "by": {name: usage.whole_by(name) for name in ("owner", "kind", "list")}, "below": {row: usage.by(usage.items.owner, row) for row in (1, 2)},
        "kept": {name: [table[figure].tolist() for figure in ("files", "bytes", "occupied")] for name, table in find_totals(other).items()},
        "seen": usage.seen_in([other]).figures.sum(axis=0).tolist(), "rolled": [each.tolist() for each in usage.roll_up_by(usage.items.kind)],
        "exposed": {f"{path.decode()} {is_file}": exposer.find([(path, is_file)])[path] for path, is_file in product((b"/", b"/a", b"/a/b", b"/a/f0.odt", b"/f1.odt", b"/a/x.dcm", b"/none"), (False, True)) if not (path == b"/" and is_file)},
    })  # fmt: skip


START = datetime(2026, 6, 1, tzinfo=UTC)


@pytest.mark.parametrize(("model", "seed"), list(product(("posix", "nt", "role"), range(6))))
def test_what_entries_were_used(model: str, seed: int, recorded) -> None:
    rng = random.Random(f"{model} used {seed}")
    drawn = Drawn(model, seed)
    paths = [drawn.path_of(row) for row in range(drawn.folders.rows)]
    records = [
        Record(START + timedelta(hours=rng.randrange(300)), rng.choice(("ada", "BEN", "cy", "nobody")), rng.choice((Did.OPEN, Did.CHANGE, Did.RIGHTS, Did.SIGN_IN)), rng.choice((*paths, b"/old")).rstrip(b"/") + b"/f", is_done=rng.random() < 0.9, number=rng.choice((1, 2)))
        for _ in range(30)
    ]  # fmt: skip
    records.sort(key=lambda one: one.moment)
    moves = Moves([Move(int((START + timedelta(hours=150)).timestamp()), b"/old", b"/a/b")])
    accounts = {one.account.login: number for number, one in enumerate(drawn.people)}
    uses = uses_of(table_of(records), moves, lambda path: paths.index(path) if path in paths else -1, accounts)
    names = find_names(drawn.matrix)
    entries = [
        [
            one.named.sort,
            one.named.ident,
            one.row,
            one.folders,
            int(one.rights),
            {use.name: last for use, last in one.last.items()},
            one.last_by,
            one.last_use,
        ]
        for one in find_entries(drawn.matrix, names, uses)
    ]
    recorded({
        "uses": [each.tolist() for each in (uses.account, uses.folder, uses.use, uses.last, uses.number)], "entries": entries,
        "names": [[one.sort, one.ident, {number: int(rights) for number, rights in one.rights.items()}, one.members.tolist()] for one in names],
        "members": [used_by_member(drawn.matrix, one, names[:1], uses) for one in names if one.sort == "group"],
    })  # fmt: skip
