"""Commands that say the same thing from different sides agree cell by cell, on random trees that hands change.

What each may do on each folder of each count, asked one path at a time, stands against what `changes`, `suppose`,
`history` and `compare` say of all at once.
"""

from __future__ import annotations

import itertools
import os
from collections import Counter
from collections.abc import Sequence
from datetime import date
from pathlib import Path

import pytest

from neatledger.core.access.everyone import FLAG_RIGHTS
from neatledger.core.lists.rights import Right
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.locations import find_location
from neatledger.questions import compare, history
from neatledger.questions.beside import SystemChange, changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office, open_office
from step_offices import carry, gathered, make_office, random_steps

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="files of several owners are made")

KINDS = ("list", "list", "files", "files", "folder", "member", "member")
Cell = tuple[Right, int, int, int, int]
# What files may be used for is told by their numbers; whether a folder itself may be removed hangs on the one above.
TOLD = Right(sum(FLAG_RIGHTS)) & ~Right.DELETE
NOTHING: Cell = (Right.NONE, 0, 0, 0, 0)


def cells_of(office: Office) -> dict[tuple[str, bytes], Cell]:
    """Return what each has on each folder, and how many of its files each reads, changes, removes; path by path."""
    reader = office.readers["barn"]
    path_of = folder_paths(reader.table("folders"))
    found = {}
    for path in map(path_of, range(reader.table("folders").rows)):
        location = find_location(reader, Address("barn", path))
        for person, principals in office.people_on("barn").items():
            access = office.systems.access(location, principals)
            counts = access.counts
            numbers = (0, 0, 0, 0) if counts is None else (counts.read, counts.change, counts.delete, counts.files)
            assert access.is_known
            found[person, path] = (access.rights & TOLD, *numbers)
    return found


@pytest.fixture(params=range(4))
def two_counts(request: pytest.FixtureRequest, tmp_path: Path, run) -> tuple[Office, Office, Sequence]:
    """An office as it was counted, and as it is counted after some steps were made there by hand."""
    older = gathered(make_office(tmp_path, request.param), run)
    steps = random_steps(older, 40 + request.param, 14, KINDS)
    assert not carry(older, steps).stopped
    run("count", "--quiet", "--office", tmp_path)
    return older, open_office(tmp_path, today=date.today()), steps


def test_changes_are_where_the_cells_of_two_counts_differ(two_counts) -> None:
    older, newer, _ = two_counts
    before, after = cells_of(older), cells_of(newer)
    changes = changes_between(older, newer)
    _hold_against(changes, before, after)
    people = {person for person, _ in before}
    for person in sorted(people)[:4]:
        for path in sorted({path for _, path in after})[::3]:
            had = history.ask(newer, person, Address("barn", path)).had
            assert (had[-1].rights or Right.NONE) & TOLD == after[person, path][0]
            # A change by the number of files, or by what decides, is one too; without any there is one line.
            if before.get((person, path), NOTHING)[0] != after[person, path][0]:
                assert len(had) == 2, (person, path, had)


def _hold_against(changes: list[SystemChange], before: dict, after: dict) -> None:
    """Hold the changes against the cells: each cell that differs lies under one change of its kind, and no more do."""
    rights = {key: (before.get(key, NOTHING)[0], after.get(key, NOTHING)[0]) for key in before | after}
    differing = {key for key, (had, has) in rights.items() if had != has}
    of_rights = [one for one in changes if (one.change.gained | one.change.lost) & TOLD]
    folders = Counter[str]()
    for one in of_rights:
        folders[one.change.person] += one.change.folders
    assert folders == Counter(person for person, _ in differing)
    for person, path in differing:
        had, has = rights[person, path]
        over = [
            (one.change.gained & TOLD, one.change.lost & TOLD)
            for one in of_rights
            if one.change.person == person and Address("barn", path).is_within(one.address)
        ]
        assert (has & ~had, had & ~has) in over, (person, path)


def _files_moved(changes: list[SystemChange], name: str) -> dict[str, tuple[int, int]]:
    """Return of each person how many files they gained and lost for one use."""
    found: dict[str, tuple[int, int]] = {}
    for one in changes:
        gained, lost = found.get(one.change.person, (0, 0))
        more, fewer = (getattr(files, name) for files in (one.change.gained_files, one.change.lost_files))
        found[one.change.person] = gained + more, lost + fewer
    return found


def test_files_are_told_by_their_numbers_at_least(two_counts) -> None:
    """No step makes or removes a file: what is supposed says of each file; two counts know few of them by name."""
    older, newer, steps = two_counts
    before, after = cells_of(older), cells_of(newer)
    counted, supposed = changes_between(older, newer), changes_between(older, imagined_office(older, steps))
    for number, name in ((1, "read"), (2, "change"), (3, "delete")):
        more, fewer = Counter[str](), Counter[str]()
        for person, path in before | after:
            moved = after.get((person, path), NOTHING)[number] - before.get((person, path), NOTHING)[number]
            more[person] += max(0, moved)
            fewer[person] += max(0, -moved)
        exact, least = _files_moved(supposed, name), _files_moved(counted, name)
        for person in more:
            gained, lost = exact.get(person, (0, 0))
            assert gained - lost == more[person] - fewer[person], (person, name)
            known = least.get(person, (0, 0))
            assert more[person] <= known[0] <= gained and fewer[person] <= known[1] <= lost, (person, name)


def test_what_is_supposed_is_what_is_counted_after_it_was_made(two_counts) -> None:
    older, newer, steps = two_counts
    then = imagined_office(older, steps)
    assert cells_of(then) == cells_of(newer)

    def told(changes: list[SystemChange]) -> list[tuple]:
        return sorted(
            (
                one.change.person,
                one.address.path,
                one.change.gained & TOLD,
                one.change.lost & TOLD,
                one.change.folders,
            )
            for one in changes
            if (one.change.gained | one.change.lost) & TOLD
        )

    assert told(changes_between(older, then)) == told(changes_between(older, newer))
    assert not changes_between(then, newer.with_(only=["barn"]))


def test_two_people_have_the_same_where_their_cells_are(two_counts) -> None:
    _, newer, _ = two_counts
    cells = cells_of(newer)
    people = sorted({person for person, _ in cells})
    for left, right in itertools.pairwise(people):
        found = compare.ask(newer, left, right)
        differing = {path for who, path in cells if who == left and cells[left, path][0] != cells[right, path][0]}
        more = [one for one in found.differences if (one.change.gained | one.change.lost) & TOLD]
        assert sum(one.change.folders for one in more) == len(differing), (left, right)
        if not found.differences:
            assert all(cells[left, path] == cells[right, path] for who, path in cells if who == left)
