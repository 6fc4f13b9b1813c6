"""One signed connection to an SMB 3 server: trees, folders, descriptors, space.

Source: MS-SMB2, MS-FSCC. Signing is always asked for and encryption used where the server offers it; a guest
session, or one that can do neither, is refused unless the settings allow it.
"""

from __future__ import annotations

import contextlib
import logging
import re
import struct
import uuid
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from importlib.util import find_spec
from typing import Any

from smbprotocol.connection import Dialects
from smbprotocol.create_contexts import CreateContextName, SMB2CreateContextRequest
from smbprotocol.exceptions import SMBAuthenticationError, SMBException, SMBResponseException
from smbprotocol.file_info import FileInformationClass, InfoType
from smbprotocol.header import NtStatus
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    FileAttributes,
    ImpersonationLevel,
    Open,
    QueryDirectoryFlags,
    ShareAccess,
    SMB2CloseRequest,
    SMB2CreateRequest,
    SMB2QueryInfoRequest,
    SMB2QueryInfoResponse,
    SMB2SetInfoRequest,
)
from smbprotocol.session import Session
from smbprotocol.tree import SMB2TreeConnectRequest, SMB2TreeConnectResponse, TreeConnect

from neatledger.core.people.credentials import Credentials
from neatledger.errors import MissingPartError, SourceError
from neatledger.sources.smbentries import Entry, ticks_of
from neatledger.sources.smberrors import ENDED, Lost, Refused
from neatledger.sources.smbsound import UNREADABLE, SoundConnection
from neatledger.sources.smbwire import Wire

__all__ = ["Entry", "Lost", "Refused", "SmbSession", "SmbTree", "Terms"]

_SHARES_ALL = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE | ShareAccess.FILE_SHARE_DELETE
_LIST, _ATTRIBUTES, _READ_CONTROL, _SYNCHRONIZE = 0x1, 0x80, 0x20000, 0x100000
_DELETE, _WRITE_DAC, _WRITE_OWNER = 0x10000, 0x40000, 0x80000
_OWNER_GROUP_DACL, _OF_LIST = 0x7, 0x4
_DESCRIPTOR_ROOM = (65536, 262144)
_SPACE = struct.Struct("<QQQII")
_FULL_SIZE = 7  # FileFsFullSizeInformation, MS-FSCC 2.5.4

# What the library has to say of a server that goes away, we say ourselves, once.
logging.getLogger("smbprotocol").addHandler(logging.NullHandler())


@dataclass(frozen=True, slots=True)
class Terms:
    """How to connect: host, port, seconds to wait for an answer, what weaker ways are allowed, how to sign in.

    `by_ticket` signs in with the Kerberos ticket of whoever runs this.
    """

    host: str
    port: int = 445
    timeout: float = 30.0
    allows_guest: bool = False
    allows_unsigned: bool = False
    by_ticket: bool = False

    @classmethod
    def of_settings(cls, settings: Mapping[str, Any]) -> Terms:
        """Return what a plan says of a server: host, port, timeout, allow-guest, allow-unsigned."""
        return cls(
            str(settings["host"]),
            int(settings.get("port", 445)),
            float(settings.get("timeout", 30)),
            bool(settings.get("allow-guest", False)),
            bool(settings.get("allow-unsigned", False)),
            settings.get("sign-in") == "kerberos",
        )

    def credentials(self, user: str, ask: Callable[[str, str], Credentials]) -> Credentials:
        """Return who signs in, and with what: a ticket has a name of its own, and no password.

        Raises `SourceError`, or `MissingPartError`.
        """
        if not self.by_ticket:
            return ask(user, self.host)
        if find_spec("gssapi") is None and find_spec("winkerberos") is None:
            hint = "pip install 'pyspnego[kerberos]'"
            raise MissingPartError("signing in by Kerberos wants one more part", self.host, hint)
        return Credentials("", "")


def _told(error: BaseException) -> str:
    """Say an error in a few words: the name of the server's status (MS-ERREF 2.3.1) where it gave one."""
    status = re.search(r"STATUS_(\w+)", str(error))
    if status:
        return status[1].lower().replace("_", " ")
    return str(error).splitlines()[0] if str(error) else type(error).__name__


# Statuses that say no to nothing: a connection, a session, a share or the far end of a pipe is gone (MS-ERREF 2.3.1).
_GONE = (
    frozenset(
        (
            0xC00000AB,  # STATUS_INSTANCE_NOT_AVAILABLE
            0xC00000AC,  # STATUS_PIPE_NOT_AVAILABLE
            0xC00000AE,  # STATUS_PIPE_BUSY
            0xC00000B0,  # STATUS_PIPE_DISCONNECTED
            0xC00000B1,  # STATUS_PIPE_CLOSING
            0xC000014B,  # STATUS_PIPE_BROKEN
            0xC00000D6,  # STATUS_VIRTUAL_CIRCUIT_CLOSED
            0xC000020C,  # STATUS_CONNECTION_DISCONNECTED
            0xC000020D,  # STATUS_CONNECTION_RESET
            0xC0000241,  # STATUS_CONNECTION_ABORTED
        )
    )
    | ENDED
)


# STATUS_NTLM_BLOCKED and STATUS_AUTHENTICATION_FIREWALL_FAILED (MS-ERREF 2.3.1).
_NO_NTLM = frozenset({0xC0000418, 0xC0000413})


@contextlib.contextmanager
def _translated() -> Iterator[None]:
    """Turn the library's errors into `Refused` (the server answers no) and `Lost` (it does not answer any more)."""
    try:
        yield
    except SMBResponseException as error:
        if error.status in _GONE:
            raise Lost(_told(error)) from None
        raise Refused(_told(error)) from error
    except (SMBException, OSError) as error:
        raise Lost(_told(error)) from None
    except UNREADABLE as error:
        raise Lost(f"an answer that cannot be read ({type(error).__name__})") from None


class SmbSession:
    """A session of one account; use as a context. Making one raises `SourceError`, and `Lost` where it is cut off."""

    def __init__(self, terms: Terms, credentials: Credentials) -> None:
        self.terms = terms
        self._connection = SoundConnection(
            uuid.uuid4(), terms.host, terms.port, require_signing=not terms.allows_unsigned, patience=terms.timeout
        )
        where = f"{terms.host}:{terms.port}"
        is_there = False
        try:
            self._meet(terms)
            is_there = True
            if self._connection.dialect < Dialects.SMB_3_0_0 and not terms.allows_unsigned:
                raise SourceError(
                    "the server offers no SMB 3", where, "allow-unsigned: true in the plan would accept it"
                )
            encrypts = bool(self._connection.supports_encryption)
            # Without a name and a password the ticket is taken that is there, or nothing.
            who = (credentials.user or None, credentials.password or None)
            self._session = Session(self._connection, *who, require_encryption=encrypts)
            self._connect_session()
        except (SourceError, Lost):
            self._end_quietly()
            raise
        except (SMBException, OSError, *UNREADABLE) as error:
            self._end_quietly()
            if is_there and not isinstance(error, SMBResponseException | SMBAuthenticationError):
                # It was there a moment ago, and has refused nothing.
                raise Lost(_told(error)) from None
            raise self._not_signed_in(credentials, error, where) from None

    def _not_signed_in(self, credentials: Credentials, error: Exception, where: str) -> SourceError:
        """Return why nobody was signed in, and what to do about it."""
        status = error.status if isinstance(error, SMBResponseException) else None
        if self.terms.by_ticket:
            hint = "get a ticket (kinit, klist), and name the server in host as its ticket does"
            return SourceError(f"the Kerberos ticket does not sign in: {_told(error)}", where, hint)
        if status in _NO_NTLM or "No mechanism" in str(error) or "SpnegoError" in str(error):
            hint = "sign-in: kerberos in the plan signs in with a ticket"
            return SourceError("the server takes no name and password (NTLM is off there)", where, hint)
        hint = "see host, port and user in the plan, and the password in the environment or keyring"
        return SourceError(f"cannot sign in as {credentials.user}: {_told(error)}", where, hint)

    def _meet(self, terms: Terms) -> None:
        """Connect and negotiate; raises `Lost` where somebody was there and went away in the middle of it."""
        try:
            self._connection.connect(timeout=terms.timeout)
        except SMBResponseException:
            raise
        except (SMBException, ConnectionResetError, BrokenPipeError) as error:
            self._end_quietly()
            raise Lost(_told(error)) from None
        except UNREADABLE as error:
            self._end_quietly()
            # The library says this of a socket that could not be made.
            if isinstance(error, ValueError) and str(error).startswith("Failed to connect"):
                raise
            raise Lost(f"an answer that is none ({type(error).__name__})") from None

    def _connect_session(self) -> None:
        try:
            self._session.connect()
        except SMBException as error:
            if "guest" in str(error).lower() and not self.terms.allows_guest:
                raise SourceError(
                    "the server took us for a guest, so nothing it says could be trusted",
                    f"{self.terms.host}:{self.terms.port}",
                    "see user and password; allow-guest: true in the plan would accept it",
                ) from None
            if not self.terms.allows_guest or "guest" not in str(error).lower():
                raise
            self._session.require_encryption = False
            self._session.signing_required = False
            self._session.connect()
        self._connection.bind(self._session)

    def __enter__(self) -> SmbSession:
        return self

    def __exit__(self, *_: object) -> None:
        self._end_quietly()

    def _end_quietly(self) -> None:
        with contextlib.suppress(SMBException, OSError, Lost, *UNREADABLE):
            self._connection.disconnect(True, timeout=5)

    @property
    def is_encrypted(self) -> bool:
        """Tell whether what goes over the network is encrypted."""
        return bool(self._session.encrypt_data)

    def tree(self, share: str) -> SmbTree:
        """Connect to a share; raises `Refused` or `Lost`."""
        tree = TreeConnect(self._session, rf"\\{self.terms.host}\{share}")
        with _translated():
            tree.connect(require_secure_negotiate=not self.terms.allows_unsigned)
        return SmbTree(self._connection, self._session, tree, self.terms.timeout)

    def wire(self, share: str) -> tuple[Wire[Any], int] | None:
        """Turn the session into one on which much of a share can be asked for at once, with the share's number there.

        The session is good for nothing else from then on. None for a share that may lie elsewhere (DFS), or of a
        server that is too old: it is asked in turn. Raises `Refused` or `Lost`.
        """
        tree = TreeConnect(self._session, rf"\\{self.terms.host}\{share}")
        with _translated():
            tree.connect(require_secure_negotiate=not self.terms.allows_unsigned)
            if tree.is_dfs_share or self._connection.dialect < Dialects.SMB_3_0_0:
                return None
            if tree.encrypt_data and not self._session.encrypt_data:
                return None
            wire: Wire[Any] = Wire(self._connection, self._session, self.terms.timeout)
        return wire, tree.tree_connect_id

    def pipe(self, name: str) -> SmbPipe:
        """Open a named pipe for remote procedure calls; raises `Refused` or `Lost`."""
        return SmbPipe(self.tree("IPC$"), name)


class SmbTree:
    """One share of a session; paths are parted by backslashes, empty for its root."""

    def __init__(self, connection: SoundConnection, session: Session, tree: TreeConnect, timeout: float) -> None:
        self._connection, self._session, self._tree, self._timeout = connection, session, tree, timeout

    def maximal_access(self) -> int:
        """Return what the share lets this account do at most (MS-SMB2 2.2.10); raises `Refused` or `Lost`.

        The library does not keep what it was told, so the share is connected to once more, until the session ends.
        """
        asked = SMB2TreeConnectRequest()
        asked["buffer"] = self._tree.share_name.encode("utf-16-le")
        with _translated():
            sent = self._connection.send(asked, sid=self._session.session_id)
            answer = self._connection.receive(sent, timeout=self._timeout)
            told = SMB2TreeConnectResponse()
            told.unpack(answer["data"].get_value())
            access: int = told["maximal_access"].get_value()
        return access

    def _ask(self, path: str, access: int, query: SMB2QueryInfoRequest) -> bytes:
        """Open an item, ask one thing of it, and close it, in one message."""
        create = SMB2CreateRequest()
        create["impersonation_level"] = ImpersonationLevel.Impersonation
        create["desired_access"] = access
        create["file_attributes"] = FileAttributes.FILE_ATTRIBUTE_NORMAL
        create["share_access"] = _SHARES_ALL
        create["create_disposition"] = CreateDisposition.FILE_OPEN
        create["create_options"] = CreateOptions.FILE_OPEN_REPARSE_POINT | CreateOptions.FILE_OPEN_FOR_BACKUP_INTENT
        create["buffer_path"] = path.encode("utf-16-le", "surrogatepass") or b"\0\0"
        query["file_id"] = b"\xff" * 16
        close = SMB2CloseRequest()
        close["file_id"] = b"\xff" * 16
        with _translated():
            sent = self._connection.send_compound(
                [create, query, close], self._session.session_id, self._tree.tree_connect_id, related=True
            )
            answers: list[Any] = []
            failed: SMBResponseException | None = None
            for request in sent:
                try:
                    answers.append(self._connection.receive(request, timeout=self._timeout))
                except SMBResponseException as error:
                    failed = failed or error
            if failed is not None:
                raise failed
            found = SMB2QueryInfoResponse()
            found.unpack(answers[1]["data"].get_value())
            data: bytes = found["buffer"].get_value()
        return data

    def descriptor(self, path: str) -> bytes:
        """Return an item's security descriptor: owner, group and DACL, self-relative; raises `Refused` or `Lost`."""
        for room in _DESCRIPTOR_ROOM:
            query = SMB2QueryInfoRequest()
            query["info_type"] = InfoType.SMB2_0_INFO_SECURITY
            query["additional_information"] = _OWNER_GROUP_DACL
            query["output_buffer_length"] = room
            try:
                return self._ask(path, _READ_CONTROL, query)
            except Refused as error:
                cause = error.__cause__
                too_small = (
                    isinstance(cause, SMBResponseException) and cause.status == NtStatus.STATUS_BUFFER_TOO_SMALL
                )
                if not too_small or room == _DESCRIPTOR_ROOM[-1]:
                    raise
        raise AssertionError("one of the sizes returns or raises")

    def set_descriptor(self, path: str, descriptor: bytes, parts: int) -> None:
        """Set parts of an item's descriptor (SECURITY_INFORMATION, MS-DTYP 2.4.7); raises `Refused` or `Lost`."""
        with _translated():
            found = self._opened_to_set(path, parts)
            try:
                request = SMB2SetInfoRequest()
                request["info_type"] = InfoType.SMB2_0_INFO_SECURITY
                request["additional_information"] = parts
                request["file_id"] = found.file_id
                request["buffer"] = descriptor
                sent = self._connection.send(request, self._session.session_id, self._tree.tree_connect_id)
                self._connection.receive(sent, timeout=self._timeout)
            finally:
                found.close(False)

    def _opened_to_set(self, path: str, parts: int) -> Open:
        found = Open(self._tree, path)
        found.create(
            ImpersonationLevel.Impersonation,
            (_WRITE_DAC if parts & _OF_LIST else 0) | (_WRITE_OWNER if parts & ~_OF_LIST else 0),
            FileAttributes.FILE_ATTRIBUTE_NORMAL,
            _SHARES_ALL,
            CreateDisposition.FILE_OPEN,
            CreateOptions.FILE_OPEN_REPARSE_POINT | CreateOptions.FILE_OPEN_FOR_BACKUP_INTENT,
        )
        return found

    def try_to_set(self, path: str, parts: int) -> None:
        """Open an item as for `set_descriptor`, and leave it as it is; raises `Refused` or `Lost`."""
        with _translated():
            self._opened_to_set(path, parts).close(False)

    def make_folder(self, path: str, descriptor: bytes) -> None:
        """Make a folder with a descriptor from its first moment (MS-SMB2 2.2.13.2.2); raises `Refused` or `Lost`."""
        context = SMB2CreateContextRequest()
        context["buffer_name"] = CreateContextName.SMB2_CREATE_SD_BUFFER
        context["buffer_data"] = descriptor
        found = Open(self._tree, path)
        with _translated():
            found.create(
                ImpersonationLevel.Impersonation,
                _READ_CONTROL | _WRITE_DAC | _WRITE_OWNER,
                FileAttributes.FILE_ATTRIBUTE_DIRECTORY,
                _SHARES_ALL,
                CreateDisposition.FILE_CREATE,
                CreateOptions.FILE_DIRECTORY_FILE,
                create_contexts=[context],
            )
            found.close(False)

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder; raises `Refused` or `Lost`."""
        found = Open(self._tree, path)
        with _translated():
            found.create(
                ImpersonationLevel.Impersonation,
                _DELETE,
                FileAttributes.FILE_ATTRIBUTE_DIRECTORY,
                _SHARES_ALL,
                CreateDisposition.FILE_OPEN,
                CreateOptions.FILE_DIRECTORY_FILE
                | CreateOptions.FILE_DELETE_ON_CLOSE
                | CreateOptions.FILE_OPEN_REPARSE_POINT,
            )
            found.close(False)

    def space(self) -> tuple[int, int]:
        """Return the total and the free bytes of the share's volume; raises `Refused` or `Lost`."""
        query = SMB2QueryInfoRequest()
        query["info_type"] = InfoType.SMB2_0_INFO_FILESYSTEM
        query["file_info_class"] = _FULL_SIZE
        query["output_buffer_length"] = 64
        told = self._ask("", _ATTRIBUTES, query)
        if len(told) < _SPACE.size:
            raise Lost("an answer that is cut off")
        total, free, _, sectors, size = _SPACE.unpack_from(told)
        return total * sectors * size, free * sectors * size

    def listing(self, path: str) -> Iterator[Entry]:
        """Yield what is in a folder, in the server's order; raises `Refused` or `Lost`."""
        folder = Open(self._tree, path)
        with _translated():
            folder.create(
                ImpersonationLevel.Impersonation,
                _LIST | _ATTRIBUTES | _SYNCHRONIZE,
                FileAttributes.FILE_ATTRIBUTE_DIRECTORY,
                _SHARES_ALL,
                CreateDisposition.FILE_OPEN,
                CreateOptions.FILE_DIRECTORY_FILE | CreateOptions.FILE_OPEN_FOR_BACKUP_INTENT,
            )
            try:
                yield from self._rows(folder)
            finally:
                folder.close(False)

    @staticmethod
    def _rows(folder: Open) -> Iterator[Entry]:
        flags = QueryDirectoryFlags.SMB2_RESTART_SCANS
        while True:
            try:
                found = folder.query_directory("*", FileInformationClass.FILE_ID_FULL_DIRECTORY_INFORMATION, flags)
            except SMBResponseException as error:
                if error.status == NtStatus.STATUS_NO_MORE_FILES:
                    return
                raise
            flags = 0
            for row in found:
                name = row["file_name"].get_value().decode("utf-16-le", "surrogatepass")
                if name in (".", ".."):
                    continue
                written = row["last_write_time"].get_value()
                yield Entry.of_row(
                    name,
                    row["file_attributes"].get_value(),
                    row["end_of_file"].get_value(),
                    row["allocation_size"].get_value(),
                    written if isinstance(written, int) else ticks_of(written),
                    row["file_id"].get_value(),
                )


class SmbPipe:
    """A named pipe, which remote procedure calls go by."""

    def __init__(self, tree: SmbTree, name: str) -> None:
        self._open = Open(tree._tree, name)
        with _translated():
            self._open.create(
                ImpersonationLevel.Impersonation,
                0x0012019F,  # read and write data and attributes
                FileAttributes.FILE_ATTRIBUTE_NORMAL,
                ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE,
                CreateDisposition.FILE_OPEN,
                CreateOptions.FILE_NON_DIRECTORY_FILE,
            )

    def send(self, data: bytes) -> None:
        """Write one message; raises `Refused` or `Lost`."""
        with _translated():
            self._open.write(data, 0)

    def recv(self) -> bytes:
        """Return what has come; raises `Refused` or `Lost`."""
        with _translated():
            data: bytes = self._open.read(0, 65536)
        return data

    def close(self) -> None:
        """Close the pipe, if it is still there."""
        with contextlib.suppress(SMBException, OSError, Lost, *UNREADABLE):
            self._open.close(False)
