"""``loft`` for real: its shares on an SMB server that the sample office starts and stops."""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from smbprotocol.connection import Connection
from smbprotocol.exceptions import SMBException
from smbprotocol.file_info import FileAttributes, InfoType
from smbprotocol.open import CreateDisposition, ImpersonationLevel, Open, ShareAccess, SMB2SetInfoRequest
from smbprotocol.session import Session
from smbprotocol.tree import TreeConnect

from neatledger.core.lists.descriptors import AUTO_INHERITED, AUTO_REQUESTED, Descriptor, pack_descriptor
from neatledger.demo.loft import BASE_SID, SHARES, descriptor_of, loft_things, share_permission, share_place
from neatledger.demo.smbserver import SmbServer, SmbShare
from neatledger.errors import SourceError

__all__ = ["running_loft", "set_descriptor"]

_SETUP = "setup$"
_OWNER_AND_DACL, _CHANGE_LIST_AND_OWNER = 0x5, 0x000C0000


@contextmanager
def running_loft(folder: Path) -> Iterator[SmbServer]:
    """Make the folders and files in a folder, and serve them while the context lasts; raises `SourceError`."""
    # Others may pass: a server looks with each user's own eyes. Paths must not depend on where one stands.
    folder = folder.resolve()
    data = folder / "data"
    for thing in loft_things():
        path = Path(f"{data}{thing.path}")
        if thing.size < 0:
            path.mkdir(parents=True)
            path.chmod(0o777)
        else:
            with open(path, "wb") as out:
                os.posix_fallocate(out.fileno(), 0, thing.size)
    shares = [SmbShare(name, Path(f"{data}{share_place(name)}"), share_permission(name)) for name in SHARES]
    with SmbServer(folder / "server", BASE_SID, [], [], [*shares, SmbShare(_SETUP, data)]) as server:
        _set_up(server)
        for thing in loft_things():
            os.utime(f"{data}{thing.path}", (thing.changed, thing.changed))
        yield server


def _set_up(server: SmbServer) -> None:
    connection = Connection(uuid.uuid4(), "127.0.0.1", server.port)
    try:
        connection.connect(timeout=20)
        session = Session(connection, server.admin, server.password)
        session.connect()
        tree = TreeConnect(session, rf"\\127.0.0.1\{_SETUP}")
        tree.connect()
        for thing in loft_things():
            set_descriptor(tree, thing.path.lstrip("/").replace("/", "\\"), descriptor_of(thing))
    except (SMBException, OSError) as error:
        raise SourceError(f"the SMB server does not take descriptors: {error}", str(server.folder)) from None
    finally:
        connection.disconnect(True)


def set_descriptor(tree: TreeConnect, path: str, descriptor: Descriptor) -> None:
    """Set an item's owner and list through a share; paths are parted by backslashes."""
    found = Open(tree, path)
    everyone = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE | ShareAccess.FILE_SHARE_DELETE
    found.create(
        ImpersonationLevel.Impersonation, _CHANGE_LIST_AND_OWNER, FileAttributes.FILE_ATTRIBUTE_NORMAL,
        everyone, CreateDisposition.FILE_OPEN, 0,
    )  # fmt: skip
    request = SMB2SetInfoRequest()
    request["info_type"] = InfoType.SMB2_0_INFO_SECURITY
    request["additional_information"] = _OWNER_AND_DACL
    request["file_id"] = found.file_id
    # A server keeps the mark of inheritance only where it is asked for with it (MS-DTYP 2.4.6).
    asked = AUTO_REQUESTED if descriptor.control & AUTO_INHERITED else 0
    request["buffer"] = pack_descriptor(replace(descriptor, control=descriptor.control | asked))
    session = tree.session
    session.connection.receive(session.connection.send(request, session.session_id, tree.tree_connect_id))
    found.close(False)
