"""Random lists, holders and trees, shared by the properties."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from neatledger.core.accounts import Account, AccountState
from neatledger.core.columns import CLASS_COLUMNS, FOLDER_COLUMNS, SeenState
from neatledger.core.holders import Holder
from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, OTHER, USER, USER_OBJ, Entry, pack_body
from neatledger.core.people import Seat
from neatledger.core.plan import Kind
from neatledger.core.survey import Table
from neatledger.formats.posixacl import pack_entries

USERS, GROUPS = ["0", "11", "12", "13"], ["0", "21", "22", "23"]
perms = st.integers(0, 7)


@st.composite
def posix_entries(draw) -> list[Entry]:
    entries = [Entry(USER_OBJ, draw(perms)), Entry(GROUP_OBJ, draw(perms)), Entry(OTHER, draw(perms))]
    for tag, idents in ((USER, USERS), (GROUP, GROUPS)):
        for ident in draw(st.lists(st.sampled_from(idents), unique=True, max_size=3)):
            entries.append(Entry(tag, draw(perms), int(ident)))
    if len(entries) > 3 or draw(st.booleans()):
        entries.append(Entry(MASK, draw(perms)))
    return entries


@st.composite
def posix_bodies(draw) -> bytes:
    """A stored list as the kernel keeps it: with entries, the mode's group bits are the mask or the group's."""
    sticky, gid = draw(st.sampled_from([0, 0o1000])), int(draw(st.sampled_from(GROUPS)))
    if draw(st.booleans()):
        return pack_body(draw(st.integers(0, 0o777)) | sticky, gid)
    entries = draw(posix_entries())
    perm = {entry.tag: entry.perm for entry in entries}
    group = perm.get(MASK, perm[GROUP_OBJ])
    return pack_body(perm[USER_OBJ] << 6 | group << 3 | perm[OTHER] | sticky, gid, pack_entries(entries))


holders = st.builds(
    Holder,
    st.just("login"),
    st.sampled_from(USERS),
    st.frozensets(st.sampled_from(GROUPS), min_size=1),
)


@st.composite
def seats(draw) -> list[Seat]:
    found = []
    for number, holder in enumerate(draw(st.lists(holders, min_size=1, max_size=70))):
        person = f"p{draw(st.integers(0, number))}"
        state = draw(st.sampled_from([AccountState.OPEN] * 5 + [AccountState.EXPIRED]))
        account = Account(f"l{number}", holder.user, "0", state=state)
        found.append(
            Seat(person, person, Kind.STAFF, "barn", account, Holder(f"l{number}", holder.user, holder.groups), True)
        )
    return found


def _table(columns: dict[str, list], spec: dict[str, str]) -> Table:
    rows = len(next(iter(columns.values())))
    zeros = [0] * rows
    typed = {
        name: columns[name] if dtype == "bytes" else np.array(columns.get(name, zeros), dtype=dtype)
        for name, dtype in spec.items()
    }
    return Table(typed, rows)


@st.composite
def trees(draw, lists: int) -> tuple[Table, Table]:
    """Folders in breadth-first order with random lists and owners, and classes of files in them."""
    parents = [-1]
    for row in range(1, draw(st.integers(1, 25))):
        parents.append(draw(st.integers(parents[-1] if row > 1 else 0, row - 1)))
    rows = len(parents)
    children = [parents.count(row) for row in range(rows)]
    firsts = [1 + sum(children[:row]) for row in range(rows)]
    number, owner = st.integers(0, lists - 1), st.integers(0, len(USERS) - 1)
    states = st.sampled_from([SeenState.WHOLE] * 8 + [SeenState.NOT_OPENED, SeenState.LIST_UNKNOWN])
    exactly = {"min_size": rows, "max_size": rows}
    folders = {
        "name": [b""] + [b"%03d" % row for row in range(1, rows)],
        "parent": parents,
        "first_child": firsts,
        "children": children,
        "list": draw(st.lists(number, **exactly)),
        "owner": draw(st.lists(owner, **exactly)),
        "state": draw(st.lists(states, **exactly)),
    }
    sorts = draw(st.lists(st.tuples(st.integers(0, rows - 1), number, owner, st.integers(1, 9)), max_size=30))
    sorts.sort()
    classes = {key: [sort[place] for sort in sorts] for place, key in enumerate(("folder", "list", "owner", "files"))}
    return _table(folders, FOLDER_COLUMNS), _table(classes, CLASS_COLUMNS)
