"""What fills ``barn``: growth, a clean-up, an import, and what the server keeps beside the files.

Things carry the days on which they came and went, so that the server can be shown as it was in any week.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from neatledger.demo.barn import (
    IMAGING_RIGHTS,
    RECORDS_RIGHTS,
    Thing,
    day,
    files_of,
    folder_of,
    home_of,
    in_file,
    things,
)

__all__ = ["FIRST_WEEK", "LIMITS", "WEEKS", "limits_text", "things_at"]

WEEKS = 38
"""How many weekly counts there are before the two that the demonstration takes itself."""
FIRST_WEEK = datetime(2026, 2, 23, 6, tzinfo=UTC)
_LETTERS = (
    *("mthorne", "jhale", "pquill", "orook", "sfenn", "dmoss", "tvane", "bcroft", "hlark", "nwren", "eburr"),
    *("kdove", "rpike", "imarsh", "gyarrow", "vstone", "afinch", "zkestrel", "llocke", "mbrand", "tthistle"),
)


def _series() -> Iterator[Thing]:
    """Yield the weekly series of pictures: steady growth, uneven as work is."""
    yield folder_of("/Imaging/Ultrasound", IMAGING_RIGHTS)
    for week in range(42):
        made = int((FIRST_WEEK - timedelta(days=14) + timedelta(weeks=week)).timestamp()) - 86_400 * 2
        size = 560_000 + 91_000 * (week * 7 % 5)
        number = 7 + week
        owner = ("orook", "dmoss", "sfenn")[week % 3]
        name = f"/Imaging/Ultrasound/2026 week {number:02d}.dcm"
        yield from _dated([name], size, made, owner)


def _dated(
    paths: Iterable[str], size: int, changed: int, owner: str, access: str = IMAGING_RIGHTS
) -> Iterator[Thing]:
    for path in paths:
        folder, _, name = path.rpartition("/")
        for thing in files_of(folder, [name], size, owner=owner, access=in_file(access)):
            yield replace(thing, changed=changed)


def _cleaned_up() -> Iterator[Thing]:
    """Yield the pictures of 2023, which were removed in May."""
    gone = day(5, 15)
    yield replace(folder_of("/Imaging/2023", IMAGING_RIGHTS), until=gone)
    for thing in files_of(
        "/Imaging/2023",
        [f"case {n:02d}.dcm" for n in range(1, 12)],
        1_200_000,
        owner="orook",
        access=in_file(IMAGING_RIGHTS),
    ):
        yield replace(thing, changed=day(3, 3, 2023), until=gone)


def _imported() -> Iterator[Thing]:
    """Yield the pictures of the old machine, which were brought over in August with their old dates."""
    came = day(8, 12)
    yield replace(folder_of("/Imaging/2024", IMAGING_RIGHTS), since=came)
    for thing in files_of(
        "/Imaging/2024",
        [f"x-ray {n:02d}.tif" for n in range(1, 10)],
        800_000,
        owner="dmoss",
        access=in_file(IMAGING_RIGHTS),
    ):
        yield replace(thing, changed=day(6, 6, 2024), since=came)


def _kept_beside() -> Iterator[Thing]:
    """Yield old versions of records, and the bin."""
    yield folder_of("/Records/.versions", RECORDS_RIGHTS)
    names = [f"{name} {number}.odt" for name in ("Ember", "Fig", "Clover") for number in range(1, 9)]
    for place, name in enumerate(names):
        yield from _dated([f"/Records/.versions/{name}"], 105_000, day(1 + place % 10, 5), "pquill", RECORDS_RIGHTS)
    yield Thing("/.bin", 0, 0, 0o700, -1, day(1, 7))
    for number in range(1, 7):
        yield Thing(f"/.bin/scan {number:02d}.dcm", 0, 0, 0o600, 1_300_000, day(4 + number % 6, 9))


def _in_homes() -> Iterator[Thing]:
    for place, login in enumerate(_LETTERS):
        for thing in files_of(
            home_of(login), ["letters.odt"], 210_000 + 73_000 * (place % 9), owner=login, mode=0o600
        ):
            yield replace(thing, changed=day(2 + place % 9, 11))
    for thing in files_of(home_of("jhale"), ["Holiday.mp4"], 9_300_000, owner="jhale", mode=0o600):
        yield replace(thing, changed=day(9, 14))


def _everything() -> Iterator[Thing]:
    yield from things()
    for more in (_series, _cleaned_up, _imported, _kept_beside, _in_homes):
        yield from more()


def things_at(when: int) -> list[Thing]:
    """Return everything on the server at a moment (Unix seconds), folders before what is in them."""
    return [
        thing
        for thing in _everything()
        if (thing.size < 0 and thing.since <= when and when < (thing.until or when + 1))
        or (thing.size >= 0 and (thing.since or thing.changed) <= when < (thing.until or when + 1))
    ]


LIMITS = (
    "pool,,110 MB,enforced,,,",
    "folder,/Imaging,95 MB,watched,,80,",
    "folder,/Imaging/Ultrasound,30 MB,watched,14,,",
    "folder,/Records,25 MB,enforced,,80 95,",
    "folder,/Payroll,0,enforced,,,",
    "group,students,500 kB,enforced,,,",
)
_HOME_LIMITS = {"hlark": "2 MiB", "nwren": "2 GB", "pquill": "4 MB", "sfenn": "3 MB", "jhale": "10 MB"}


def limits_text(homes: Iterable[str]) -> str:
    """Return the limits as the server's console exports them; most homes have that of their band."""
    lines = ["on,name,limit,rule,grace-days,warn,used", *LIMITS]
    for home in homes:
        limit = _HOME_LIMITS.get(home.rpartition("/")[2], "2 MB")
        lines.append(f"folder,{home},{limit},enforced,,80 95,")
    return "\n".join(lines) + "\n"
