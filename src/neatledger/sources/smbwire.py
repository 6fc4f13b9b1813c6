"""Many requests at once to an SMB 3 server: open an item, ask its descriptor and its rows, close it, in one message.

The library connects, signs in and agrees on keys; then its socket is taken over, for it can only wait for one answer
after another and packs each field by itself. What is out of the usual (refused, too large, a link, a share of DFS) is
left to the library: an answer without a part means that this part is to be asked of it.

Source: MS-SMB2 2.2.1 (header), 2.2.13 (CREATE), 2.2.37 (QUERY_INFO), 2.2.33 (QUERY_DIRECTORY), 2.2.15 (CLOSE), 2.2.41
(TRANSFORM_HEADER), 3.1.4.1 (signing), 3.2.4.1.4 (compounded requests), 3.2.4.1.5 (credits); MS-FSCC 2.4.21.
"""

from __future__ import annotations

import contextlib
import hmac
import os
import socket
import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers import aead, algorithms
from cryptography.hazmat.primitives.cmac import CMAC
from smbprotocol.connection import Ciphers, Connection, Dialects, SigningAlgorithms, SMB2Echo
from smbprotocol.session import Session

from neatledger.sources.smbentries import Entry, unpack_entries
from neatledger.sources.smberrors import ENDED, Forged, Lost

__all__ = ["Answer", "Wire"]

_HEADER = struct.Struct("<4sHHIHHIIQIIQ16s")
_CREATE = struct.Struct("<HBBIQQIIIIIHHII")
_QUERY_INFO = struct.Struct("<HBBIHHIII16s")
_QUERY_DIRECTORY = struct.Struct("<HBBI16sHHI")
_CLOSE = struct.Struct("<HHI16s")
_TRANSFORM = struct.Struct("<4s16s16sIHHQ")
_LENGTH = struct.Struct(">I")
_SECURITY, _OWNER_GROUP_DACL = 3, 0x7
_CREATE_COMMAND, _CLOSE_COMMAND, _DIRECTORY_COMMAND, _INFO_COMMAND = 5, 6, 14, 16
_SIGNED, _RELATED, _ASYNC, _IS_ANSWER = 0x8, 0x4, 0x2, 0x1
_PENDING, _NO_MORE_FILES = 0x103, 0x80000006
_BEFORE = b"\xff" * 16  # the file that the request before opened
_ALL = "*".encode("utf-16-le")
_RESTART = 0x1
_ID_FULL_DIRECTORY = 38
_READ_CONTROL, _LIST, _ATTRIBUTES, _SYNCHRONIZE = 0x20000, 0x1, 0x80, 0x100000
_SHARED_BY_ALL, _OPEN_ONLY = 0x7, 0x1
_FOR_BACKUP, _AS_LINK, _AS_FOLDER = 0x4000, 0x200000, 0x1
_ROOM, _FOLDER_ROOM, _CREDIT = 65536, 262144, 65536
_FIRST_ROWS = 2  # which part of a message brings them
_MOST_AT_ONCE = 48  # messages under way
_CREDITS_AT_FIRST = 512
_CREDITS_WANTED = 64  # asked for with each message, until there are enough

T = TypeVar("T")


@dataclass(slots=True)
class Answer:
    """What the server said of one item: descriptor and rows; None for what is to be asked in another way."""

    descriptor: bytes | None = None
    rows: list[Entry] | None = None


@dataclass(slots=True)
class _Asked(Generic[T]):
    token: T
    answer: Answer
    left: int


class Wire(Generic[T]):
    """One connection on which many items are asked for at once.

    Takes over `connection`, which is signed in, and closes it. Every call raises `Lost` where the server is gone.
    """

    def __init__(self, connection: Connection, session: Session, timeout: float) -> None:
        self._socket, self._id = _take_over(connection, session), session.session_id
        self._socket.settimeout(timeout)
        self._low: int = connection.sequence_window["low"]
        self._high: int = connection.sequence_window["high"]
        self._sign = _signer(connection, session)
        self._cipher = _Cipher(connection, session) if session.encrypt_data else None
        self._asked: dict[int, tuple[_Asked[T], int]] = {}
        self._done: list[tuple[T, Answer]] = []
        self._received = bytearray()

    @property
    def has_room(self) -> bool:
        """Tell whether one more item can be asked for before an answer is taken."""
        # The largest message takes a folder's rows and four credits besides.
        return len(self._asked) < 5 * _MOST_AT_ONCE and self._high - self._low > _FOLDER_ROOM // _CREDIT + 4

    @property
    def is_waiting(self) -> bool:
        """Tell whether there are answers to be taken."""
        return bool(self._asked or self._done)

    def under_way(self) -> list[T]:
        """Return what was asked for and not answered."""
        # A dictionary's keys, since several messages stand for one item.
        return list({id(one): one.token for one, _ in self._asked.values()}.values())

    def ask(self, token: T, tree: int, path: str, *, is_folder: bool) -> None:
        """Ask for an item's descriptor, and for the rows of a folder; the answer comes with `token`."""
        name = path.encode("utf-16-le", "surrogatepass")
        access = _READ_CONTROL | (_LIST | _ATTRIBUTES | _SYNCHRONIZE if is_folder else 0)
        options = _FOR_BACKUP | (_AS_FOLDER if is_folder else _AS_LINK)
        create = _CREATE.pack(57, 0, 0, 2, 0, 0, access, 0, _SHARED_BY_ALL, _OPEN_ONLY, options, 120, len(name), 0, 0)
        info = _QUERY_INFO.pack(41, _SECURITY, 0, _ROOM, 0, 0, 0, _OWNER_GROUP_DACL, 0, _BEFORE)
        parts = [(_CREATE_COMMAND, create + (name or b"\0\0"), 1), (_INFO_COMMAND, info, 1)]
        if is_folder:
            for flags, room in ((_RESTART, _FOLDER_ROOM), (0, _ROOM)):
                rows = _QUERY_DIRECTORY.pack(33, _ID_FULL_DIRECTORY, flags, 0, _BEFORE, 96, len(_ALL), room) + _ALL
                parts.append((_DIRECTORY_COMMAND, rows, room // _CREDIT))
        parts.append((_CLOSE_COMMAND, _CLOSE.pack(24, 0, 0, _BEFORE), 1))
        asked = _Asked(token, Answer(), len(parts))
        whole = bytearray()
        for number, (command, body, charge) in enumerate(parts):
            is_last = number == len(parts) - 1
            self._asked[self._low] = asked, number
            whole += self._message(tree, command, body, charge, is_first=not number, is_last=is_last)
            self._low += charge
        data = bytes(whole) if self._cipher is None else self._cipher.encrypt(bytes(whole))
        try:
            self._socket.sendall(_LENGTH.pack(len(data)) + data)
        except OSError as error:
            raise Lost(str(error)) from None

    def _message(self, tree: int, command: int, body: bytes, charge: int, *, is_first: bool, is_last: bool) -> bytes:
        size = 64 + len(body)
        padding = b"" if is_last else bytes(-size % 8)
        flags = (0 if is_first else _RELATED) | (_SIGNED if self._sign else 0)
        wanted = _CREDITS_WANTED if self._high - self._low < 16 * _MOST_AT_ONCE else charge
        following = 0 if is_last else size + len(padding)
        header = _HEADER.pack(
            b"\xfeSMB", 64, charge, 0, command, wanted, flags, following, self._low, 0, tree, self._id, bytes(16)
        )
        message = header + body + padding
        if self._sign is None:
            return message
        return message[:48] + self._sign(message, self._low, False) + message[64:]

    def take(self) -> tuple[T, Answer]:
        """Return the next item that is answered, in whatever order."""
        while not self._done:
            self._read_message()
        return self._done.pop()

    def _read_message(self) -> None:
        data = self._read(_LENGTH.unpack(self._read(4))[0] & 0xFFFFFF)
        is_sealed = data[:4] == b"\xfdSMB"
        if is_sealed:
            if self._cipher is None:
                raise Lost("an encrypted answer where nothing is encrypted")
            data = self._cipher.decrypt(data)
        elif self._cipher is not None:
            if data[:4] == b"\xfeSMB" and len(data) >= 64 and _HEADER.unpack_from(data)[3] in ENDED:
                raise Lost("the session has ended")
            raise Forged("an answer that is not encrypted where all must be")
        start, end = 0, len(data)
        while start < end:
            if end - start < 64 or data[start : start + 4] != b"\xfeSMB":
                raise Lost("an answer that is none")
            following = int.from_bytes(data[start + 20 : start + 24], "little")
            stop = start + following if following else end
            if (following and following < 64) or stop > end:
                raise Lost("an answer that is cut off")
            self._take_part(data[start:stop], is_sealed=is_sealed)
            start = stop

    def _take_part(self, message: bytes, *, is_sealed: bool) -> None:
        _, _, _, status, command, credits, flags, _, number, *_, signature = _HEADER.unpack_from(message)
        is_pending = status == _PENDING and bool(flags & _ASYNC)
        if self._sign is not None and not is_sealed and not is_pending:
            signed = message[:48] + bytes(16) + message[64:]
            if not flags & _SIGNED and status in ENDED:
                raise Lost("the session has ended")
            if not flags & _SIGNED:
                raise Forged("an answer that is not signed where all must be")
            if not hmac.compare_digest(self._sign(signed, number, True), signature):
                raise Forged("an answer with a false signature")
        self._high += credits
        if is_pending:
            return
        if number not in self._asked:
            raise Lost("an answer to nothing that was asked")
        asked, part = self._asked.pop(number)
        if command == _INFO_COMMAND and not status:
            asked.answer.descriptor = _buffer(message)
        elif command == _DIRECTORY_COMMAND:
            self._take_rows(asked.answer, part, status, message)
        asked.left -= 1
        if not asked.left:
            self._done.append((asked.token, asked.answer))

    @staticmethod
    def _take_rows(answer: Answer, part: int, status: int, message: bytes) -> None:
        if part == _FIRST_ROWS:
            # An empty folder has two rows of its own: whatever else is said is for another look.
            answer.rows = None if status else unpack_entries(_buffer(message))
        elif status != _NO_MORE_FILES:
            # There is more than the room was for.
            answer.rows = None

    def _read(self, size: int) -> bytes:
        while len(self._received) < size:
            try:
                more = self._socket.recv(262144)
            except OSError as error:
                raise Lost("no answer in time" if isinstance(error, TimeoutError) else str(error)) from None
            if not more:
                raise Lost("the connection was closed")
            self._received += more
        data = bytes(self._received[:size])
        del self._received[:size]
        return data

    def close(self) -> None:
        """End the connection; the server forgets the session with it."""
        with contextlib.suppress(OSError):
            self._socket.close()


def _buffer(message: bytes) -> bytes:
    """Return what a QUERY_INFO or QUERY_DIRECTORY response brings (MS-SMB2 2.2.38, 2.2.34)."""
    if len(message) < 72:
        raise Lost("an answer that is cut off")
    offset, length = struct.unpack_from("<HI", message, 66)
    if offset + length > len(message):
        raise Lost("an answer that is cut off")
    return message[offset : offset + length]


class _Relay:
    """What the library's thread is given in place of its socket, so that it ends and leaves the socket to us."""

    def __init__(self, transport: Any) -> None:
        self._transport, self.connected = transport, True

    def send(self, header: Any) -> None:
        self._transport.send(header)

    def recv(self, timeout: float) -> bytes:
        return b""

    def close(self) -> None:
        self.connected = False


def _take_over(connection: Connection, session: Session) -> socket.socket:
    """End the thread that reads the library's connection, with one last answer, and return the socket."""
    transport = connection.transport
    connection.transport = _Relay(transport)
    # The thread waits for a message on the old socket: it gets one, and finds the relay when it wants the next.
    # With it credits are asked for: each allows one more message to be under way.
    try:
        answer = connection.send(SMB2Echo(), sid=session.session_id, credit_request=_CREDITS_AT_FIRST)
        connection.receive(answer)
    except (TypeError, AttributeError) as error:
        # Where the server went away a moment ago the library reads on in what it does not have any more.
        raise Lost(f"the connection ended ({error})") from None
    connection._t_worker.join()
    found: socket.socket | None = transport._sock
    if found is None:
        raise Lost("the connection ended")
    return found


def _signer(connection: Connection, session: Session) -> Callable[[bytes, int, bool], bytes] | None:
    """Return what signs a message with its number, as an answer or not; None where nothing is signed."""
    key = session.signing_key
    if not (session.signing_required and key) or session.encrypt_data:
        # What is encrypted is not signed besides (MS-SMB2 3.2.4.1.1).
        return None
    algorithm = SigningAlgorithms.HMAC_SHA256
    if connection.dialect >= Dialects.SMB_3_0_0:
        algorithm = SigningAlgorithms.AES_CMAC
    if connection.dialect >= Dialects.SMB_3_1_1 and connection.signing_algorithm_id is not None:
        algorithm = connection.signing_algorithm_id
    if algorithm == SigningAlgorithms.AES_GMAC:
        cipher = aead.AESGCM(key)
        return lambda data, number, is_answer: cipher.encrypt(
            number.to_bytes(8, "little") + int(is_answer).to_bytes(4, "little"), b"", data
        )
    if algorithm == SigningAlgorithms.AES_CMAC:
        # A new one with the key in place costs more than a copy of it.
        start = CMAC(algorithms.AES(key))

        def sign(data: bytes, _number: int, _is_answer: bool) -> bytes:
            each = start.copy()
            each.update(data)
            return each.finalize()

        return sign
    return lambda data, _number, _is_answer: hmac.digest(key, data, "sha256")[:16]


class _Cipher:
    """Encrypts and decrypts whole messages (MS-SMB2 3.1.4.3)."""

    def __init__(self, connection: Connection, session: Session) -> None:
        cipher = connection.cipher_id if connection.dialect >= Dialects.SMB_3_1_1 else Ciphers.AES_128_CCM
        is_gcm = cipher in (Ciphers.AES_128_GCM, Ciphers.AES_256_GCM)
        make = aead.AESGCM if is_gcm else aead.AESCCM
        self._ours, self._theirs = make(session.encryption_key), make(session.decryption_key)
        self._nonce_size = 12 if is_gcm else 11
        self._id = session.session_id

    def encrypt(self, data: bytes) -> bytes:
        """Return a message within a transform header."""
        nonce = os.urandom(self._nonce_size)
        header = _TRANSFORM.pack(b"\xfdSMB", bytes(16), nonce.ljust(16, b"\0"), len(data), 0, 1, self._id)
        sealed = self._ours.encrypt(nonce, data, header[20:])
        return header[:4] + sealed[-16:] + header[20:] + sealed[:-16]

    def decrypt(self, data: bytes) -> bytes:
        """Return the message in a transform header; raises `Lost` where it is not the server's."""
        if len(data) < _TRANSFORM.size:
            raise Lost("an answer that is cut off")
        _, tag, nonce, _, _, _, ident = _TRANSFORM.unpack_from(data)
        if ident != self._id:
            raise Forged("an answer of another session")
        try:
            return self._theirs.decrypt(nonce[: self._nonce_size], data[52:] + tag, data[20:52])
        except InvalidTag:
            raise Forged("an answer with a false signature") from None
