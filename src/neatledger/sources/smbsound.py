"""The library's connection, made to believe nothing that is not the server's.

What is not signed in a signed session, or not encrypted in an encrypted one, is discarded and ends the connection
(MS-SMB2 3.2.5.1.3). The library believes it where the answer itself says that it is not signed. What is no message at
all ends the connection too, and nothing is waited for without an end.
"""

from __future__ import annotations

import struct
from typing import Any

from cryptography.exceptions import InvalidTag
from smbprotocol.connection import Connection, Request, SMB2TransformHeader
from smbprotocol.exceptions import SMBException
from smbprotocol.header import NtStatus, Smb2Flags, SMB2HeaderResponse
from smbprotocol.session import Session
from smbprotocol.transport import Tcp

from neatledger import errors
from neatledger.sources.smberrors import ENDED, Forged

__all__ = ["UNREADABLE", "SoundConnection"]

UNREADABLE = (*errors.UNREADABLE, struct.error, NotImplementedError)
"""What the library raises of answers that are none, beside its own errors."""

_MOST = 0xFFFFFF  # MS-SMB2 2.1: the first byte is zero, and three are the length


class SoundConnection(Connection):  # type: ignore[misc]  # the library tells no types
    """A connection that ends with the first message that is not the server's; raises `Forged` from then on."""

    def __init__(self, *words: Any, patience: float, **more: Any) -> None:
        self._bound_to: Session | None = None
        self._patience = patience
        super().__init__(*words, **more)
        # How long to wait for the server in the middle of an answer, in seconds.
        self._receive_timeout = int(max(1, patience))

    @property
    def transport(self) -> Any:
        """What carries the messages."""
        return self._carrier

    @transport.setter
    def transport(self, made: Any) -> None:
        self._carrier = _BoundedTcp(made) if isinstance(made, Tcp) else made

    def bind(self, session: Session) -> None:
        """Believe from now on only what the session's keys vouch for, where it has any."""
        self._bound_to = session if session.signing_required or session.encrypt_data else None

    def verify_signature(self, header: SMB2HeaderResponse, session_id: int, force: bool = False) -> None:
        """Check an answer that came in the clear; raises `Forged`."""
        session = self._bound_to
        if session is None:
            try:
                super().verify_signature(header, session_id, force)
            except SMBException as error:
                raise Forged(f"signing in ended with a false signature ({error.__class__.__name__})") from None
            return
        status, flags = header["status"].get_value(), header["flags"]
        if status == NtStatus.STATUS_PENDING and flags.has_flag(Smb2Flags.SMB2_FLAGS_ASYNC_COMMAND):
            # It says nothing but that there is more to wait for.
            return
        is_signed = flags.has_flag(Smb2Flags.SMB2_FLAGS_SIGNED)
        if not is_signed and status in ENDED:
            # Who has forgotten the session cannot sign for it; whoever says so, it gives nothing.
            raise SMBException(f"the session has ended (0x{status:08x})")
        if session.encrypt_data:
            raise Forged("an answer that is not encrypted where all must be")
        if not is_signed:
            raise Forged("an answer that is not signed where all must be")
        try:
            super().verify_signature(header, session.session_id, force=True)
        except SMBException:
            raise Forged("an answer with a false signature") from None

    def _decrypt(self, message: SMB2TransformHeader) -> bytes:
        try:
            data: bytes = super()._decrypt(message)
        except InvalidTag:
            raise Forged("an answer with a false signature") from None
        return data

    def receive(
        self, request: Request, wait: bool = True, timeout: float | None = None, resolve_symlinks: bool = True
    ) -> SMB2HeaderResponse:
        """Wait for an answer, and not for ever."""
        return super().receive(request, wait, self._patience if timeout is None else timeout, resolve_symlinks)

    def _check_worker_running(self) -> None:
        try:
            super()._check_worker_running()
        except UNREADABLE as error:
            raise SMBException(f"an answer that is none ({type(error).__name__})") from None


class _BoundedTcp:
    """The library's socket; a length that no message has is not made room for."""

    def __init__(self, carrier: Tcp) -> None:
        self._carrier = carrier

    def __getattr__(self, name: str) -> Any:
        return getattr(self._carrier, name)

    def recv(self, timeout: float) -> bytes:
        """Return the next message, nothing where the connection has ended; raises `SMBException`."""
        told, timeout = self._carrier._recv(4, timeout)
        if not told:
            return b""
        size = struct.unpack(">L", told)[0]
        if not 4 <= size <= _MOST:
            raise SMBException(f"an answer of {size:,} bytes, which is none")
        data: bytes = self._carrier._recv(size, timeout)[0] or b""
        return data
