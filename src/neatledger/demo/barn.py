"""What stands on ``barn``, the file server of the sample office: accounts, folders, files and lists.

One description; `make.py` makes it real on disk, or writes it as a listing. Sizes are bytes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

__all__ = [
    "IMAGING_RIGHTS",
    "RECORDS_RIGHTS",
    "Thing",
    "day",
    "files_of",
    "folder_of",
    "former_passwd_text",
    "group_text",
    "home_of",
    "in_file",
    "passwd_text",
    "things",
]

_FIRST_UID, _FIRST_GID = 52001, 52501
_PEOPLE = (
    "mthorne:Margaret Thorne, jhale:Jonas Hale, pquill:Priya Quill, orook:Owen Rook, sfenn:Sara Fenn, "
    "dmoss:Dilys Moss, tvane:Tobias Vane, bcroft:Bettina Croft, hlark:Hugo Lark, nwren:Nell Wren, "
    "eburr:Elias Burr, kdove:Kit Dove, rpike:Rosa Pike, imarsh:Ivy Marsh, cfrost:Cora Frost, "
    "gyarrow:Gil Yarrow, wbirch:Wanda Birch, vstone:Vera Stone, afinch:Abel Finch, zkestrel:Zoe Kestrel, "
    "jbramble:Jory Bramble, llocke:Lena Locke, mbrand:Milo Brand, ssedge:Sam Sedge, "
    "tthistle:Tess Thistle, hollin:Hollin Laboratory, uledger:Una Ledgerwood"
)
_LOGINS, _NAMES = zip(*(one.split(":") for one in _PEOPLE.split(", ")), strict=True)
_GROUPS = {
    "staff": list(_LOGINS[:25]),
    "partners": ["mthorne", "jhale"],
    "vets": ["mthorne", "jhale", "pquill", "orook", "sfenn", "dmoss", "tvane", "llocke", "mbrand"],
    "nurses": ["bcroft", "hlark", "nwren", "eburr", "kdove", "rpike"],
    "desk": ["imarsh", "cfrost", "gyarrow", "wbirch", "vstone", "frontdesk"],
    # The student helped with envelopes one afternoon, and was never taken out again.
    "payroll": ["mthorne", "vstone", "afinch", "tthistle"],
    "students": ["ssedge", "tthistle"],
    "guests": ["hollin", "uledger"],
    "xray": [],
}
_UID = {login: _FIRST_UID + place for place, login in enumerate(_LOGINS)}
_GID = {name: _FIRST_GID + place for place, name in enumerate(_GROUPS)}
_GONE_UID, _GONE_GID = 52099, 52599
_FORMER_UID = 52098
_SCANNER_UID = 871


@dataclass(frozen=True, slots=True)
class Thing:
    """One folder (`size` −1), file or symbolic link (`link`): owner, group, mode, lists in text form.

    `since` and `until` (Unix seconds) say when it came, where that is not when it was changed, and went.
    """

    path: str
    uid: int
    gid: int
    mode: int
    size: int = -1
    changed: int = 0
    access: str = ""
    default: str = ""
    link: str = ""
    since: int = 0
    until: int = 0


def passwd_text() -> str:
    """Return the accounts as passwd(5); one line is damaged, as it happens."""
    lines = [
        "root:x:0:0:root:/root:/bin/bash",
        f"scanner:x:{_SCANNER_UID}:{_SCANNER_UID}:Scanner:/:/usr/sbin/nologin",
    ]
    for login, name in zip(_LOGINS, _NAMES, strict=True):
        gid = _GID["guests"] if login in _GROUPS["guests"] else _GID["staff"]
        lines.append(f"{login}:x:{_UID[login]}:{gid}:{name}:/Homes/{login}:/bin/bash")
    lines.append(f"frontdesk:x:{_UID['cfrost']}:{_GID['staff']}:Front desk machine:/Homes/{_UID['cfrost']}:/bin/bash")
    lines.append("zadmin:x:0:0:Zoe Kestrel as administrator:/root:/bin/bash")
    lines.append("jbramble2:x:52O77:52501:a slip of the pen:/:/bin/bash")
    return "\n".join(lines) + "\n"


def former_passwd_text() -> str:
    """Return the accounts as they were in the first weeks: the login of one locum was another's then."""
    login, uid = "mbrand", _UID["mbrand"]
    return (
        passwd_text().replace(f"{login}:x:{uid}:", f"{login}:x:{_FORMER_UID}:").replace("Milo Brand", "Mona Brandt")
    )


def group_text() -> str:
    """Return the groups as group(5)."""
    lines = ["root:x:0:", f"scanner:x:{_SCANNER_UID}:"]
    lines += [f"{name}:x:{_GID[name]}:{','.join(members)}" for name, members in _GROUPS.items()]
    return "\n".join(lines) + "\n"


def list_of(**given: str) -> str:
    """Write a list: ``g_vets="rwx"`` for a group, ``u_mthorne`` for a person, ``other``; the mask is full."""
    entries = ["user::rwx", "group::---"]
    for word, perm in given.items():
        if word.startswith("u_"):
            entries.append(f"user:{_UID[word[2:]]}:{perm}")
        elif word.startswith("g_"):
            entries.append(f"group:{_GID.get(word[2:], _GONE_GID)}:{perm}")
    return ",".join([*entries, "mask::rwx", f"other::{given.get('other', '---')}"])


def day(month: int, date: int, year: int = 2026) -> int:
    """Return noon of a day in Unix seconds."""
    return int(datetime(year, month, date, 12, tzinfo=UTC).timestamp())


def folder_of(path: str, access: str = "", *, owner: int = 0, group: str = "staff", pass_on: bool = True) -> Thing:
    """Return a folder of the server with a list, which it passes on unless told."""
    return Thing(path, owner, _GID[group], 0o2770, -1, day(11, 2), access, access if pass_on else "")


def files_of(
    folder: str, names: list[str], size: int, *, owner: str, group: str = "staff", mode: int = 0o660, access: str = ""
) -> Iterator[Thing]:
    """Yield files of a folder; each is a little larger than the one before it."""
    for place, name in enumerate(names):
        grown = size + 977 * place
        yield Thing(
            f"{folder}/{name}", _UID[owner], _GID[group], mode, grown, day(1 + place % 10, 3 + place % 20), access
        )


def in_file(rights: str) -> str:
    """Return the list that a file has in a folder with this list."""
    return rights.replace("rwx", "rw-").replace("r-x", "r--")


RECORDS_RIGHTS = list_of(g_vets="rwx", g_nurses="rwx", g_desk="r-x", g_students="r-x")
IMAGING_RIGHTS = list_of(g_vets="rwx", g_nurses="r-x")
_ANIMALS = (
    "Bracken",
    "Clover",
    "Dusty",
    "Ember",
    "Fig",
    "Gorse",
    "Hazel",
    "Juniper",
    "Moth",
    "Nettle",
    "Otter",
    "Sorrel",
)


def _records() -> Iterator[Thing]:
    rights, file_rights = RECORDS_RIGHTS, in_file(RECORDS_RIGHTS)
    yield folder_of("/Records", rights)
    for year in (2024, 2025, 2026):
        yield folder_of(f"/Records/{year}", rights)
        for kind in ("Cats", "Dogs", "Horses"):
            yield folder_of(f"/Records/{year}/{kind}", rights)
            names = [f"{animal} {year}.odt" for animal in _ANIMALS[: 4 + year % 5]]
            yield from files_of(f"/Records/{year}/{kind}", names, 24_000, owner="pquill", access=file_rights)
    insurance = list_of(g_vets="rwx", g_nurses="rwx", g_desk="r-x", g_students="r-x", u_imarsh="rwx", u_rpike="rwx")
    yield folder_of("/Records/2026/Insurance", insurance)
    yield from files_of(
        "/Records/2026/Insurance", ["claims.ods", "letters.odt"], 60_000, owner="imarsh", access=file_rights
    )
    cases = list_of(g_vets="rwx", g_nurses="rwx", g_desk="r-x", g_students="rwx")
    yield folder_of("/Records/2026/Student cases", cases)
    yield from files_of(
        "/Records/2026/Student cases", ["case 1.odt", "case 2.odt"], 18_000, owner="tthistle", access=file_rights
    )
    yield folder_of("/Records/2025/From the old system", list_of(g_vets="rwx", g_gone="rwx"), owner=_GONE_UID)
    yield Thing(
        "/Records/2025/From the old system/export.csv", _GONE_UID, _GID["staff"], 0o600, 410_000, day(2, 3, 2025)
    )
    # Two of many letters were saved from a private folder and kept its list.
    for name in ("Ember referral.odt", "Fig referral.odt"):
        yield Thing(f"/Records/2026/Dogs/{name}", _UID["sfenn"], _GID["staff"], 0o600, 21_000, day(10, 9))


def _imaging() -> Iterator[Thing]:
    rights, file_rights = IMAGING_RIGHTS, in_file(IMAGING_RIGHTS)
    yield folder_of("/Imaging", rights)
    for year in (2025, 2026):
        yield folder_of(f"/Imaging/{year}", rights)
        names = [f"{animal} scan {year}.dcm" for animal in _ANIMALS]
        yield from files_of(f"/Imaging/{year}", names, 1_400_000, owner="orook", access=file_rights)
    yield Thing("/Incoming scans", 0, _GID["staff"], 0o1777, -1, day(11, 20))
    yield Thing("/Incoming scans/scan 0991.dcm", _SCANNER_UID, _SCANNER_UID, 0o644, 1_900_000, day(11, 20))
    yield folder_of("/Imaging/X-ray table", list_of(g_vets="rwx", g_xray="rwx", u_dmoss="r-x"))
    yield Thing("/Imaging/2026/latest", 0, _GID["staff"], 0o777, 0, day(11, 20), link="../../Incoming scans")


def _office() -> Iterator[Thing]:
    rights = list_of(g_payroll="rwx", u_uledger="r-x")
    file_rights = in_file(rights)
    yield folder_of("/Payroll", rights, group="payroll")
    yield folder_of("/Payroll/2026", rights, group="payroll")
    names = [f"2026-{month:02d} wages.ods" for month in range(1, 12)]
    yield from files_of("/Payroll/2026", names, 31_000, owner="afinch", group="payroll", access=file_rights)
    yield Thing("/Rota", 0, _GID["desk"], 0o2775, -1, day(11, 18))
    for name in ("Week 47.ods", "week 47.ods", "Week 48.ods"):
        yield Thing(f"/Rota/{name}", _UID["imarsh"], _GID["desk"], 0o664, 14_000, day(11, 18))
    policy = list_of(g_partners="rwx", other="r-x")
    yield folder_of("/Policies", policy, group="partners")
    yield from files_of(
        "/Policies", ["Fire.odt", "Medicines.odt"], 40_000, owner="mthorne", group="partners", mode=0o664
    )
    yield folder_of("/Policies/Drafts", policy, group="partners", pass_on=False)
    yield Thing("/Attic", 0, 0, 0o000, -1, day(3, 1, 2024))


def home_of(login: str) -> str:
    """Return the path of a home; one is named by its owner's number."""
    return f"/Homes/{_UID[login] if login == 'kdove' else login}"


def _homes() -> Iterator[Thing]:
    yield Thing("/Homes", 0, 0, 0o755, -1, day(9, 1))
    for login in _LOGINS[:25]:
        if login in ("jbramble", "cfrost"):
            continue
        mode = 0o755 if login == "gyarrow" else 0o700
        # Whoever took over may still look in, long after.
        opened = f"user::rwx,user:{_UID['tthistle']}:r-x,group::---,mask::r-x,other::---" if login == "ssedge" else ""
        yield Thing(home_of(login), _UID[login], _GID["staff"], mode, -1, day(10, 1), opened)
        yield from files_of(home_of(login), ["notes.txt", "to do.txt"], 1_200, owner=login, mode=0o600)
    yield Thing(f"/Homes/{_UID['cfrost']}", _UID["cfrost"], _GID["staff"], 0o700, -1, day(10, 1))
    yield Thing("/Homes/lweaver", _GONE_UID, _GID["staff"], 0o700, -1, day(5, 2, 2025))
    yield Thing("/Homes/lweaver/handover.odt", _GONE_UID, _GID["staff"], 0o600, 22_000, day(5, 2, 2025))


def things() -> Iterator[Thing]:
    """Yield everything on the server, folders before what is in them; the root comes first."""
    yield Thing("", 0, 0, 0o755, -1, day(9, 1))
    yield from _records()
    yield from _imaging()
    yield from _office()
    yield from _homes()
