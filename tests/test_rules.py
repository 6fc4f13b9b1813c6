"""Rules of the core on small random cases, each beside an evaluator that goes through them one by one."""

from __future__ import annotations

import random
import re
import struct
from collections import defaultdict
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, date, datetime
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from histories import table_of
from neatledger.core.access.comparing import compare
from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone
from neatledger.core.access.map import map_of
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.moved_files import FilesChanged
from neatledger.core.access.people_flags import ABSENT_FLAG, REMOVAL, UNKNOWN_FLAG, PeopleFlags, level_of_flags
from neatledger.core.access.row_pairs import rows_of_one_count, rows_of_two_counts
from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.tree_gates import Gate
from neatledger.core.checks.agreement import _Held, _judge, _too_much
from neatledger.core.checks.contract import OfficeFacts, SystemFacts, stranger
from neatledger.core.checks.table import CHECKS
from neatledger.core.drafting.people import _tells_last, login_forms
from neatledger.core.lists import descriptors, nfs4, nt, ordered, posix, role
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.descriptors import (
    DACL_PRESENT,
    Ace,
    AceType,
    Acl,
    Descriptor,
    ace_of_body,
    pack_acl,
    pack_descriptor,
    pack_sid,
    unpack_acl,
    unpack_descriptor,
)
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.ordered import spell_mask
from neatledger.core.lists.rights import (
    LEVEL_RIGHTS,
    Level,
    Right,
)
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.people.credentials import make_password
from neatledger.core.people.principals import FoundAccounts, Principal, find_principals
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.plan import Bound, Expectation, Kind, Plan
from neatledger.core.plan.rules import SharingRule
from neatledger.core.posts.accounts import new_account
from neatledger.core.posts.clocks import Clocks, clocks_of
from neatledger.core.sharing.gates import given_gates
from neatledger.core.sharing.service import Service
from neatledger.core.space.sizes import (
    parse_limit,
    parse_size,
    show_between,
    show_limit,
    show_share,
    show_size,
    spell_size,
    unit_fault,
)
from neatledger.core.space.synced import find_synced
from neatledger.core.steps.grants import set_holder
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.shared import HandOut, Reply, Shared, Towards
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.uses import Use, uses_of
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import COLUMNS, LARGE_BYTES
from neatledger.core.tree.table import folder_paths
from neatledger.errors import FormatError, StepError
from neatledger.office.read import parse_plan
from strategies import WORLDS, World, _table, principals, table_of_rows, trees

READ = LEVEL_RIGHTS[Level.READ]
_READ_FLAG = 1 << FLAG_RIGHTS.index(Right.READ)
_ADD_FLAG = 1 << FLAG_RIGHTS.index(Right.ADD)
USE_OF = {
    Did.OPEN: Use.READ, Did.CHANGE: Use.CHANGE, Did.MAKE: Use.CHANGE, Did.RENAME: Use.CHANGE, Did.DELETE: Use.CHANGE,
    Did.RIGHTS: Use.MANAGE, Did.SHARE: Use.MANAGE,
}  # fmt: skip
FOLDERS = [b"/a", b"/a/b", b"/a/b/c", b"/d", b"/d/b", b"/e"]


@given(st.randoms(use_true_random=False), st.integers(0, 25), st.integers(0, 3))
def test_the_last_use_of_each_is_what_going_through_the_records_finds(
    rng: random.Random, number: int, moved: int
) -> None:
    moves = sorted(Move(rng.randrange(100, 900), rng.choice(FOLDERS), b"/m%d" % n) for n in range(moved))
    records = [
        Record(
            datetime.fromtimestamp(moment, UTC), rng.choice(["Ada", "ben", "nobody", ""]), rng.choice(list(Did)),
            rng.choice([*FOLDERS, b""]) + b"/x.txt", is_done=rng.random() < 0.8, number=rng.randint(1, 5),
        )
        for moment in sorted(rng.randrange(1000) for _ in range(number))
    ]  # fmt: skip
    rows = {path: row for row, path in enumerate([*FOLDERS[:5], *(b"/m%d" % n for n in range(moved)), b"/m0/b"], 10)}
    logins = {"ada": 3, "ben": 0}
    last: dict[tuple[int, int, int], int] = {}
    often: dict[tuple[int, int, int], int] = defaultdict(int)
    for one in records:
        moment, path = int(one.moment.timestamp()), one.path.rpartition(b"/")[0]
        for move in moves:
            if move.moment > moment and (path == move.source or path.startswith(move.source + b"/")):
                path = move.dest + path[len(move.source) :]
        if one.is_done and one.did in USE_OF and path in rows and one.who.casefold() in logins:
            key = logins[one.who.casefold()], rows[path], int(USE_OF[one.did])
            last[key] = moment
            often[key] += one.number
    found = uses_of(table_of(records), Moves(moves), lambda path: rows.get(path, -1), logins)
    columns = (found.account, found.folder, found.use, found.last, found.number)
    assert list(zip(*(one.tolist() for one in columns), strict=True)) == [
        (*key, last[key], often[key]) for key in sorted(last)
    ]
    of_ben = found.of_accounts([0, 7])
    assert set(of_ben.account.tolist()) <= {0} and len(of_ben) == sum(key[0] == 0 for key in last)


SID, LONGER = "S-1-5-21-1-2-3-5001", "S-1-5-32-544"
WHOLE = pack_descriptor(
    Descriptor(
        SID, LONGER, Acl((Ace(0, 3, 0x1F01FF, SID), Ace(1, 0, 1, LONGER))), Acl((Ace(2, 0x40, 1, SID),)), DACL_PRESENT
    )
)
OFFSETS = struct.unpack_from("<IIII", WHOLE, 4)  # owner, group, SACL, DACL


def put(at: int, form: str, value: int) -> bytes:
    data = bytearray(WHOLE)
    struct.pack_into(form, data, at, value)
    return bytes(data)


DACL = OFFSETS[3]
DAMAGED = [
    (b"", "", "0 bytes"), (WHOLE[:19], "cut short", "19 bytes"), (put(0, "<B", 2), "revision 1", "byte 0"),
    (put(2, "<H", 0x0004), "self-relative", "byte 0"),
    *((put(4 * n, "<I", len(WHOLE)), f"points to byte {len(WHOLE)}", f"byte {4 * n}") for n in (1, 2, 3, 4)),
    *((put(4 * n, "<I", 19), "points to byte 19", f"byte {4 * n}") for n in (1, 2, 3, 4)),
    (put(OFFSETS[0], "<B", 2), "security identifier", f"byte {OFFSETS[0]}"),
    (put(OFFSETS[1] + 1, "<B", 16), "security identifier", f"byte {OFFSETS[1]}"),
    (put(DACL + 2, "<H", 7), "says it has 7 bytes", f"byte {DACL}"),
    (put(DACL + 2, "<H", len(WHOLE) - DACL + 1), f"{len(WHOLE) - DACL} are there", f"byte {DACL}"),
    (put(DACL + 4, "<H", 3), "entry 3 of 3 is cut short", f"byte {len(WHOLE)}"),
    (put(DACL + 10, "<H", 3), "entry 1 of 2 says it has 3 bytes", f"byte {DACL + 8}"),
    (put(DACL + 10, "<H", 9999), "entry 1 of 2 says it has 9999 bytes", f"byte {DACL + 8}"),
    (put(12, "<I", len(WHOLE) - 7), "the list is cut short", f"byte {len(WHOLE) - 7}"),
]  # fmt: skip


@pytest.mark.parametrize(("data", "what", "where"), DAMAGED, ids=range(len(DAMAGED)))
def test_what_is_wrong_in_a_descriptor_is_told_with_its_place(data: bytes, what: str, where: str) -> None:
    with pytest.raises(FormatError) as told:
        unpack_descriptor(data)
    assert what in told.value.what and told.value.where == where, told


def test_a_descriptor_is_read_to_its_last_byte() -> None:
    found = unpack_descriptor(WHOLE)
    assert (found.owner, found.group) == (SID, LONGER) and pack_descriptor(found) == WHOLE
    assert found.dacl is not None and [one.mask for one in found.dacl.aces] == [0x1F01FF, 1]
    assert found.sacl is not None and [one.flags for one in found.sacl.aces] == [0x40]
    # A list of no entries, or an identifier of no parts, may be the last thing of all.
    alone = pack_descriptor(Descriptor("", "S-1-5", None, None, 0))
    assert len(alone) == 28 and unpack_descriptor(alone).group == "S-1-5" and unpack_descriptor(alone).owner == ""
    empty = pack_descriptor(Descriptor("", "", Acl(()), None, 0))
    assert len(empty) == 28 and unpack_descriptor(empty).dacl == Acl(())
    most = Acl((Ace(0, 0, 1, "", raw=bytes(0xFFFF - 8 - 4)),))
    assert len(pack_acl(most)) == 0xFFFF and unpack_acl(pack_acl(most)).aces[0].raw == most.aces[0].raw
    for over in (Acl((Ace(0, 0, 1, "", raw=bytes(0xFFFF - 8 - 3)),)), Acl((Ace(0, 0, 1, "", raw=bytes(0xFFFC)),))):
        with pytest.raises(FormatError):
            pack_acl(over)


# What a device holds ------------------------------------------------------------------------------------

READER = Principal(
    "ada", "Ada", Kind.STAFF, "barn", Account("ada", "ada", "g"), Holder("ada", "ada", frozenset({"g"})), True
)
MAY_READ = [READ, READ | Right.CHANGE, Right.CHANGE, Right.NONE]


@given(
    st.randoms(use_true_random=False),
    st.sampled_from([None, 0, 10, LARGE_BYTES - 2, LARGE_BYTES - 1, LARGE_BYTES, 9 << 20]),
)
def test_a_device_holds_what_is_read_and_not_left_out(rng: random.Random, largest: int | None) -> None:
    parents = [-1, 0, 0, 1, 1, 3]
    paths = {row: ([] if row == 0 else [row]) for row in range(6)}
    for row in range(1, 6):
        paths[row] = [*paths[parents[row]], row]
    bodies = [role.pack_body([role.Entry(Subject.USER, "ada", rights)]) for rights in MAY_READ]
    files = [
        (rng.randrange(6), rng.randrange(4), rng.randrange(2), rng.randrange(3),
         rng.choice([0, 5, 10, 11, LARGE_BYTES - 1, LARGE_BYTES, LARGE_BYTES + 1, 9 << 20]))
        for _ in range(rng.randrange(12))
    ]  # fmt: skip
    sorts: dict[tuple[int, int, int, int], list[int]] = defaultdict(list)
    for *sort, size in files:
        sorts[tuple(sort)].append(size)  # type: ignore[index]
    keys = sorted(sorts)
    columns = {name: [key[place] for key in keys] for place, name in enumerate(("folder", "list", "owner", "kind"))}
    columns |= {"files": [len(sorts[key]) for key in keys], "bytes": [sum(sorts[key]) for key in keys]}
    classes = _table(columns, COLUMNS["classes"])
    large_ones = sorted(one for one in files if one[4] >= LARGE_BYTES)
    large_columns = {
        name: [one[place] for one in large_ones]
        for place, name in enumerate(("folder", "list", "owner", "kind", "bytes"))
    }
    large = _table({"name": [b"x"] * len(large_ones), **large_columns}, COLUMNS["large"])
    names = [b"", *(b"%d" % row for row in range(1, 6))]
    shape = {"name": names, "parent": parents, "first_child": [1, 3, 5, 5, 6, 6], "children": [2, 2, 0, 1, 0, 0]}
    matrix = Matrix(
        _table(shape, COLUMNS["folders"]), classes, bodies, ["ada", "ben"], [READER],
        terms=SystemTerms(MODELS["role"], False),
    )  # fmt: skip
    out = np.array([rng.random() < 0.3 for _ in range(6)])
    kinds = [kind for kind in range(3) if rng.random() < 0.3]
    found = find_synced(Everyone(matrix), classes, large, out, kinds, largest)
    mine = [one for one in files if MAY_READ[one[1]] & Right.READ]
    in_folder = [one for one in mine if out[one[0]]]
    of_kind = [one for one in mine if not out[one[0]] and one[3] in kinds]
    rest = [one for one in mine if not out[one[0]] and one[3] not in kinds]
    # Only large files are kept one by one: smaller ones cannot be told apart by their size.
    big = [one for one in rest if largest is not None and one[4] > largest and one[4] >= LARGE_BYTES]
    held = [(len(some), sum(one[4] for one in some)) for some in (mine, in_folder, of_kind, big)]
    assert [found.reads, found.by_folder, found.by_kind, found.by_size] == held
    assert found.holds == tuple(a - b - c - d for a, b, c, d in zip(*held, strict=True))
    # The largest file that is not kept one by one would have to stay on the device.
    assert found.is_exact == (largest is None or largest >= LARGE_BYTES - 1)
    tops: dict[int, list[int]] = defaultdict(lambda: [0, 0])
    for one in rest:
        top = tops[paths[one[0]][0] if one[0] else 0]
        top[0] += one not in big
        top[1] += 0 if one in big else one[4]
    assert {row: some for row, some in found.tops.items() if some != (0, 0)} == {
        row: tuple(some) for row, some in tops.items() if tuple(some) != (0, 0)
    }


# Small rules --------------------------------------------------------------------------------------------


def planned(settings: str = "") -> Plan:
    return parse_plan(f"office: X\nsystems: {{barn: {{source: tree, path: .}}}}\n{settings}", "office.yaml")


def test_both_clocks_begin_with_the_last_day() -> None:
    day = date(2026, 6, 15)
    assert clocks_of(planned(), day) == Clocks(date(2026, 7, 27), date(2027, 6, 15))
    said = planned("settings: {hand-over-days: 0, keep-days: 1}")
    assert clocks_of(said, day) == Clocks(day, date(2026, 6, 16))


@pytest.mark.parametrize(("idents", "below", "kinds"), [
    (["0", "5", "6", "7"], 1000, "SSSS"), (["1", "5", "6"], 1000, "ppp"), (["1", "5"], 1000, "SS"), (["1", "5", "999"], 1000, "ppp"),
    (["1", "5", "1000"], 1000, "SSp"), (["1", "5", "999"], 999, "SSp"), (["65534", "1000", "0"], 1000, "SpS"), (["a", "b", "0"], 1000, "ppS"),
])  # fmt: skip
def test_numbers_tell_services_where_they_are_those_of_a_system(idents: list[str], below: int, kinds: str) -> None:
    office = planned(f"settings: {{service-uid-below: {below}}}") if below != 1000 else planned()
    accounts = tuple(Account(f"l{place}", ident, "") for place, ident in enumerate(idents))
    found = find_principals(office, {"barn": FoundAccounts(accounts, ())})["barn"]
    assert "".join("S" if one.kind is Kind.SERVICE else "p" for one in found) == kinds


def test_of_two_limits_the_lower_holds_and_what_is_said_before_what_is_not() -> None:
    said = [None, UNLIMITED, 0, 5, 9]
    worth = {None: 3, UNLIMITED: 2}
    for mine in said:
        for theirs in said:
            found = SharingRule(largest=mine).tighter(SharingRule(largest=theirs)).largest
            assert found == min(
                (mine, theirs), key=lambda one: (worth.get(one, 1), one if isinstance(one, int) else 0)
            )


FORMS = "hale jonas jonashale halejonas jhale halej jonash jonas.hale jonas-hale jonas_hale j.hale j-hale j_hale hale.jonas hale-jonas hale_jonas hale.j hale-j hale_j"


def test_the_logins_that_offices_make_of_a_name() -> None:
    assert (
        login_forms("Jonas Peter Hâle") == set(FORMS.split())
        and login_forms("Hale") == {"hale"}
        and login_forms("--") == set()
    )


def service_of(
    name: str, columns: dict[str, list], lists: list[bytes], owners: list[str], people: list[Principal],
    explain: Callable[[int, Principal], SimpleNamespace], *, is_service: bool = True,
) -> SystemFacts:  # fmt: skip
    """Return a service of folders without files, whose lists are of roles, as checks see it."""
    folders, classes, nothing = (
        _table(columns, COLUMNS["folders"]),
        table_of_rows([], "classes"),
        table_of_rows([], "odd"),
    )
    terms = SystemTerms(MODELS["role"], False)
    everyone = Everyone(Matrix(folders, classes, lists, owners, [*people, stranger()], terms=terms))
    return SystemFacts(
        name, everyone, (), (), nothing, nothing, (), (), (), str, explain, None, is_service  # type: ignore[arg-type]
    )  # fmt: skip


@pytest.mark.parametrize(("ways", "rights", "is_service", "found"), [
    ([("link", "k1", READ)], READ, True, "link:k1 on meadow"), ([("handed", "h1", READ)], READ, True, "hand-out:h1 on meadow"),
    ([("link", "k1", READ)], READ, False, ""), ([("link", "k1", READ)], Right.NONE, True, ""), ([("team", "Cases", READ)], READ, True, ""),
    ([("link", "k1", READ), ("link", "k2", READ)], READ, True, ""), ([("link", "k1", READ), ("link", "k2", Right.ADD)], READ, True, "link:k1 on meadow"),
    ([("link", "k1", READ)], Right.ADD, True, ""), ([], READ, True, ""),
])  # fmt: skip
def test_one_offer_alone_is_behind_what_somebody_has(ways, rights: Right, is_service: bool, found: str) -> None:
    def explain(row: int, who: Principal) -> SimpleNamespace:
        return SimpleNamespace(ways=[SimpleNamespace(name=name, through=key, rights=of) for name, key, of in ways])

    shape = {"name": [b""], "parent": [-1], "first_child": [1]}
    facts = service_of("meadow", shape, [role.pack_body([])], ["0"], [READER], explain, is_service=is_service)
    assert facts.offer_behind(0, [0], rights) == found


SIZES = [
    (0, "0 B", "0 B"), (999, "999 B", "999 B"), (1000, "1 kB", "1 kB"), (1024, "1.02 kB", "1 KiB"), (1500, "1.50 kB", "1500 B"), (9994, "9.99 kB", "9994 B"),
    (9995, "10.0 kB", "9995 B"), (99_949, "99.9 kB", "99949 B"), (99_950, "100 kB", "99950 B"), (999_499, "999 kB", "999499 B"), (999_500, "1.00 MB", "999500 B"),
    (-2_000_000, "-2 MB", "-2 MB"), (3 * 1024**3, "3.22 GB", "3 GiB"), (10**18, "1 EB", "1 EB"), (4000 * 10**18, "4,000 EB", "4000 EB"), (1024**6, "1.15 EB", "1 EiB"),
]  # fmt: skip


@pytest.mark.parametrize(("size", "shown", "spelled"), SIZES, ids=[str(one[0]) for one in SIZES])
def test_a_size_is_shown_short_and_spelled_exactly(size: int, shown: str, spelled: str) -> None:
    assert show_size(size) == shown and spell_size(size) == spelled
    assert size < 0 or parse_size(spelled) == size


def test_shares_limits_and_slips_of_units() -> None:
    assert [show_share(*one) for one in ((0, 0), (0, 9), (1, 1000), (9, 1000), (10, 1000), (999, 1000), (3, 3), (15, 10), (12345, 10))] == [
        "-", "0 %", "<1 %", "<1 %", "1 %", "99 %", "100 %", "150 %", "123,450 %",
    ]  # fmt: skip
    assert [show_limit(one) for one in (UNLIMITED, 0, 1024**2, 10**6, 1024**2 * 10**6, 1024**3, 1024)] == [
        "no limit", "0 B", "1 MiB", "1 MB", "1.05 TB", "1 GiB", "1.02 kB",
    ]  # fmt: skip
    assert show_between(5, 5) == "5 B" and show_between(5, 6) == "5 B to 6 B"
    for power, words in (
        (1, "1,024 for 1,000"),
        (3, "1,073,741,824 for 1,000,000,000"),
        (5, f"{1024**5:,} for {1000**5:,}"),
    ):
        assert unit_fault(7 * 1024**power, 7 * 1000**power) == unit_fault(7 * 1000**power, 7 * 1024**power) == words
    assert unit_fault(5000, 5) == "a unit too large (1000)" and unit_fault(5, 5120) == "a unit too large (1024)"
    assert (
        unit_fault(7 * 1024**6, 7 * 1000**6)
        == unit_fault(5, 5)
        == unit_fault(0, 5)
        == unit_fault(5, 0)
        == unit_fault(5, 6)
        == ""
    )
    assert (
        parse_size(" 1.5 TiB ") == 1_649_267_441_664
        and parse_size("0.0005 kB") == 0
        and parse_limit("no  limit") is UNLIMITED
    )
    for text in ("5", "5 KB", "5 gb", "-5 GB", "5. GB", "5 EBB", ""):
        with pytest.raises(ValueError, match="is no size"):
            parse_size(text)


# Two states beside each other ---------------------------------------------------------------------------


@settings(max_examples=25)
@given(st.sampled_from(WORLDS), st.data())
def test_what_changes_is_told_once_where_it_begins(world: World, data: st.DataObject) -> None:
    bodies = data.draw(st.lists(world.bodies, min_size=1, max_size=4))
    then = [data.draw(world.bodies) if data.draw(st.booleans()) else body for body in bodies]
    folders, classes = data.draw(trees(len(bodies)))
    classes = classes.with_column("bytes", 10 * classes["files"])
    held = data.draw(principals(world))[:6]
    people = list(dict.fromkeys(one.person for one in held))
    terms = SystemTerms(world.model, data.draw(st.booleans()))
    before, after = (
        Everyone(Matrix(folders, classes, some, world.users + world.groups, held, terms=terms))
        for some in (bodies, then)
    )
    flags = [PeopleFlags(one, people).flags(np.arange(folders.rows)) for one in (before, after)]
    files = [
        PeopleFlags(one, people).file_flags(np.arange(classes.rows))
        if classes.rows
        else np.zeros((0, len(people)), int)
        for one in (before, after)
    ]
    cells: dict[tuple[int, int], list[int]] = {}
    for person in range(len(people)):
        for row in range(folders.rows):
            had, has = (int(side[row, person]) for side in flags)
            gained, lost, untold, size = [0, 0, 0], [0, 0, 0], 0, 0
            for at in np.flatnonzero(classes["folder"] == row).tolist():
                number = int(classes["files"][at])
                was, now = int(files[0][at, person]), int(files[1][at, person])
                untold += number * (bool(now & UNKNOWN_FLAG) - bool(was & UNKNOWN_FLAG))
                if was & UNKNOWN_FLAG or now & UNKNOWN_FLAG:
                    continue
                for place, flag in enumerate((_READ_FLAG, _ADD_FLAG, REMOVAL)):
                    gained[place] += number * bool(now & flag and not was & flag)
                    lost[place] += number * bool(was & flag and not now & flag)
                size += 10 * number * bool((was ^ now) & _READ_FLAG)
            if had != has or any(gained) or any(lost) or untold:
                cells[person, row] = [had, has, *gained, *lost, untold, size]
    tops: dict[tuple[int, int], list[int]] = {}
    begins: dict[tuple[int, int], tuple[int, int]] = {}
    for (person, row), (had, has, *sums) in cells.items():  # folders come after the one that they lie in
        above = cells.get((person, int(folders["parent"][row])))
        alike = above is not None and all(
            (a | REMOVAL) == (b | REMOVAL) for a, b in zip(above[:2], (had, has), strict=True)
        )
        top = begins[person, int(folders["parent"][row])] if alike else (person, row)
        begins[person, row] = top
        tops.setdefault(top, [had, has, 0, *[0] * len(sums)])
        tops[top][2] += 1
        for place, number in enumerate(sums, 3):
            tops[top][place] += number
    path_of = folder_paths(folders)
    wanted = [
        (people[person], path_of(row), *tops[person, row])
        for person, row in sorted(tops, key=lambda one: (parts_of(path_of(one[1])), one[0]))
    ]
    pairs = rows_of_one_count(folders, folders)
    found = [
        (
            one.person, one.path, one.before, one.after, one.folders, *plain_numbers(one.gained_files),
            *plain_numbers(one.lost_files), one.untold_files, one.size,
        )
        for one in compare(before, after, people, pairs)
    ]  # fmt: skip
    assert found == wanted
    assert compare(before, before, people, pairs) == []
    # The same two as two counts: no file can be told from another there, and never more is told than changed.
    apart = compare(before, after, people, rows_of_two_counts(folders, replace(folders)))
    known = {(one[0], one[1]): one for one in wanted}
    assert all((one.person, one.path) in known for one in apart)
    # A folder that was not there before: all that is had on it is new.
    olds = np.arange(folders.rows)
    olds[-1] = -1
    last = path_of(folders.rows - 1)
    new = [
        one for one in compare(before, before, people, rows_of_one_count(folders, folders, olds)) if one.path == last
    ]
    assert {one.person for one in new} >= {people[p] for p in range(len(people)) if flags[0][-1, p]}
    assert all(
        one.before == ABSENT_FLAG and one.folders == 1 and one.lost == Right.NONE
        for one in new
        if one.after != ABSENT_FLAG
    )


def plain_numbers(files: FilesChanged) -> tuple[int, int, int]:
    return files.read, files.change, files.delete


# Entries that nobody can read, and those that only a person may change -----------------------------------

ADA, VETS = "S-1-5-21-1-2-3-1001", "S-1-5-21-1-2-3-2001"
CAME = Holder("ada", ADA, frozenset({VETS}))


def nt_list(*aces: Ace) -> bytes:
    return nt.pack_body(Descriptor("S-1-5-18", "", Acl(aces)))


def test_an_entry_that_is_damaged_may_give_or_refuse_everyone_everything() -> None:
    sound, damaged = Ace(0, 0, 0x1F01FF, ADA), Ace(0, 0, 0, "", raw=b"\1\2\3\4\5")
    for aces, is_unsure in (
        ((sound,), False),
        ((damaged, sound), True),
        ((sound, damaged), False),
        ((damaged,), True),
    ):
        parsed = MODELS["nt"].parse(nt_list(*aces))
        assert parsed.decide(ItemContext("S-1-5-18", True), CAME).is_unsure == is_unsure, aces
        others, _ = parsed.decide_all(Crowd([CAME]), is_folder=True)
        assert bool(others.get(Right.UNSURE, 0)) == is_unsure
        assert parsed.view(is_folder=True).unsure == (damaged in aces)


@pytest.mark.parametrize(("kind", "more", "is_refused"), [
    (0, {}, False), (1, {}, False), (5, {"object_types": bytes(4)}, True), (6, {"object_types": bytes(4)}, True), (9, {"data": b"artx"}, True),
    (0, {"flags": 0x10}, False),
])  # fmt: skip
def test_an_entry_on_a_condition_or_for_objects_is_for_a_person(kind: int, more: dict, is_refused: bool) -> None:
    named = Ace(**{"type": kind, "flags": 0, "mask": 0x1200A9, "sid": ADA} | more)
    other = Ace(0, 0x13, 0x1200A9, VETS)
    body = nt_list(named, other)
    whom = Whom(Sort.USER, ADA)
    if is_refused:
        with pytest.raises(StepError, match="on a condition, or for objects"):
            set_holder("nt", body, whom, READ, is_folder=True)
        assert set_holder("nt", body, Whom(Sort.USER, "S-1-5-21-1-2-3-9"), None, is_folder=True) == body
        return
    found = nt.unpack_body(set_holder("nt", body, whom, READ, is_folder=True))
    assert found.dacl is not None
    mine = [one for one in found.dacl.aces if one.sid == ADA]
    assert [(one.type, one.flags) for one in mine] == [(0, 0x3)] and other.sid in {one.sid for one in found.dacl.aces}
    # What was passed on from above is the list's own from now on: else it would come back.
    assert bool(found.control & 0x1000) == bool(more)
    assert [one.flags for one in found.dacl.aces if one.sid == VETS] == [0x3 if more else 0x13]
    assert [one.sid for one in found.dacl.aces] == ([ADA, VETS] if not more else [VETS, ADA])
    without = nt.unpack_body(set_holder("nt", body, whom, None, is_folder=True))
    assert without.dacl is not None and [one.sid for one in without.dacl.aces] == [VETS]


def test_where_there_is_no_list_none_is_changed() -> None:
    for body, words in (
        (nt.pack_body(Descriptor(dacl=None)), "no list at all"),
        (MODELS["nt"].unread, "could not be read"),
    ):
        with pytest.raises(StepError, match=words):
            set_holder("nt", body, Whom(Sort.USER, ADA), READ, is_folder=True)


@pytest.mark.parametrize(("login", "name", "tells"), [
    ("jhale", "Jonas Hale", True), ("jonas.hale", "Jonas P. Hale", True), ("hale-j", "Jonas Hale", True), ("jonas", "Jonas Hale", False),
    ("hale", "Jonas Hale", False), ("jonash", "Jonas Hale", False), ("hale", "Hale", False), ("x", "Jonas Hale", False), ("", "", False),
])  # fmt: skip
def test_a_login_tells_the_last_part_of_a_name_where_it_is_made_of_both(login: str, name: str, tells: bool) -> None:
    assert _tells_last(login, name) == tells


# Who starts ---------------------------------------------------------------------------------------------


def one_like(login: str, ident: str, primary: str, home: str = "", shell: str = "/bin/sh") -> Account:
    return Account(login, ident, primary, home=home or f"/home/{login}", shell=shell)


OWN = [Group("ada", "1001"), Group("ben", "1002"), Group("staff", "2000")]
LIKE = [
    one_like("ada", "1001", "1001"),
    one_like("ben", "1002", "1002"),
    one_like("cy", "1003", "2000", shell="/bin/zsh"),
]
NEW = [
    # whom it is made like, the numbers that were used, and its number, group, home and shell
    (LIKE, ["1001", "1002", "1003"], ("1004", "1004", "/home/new", "/bin/sh", True)), (LIKE, ["59999", "1003"], ("60000", "60000", "/home/new", "/bin/sh", True)),
    (LIKE, ["60000", "999", "1003"], ("1004", "1004", "/home/new", "/bin/sh", True)), (LIKE, ["1000", "x"], ("1001", "1001", "/home/new", "/bin/sh", True)),
    (LIKE[1:], [], ("1001", "2000", "/home/new", "/bin/zsh", False)), (LIKE[2:], ["2000"], ("2001", "2000", "/home/new", "/bin/zsh", False)),
    ([*LIKE, one_like("root", "0", "0", "/root")], [], ("1001", "1001", "/home/new", "/bin/sh", True)), ([one_like("root", "0", "0", "/root")], [], ("new", "", "", "", False)),
    ([one_like("sys", "999", "9")], [], ("new", "", "", "", False)), ([one_like("ada", "1000", "9")], [], ("1001", "9", "/home/new", "/bin/sh", False)),
    ([one_like("ada", "S-1-5-21-1", "S-1-5-21-513"), LIKE[0]], ["1001"], ("new", "S-1-5-21-513", "", "", False)),
    ([one_like("ada", "1001", "2000", "/srv/x")], [], ("1001", "2000", "", "/bin/sh", False)), ([], [], ("new", "", "", "", False)),
]  # fmt: skip


@pytest.mark.parametrize(("like", "used", "made"), NEW, ids=range(len(NEW)))
def test_who_starts_gets_an_account_like_the_others(like: list[Account], used: list[str], made: tuple) -> None:
    account, own = new_account("new", "New One", "n@x.example", like, OWN, used)
    assert (account.ident, account.primary, account.home, account.shell, own is not None) == made
    assert (account.login, account.name, account.email) == ("new", "New One", "n@x.example")
    assert own is None or own == Group("new", account.ident)


# A folder wider than the one above ------------------------------------------------------------------------

CROWD = [
    replace(
        READER, person=f"p{n}", account=Account(f"p{n}", f"p{n}", ""), holder=Holder(f"p{n}", f"p{n}", frozenset())
    )
    for n in range(6)
]
A_LINK = SimpleNamespace(ways=[SimpleNamespace(name="link", through="k1", rights=READ | Right.ADD)])
WIDE = [
    # who reads the folder above, who reads it, who adds to it, who owns it, the plan's folders, what is told and whose cause
    ("", "0", "", "9", "", "beyond the folder above: p0 (read)", "link:k1 on barn"), ("0", "0", "", "9", "", "", ""), ("01", "0", "", "9", "", "", ""),
    ("0", "0", "0", "9", "", "beyond the folder above: p0 (", "link:k1 on barn"), ("0", "01", "", "9", "", "beyond the folder above: p1 (read)", "link:k1 on barn"),
    ("", "0", "", "0", "", "", ""), ("", "01", "", "0", "", "beyond the folder above: p1 (read)", "link:k1 on barn"), ("", "0", "", "9", "barn:/a", "", ""),
    ("", "0", "", "9", "barn:/b", "beyond the folder above: p0 (read)", "link:k1 on barn"),
    ("", "0123", "", "9", "", "p3 (read)", "link:k1 on barn"), ("", "01234", "", "9", "", "p3 (read) and 1 more", ""),
]  # fmt: skip


@pytest.mark.parametrize(
    ("above", "reads", "adds", "owner", "planned_folder", "words", "cause"), WIDE, ids=range(len(WIDE))
)
def test_a_folder_is_wider_than_the_one_above(
    above, reads, adds, owner, planned_folder, words: str, cause: str
) -> None:
    def body(reading: str, adding: str = "") -> bytes:
        entries = [role.Entry(Subject.USER, f"p{n}", READ) for n in reading]
        return role.pack_body([*entries, *(role.Entry(Subject.USER, f"p{n}", READ | Right.ADD) for n in adding)])

    columns = {
        "name": [b"", b"a"],
        "parent": [-1, 0],
        "first_child": [1, 2],
        "children": [1, 0],
        "list": [0, 1],
        "owner": [0, 1],
        "default": [-1, -1],
    }
    lists, owners = [body(above), body(reads, adds)], ["9", f"p{owner}"]
    barn = service_of("barn", columns, lists, owners, CROWD, lambda row, who: A_LINK)
    plan = planned(f"folders: {{'{planned_folder}': {{}}}}" if planned_folder else "")
    office = OfficeFacts(plan, [barn], date(2026, 6, 15), lambda: None, list)  # type: ignore[arg-type,return-value]
    found = list(CHECKS["wider-than-above"].find(office))
    assert [one.evidence for one in found] == (
        [one.evidence for one in found if words in one.evidence] if words else []
    )
    assert [(str(one.place), one.cause) for one in found] == ([("barn:/a", cause)] if words else [])
    for one in found:
        gained = {f"p{n}" for n in reads + adds} - {f"p{n}" for n in above if n not in adds} - {f"p{owner}"}
        is_new = any(n not in above for n in reads if n != owner)
        wider = (Right.READ if is_new else Right.NONE) | (Right.ADD if adds else Right.NONE)
        assert set(one.people) == gained and one.rights == wider


# Words for rights ------------------------------------------------------------------------------------------

R = Right


@pytest.mark.parametrize(("mask", "of_folder", "of_file"), [
    (0x1F01FF, "manage", "manage"), (0x1301BF, "write", "write"), (0x1200A9, "read", "read"), (0x1200A8, "mixed", "none"), (0x1F01FE, "", ""),
    (0x1, "read (0x1)", "read (0x1)"), (0x2, "add-only (0x2)", "change (0x2)"), (0x3, "write (0x3)", "write (0x3)"), (0x20, "enter (0x20)", "nothing (0x20)"),
    (0x40, "removing what is in it (0x40)", "nothing (0x40)"), (0x60, "enter, and removing what is in it (0x60)", "nothing (0x60)"), (0x10000, "delete (0x10000)", "delete (0x10000)"), (0x40000, "manage (0x40000)", "manage (0x40000)"),
    (0x4, "nothing (0x4)", "nothing (0x4)"), (0x80000, "nothing (0x80000)", "nothing (0x80000)"), (0x0, "nothing (0x0)", "nothing (0x0)"),
])  # fmt: skip
def test_a_mask_is_named_or_spelled_bit_by_bit(mask: int, of_folder: str, of_file: str) -> None:
    found = spell_mask(mask, is_folder=True), spell_mask(mask, is_folder=False)
    if mask in (0x1200A8, 0x1F01FE):
        # One bit off a usual mask is none.
        assert all(one.endswith(f"(0x{mask:x})") for one in found)
    else:
        assert found == (of_folder, of_file)


def test_bits_are_those_of_the_specification() -> None:
    """MS-DTYP 2.4.6 (control bits) and 2.4.4.1 (flags); MS-DTYP 2.4.3 and RFC 8881 6.2.1.3 (masks), 6.2.1.4 (flags)."""
    control = {
        "DACL_PRESENT": 2,
        "SACL_PRESENT": 4,
        "AUTO_REQUESTED": 8,
        "AUTO_INHERITED": 10,
        "PROTECTED": 12,
        "SELF_RELATIVE": 15,
    }
    flags = ("OBJECT_INHERIT", "CONTAINER_INHERIT", "NO_PROPAGATE", "INHERIT_ONLY", "INHERITED")
    assert {name: getattr(descriptors, name) for name in control} == {
        name: 1 << place for name, place in control.items()
    }
    assert [getattr(descriptors, name) for name in flags] == [1 << place for place in range(5)]
    masks = {
        "READ_BIT": 0,
        "WRITE_BIT": 1,
        "APPEND_BIT": 2,
        "EXECUTE_BIT": 5,
        "CLEAR_BIT": 6,
        "DELETE_BIT": 16,
        "LIST_BIT": 18,
    }
    assert {name: getattr(ordered, name) for name in masks} == {name: 1 << place for name, place in masks.items()}
    assert (nfs4.ALLOW, nfs4.DENY, nfs4.AUDIT, nfs4.ALARM, nfs4.IS_GROUP, nfs4.INHERITED) == (0, 1, 2, 3, 0x40, 0x80)
    assert (posix.USER_OBJ, posix.USER, posix.GROUP_OBJ, posix.GROUP, posix.MASK, posix.OTHER) == (1, 2, 4, 8, 16, 32)
    generic = {0x80000000: 0x120089, 0x40000000: 0x120116, 0x20000000: 0x1200A0, 0x10000000: 0x1F01FF}
    assert {bit: nt.map_generic(bit) for bit in generic} == generic


def test_what_the_specification_counts_is_counted_so() -> None:
    """MS-DTYP 2.4.4.1: the types of entries, of which these name somebody right behind the mask, or behind two more."""
    names = [
        *("ALLOW", "DENY", "AUDIT", "ALARM", "ALLOW_COMPOUND", "ALLOW_OBJECT", "DENY_OBJECT", "AUDIT_OBJECT", "ALARM_OBJECT", "ALLOW_CALLBACK"),
        *("DENY_CALLBACK", "ALLOW_CALLBACK_OBJECT", "DENY_CALLBACK_OBJECT", "AUDIT_CALLBACK", "ALARM_CALLBACK", "AUDIT_CALLBACK_OBJECT"),
        *("ALARM_CALLBACK_OBJECT", "LABEL", "RESOURCE", "SCOPED_POLICY"),
    ]  # fmt: skip
    assert [getattr(AceType, name) for name in names] == list(range(20))
    assert {5, 6, 7, 8, 11, 12, 15, 16} == descriptors.OBJECT_TYPES and set(
        range(9, 17)
    ) == descriptors.CALLBACK_TYPES
    body = struct.pack("<I", 0x1200A9) + pack_sid(ADA)
    for kind in range(25):
        is_object = 5 <= kind <= 8 or kind in (0x0B, 0x0C, 0x0F, 0x10)
        found = ace_of_body(kind, 0, body[:4] + bytes(4) + body[4:] if is_object else body)
        is_read = kind < 20 and kind != 4
        assert (found.sid, found.mask, found.raw is None) == ((ADA, 0x1200A9, True) if is_read else ("", 0, False)), (
            kind
        )


def test_what_was_done_in_the_second_of_a_move_was_done_where_it_is_now() -> None:
    moves = Moves([Move(10, b"/a", b"/b"), Move(20, b"/b", b"/c"), Move(30, b"/x/y", b"/c/y")])
    assert [moves.now(b"/a/f", moment) for moment in (9, 10, 11)] == [b"/c/f", b"/a/f", b"/a/f"]
    assert [moves.now(b"/b", moment) for moment in (9, 19, 20)] == [b"/c", b"/c", b"/b"]
    assert moves.now(b"/ab", 0) == b"/ab" and moves.now(b"/x", 0) == b"/x" and not Moves([]) and moves
    assert (
        moves.moments_of(b"/a/f") == [10, 20, 30]
        and moves.moments_of(b"/b") == [20, 30]
        and moves.moments_of(b"/q") == []
    )
    assert [(one.path, one.until) for one in moves.earlier_names(b"/c/f")] == [(b"/b/f", 20), (b"/a/f", 10)]
    assert [(one.path, one.until) for one in moves.earlier_names(b"/c/y")] == [(b"/x/y", 30)] and moves.earlier_names(
        b"/q"
    ) == []


def test_a_password_can_be_read_out_and_has_what_systems_ask_for() -> None:
    made = {make_password() for _ in range(200)}
    assert len(made) == 200
    assert all(re.fullmatch(r"[A-Z][a-z2-9]{4}(-[a-z2-9]{5}){2}-[2-9][a-z2-9]{4}", one) for one in made)
    assert not set("".join(made)) & set("iljo01IJLO")


# Expectations ----------------------------------------------------------------------------------------------

MANAGE, WRITE = LEVEL_RIGHTS[Level.MANAGE], LEVEL_RIGHTS[Level.WRITE]
LESS = "has less than read: lacks "
EXPECTED = [
    # the bound and level, whether it is they who are named; what they have: rights, files, read, changed, known; what is said, what is too much
    ("at-most", "read", True, (READ, 9, 9, 0, True), "", R.NONE), ("at-most", "read", True, (WRITE, 9, 9, 0, True), "has more than read: add", WRITE & ~READ),
    ("at-most", "read", True, (READ, 9, 9, 2, True), "has more than read: changes 2 of 9 files", R.NONE), ("at-most", "read", False, (WRITE, 9, 9, 9, True), "", WRITE & ~READ),
    ("at-most", "list", True, (LEVEL_RIGHTS[Level.LIST], 9, 3, 0, True), "has more than list: reads 3 of 9 files", R.NONE), ("at-most", "write", True, (WRITE, 9, 9, 9, True), "", R.NONE),
    ("at-most", "list", True, (READ, 9, 3, 2, True), "has more than list: read, changes 2 of 9 files", R.READ), ("at-most", "none", True, (R.NONE, 9, 0, 0, True), "", R.NONE),
    ("at-least", "read", True, (READ, 9, 9, 0, True), "", R.NONE), ("at-least", "read", True, (R.LIST | R.ENTER, 9, 0, 0, True), f"{LESS}read", R.NONE),
    ("at-least", "read", True, (READ, 9, 8, 0, True), f"{LESS}reads only 8 of 9 files", R.NONE), ("at-least", "read", True, (R.NONE, 9, 0, 0, False), "", R.NONE),
    ("at-least", "read", False, (R.NONE, 9, 0, 0, True), "", R.NONE), ("at-least", "add-only", True, (R.ADD, 9, 0, 0, True), "", R.NONE),
    ("at-least", "add-only", True, (R.ENTER, 9, 0, 0, True), "has less than add-only: lacks add", R.NONE), ("at-least", "list", True, (LEVEL_RIGHTS[Level.LIST], 9, 0, 0, True), "", R.NONE),
    ("exactly", "read", True, (READ, 9, 9, 0, True), "", R.NONE), ("exactly", "read", True, (WRITE, 9, 9, 9, True), "", R.NONE), ("exactly", "read", True, (R.NONE, 9, 0, 0, True), LESS, R.NONE),
    ("exactly", "read", False, (READ, 9, 9, 0, True), "has read too", READ), ("exactly", "read", False, (R.NONE, 9, 0, 0, True), "", R.NONE), ("exactly", "read", False, (R.NONE, 9, 1, 0, True), "has read too", R.NONE),
    ("exactly", "write", False, (READ, 9, 9, 0, True), "", READ), ("exactly", "write", False, (WRITE, 9, 9, 0, True), "has write too", WRITE), ("exactly", "none", False, (READ, 9, 9, 9, True), "", READ),
]  # fmt: skip


@pytest.mark.parametrize(
    ("bound", "level", "is_named", "held", "words", "excess"), EXPECTED, ids=range(len(EXPECTED))
)
def test_what_an_expectation_says_of_somebody(
    bound: str, level: str, is_named: bool, held, words: str, excess: Right
) -> None:
    expectation = Expectation("x", "barn", b"/a", Bound(bound), Level(level), ("vets",))
    found = _judge(expectation, _Held(*held), is_named)
    assert found.startswith(words) and bool(found) == bool(words)
    assert _too_much(expectation, _Held(*held), is_named) == excess


def test_of_two_accounts_the_better_counts() -> None:
    one, other = _Held(READ, 9, 3, 0), _Held(R.ADD, 9, 1, 2, is_known=False)
    assert one.unite(other) == other.unite(one) == _Held(READ | R.ADD, 9, 3, 2, is_known=False)


# A map of access -------------------------------------------------------------------------------------------


@settings(max_examples=25)
@given(st.data(), st.integers(0, 4), st.integers(0, 8))
def test_a_map_shows_what_is_wanted_and_where_levels_differ(data: st.DataObject, depth: int, most: int) -> None:
    world = WORLDS[0]
    bodies = data.draw(st.lists(world.bodies, min_size=1, max_size=4))
    folders, classes = data.draw(trees(len(bodies)))
    held = data.draw(principals(world))[:5]
    people = list(dict.fromkeys(one.person for one in held))
    everyone = Everyone(Matrix(folders, classes, bodies, world.users, held, terms=SystemTerms(world.model, True)))
    wanted = data.draw(st.sets(st.integers(0, folders.rows - 1), max_size=4))
    parent = folders["parent"].tolist()
    deep = [0] * folders.rows
    for row in range(1, folders.rows):
        deep[row] = deep[parent[row]] + 1
    levels = [
        [level_of_flags(int(one)) for one in each]
        for each in PeopleFlags(everyone, people).flags(np.arange(folders.rows))
    ]
    others = [
        row
        for row in range(folders.rows)
        if deep[row] <= depth and row not in wanted and (row == 0 or levels[row] != levels[parent[row]])
    ]
    room = max(most - len(wanted), 0)
    reading = everyone.matrix.order.preorder.tolist()
    shown = sorted([*wanted, *others[:room]], key=lambda row: reading[row])
    found = map_of(everyone, people, wanted, depth=depth, most=most)
    assert (found.rows, found.levels, found.left_out) == (
        shown,
        [levels[row] for row in shown],
        max(len(others) - room, 0),
    )


@pytest.mark.parametrize(("more", "refused"), [
    ({}, []), ({"reply": Reply.WAITING}, ["not accepted yet"]), ({"reply": Reply.DECLINED}, ["declined"]),
    ({"expires": date(2026, 6, 15)}, []), ({"expires": date(2026, 6, 14)}, ["it ended on 2026-06-14"]),
    ({"expires": date(2026, 6, 14), "reply": Reply.WAITING, "made": date(2026, 6, 1), "passed_from": "h0"}, ["it ended on 2026-06-14", "not accepted yet"]),
])  # fmt: skip
def test_what_a_hand_out_says_itself(more: dict[str, object], refused: list[str]) -> None:
    one = HandOut("h1", "ada", "ben", Towards.PERSON, b"/a", READ, **more)  # type: ignore[arg-type]
    gates = given_gates(Service("meadow", Shared(hand_outs=(one,)), [], {}, date(2026, 6, 15)), one)
    assert [reason for gate in gates if not gate.passes for reason in _reasons(gate)] == refused
    assert gates[0].passes == READ and len(gates) == 2 + ("expires" in more)
    began = _reasons(gates[0])[0]
    assert began.startswith("made on 2026-06-01, passed on from h0" if "made" in more else "handed out")


def _reasons(gate: Gate) -> list[str]:
    return [one.because for one in gate.reasons]
