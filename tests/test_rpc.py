"""Remote procedure calls: recorded answers of a real server, the specification's own forms, and any bytes at all."""

from __future__ import annotations

import contextlib
import json
import struct
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatledger.errors import FormatError
from neatledger.formats.ndr import NdrReader, NdrWriter
from neatledger.sources import smbnames
from neatledger.sources.rpc import Interface, RpcClient
from neatledger.sources.smbentries import unpack_entries
from neatledger.sources.smberrors import Lost, Refused

RECORDED = json.loads((Path(__file__).parent / "vectors" / "rpc.json").read_text())
HEAD = struct.Struct("<BBBB4sHHI")
FACE = Interface("4b324fc8-1670-01d3-1278-5a47bf6ee188", 3, "srvsvc")
NAMED = {"shares": smbnames.read_shares, "directory": smbnames.read_directory}
NAMES = ["S-1-5-21-1-2-3-5001", "S-1-5-21-1-2-3-6001", "S-1-5-21-1-2-3-7777"]


def message(kind: int, flags: int, number: int, body: bytes) -> bytes:
    return HEAD.pack(5, 0, kind, flags, b"\x10\0\0\0", HEAD.size + len(body), 0, number) + body


def bind_ack(number: int = 1, result: int = 0) -> bytes:
    # The second address is a string of odd length, so that what follows has to be aligned.
    body = struct.pack("<HHIH", 4280, 4280, 9, 5) + b"\\srv\0" + b"\0" + struct.pack("<IHH", 1, result, 0) + bytes(20)
    return message(12, 3, number, body)


OPEN_ALIAS = 27


class OtherQuestion(Exception):
    """Something is asked that was not asked of the real server."""


class Pipe:
    """A server of recorded answers: checks what is asked, and answers in fragments and pieces of given sizes."""

    def __init__(self, answers: list, fragment: int = 4000, piece: int = 65536) -> None:
        self.answers, self.fragment, self.piece = list(answers), fragment, piece
        self.waiting, self.asked, self.is_open = b"", b"", True

    def send(self, data: bytes) -> None:
        _, _, kind, flags, _, size, _, number = HEAD.unpack(data[: HEAD.size])
        assert size == len(data) <= 4280
        if kind == 11:
            self.waiting += bind_ack(number)
            return
        operation = struct.unpack_from("<H", data, HEAD.size + 6)[0]
        self.asked += data[HEAD.size + 8 :]
        if flags & 2:
            if operation == OPEN_ALIAS and (not self.answers or self.answers[0][0] != OPEN_ALIAS):
                # Built-in groups are asked for by number; this server keeps none.
                due, words, answer = OPEN_ALIAS, self.asked.hex(), bytes(20).hex() + "510100c0"
            else:
                due, words, answer = self.answers.pop(0) if self.answers else (-1, "", "")
            if (operation, self.asked.hex()) != (due, words):
                raise OtherQuestion(operation, self.asked)
            self.asked = b""
            whole = bytes.fromhex(answer)
            for start in range(0, max(1, len(whole)), self.fragment):
                part = whole[start : start + self.fragment]
                marks = (not start) | 2 * (start + self.fragment >= len(whole))
                self.waiting += message(2, marks, number, bytes(8) + part)

    def recv(self) -> bytes:
        found, self.waiting = self.waiting[: self.piece], self.waiting[self.piece :]
        return found

    def close(self) -> None:
        self.is_open = False


class Session:
    """A session whose pipes replay."""

    def __init__(self, pipe: Pipe) -> None:
        self._pipe = pipe

    def pipe(self, name: str) -> Pipe:
        return self._pipe


@given(st.integers(1, 400), st.integers(1, 300))
def test_what_a_real_server_told_is_read_however_it_comes_in(fragment: int, piece: int) -> None:
    pipes = {name: Pipe(RECORDED[name], fragment, piece) for name in ("shares", "directory", "names")}
    (share,) = smbnames.read_shares(Session(pipes["shares"]))
    assert (share.name, share.place, len(share.permission)) == ("Rec", "C:\\tmp", 48)
    found = smbnames.read_directory(Session(pipes["directory"]))
    assert [(one.login, one.ident, one.name) for one in found.accounts] == [
        ("loftadmin", "S-1-5-21-1-2-3-4999", ""),
        ("ada", "S-1-5-21-1-2-3-5001", "Ada Ä"),
    ]
    base = "S-1-5-21-1-2-3"
    assert [(one.name, one.members) for one in found.groups] == [
        ("vets", (f"{base}-5001",)),
        ("None", (f"{base}-4999", f"{base}-5001")),
    ]
    names = smbnames.read_names(Session(pipes["names"]), NAMES)
    assert {(one.name, one.is_user) for one in names.values()} == {("ada", True), ("vets", False)}
    assert not found.refused and not any(pipe.is_open or pipe.answers for pipe in pipes.values())


# C706 14.3.4.2 and 14.3.3.2, MS-DTYP 2.3.10, 2.4.2.3: by hand from their pictures.
FORMS = [
    ("04000000 00000000 04000000 6100 6200 6300 0000", lambda ndr: ndr.text(), "abc", lambda out: out.text("abc")),
    ("02000000 0102 000000000005 20000000 20020000", lambda ndr: ndr.sid(), "S-1-5-32-544", lambda out: out.sid("S-1-5-32-544")),
    ("0400 0000 07000000", lambda ndr: (ndr.u16(), ndr.u32()), (4, 7), lambda out: out.u16(4).u32(7)),
    ("01000000 00000001", lambda ndr: ndr.large(), 1 | 1 << 56, lambda out: out.u32(1, 1 << 24)),
    ("03000000 010203", lambda ndr: ndr.blob(), b"\1\2\3", lambda out: out.u32(3).raw(b"\1\2\3")),
    ("02000000 05000000 06000000", lambda ndr: ndr.array(4, ndr.u32), [5, 6], lambda out: out.u32(2, 5, 6)),
]  # fmt: skip


@pytest.mark.parametrize(("form", "read", "value", "write"), FORMS, ids=range(len(FORMS)))
def test_forms_of_the_specification_both_ways(form: str, read, value, write) -> None:
    data = bytes.fromhex(form)
    reader = NdrReader(data)
    assert read(reader) == value
    reader.end()
    assert write(NdrWriter()).data == data
    for end in range(len(data)):
        with pytest.raises(FormatError):
            read(NdrReader(data[:end]))


BEYOND = [
    ("ffffffff", lambda ndr: ndr.array(4, ndr.u32)),
    ("ffffffff", lambda ndr: ndr.blob()),
    ("ffffffff" + "00" * 8, lambda ndr: ndr.sid()),
    ("05000000 00000000 06000000" + "00" * 12, lambda ndr: ndr.text()),
    ("05000000 01000000 02000000" + "00" * 12, lambda ndr: ndr.text()),
    ("02000000 0103 000000000005" + "00" * 12, lambda ndr: ndr.sid()),
]


@pytest.mark.parametrize(("form", "read"), BEYOND, ids=range(len(BEYOND)))
def test_what_tells_of_more_than_there_is_is_refused(form: str, read) -> None:
    with pytest.raises(FormatError):
        read(NdrReader(bytes.fromhex(form)))


@given(st.sampled_from(["shares", "directory", "names"]), st.data())
def test_any_answer_is_read_or_refused(name: str, data) -> None:
    answers = [list(one) for one in RECORDED[name]]
    which = data.draw(st.integers(0, len(answers) - 1))
    body = bytearray.fromhex(answers[which][2])
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, len(body) - 1))
        body[place] = data.draw(st.integers(0, 255))
    answers[which][2] = bytes(body[: data.draw(st.integers(0, len(body)))]).hex()
    ask = NAMED.get(name, lambda session: smbnames.read_names(session, NAMES))
    pipe = Pipe(answers)
    try:
        found = ask(Session(pipe))
    except (Refused, OtherQuestion):
        assert not pipe.is_open
        return
    assert found is not None and not pipe.is_open


@given(st.binary(max_size=200) | st.builds(message, st.sampled_from([2, 3, 12, 13]), st.integers(0, 3), st.integers(0, 3), st.binary(max_size=60)))  # fmt: skip
def test_any_message_is_an_answer_or_refused(data: bytes) -> None:
    pipe = Pipe([])
    pipe.waiting = data
    pipe.send = lambda _: None  # type: ignore[method-assign]
    with pytest.raises((Refused, FormatError)):
        RpcClient(pipe, FACE).call(1, NdrWriter())


def test_no_and_a_fault_are_said() -> None:
    for first, more in ((message(13, 3, 1, b"\0\0"), "knows no srvsvc"), (bind_ack(result=2), "does not offer")):
        pipe = Pipe([])
        pipe.send = lambda _: None  # type: ignore[method-assign]
        pipe.waiting = first
        with pytest.raises(Refused, match=more):
            RpcClient(pipe, FACE)
    for status, more in ((5, "access denied"), (0x1C010002, "0x1c010002")):
        pipe = Pipe([])
        pipe.send = lambda _: None  # type: ignore[method-assign]
        pipe.waiting = bind_ack() + message(3, 3, 2, bytes(8) + struct.pack("<II", status, 0))
        with pytest.raises(Refused, match=more):
            RpcClient(pipe, FACE).call(1, NdrWriter())


def _row(name: str, size: int, marks: int, *, is_last: bool) -> bytes:
    text = name.encode("utf-16-le", "surrogatepass")
    length = 80 + len(text)
    following = 0 if is_last else length + -length % 8
    ticks = 133_000_000_000_000_000
    head = struct.pack(
        "<IIQQQQQQIIIIQ", following, 0, ticks, ticks, ticks, ticks, size, size, marks, len(text), 0, 0, 7
    )
    return head + text + (b"" if is_last else bytes(-length % 8))


@given(
    st.lists(
        st.tuples(st.text(min_size=1, max_size=9), st.integers(0, 2**40), st.sampled_from([0x10, 0x20, 0x410])),
        min_size=1,
    )
)
def test_rows_of_a_folder_are_read_whole_or_not_at_all(rows) -> None:
    data = b"".join(_row(*row, is_last=number == len(rows) - 1) for number, row in enumerate(rows))
    found = [(one.name, one.size, one.is_folder, one.is_link) for one in unpack_entries(data)]
    assert found == [
        (name, size, marks == 0x10, bool(marks & 0x400)) for name, size, marks in rows if name not in (".", "..")
    ]
    for cut in {*range(0, len(data), 37), len(data) - 1}:
        with pytest.raises(Lost):
            unpack_entries(data[:cut])


@given(st.binary(max_size=400))
def test_any_bytes_are_rows_or_a_server_that_cannot_be_trusted(data: bytes) -> None:
    with contextlib.suppress(Lost):
        assert all(one.identity >= 0 for one in unpack_entries(data))
