"""Team folders, hand-outs and links: three evaluations that must agree, and what taking back takes."""

from __future__ import annotations

from hypothesis import given, settings

from neatledger.core.everyone import FLAG_RIGHTS, Everyone, Rows, flag_rights
from neatledger.core.rights import Right
from shared_offices import Office, offices, slow_rights

SHOWN = sum(FLAG_RIGHTS)


def _by_ways(office: Office) -> dict[tuple[int, int, str], Right]:
    found = {}
    for row in range(office.tree.folders.rows):
        ways = office.ways(row)
        for number in range(len(office.service.seats)):
            for way in ways.access([number]).ways:
                if way.rights:
                    key = row, number, way.name
                    found[key] = found.get(key, Right.NONE) | way.rights
    return found


@settings(deadline=None, max_examples=60)
@given(offices())
def test_every_person_folder_and_way_is_as_the_slow_evaluator_has_it(office) -> None:
    slow = slow_rights(office)
    keep = ~(Right.CLEAR_OWN | Right.UNSURE)
    assert {key: rights & keep for key, rights in _by_ways(office).items() if rights & keep} == {
        key: rights & keep for key, rights in slow.items() if rights & keep
    }


@settings(deadline=None, max_examples=60)
@given(offices())
def test_everyone_at_once_is_each_alone(office) -> None:
    wide, narrow = Everyone(office.matrix(False)), Everyone(office.matrix(True))
    ways = [office.ways(row) for row in range(office.tree.folders.rows)]
    seen = set()
    for everyone in (wide, narrow):
        for block in everyone.blocks(Rows.ALL):
            numbers = (block.folder, block.column, block.flags, block.unknown, block.files, *block.counts)
            for row, place, flags, unknown, *counts in zip(*(each.tolist() for each in numbers), strict=True):
                column = everyone.columns[place]
                asked = ways[row].access(column.seats)
                mine = [way for way in asked.ways if column.way in ("any", way.name)]
                if everyone is narrow and column.way == "share":
                    mine = [way for way in asked.ways if way.name != "admin"]
                rights = Right.NONE
                for way in mine:
                    rights |= way.rights
                where = (row, column, [way.name for way in mine])
                assert flag_rights(flags) == Right(rights & SHOWN), where
                assert unknown == (not all(way.is_known for way in mine)), where
                seen.add((row, place))
                if len(mine) == 1 and not unknown:
                    told = mine[0].counts
                    expected = [-1] * 4 if told is None else [told.files, told.read, told.change, told.delete]
                    assert counts[1:] == expected[1:], (where, counts, expected)
    assert len(seen) >= office.tree.folders.rows * len(office.service.seats)
    shown = {(f, c) for block in wide.blocks(Rows.DIFFER) for f, c in zip(block.folder, block.column, strict=True)}
    cells = {}
    for block in wide.blocks(Rows.ALL):
        cells |= {
            (f, c): (flags, unknown)
            for f, c, flags, unknown in zip(
                block.folder.tolist(),
                block.column.tolist(),
                block.flags.tolist(),
                block.unknown.tolist(),
                strict=True,
            )
        }
    for (row, column), cell in cells.items():
        above = int(office.tree.folders["parent"][row])
        before = cells[above, column] if above >= 0 else (0, False)
        assert ((row, column) in shown) == (cell != before)
