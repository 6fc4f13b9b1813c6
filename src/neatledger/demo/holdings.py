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


def _dated(found: Iterable[Thing], changed: int, *, since: int = 0, until: int = 0) -> Iterator[Thing]:
    """Yield things as changed, come and gone on other days."""
    for thing in found:
        yield replace(thing, changed=changed, since=since, until=until)


def _pictures(folder: str, names: list[str], size: int, owner: str) -> Iterator[Thing]:
    yield from files_of(folder, names, size, owner=owner, access=in_file(IMAGING_RIGHTS))


def _series() -> Iterator[Thing]:
    """Yield the weekly series of pictures: steady growth, uneven as work is."""
    yield folder_of("/Imaging/Ultrasound", IMAGING_RIGHTS)
    for week in range(42):
        made = FIRST_WEEK + timedelta(weeks=week) - timedelta(days=16)
        size = 560_000 + 91_000 * (week * 7 % 5)
        owner = ("orook", "dmoss", "sfenn")[week % 3]
        name = f"2026 week {7 + week:02d}.dcm"
        yield from _dated(_pictures("/Imaging/Ultrasound", [name], size, owner), int(made.timestamp()))


def _cleaned_up() -> Iterator[Thing]:
    """Yield the pictures of 2023, which were removed in May."""
    gone = day(5, 15)
    yield replace(folder_of("/Imaging/2023", IMAGING_RIGHTS), until=gone)
    names = [f"case {number:02d}.dcm" for number in range(1, 12)]
    yield from _dated(_pictures("/Imaging/2023", names, 1_200_000, "orook"), day(3, 3, 2023), until=gone)


def _imported() -> Iterator[Thing]:
    """Yield the pictures of the old machine, which were brought over in August with their old dates."""
    came = day(8, 12)
    yield replace(folder_of("/Imaging/2024", IMAGING_RIGHTS), since=came)
    names = [f"x-ray {number:02d}.tif" for number in range(1, 10)]
    yield from _dated(_pictures("/Imaging/2024", names, 800_000, "dmoss"), day(6, 6, 2024), since=came)


def _kept_beside() -> Iterator[Thing]:
    """Yield old versions of records, and the bin."""
    yield folder_of("/Records/.versions", RECORDS_RIGHTS)
    names = [f"{name} {number}.odt" for name in ("Ember", "Fig", "Clover") for number in range(1, 9)]
    for place, name in enumerate(names):
        access = in_file(RECORDS_RIGHTS)
        made = files_of("/Records/.versions", [name], 105_000, owner="pquill", access=access)
        yield from _dated(made, day(1 + place % 10, 5))
    yield Thing("/.bin", 0, 0, 0o700, -1, day(1, 7))
    for number in range(1, 7):
        yield Thing(f"/.bin/scan {number:02d}.dcm", 0, 0, 0o600, 1_300_000, day(4 + number % 6, 9))


def _in_homes() -> Iterator[Thing]:
    for place, login in enumerate(_LETTERS):
        size = 210_000 + 73_000 * (place % 9)
        letters = files_of(home_of(login), ["letters.odt"], size, owner=login, mode=0o600)
        yield from _dated(letters, day(2 + place % 9, 11))
    film = files_of(home_of("jhale"), ["Holiday.mp4"], 9_300_000, owner="jhale", mode=0o600)
    yield from _dated(film, day(9, 14))


def _everything() -> Iterator[Thing]:
    yield from things()
    for more in (_series, _cleaned_up, _imported, _kept_beside, _in_homes):
        yield from more()


def things_at(when: int) -> list[Thing]:
    """Return everything on the server at a moment (Unix seconds), folders before what is in them."""
    found = []
    for thing in _everything():
        # Folders were always there, unless they say otherwise; files came when they were made.
        came = thing.since or (0 if thing.size < 0 else thing.changed)
        if came <= when and not 0 < thing.until <= when:
            found.append(thing)
    return found


LIMITS = (
    "pool,,110 MB,enforced,,,,,",
    # The console was told to keep the number of pictures small, and nobody thought of it again.
    "folder,/Imaging,95 MB,watched,,90,,90,82",
    "folder,/Imaging/Ultrasound,30 MB,watched,14,,,,",
    "folder,/Records,25 MB,enforced,,90 97,,,",
    "folder,/Payroll,0,enforced,,,,,",
    "group,students,500 kB,enforced,,,,,",
)
_HOME_LIMITS = {"hlark": "2 MiB", "nwren": "2 GB", "pquill": "4 MB", "sfenn": "3 MB", "jhale": "10 MB"}


def limits_text(homes: Iterable[str]) -> str:
    """Return the limits as the server's console exports them; most homes have that of their band."""
    lines = ["on,name,limit,rule,grace-days,warn,used,files,files-used", *LIMITS]
    for home in homes:
        limit = _HOME_LIMITS.get(home.rpartition("/")[2], "2 MB")
        lines.append(f"folder,{home},{limit},enforced,,90 97,,,")
    return "\n".join(lines) + "\n"
