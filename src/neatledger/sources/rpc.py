"""Remote procedure calls over a named pipe: bind to an interface, call by number, put fragments together.

Source: C706 chapter 12 (messages), MS-RPCE 2.2.2 and 3.3.1.5. Signing and encryption are the SMB session's own.
Reading is total and bounded: an answer that is not one, or grows beyond `_MOST`, is `Refused`.
"""

from __future__ import annotations

import struct
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Protocol

from neatledger.errors import FormatError
from neatledger.formats.ndr import NdrReader, NdrWriter
from neatledger.sources.smberrors import Refused
from neatledger.sources.smbsession import SmbSession

__all__ = ["Interface", "Pipe", "RpcClient", "calls"]

_HEAD = struct.Struct("<BBBB4sHHI")
_REQUEST, _RESPONSE, _FAULT, _BIND, _BIND_ACK, _BIND_NAK = 0, 2, 3, 11, 12, 13
_FIRST, _LAST = 0x01, 0x02
_LITTLE_ENDIAN = b"\x10\0\0\0"
_NDR = uuid.UUID("8a885d04-1ceb-11c9-9fe8-08002b104860").bytes_le + struct.pack("<I", 2)
_FRAGMENT = 4280  # what every server takes (MS-RPCE 3.3.1.5.3 asks for at least 2048)
_MOST = 1 << 26
_ACCESS_DENIED = 5  # nca_s_fault_access_denied, MS-RPCE 2.2.2.11


class Pipe(Protocol):
    """What carries the messages."""

    def send(self, data: bytes) -> None:
        """Write one message."""

    def recv(self) -> bytes:
        """Return what has come, not always a whole message."""

    def close(self) -> None:
        """Close the pipe."""


@dataclass(frozen=True, slots=True)
class Interface:
    """A set of calls: its identifier, its version, and the pipe that it is reached by."""

    ident: str
    version: int
    pipe: str


@contextmanager
def calls(session: SmbSession, interface: Interface) -> Iterator[RpcClient]:
    """Give what makes calls of an interface; what is no answer, there and in the caller, is `Refused`."""
    pipe = session.pipe(interface.pipe)
    try:
        yield RpcClient(pipe, interface)
    except FormatError as error:
        raise Refused(f"an answer of the server that cannot be read: {error}") from None
    finally:
        pipe.close()


class RpcClient:
    """Calls of one interface over one pipe; raises `Refused`, `FormatError`, and what the pipe raises."""

    def __init__(self, pipe: Pipe, interface: Interface) -> None:
        self._pipe, self._number, self._waiting = pipe, 1, b""
        body = struct.pack("<HHIBxxxHBx", _FRAGMENT, _FRAGMENT, 0, 1, 0, 1)
        body += uuid.UUID(interface.ident).bytes_le + struct.pack("<I", interface.version) + _NDR
        self._send(_BIND, _FIRST | _LAST, body)
        kind, _, answer = self._receive()
        if kind != _BIND_ACK:
            raise Refused(f"the server knows no {interface.pipe}")
        reader = NdrReader(answer)
        # It tells what it takes at once: neither more than that nor more than we asked for.
        reader.u16()
        self._fragment = max(1024, min(_FRAGMENT, reader.u16()))
        reader.u32()
        reader.take(reader.u16())
        reader.align(4)
        reader.u32()
        if reader.u16():
            raise Refused(f"the server does not offer this {interface.pipe} (reason {reader.u16()})")

    def call(self, operation: int, words: NdrWriter) -> NdrReader:
        """Make one call; returns its answer."""
        self._number += 1
        room = self._fragment - _HEAD.size - 8
        data = words.data
        for start in range(0, max(1, len(data)), room):
            flags = (_FIRST if not start else 0) | (_LAST if start + room >= len(data) else 0)
            head = struct.pack("<IHH", len(data) - start, 0, operation)
            self._send(_REQUEST, flags, head + data[start : start + room])
        found, flags = b"", 0
        while not flags & _LAST:
            kind, flags, body = self._receive()
            if kind == _FAULT:
                status = NdrReader(body[8:]).u32()
                raise Refused("access denied" if status == _ACCESS_DENIED else f"the call failed: {status:#010x}")
            if kind != _RESPONSE:
                raise FormatError(f"a message of kind {kind} in place of an answer")
            found += body[8:]
            if len(found) > _MOST:
                raise FormatError(f"an answer of more than {_MOST} bytes")
        return NdrReader(found)

    def _send(self, kind: int, flags: int, body: bytes) -> None:
        size = _HEAD.size + len(body)
        self._pipe.send(_HEAD.pack(5, 0, kind, flags, _LITTLE_ENDIAN, size, 0, self._number) + body)

    def _receive(self) -> tuple[int, int, bytes]:
        """Return the kind, the flags and the body of the next message."""
        head = self._take(_HEAD.size)
        version, _, kind, flags, form, size, signed, number = _HEAD.unpack(head)
        if version != 5 or form[0] != _LITTLE_ENDIAN[0] or size < _HEAD.size or signed:
            raise FormatError("not a message of remote procedure calls")
        if number != self._number:
            raise FormatError(f"an answer to call {number}, where {self._number} was made")
        return kind, flags, self._take(size - _HEAD.size)

    def _take(self, size: int) -> bytes:
        while len(self._waiting) < size:
            more = self._pipe.recv()
            if not more:
                raise FormatError("an answer that ends in its middle")
            self._waiting += more
        taken, self._waiting = self._waiting[:size], self._waiting[size:]
        return taken
