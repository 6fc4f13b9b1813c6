"""A real SMB server as judge: random descriptors on its items, and what it grants each user, asked bit by bit."""

from __future__ import annotations

import random
import struct
import subprocess
import uuid
from pathlib import Path

from smbprotocol.connection import Connection
from smbprotocol.exceptions import AccessDenied, SMBResponseException
from smbprotocol.file_info import FileAttributes
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    ImpersonationLevel,
    Open,
    ShareAccess,
)
from smbprotocol.session import Session
from smbprotocol.tree import TreeConnect

from neatledger.core.lists.descriptors import Ace, Acl, Descriptor, unpack_descriptor
from neatledger.demo.liveloft import set_descriptor
from neatledger.demo.smbserver import SmbAccount, SmbGroup, SmbServer, SmbShare

BASE = "S-1-5-21-7101-7102-7103"
USERS = {"ada": 5001, "bo": 5002, "cy": 5003, "dot": 5004}
GROUPS = {"vets": (5501, ["ada", "cy"]), "nurses": (5502, ["bo", "cy"])}
SIDS = [f"{BASE}-{rid}" for rid in (*USERS.values(), 5501, 5502)]
ANYONE = ["S-1-1-0", "S-1-5-11", "S-1-5-2", "S-1-3-0", "S-1-3-1", "S-1-3-4", "S-1-5-32-544", "S-1-5-18"]
BITS = {"list": 0x1, "add": 0x2, "enter": 0x20, "delete": 0x10000, "manage": 0x40000}
BUILDING = "building"  # a share above the others, through which everything is made
_MASKS = [0x1, 0x2, 0x20, 0x40, 0x10000, 0x40000, 0x1200A9, 0x1301BF, 0x1F01FF, 1 << 28, 1 << 29, 1 << 30, 1 << 31]


def server(folder: Path, permissions: dict[str, str], **settings: str) -> SmbServer:
    """Return a server with the users and groups here, and shares with these permissions."""
    shares = []
    for name, permission in permissions.items():
        path = folder / "data" / name
        path.mkdir(parents=True)
        path.chmod(0o777)
        shares.append(SmbShare(name, path, permission))
    shares.append(SmbShare(BUILDING, folder / "data"))
    folder.chmod(0o755)
    (folder / "data").chmod(0o755)
    accounts = [SmbAccount(login, 52000 + rid, rid, login.title()) for login, rid in USERS.items()]
    groups = [SmbGroup(name, 53000 + rid, rid, members) for name, (rid, members) in GROUPS.items()]
    named = {key.replace("_", " "): value for key, value in settings.items()}
    return SmbServer(folder / "server", BASE, accounts, groups, shares, settings=named)


class Client:
    """One user's session."""

    def __init__(self, running: SmbServer, user: str) -> None:
        self.connection = Connection(uuid.uuid4(), "127.0.0.1", running.port)
        self.connection.connect(timeout=20)
        self.session = Session(self.connection, user, running.password, require_encryption=False)
        self.session.connect()
        self.trees: dict[str, TreeConnect | None] = {}

    def tree(self, share: str) -> TreeConnect | None:
        if share not in self.trees:
            tree = TreeConnect(self.session, rf"\\127.0.0.1\{share}")
            try:
                tree.connect()
                self.trees[share] = tree
            except SMBResponseException:
                self.trees[share] = None
        return self.trees[share]

    def open(self, share: str, path: str, access: int, *, make: str = "") -> Open | None:
        """Open an item for exactly these rights, or make a folder or a file; None where it is refused."""
        tree = self.tree(share)
        if tree is None:
            return None
        found = Open(tree, path)
        kind = {"folder": CreateOptions.FILE_DIRECTORY_FILE, "file": CreateOptions.FILE_NON_DIRECTORY_FILE}.get(
            make, 0
        )
        everyone = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE | ShareAccess.FILE_SHARE_DELETE
        how = CreateDisposition.FILE_CREATE if make else CreateDisposition.FILE_OPEN
        try:
            found.create(
                ImpersonationLevel.Impersonation, access, FileAttributes.FILE_ATTRIBUTE_NORMAL, everyone, how, kind
            )
        except AccessDenied:
            return None
        return found

    def has(self, share: str, path: str, bit: int) -> bool:
        found = self.open(share, path, bit)
        if found is not None:
            found.close(False)
        return found is not None

    def set_descriptor(self, share: str, path: str, descriptor: Descriptor) -> None:
        tree = self.tree(share)
        assert tree is not None
        set_descriptor(tree, path, descriptor)

    def close(self) -> None:
        self.connection.disconnect(True)


def random_descriptor(rng: random.Random, *, passes_on: bool = False) -> Descriptor:
    """Return a random descriptor: any order of entries, any flags, now and then a null or an empty list."""
    aces = []
    for _ in range(rng.choice([0, 1, 2, 3, 4, 6])):
        mask = 0
        for _ in range(rng.randint(1, 3)):
            mask |= rng.choice(_MASKS)
        flags = (
            rng.choice([0, 0, 3, 1, 2, 9, 10, 11, 7])
            if not passes_on
            else rng.choice([3, 3, 1, 2, 9, 10, 11, 7, 5, 6])
        )
        kind = rng.choice([0, 0, 0, 1])
        guid = struct.pack("<I", 0)
        if rng.random() < 0.03:
            aces.append(Ace(5, flags, mask, rng.choice(SIDS), guid))
        else:
            aces.append(Ace(kind, flags, mask, rng.choice(SIDS * 2 + ANYONE)))
    dacl = None if rng.random() < 0.04 else Acl(tuple(aces), 4 if any(ace.type == 5 for ace in aces) else 2)
    control = 0x8004 | (0x1000 if rng.random() < 0.3 else 0)
    return Descriptor(rng.choice(SIDS), "", dacl, None, control)


def fill(admin: Client, rng: random.Random, share: str, folders: int, first: int = 0) -> list[str]:
    """Make folders in folders, each with one file, and give everything a random descriptor."""
    paths: list[str] = []
    for number in range(first, first + folders):
        above = rng.choice(["", *paths])
        path = f"{above}\\{number}" if above else str(number)
        for item, make in ((path, "folder"), (f"{path}\\file", "file")):
            made = admin.open(BUILDING, f"{share}\\{item}", 0x1F01FF, make=make)
            assert made is not None
            made.close(False)
        paths.append(path)
    for path in paths:
        for item in (path, f"{path}\\file"):
            admin.set_descriptor(BUILDING, f"{share}\\{item}", random_descriptor(rng))
    return paths


_READ_SDDL = """
import sys
from samba.dcerpc import security
from samba.ndr import ndr_pack
for line in sys.stdin:
    print(ndr_pack(security.descriptor.from_sddl(line.rstrip("\\n"), security.dom_sid("S-1-5-21-1-1-1"))).hex())
"""


def read_sddl(texts: list[str]) -> list[Descriptor]:
    """Return descriptors as the server's own library reads their texts."""
    words = ["/usr/bin/python3", "-c", _READ_SDDL]
    done = subprocess.run(words, input="\n".join(texts), capture_output=True, text=True, check=True)
    return [unpack_descriptor(bytes.fromhex(line)) for line in done.stdout.split()]


FOREIGN, UNIX_USER, UNIX_GROUP = "S-1-5-21-1-2-3-1105", "S-1-22-1-", "S-1-22-2-"
ALIASES = {"desk": 5601, "keys": 5602}
"""Local groups, whose members may be anything that has an identifier."""


class MixedServer(SmbServer):
    """A server whose local and built-in groups hold whatever may be told of or not; `members` are drawn by lot."""

    def __init__(self, folder: Path, share: Path, rng: random.Random) -> None:
        accounts = [SmbAccount(login, 52000 + rid, rid, login.title()) for login, rid in USERS.items()]
        groups = [SmbGroup(name, 53000 + rid, rid, members) for name, (rid, members) in GROUPS.items()]
        super().__init__(folder, BASE, accounts, groups, [SmbShare("open", share)])
        self.unmapped = {"cellar": (54001, ["ada", "dot"]), "attic": (54002, ["bo"])}
        users = [UNIX_USER + str(52000 + rid) for rid in USERS.values()]
        numbers = [UNIX_GROUP + str(number) for number, _ in self.unmapped.values()]
        every = [*SIDS, "S-1-5-11", "S-1-1-0", FOREIGN, f"{BASE}-7777", "S-1-5-4", *users, *numbers]
        self.idents = [f"{BASE}-{rid}" for rid in ALIASES.values()] + ["S-1-5-32-544", "S-1-5-32-545"]
        self.members = {ident: rng.sample(every, rng.choice([0, 1, 1, 2, 3])) for ident in self.idents}
        self.named = [*SIDS, *self.idents, *numbers, *users[:2], FOREIGN]

    def _configure(self) -> None:
        super()._configure()
        path = self._state / "group"
        more = [f"{name}:x:{number}:{','.join(members)}" for name, (number, members) in self.unmapped.items()]
        more += [f"{name}:x:{55000 + rid}:" for name, rid in ALIASES.items()] + ["b544:x:55544:", "b545:x:55545:"]
        path.write_text(path.read_text() + "\n".join(more) + "\n")
        for name, rid in ALIASES.items():
            self._call("net", "groupmap", "add", f"rid={rid}", f"unixgroup={name}", f"ntgroup={name}", "type=local")
        for rid in (544, 545):
            mapped = (f"sid=S-1-5-32-{rid}", f"unixgroup=b{rid}", f"ntgroup=B{rid}", "type=builtin")
            self._call("net", "groupmap", "add", *mapped)
        for ident, members in self.members.items():
            for member in members:
                self._call("net", "groupmap", "addmem", ident, member)

    def draw_descriptor(self, rng: random.Random) -> Descriptor:
        """Return a descriptor with entries for whoever may be in these groups."""
        aces = tuple(
            Ace(rng.choice([0, 0, 0, 1]), rng.choice([0, 3]), rng.choice([*_MASKS[6:9], 2]), rng.choice(self.named))
            for _ in range(rng.choice([1, 1, 2, 3]))
        )
        return Descriptor(rng.choice(self.named[:10]), "", Acl(aces, 2), None, 0x8004)

    def write_files(self, folder: Path) -> dict[str, str]:
        """Copy the passwd and group files for a plan to name; returns them as its setting."""
        for name in ("passwd", "group"):
            (folder / name).write_bytes((self._state / name).read_bytes())
        return {name: str(folder / name) for name in ("passwd", "group")}
