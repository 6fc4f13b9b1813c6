"""A tree's order, patterns of folders, and searching packed names: each against the plainest way."""

from __future__ import annotations

import re
import sqlite3
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger.core.plan.space import SpaceRules
from neatledger.core.space.figures import Figures
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.patterns import match_folders, match_path
from neatledger.core.tree.table import Table, folder_paths
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.packing import CHUNK_ROWS, BytesColumn, pack_column
from neatledger.ledger.space import SpaceView
from test_gather import gather
from test_usage import lineage, make_tree, reading_order

NAMES = st.sampled_from([b"a", b"b", b"ab", b".old", b"\xff", b"a.b"])


@st.composite
def folders(draw) -> Table:
    """A tree of folders, breadth-first, with names sorted below each."""
    rows = draw(st.integers(1, 14))
    parent = [-1, *sorted(draw(st.integers(0, row - 1)) for row in range(1, rows))]
    names = [b"", *(draw(NAMES) for _ in range(rows - 1))]
    for above in range(rows):
        below = [row for row in range(rows) if parent[row] == above]
        for row, name in zip(
            below,
            sorted(
                names[row] + b"%d" % row if names.count(names[row]) > 1 and draw(st.booleans()) else names[row]
                for row in below
            ),
            strict=True,
        ):
            names[row] = name
    children = [parent.count(row) for row in range(rows)]
    return Table(
        {
            "name": names,
            "parent": np.array(parent, dtype="i4"),
            "children": np.array(children, dtype="i4"),
            "first_child": np.array([1 + sum(children[:row]) for row in range(rows)], dtype="i4"),
        },
        rows,
    )


@given(folders(), st.data())
def test_order_size_and_sums_are_those_of_the_plainest_walk(table: Table, data) -> None:
    tree, parent = TreeOrder(table), table["parent"].tolist()
    assert tree.order.tolist() == reading_order(parent)
    own = np.array(data.draw(st.lists(st.integers(-(10**17), 10**17), min_size=table.rows, max_size=table.rows)))
    for row, total in enumerate(tree.roll_up(own).tolist()):
        below = [other for other in range(table.rows) if row in lineage(parent, other)]
        assert sorted(tree.below(row).tolist()) == below and tree.size[row] == len(below)
        assert total == sum(own[below].tolist()), "exact beyond what floating point holds"
    some, others = (
        np.array(data.draw(st.lists(st.integers(0, table.rows - 1), min_size=5, max_size=5))) for _ in "ab"
    )
    for one, other, meets in zip(some.tolist(), others.tolist(), tree.meet(some, others).tolist(), strict=True):
        assert meets == max(lineage(parent, one) & lineage(parent, other))


STEPS = st.lists(st.sampled_from([b"a", b"b*", b"*", b"**", b".old", b"*b", b"\xff"]), max_size=4)


@given(folders(), STEPS)
def test_patterns_of_folders_are_matched_the_same_every_way(table: Table, steps: list[bytes]) -> None:
    pattern = b"/" + b"/".join(steps)
    slow = re.compile(
        b"".join(
            b"(/[^/]+)*" if step == b"**" else b"/" + re.escape(step).replace(rb"\*", b"[^/]*") for step in steps
        ),
        re.DOTALL,
    )
    path_of = folder_paths(table)
    paths = [path_of(row) for row in range(table.rows)]
    wanted = [row for row, path in enumerate(paths) if slow.fullmatch(b"" if row == 0 else path)]
    assert match_folders(pattern, table) == wanted
    assert [row for row in range(table.rows) if match_path(pattern, path_of(row))] == wanted
    packed = Table(
        {**table.columns, "name": BytesColumn(pack_column(table.columns["name"], "bytes"), "folders.name")},
        table.rows,
    )
    assert match_folders(pattern, packed) == wanted


@given(
    st.lists(st.sampled_from([b"", b"a", b"aa", b"aaa", b"ba", b"\0"]), max_size=40),
    st.sampled_from([b"a", b"aa", b"b", b"\0"]),
)
def test_a_name_is_found_in_packed_names_and_only_as_a_whole(names: list[bytes], name: bytes) -> None:
    column = BytesColumn(pack_column(names, "bytes"), "x")
    assert list(column.rows_of(name)) == [row for row, each in enumerate(names) if each == name]


def test_names_are_found_in_every_chunk() -> None:
    names = [b"n%d" % (row % 1000) for row in range(2 * CHUNK_ROWS + 7)]
    column = BytesColumn(pack_column(names, "bytes"), "x")
    assert list(column.rows_of(b"n7")) == [row for row, each in enumerate(names) if each == b"n7"]


@pytest.mark.judge
def test_a_count_from_before_totals_were_kept_answers_the_same(tmp_path: Path) -> None:
    make_tree(tmp_path / "tree", 21)
    path = tmp_path / "ledger.db"
    ledger = open_ledger(path, create=True)
    ledger.add_count([gather(tmp_path / "tree", tmp_path)], datetime.now(UTC), "test")
    info = ledger.find_count().surveys[0]
    new = SpaceView(ledger.read_survey(info), SpaceRules())
    answers = [new.at(row) for row in range(new.folders.rows)], new.by_owner(), new.by_kind(), new.by_sort()
    ledger.close()
    with sqlite3.connect(path) as connection:
        connection.execute("DELETE FROM packed WHERE name LIKE '%totals.%'")
    ledger = open_ledger(path)
    old = SpaceView(ledger.read_survey(info), SpaceRules())
    assert not old.is_kept_whole
    assert ([old.at(row) for row in range(old.folders.rows)], old.by_owner(), old.by_kind(), old.by_sort()) == answers
    assert isinstance(answers[0][0], Figures) and answers[0][0].files > 0
