"""Make a ledger of a big tree without a disk full of folders: for measuring the questions alone.

    python bench/make_ledger.py DIR [--folders 1000000] [--lists 1500] [--people 300] [--model posix|nt|nfs4]

Writes DIR/office.yaml and DIR/ledger.db: folders twelve deep, each with the list of the folder above but
for one in a hundred, three hundred owners, and files in every fourth folder.
"""

from __future__ import annotations

import argparse
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from neatledger.core.lists import nfs4, nt
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor
from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, OTHER, USER, USER_OBJ, Entry, pack_body
from neatledger.core.space.usage import Usage, find_totals
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.survey import Survey
from neatledger.core.tree.columns import (
    CLASS_COLUMNS,
    COLLISION_COLUMNS,
    FOLDER_COLUMNS,
    HARD_COLUMNS,
    LARGE_COLUMNS,
    ODD_COLUMNS,
    OTHER_COLUMNS,
)
from neatledger.core.tree.table import Table
from neatledger.formats.posixacl import pack_entries
from neatledger.ledger.opening import open_ledger

FIRST_UID, FIRST_GID, GROUPS, KINDS = 20000, 30000, 40, 24


def make_lists(rng: np.random.Generator, number: int, people: int) -> list[bytes]:
    """Return random lists with a mask, some of them open to everyone."""
    bodies = []
    for _ in range(number):
        other = int(rng.choice([0, 0, 5]))
        entries = [Entry(USER_OBJ, 7), Entry(GROUP_OBJ, int(rng.choice([0, 5]))), Entry(MASK, 7), Entry(OTHER, other)]
        users = rng.choice(people, int(rng.integers(0, 4)), replace=False)
        entries += [Entry(USER, int(rng.choice([5, 7])), FIRST_UID + int(user)) for user in users]
        groups = rng.choice(GROUPS, int(rng.integers(2, 7)), replace=False)
        entries += [Entry(GROUP, int(rng.choice([5, 7])), FIRST_GID + int(group)) for group in groups]
        bodies.append(pack_body(0o770 | other, FIRST_GID + int(rng.integers(GROUPS)), pack_entries(entries)))
    return bodies


def sid(number: int) -> str:
    return f"S-1-5-21-7001-7002-7003-{number}"


def make_ordered(rng: np.random.Generator, number: int, people: int, model: str) -> list[bytes]:
    """Return random ordered lists: groups and people, allowed and now and then refused, some open to everyone."""
    bodies = []
    for _ in range(number):
        users = [
            (FIRST_UID + int(user), False) for user in rng.choice(people, int(rng.integers(0, 4)), replace=False)
        ]
        groups = [
            (FIRST_GID + int(group), True) for group in rng.choice(GROUPS, int(rng.integers(2, 7)), replace=False)
        ]
        found = []
        for ident, is_group in rng.permutation(users + groups).tolist():
            kind = 1 if rng.random() < 0.15 else 0
            found.append(
                (kind, int(ident), bool(is_group), int(rng.choice([0x1200A9, 0x1301BF, 0x1F01FF, 0x120116])))
            )
        is_open = rng.random() < 0.3
        if model == "nt":
            aces = [Ace(kind, 3, mask, sid(ident)) for kind, ident, _, mask in found]
            aces += [Ace(0, 3, 0x1200A9, "S-1-1-0")] if is_open else []
            bodies.append(nt.pack_body(Descriptor("", sid(FIRST_GID), Acl(tuple(aces)))))
        else:
            entries = [nfs4.Entry(kind, 3 | 0x40 * group, mask, str(ident)) for kind, ident, group, mask in found]
            entries += [nfs4.Entry(0, 3, 0x1200A9, nfs4.EVERYONE)] if is_open else []
            bodies.append(nfs4.pack_body(str(FIRST_GID + int(rng.integers(GROUPS))), entries))
    return bodies


def make_folders(rng: np.random.Generator, rows: int, lists: int, people: int) -> Table:
    """Return folders in breadth-first order, twelve deep at the most."""
    parent = np.full(rows, -1, dtype=np.int64)
    first, last, made = 0, 1, 1
    for depth in range(12):
        left = rows - made
        want = left if depth == 11 else min(left, (last - first) * (12 if depth < 3 else 4))
        if not want:
            break
        parent[made : made + want] = first + np.arange(want) * (last - first) // want
        first, last, made = made, made + want, made + want
    listed, owner = np.zeros(rows, dtype=np.int64), np.zeros(rows, dtype=np.int64)
    # One folder in a hundred has a list of its own; more where there are more lists than that, so that all are used.
    own = rng.random(rows) < max(0.01, lists / rows)
    own[0] = False
    turn = np.cumsum(own) % (lists - 1) + 1
    for row in range(1, rows):
        listed[row] = turn[row] if own[row] else listed[parent[row]]
        owner[row] = rng.integers(people) if own[row] else owner[parent[row]]
    children = np.bincount(parent[1:], minlength=rows)
    classes = (np.arange(rows) % 4 == 0).astype(np.int64)
    found = {
        "name": [b""] + [b"folder %07d" % row for row in range(1, rows)],
        "parent": parent,
        "first_child": 1 + np.cumsum(children) - children,
        "children": children,
        "list": listed,
        "default": np.full(rows, -1),
        "owner": owner,
        "bytes": np.full(rows, 4096),
        "occupied": np.full(rows, 4096),
        "inode": np.arange(1, rows + 1),
        "classes": classes,
        "first_class": np.cumsum(classes) - classes,
    }
    return typed(found, FOLDER_COLUMNS, rows)


def typed(found: dict, spec: dict[str, str], rows: int) -> Table:
    """Return a table with all columns of `spec`, nought where `found` has none."""
    columns = {
        name: found.get(name, []) if dtype == "bytes" else np.asarray(found.get(name, np.zeros(rows))).astype(dtype)
        for name, dtype in spec.items()
    }
    return Table(columns, rows)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("dir", type=Path)
    parser.add_argument("--folders", type=int, default=1_000_000)
    parser.add_argument("--lists", type=int, default=1_500)
    parser.add_argument("--people", type=int, default=300)
    parser.add_argument("--counts", type=int, default=1, help="how many weekly counts of the same")
    parser.add_argument("--model", choices=("posix", "nt", "nfs4"), default="posix")
    words = parser.parse_args()
    rng = np.random.default_rng(1)
    people, rows = words.people, words.folders
    folders = make_folders(rng, rows, words.lists, people)
    having = np.flatnonzero(folders["classes"])
    sizes = rng.integers(1, 1 << 22, len(having)) * 9
    table = {
        "folder": having,
        "list": folders["list"][having],
        "owner": folders["owner"][having],
        "kind": rng.integers(0, KINDS, len(having)),
        "files": np.full(len(having), 9),
        "bytes": sizes,
        "occupied": -(-sizes // 4096) * 4096,
    }
    classes = typed(table, CLASS_COLUMNS, len(having))
    hard, others = typed({}, HARD_COLUMNS, 0), typed({}, OTHER_COLUMNS, 0)
    ident = sid if words.model == "nt" else str
    accounts = [
        Account(f"p{n}", ident(FIRST_UID + n), ident(FIRST_GID + n % GROUPS), f"Person {n}") for n in range(people)
    ]
    groups = [
        Group(f"g{g}", ident(FIRST_GID + g), tuple(f"p{n}" for n in range(people) if (n * 7 + g) % 13 == 0))
        for g in range(GROUPS)
    ]
    if words.model == "posix":
        lists = [pack_body(0o755, FIRST_GID), *make_lists(rng, words.lists - 1, people)]
    else:
        lists = make_ordered(rng, words.lists, people, words.model)
    survey = Survey(
        "big", "listing", words.model, accounts, groups, folders, classes,
        typed({}, ODD_COLUMNS, 0), hard, others, typed({}, LARGE_COLUMNS, 0),
        find_totals(Usage(folders, classes, others, hard)), typed({}, COLLISION_COLUMNS, 0),
        lists, [ident(FIRST_UID + n) for n in range(people)], [f"kind{n}" for n in range(KINDS)], [],
        {"read_only": 0, "folders_again": 0},
    )  # fmt: skip
    words.dir.mkdir(parents=True)
    (words.dir / "office.yaml").write_text("office: Big\nsystems: {big: {source: listing, path: none.csv}}\n")
    ledger = open_ledger(words.dir / "ledger.db", create=True)
    for week in reversed(range(words.counts)):
        ledger.add_count([survey], datetime.now(UTC) - timedelta(weeks=week), "bench")
    ledger.close()


if __name__ == "__main__":
    main()
