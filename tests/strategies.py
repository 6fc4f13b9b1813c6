"""Random lists, holders and trees, shared by the properties."""

from __future__ import annotations

import functools
import operator
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from hypothesis import strategies as st

from neatledger.core.access.shares import Share, SystemTerms
from neatledger.core.lists import nfs4, nt, role
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.identifiers import EVERYONE
from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, OTHER, USER, USER_OBJ, Entry, pack_body
from neatledger.core.lists.privileges import PRIVILEGES
from neatledger.core.lists.rights import LEVEL_RIGHTS, Right, with_view
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.people.names import EntryNames
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.core.tree.columns import CLASS_COLUMNS, COLUMNS, FOLDER_COLUMNS, SeenState
from neatledger.core.tree.table import Table
from neatledger.formats.posixacl import pack_entries

NAMES = EntryNames([], [], MODELS["posix"])
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


SID_USERS = ["S-1-5-21-7-7-7-1000", *(f"S-1-5-21-7-7-7-{n}" for n in (1011, 1012, 1013))]
SID_GROUPS = [*(f"S-1-5-21-7-7-7-{n}" for n in (2021, 2022, 2023)), "S-1-5-32-545"]
_SIDS = [*SID_USERS, *SID_GROUPS, EVERYONE, "S-1-5-11", "S-1-3-4", "S-1-3-0", "S-1-3-1"]
_BITS = [0x1, 0x2, 0x4, 0x20, 0x40, 0x10000, 0x40000, 0x20000, 0x120089, 0x1F01FF, 0x1301BF, 0x120116]
masks = st.lists(st.sampled_from(_BITS), max_size=4).map(lambda bits: functools.reduce(operator.or_, bits, 0))
_GUID = bytes(range(16))


@st.composite
def aces(draw, odd: bool = True) -> Ace:
    kinds = [0] * 8 + [1] * 4 + ([2, 9, 10, 5, 6, 0x15] if odd else [])
    kind, flags = draw(st.sampled_from(kinds)), draw(st.sampled_from([0, 0, 0, 3, 1, 2, 11, 10, 9, 7, 0x13, 0x1B]))
    mask = draw(masks | st.sampled_from([0x10000000, 0x80000000, 0x40000000, 0x20000000]))
    sid = draw(st.sampled_from(_SIDS))
    if kind == 0x15:
        return Ace(kind, flags, 0, "", raw=draw(st.binary(max_size=12)))
    if kind in (9, 10):
        return Ace(kind, flags, mask, sid, data=b"artx" + draw(st.binary(max_size=8)))
    if kind in (5, 6):
        return Ace(kind, flags, mask, sid, draw(st.sampled_from([bytes(4), b"\1\0\0\0" + _GUID])))
    return Ace(kind, flags, mask, sid)


@st.composite
def descriptors(draw, odd: bool = True) -> Descriptor:
    dacl = draw(st.none() | st.lists(aces(odd), max_size=7).map(lambda found: Acl(tuple(found))))
    control = draw(st.sampled_from([0x8004, 0x9004, 0x8404, 0x8000 if dacl is None else 0x9404]))
    sids = st.sampled_from(SID_USERS + SID_GROUPS) | st.just("")
    return Descriptor(
        draw(sids), draw(sids), dacl, draw(st.none() | st.just(Acl((Ace(2, 0xC0, 3, EVERYONE),)))), control
    )


@st.composite
def nfs4_entries(draw) -> list[nfs4.Entry]:
    who = st.sampled_from([nfs4.OWNER, nfs4.GROUP, nfs4.EVERYONE]).map(lambda special: (special, 0))
    who |= st.sampled_from(USERS).map(lambda user: (user, 0)) | st.sampled_from(GROUPS).map(
        lambda group: (group, 0x40)
    )
    found = []
    for _ in range(draw(st.integers(0, 7))):
        name, group = draw(who)
        flags = group | draw(st.sampled_from([0, 0, 0, 3, 1, 2, 11, 10, 9, 7, 0x83]))
        found.append(nfs4.Entry(draw(st.sampled_from([0, 0, 0, 1, 1, 2])), flags, draw(masks), name))
    return found


ROLE_RIGHTS = [with_view(LEVEL_RIGHTS[level]) for level in LEVEL_RIGHTS] + [Right.READ, Right.ADD | Right.DELETE]


@st.composite
def role_bodies(draw) -> bytes:
    who = st.sampled_from(
        [
            (sees, ident)
            for sees, known in ((Subject.USER, USERS), (Subject.GROUP, GROUPS), (Subject.EITHER, USERS + GROUPS))
            for ident in known
        ]
    )
    who |= st.sampled_from(
        [
            (Subject.OWNER, ""),
            (Subject.EVERYONE, ""),
            (Subject.SIGNED_IN, ""),
            (Subject.UNKNOWN, "somebody"),
        ]
    )
    entry = st.builds(
        lambda one, *rest: role.Entry(*one, *rest),
        who,
        st.sampled_from(ROLE_RIGHTS),
        st.booleans() | st.just(True),
        st.booleans(),
    )
    return draw(st.lists(entry, max_size=5).map(role.pack_body) | st.sampled_from([role.OPEN, role.OPEN, b"?"]))


class World:
    """One list model with stored lists and holders for it."""

    def __init__(self, name, bodies, users, groups) -> None:
        self.model, self.bodies, self.users, self.groups = MODELS[name], bodies, users, groups
        self.holders = st.builds(
            lambda user, found, has, maybe, perhaps: Holder(
                "login", user, found | self.model.everyone_has, has, maybe - found, perhaps - has
            ),
            st.sampled_from(users),
            st.frozensets(st.sampled_from(groups), min_size=1),
            st.frozensets(st.sampled_from(list(PRIVILEGES)), max_size=1) if name != "posix" else st.just(frozenset()),
            st.just(frozenset()) | st.frozensets(st.sampled_from(groups), max_size=2),
            st.sampled_from([frozenset()] * 5 + [frozenset({one}) for one in PRIVILEGES]),
        )

    def __repr__(self) -> str:
        return self.model.name


WORLDS = [
    World("posix", posix_bodies(), USERS, GROUPS),
    World("nt", descriptors().map(nt.pack_body), SID_USERS, SID_GROUPS),
    World("nfs4", st.builds(nfs4.pack_body, st.sampled_from(GROUPS), nfs4_entries()), USERS, GROUPS),
    World("role", role_bodies(), USERS, GROUPS),
]


@st.composite
def principals(draw, world: World) -> list[Principal]:
    found = []
    for number, holder in enumerate(draw(st.lists(world.holders, min_size=1, max_size=70))):
        person = f"p{draw(st.integers(0, number))}"
        state = draw(st.sampled_from([AccountState.OPEN] * 6 + [AccountState.EXPIRED, AccountState.UNKNOWN]))
        may_use = draw(st.sampled_from([True] * 5 + [False]))
        account = Account(f"l{number}", holder.user, "0", state=state, may_use=may_use)
        found.append(
            Principal(person, person, Kind.STAFF, "barn", account, replace(holder, login=f"l{number}"), True)
        )
    return found


@st.composite
def terms(draw, model, paths: list[bytes]) -> SystemTerms:
    """How people are let in: a read-only mount, entering asked for or not, shares with lists of their own, nested too."""
    permission = descriptors() | st.just(Descriptor(dacl=Acl((Ace(0, 0, 0x1301BF, EVERYONE),))))
    share = st.builds(
        Share,
        st.just("s"),
        st.sampled_from(paths),
        permission.map(nt.pack_body),
        st.sampled_from([False, False, True]),
    )
    shares = draw(st.none() | st.lists(share, max_size=3, unique_by=lambda one: one.path).map(tuple))
    return SystemTerms(model, draw(st.booleans()), draw(st.sampled_from([False, False, False, True])), shares)


def _table(columns: dict[str, list], spec: dict[str, str]) -> Table:
    rows = len(next(iter(columns.values())))
    zeros = [0] * rows
    typed = {
        name: columns[name] if dtype == "bytes" else np.array(columns.get(name, zeros), dtype=dtype)
        for name, dtype in spec.items()
    }
    return Table(typed, rows)


def table_of_rows(rows: Sequence[Sequence], kind: str, names: Sequence[str] = ()) -> Table:
    """Return a table of a kind from its rows, whose cells stand as `names` say, or else all columns do."""
    columns = {name: [row[place] for row in rows] for place, name in enumerate(names or COLUMNS[kind])}
    return _table(columns, COLUMNS[kind])


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
    states = st.sampled_from([SeenState.WHOLE] * 6 + [SeenState.NOT_OPENED] + [SeenState.LIST_UNKNOWN] * 3)
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
