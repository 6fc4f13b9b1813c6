"""Files that are handed out or linked by themselves, beside each other: who gained and lost what by that alone.

What people have on such a file no table of folders shows: its folder may give them nothing.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.moved_files import FilesChanged
from neatledger.core.access.people_flags import UNKNOWN_FLAG
from neatledger.core.access.ways import Access
from neatledger.core.lists.rights import Right
from neatledger.core.sharing.folder_ways import FolderWays
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import HandOut, Link
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location
from neatledger.questions.links import load_offers
from neatledger.questions.systems import Systems

__all__ = ["changes_of_shared_files"]


def changes_of_shared_files(
    system: str, before: Systems, after: Systems, told: Collection[AccessChange]
) -> Iterator[AccessChange]:
    """Yield who gains and loses what on files that are shared by themselves, but what was `told` of their folders.

    A file that is on one side alone gives nothing and takes nothing by that.
    """
    services = before.service(system), after.service(system)
    sizes: dict[bytes, int] | None = None
    for path in sorted({path for service in services if service is not None for path in _shared_files(service)}):
        sides = [ways for side in (before, after) if (ways := _ways(side, system, path)) is not None]
        if len(sides) < 2:
            continue
        for person in dict.fromkeys(name for ways in sides for name in _reached(ways)):
            accesses = [_access(ways, person) for ways in sides]
            change = _change(person, path, accesses)
            if change is None or _is_told(change, told):
                continue
            if sizes is None:
                sizes = _sizes(after if services[0] is None else before, system)
            is_read = change.gained_files.read or change.lost_files.read
            yield replace(change, size=sizes.get(path, 0) if is_read else 0)


def _shared_files(service: Service) -> set[bytes]:
    items: list[Link | HandOut] = [*service.shared.links, *service.shared.hand_outs]
    return {one.path for one in items if one.is_file}


def _sizes(side: Systems, system: str) -> dict[bytes, int]:
    service = side.service(system)
    offers = [] if service is None else load_offers(side.readers[system], service)
    return {
        one.item.path: one.exposed.size_bytes or 0 for one in offers if one.item.is_file and one.exposed is not None
    }


def _ways(side: Systems, system: str, path: bytes) -> FolderWays | None:
    """Return the ways to a file; None where it is not there, or was not seen."""
    service = side.service(system)
    try:
        location = find_location(side.readers[system], Address(system, path))
    except UnknownNameError:
        return None
    return None if service is None else side.ways_by(location, service)


def _reached(ways: FolderWays) -> Iterator[str]:
    return (ways.service.principals[number].person for number in sorted(ways.of_file_alone))


def _access(ways: FolderWays, person: str) -> Access:
    return ways.access([number for number, one in enumerate(ways.service.principals) if one.person == person])


def _change(person: str, path: bytes, accesses: Sequence[Access]) -> AccessChange | None:
    had, has = (one.rights for one in accesses)
    was_known, is_known = (one.is_known for one in accesses)
    # More may be theirs where that is not known: then nothing is lost for sure.
    gained, lost = (_of_file(has & ~had), _of_file(had & ~has) if is_known else FilesChanged())
    untold = int(was_known) - int(is_known)
    if not (gained or lost or untold):
        return None
    before, after = (0 if known else UNKNOWN_FLAG for known in (was_known, is_known))
    return AccessChange(person, path, before, after, 0, gained, lost, untold, 0)


def _of_file(rights: Right) -> FilesChanged:
    reads = bool(rights & (Right.READ | Right.VIEW))
    return FilesChanged(int(reads), int(bool(rights & Right.CHANGE)), int(bool(rights & Right.DELETE)))


def _is_told(change: AccessChange, told: Collection[AccessChange]) -> bool:
    """Tell whether it was told of the file's folder, or of one above, that the person gains or loses there."""
    return any(
        one.person == change.person
        and (one.path == b"/" or change.path.startswith(one.path + b"/"))
        and (one.gains, one.loses, one.is_known) == (change.gains, change.loses, change.is_known)
        for one in told
    )
