"""What stands on ``loft``, the SMB server at the second site: its shares, folders and files with NT descriptors.

One description; `make.py` writes it as a listing, or sets it up on a real server. The people of the server
stand in a directory's export (LDIF). Sizes are bytes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from neatledger.core.lists.descriptors import Descriptor
from neatledger.formats.sddl import descriptor_from_sddl

__all__ = [
    "BASE_SID",
    "SHARES",
    "LoftThing",
    "descriptor_of",
    "ldif_text",
    "loft_things",
    "published_things",
    "share_permission",
    "share_place",
]

BASE_SID = "S-1-5-21-2301-4417-9052"
_GONE = f"{BASE_SID}-1999"
_MAIL = "pellowmere.example"
# Login, name, e-mail, and what sambaAcctFlags say: [U] a user, D one that is disabled.
_PEOPLE = (
    ("margaret.thorne", "Margaret Thorne", f"thorne@{_MAIL}", "[U]"),
    ("jhale", "Jonas Hale", f"hale@{_MAIL}", "[U]"),
    ("pquill", "Priya Quill", f"quill@{_MAIL}", "[U]"),
    ("orook", "Owen Rook", f"rook@{_MAIL}", "[U]"),
    ("sfenn", "Sara Fenn", f"fenn@{_MAIL}", "[U]"),
    ("dilys", "Dilys Moss", f"moss@{_MAIL}", "[U]"),
    ("rpike", "Rosa Pike", "", "[U]"),
    ("ward", "Ward computer", f"nurses@{_MAIL}", "[U]"),
    ("vstone", "Vera Stone", f"stone@{_MAIL}", "[U]"),
    ("afinch", "Abel Finch", f"finch@{_MAIL}", "[U]"),
    ("tthistle", "Tess Thistle", f"thistle@{_MAIL}", "[U]"),
    ("mbrand", "Milo Brand", f"brand@{_MAIL}", "[DU]"),
    ("una", "Una Ledgerwood", "una@ledgerwood.example", "[U]"),
    ("zkestrel", "Zoe Kestrel", f"kestrel@{_MAIL}", "[U]"),
    ("scanner2", "Scanner at the second site", "", "[U]"),
)
_READER = "loftadmin"  # with whom the ledger signs in
_RID = {login: 1101 + place for place, (login, *_) in enumerate(_PEOPLE)} | {_READER: 4999}
_GROUPS: dict[str, tuple[str, ...]] = {
    "loft vets": ("margaret.thorne", "jhale", "pquill", "orook", "sfenn", "dilys", "mbrand"),
    "loft nurses": ("rpike", "ward"),
    "loft books": ("vstone", "afinch", "una"),
    "loft students": ("tthistle",),
    # Groups in groups: who is a vet or a nurse works in the surgery.
    "loft surgery": ("@loft vets", "@loft nurses"),
    "loft admins": ("zkestrel",),
}
_GROUP_RID = {name: 1201 + place for place, name in enumerate(_GROUPS)}
SHARES = {
    "Accounts": "D:(A;;0x1200a9;;;WD)(A;;0x1301bf;;;{books})",
    "Public": "D:(A;;0x1301bf;;;WD)",
    # Made for the bookkeeper in a hurry, and hidden instead of closed.
    "Questions$": "D:(A;;0x1200a9;;;WD)",
    "Scans": "D:(A;;0x1f01ff;;;AU)",
    "Surgery": "D:(A;;0x1301bf;;;{surgery})(A;;0x1200a9;;;{students})"
    "(A;;0x1f01ff;;;{admins})(A;;0x1f01ff;;;{loftadmin})",
}
"""Share → its own permission; `{books}` stands for that group's identifier."""
_ELSEWHERE = {"Questions$": "/Accounts/For the bookkeeper"}


def share_place(name: str) -> str:
    """Return where on the server a share's folder is."""
    return _ELSEWHERE.get(name, f"/{name}")


@dataclass(frozen=True, slots=True)
class LoftThing:
    """One folder (`size` −1) or file: its owner's identifier, and its descriptor as SDDL."""

    path: str
    owner: str
    sddl: str
    size: int = -1
    changed: int = 0


def _sid(name: str) -> str:
    rid = _RID.get(name) or _GROUP_RID.get(f"loft {name}")
    return f"{BASE_SID}-{rid}"


def _fill(sddl: str) -> str:
    for name in sorted(_GROUPS, key=len, reverse=True):
        short = name.removeprefix("loft ")
        sddl = sddl.replace(f"{{{short}}}", _sid(short))
    for login in _RID:
        sddl = sddl.replace(f"{{{login}}}", _sid(login))
    return sddl.replace("{gone}", _GONE)


def share_permission(name: str) -> str:
    """Return the permission of a share as SDDL."""
    return _fill(SHARES[name])


def ldif_text() -> str:
    """Return the people and groups of the server as LDIF."""
    base = "dc=loft,dc=pellowmere,dc=example"
    entries = ["version: 1\n"]
    for login, name, mail, flags in (*_PEOPLE, (_READER, "Reading account", "", "[U]")):
        lines = [f"dn: uid={login},ou=people,{base}", "objectClass: inetOrgPerson", "objectClass: sambaSamAccount"]
        lines += [f"uid: {login}", f"cn: {name}", f"sn: {name.split()[-1]}", f"sambaSID: {_sid(login)}"]
        lines += [f"sambaAcctFlags: {flags}"] + ([f"mail: {mail}"] if mail else [])
        entries.append("\n".join(lines) + "\n")
    for name, members in _GROUPS.items():
        lines = [f"dn: cn={name},ou=groups,{base}", "objectClass: groupOfNames", "objectClass: sambaGroupMapping"]
        lines += [f"cn: {name}", f"sambaSID: {BASE_SID}-{_GROUP_RID[name]}"]
        for member in members:
            inner = f"cn={member[1:]},ou=groups" if member.startswith("@") else f"uid={member},ou=people"
            lines.append(f"member: {inner},{base}")
        entries.append("\n".join(lines) + "\n")
    return "\n".join(entries)


def _day(month: int, day: int, year: int = 2026) -> int:
    return int(datetime(year, month, day, 12, tzinfo=UTC).timestamp())


_ADMINS = "(A;OICI;FA;;;{admins})(A;OICI;FA;;;SY)"


def _inherited(aces: str, *, is_folder: bool) -> str:
    """Return entries as a child has them from above."""
    if is_folder:
        return aces.replace(";OICI;", ";OICIID;")
    return aces.replace(";OICI;", ";ID;")


def _place(
    path: str, aces: str, files: list[tuple[str, int]], *, owner: str, closed: bool = False
) -> Iterator[LoftThing]:
    """Yield a folder whose entries are its own, and files that have them from it."""
    flags = "P" if closed else "AI"
    yield LoftThing(path, owner, _fill(f"D:{flags}{aces}"), -1, _day(11, 2))
    for place, (name, size) in enumerate(files):
        sddl = f"D:AI{_inherited(aces, is_folder=False)}"
        yield LoftThing(f"{path}/{name}", owner, _fill(sddl), size, _day(1 + place % 10, 3 + place % 20))


def _below(path: str, aces: str, files: list[tuple[str, int]], *, owner: str) -> Iterator[LoftThing]:
    """Yield a folder whose entries come from above, and its files."""
    passed = _inherited(aces, is_folder=True)
    yield LoftThing(path, owner, _fill(f"D:AI{passed}"), -1, _day(10, 5))
    for place, (name, size) in enumerate(files):
        sddl = f"D:AI{_inherited(aces, is_folder=False)}"
        yield LoftThing(f"{path}/{name}", owner, _fill(sddl), size, _day(1 + place % 10, 5 + place % 20))


def loft_things() -> Iterator[LoftThing]:
    """Yield everything on the server, folders before what is in them; the shares come first."""
    boss = _sid("zkestrel")
    surgery = _ADMINS + "(A;OICI;0x1301bf;;;{surgery})(A;OICI;0x1200a9;;;{students})"
    yield from _place("/Surgery", surgery, [("Theatre list.ods", 18_000)], owner=boss)
    yield from _below(
        "/Surgery/Protocols", surgery, [("Anaesthesia.odt", 52_000), ("Dental.odt", 31_000)], owner=boss
    )
    # The refusal was added below the entry that allows: it comes too late, and students read on.
    late = _ADMINS + "(A;OICI;0x1301bf;;;{surgery})(A;OICI;0x1200a9;;;{students})(D;OICI;FA;;;{students})"
    register = [("Register 2026.ods", 44_000)]
    yield from _place("/Surgery/Controlled drugs", late, register, owner=boss, closed=True)
    yield from _place(
        "/Surgery/Student notes", _ADMINS + "(A;OICI;0x1301bf;;;{tthistle})(A;OICI;0x1200a9;;;{surgery})",
        [("Week 46.odt", 9_000)], owner=_sid("tthistle"), closed=True,
    )  # fmt: skip
    # The folder gives the vets a right to change that the share does not let through.
    books = _ADMINS + "(A;OICI;0x1301bf;;;{books})(A;OICI;0x1301bf;;;{vets})"
    yield from _place("/Accounts", books, [("Ledger 2026.ods", 88_000)], owner=boss)
    yield from _below("/Accounts/Invoices", books, [("2026-10.pdf", 210_000), ("2026-11.pdf", 190_000)], owner=boss)
    questions = _ADMINS + "(A;OICI;0x1200a9;;;{una})(A;OICI;FA;;;{gone})(A;OICI;0x1200a9;;;AU)"
    file = [("Questions.odt", 12_000)]
    yield from _place("/Accounts/For the bookkeeper", questions, file, owner=_GONE, closed=True)
    scans = _ADMINS + "(A;OICI;0x1301bf;;;{vets})(A;OICI;0x1200a9;;;{nurses})(A;OICIIO;FA;;;CO)"
    scan_files = [(f"Dental {number:02d}.dcm", 900_000 + 1_000 * number) for number in range(1, 7)]
    yield from _place("/Scans", scans, [], owner=boss)
    # What the scanner made is its own, by the entry for creators, and that entry is passed on further.
    made = scans.replace("(A;OICIIO;FA;;;CO)", "(A;OICI;FA;;;{scanner2})")
    yield from _below("/Scans/2026", made, scan_files, owner=_sid("scanner2"))
    referrals = (
        _ADMINS + "(OA;OICI;0x1200a9;4c164200-20c0-11d0-a768-00aa006e0529;;{nurses})(A;OICI;0x1301bf;;;{vets})"
    )
    yield from _place("/Scans/Referrals", referrals, [("Hollin 11.pdf", 310_000)], owner=boss, closed=True)
    yield from _place(
        "/Public", "(A;OICI;0x1200a9;;;WD)(A;OICI;FA;;;{admins})", [("House rules.pdf", 64_000)], owner=boss
    )
    yield LoftThing("/Public/Drop", boss, "", -1, _day(6, 1))
    yield LoftThing("/Public/Drop/parcel.zip", boss, "", 2_400_000, _day(6, 1))


def published_things() -> Iterator[LoftThing]:
    """Yield everything as it is reached through the shares: what two shares publish stands twice."""
    found = list(loft_things())
    yield from found
    for name, place in _ELSEWHERE.items():
        for thing in found:
            if thing.path == place or thing.path.startswith(f"{place}/"):
                yield replace(thing, path=f"/{name}{thing.path[len(place) :]}")


def descriptor_of(thing: LoftThing) -> Descriptor:
    """Return a thing's descriptor with its owner; without any SDDL the list is a null list."""
    found = descriptor_from_sddl(thing.sddl)
    control = found.control | (0x4 if not thing.sddl else 0)
    return Descriptor(thing.owner, "", found.dacl, None, control)
