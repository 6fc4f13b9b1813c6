"""Rules of the core on small random cases, each beside an evaluator that goes through them one by one."""

from __future__ import annotations

import random
import struct
from collections import defaultdict
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from histories import table_of
from neatledger.core.lists.descriptors import (
    DACL_PRESENT,
    Ace,
    Acl,
    Descriptor,
    pack_acl,
    pack_descriptor,
    unpack_acl,
    unpack_descriptor,
)
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.uses import Use, uses_of
from neatledger.errors import FormatError

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
