"""Files that are handed out or linked by themselves: who reaches them by that, whatever their folder gives."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from neatledger.core.access.ways import Access, Way
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.folder_ways import FolderWays
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import HandOut, Link
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location
from neatledger.ledger.reader import SurveyReader
from neatledger.questions.office import Office

__all__ = ["SingleFile", "ask", "paths_of", "ways_at"]


@dataclass(frozen=True, slots=True)
class SingleFile:
    """A file, one person's access to it, and the ways by which they have it alone."""

    address: Address
    access: Access
    ways: tuple[Way, ...]


def paths_of(service: Service) -> list[bytes]:
    """Return the files that are handed out or linked by themselves."""
    return sorted({one.path for one in _alone(service)})


def _alone(service: Service) -> list[Link | HandOut]:
    items: list[Link | HandOut] = [*service.shared.links, *service.shared.hand_outs]
    return [one for one in items if one.is_file]


def ways_at(office: Office, reader: SurveyReader, path: bytes, services: Sequence[Service]) -> list[FolderWays]:
    """Return the ways to a file by each of some services; none where it is not there any more, or was not seen."""
    try:
        location = find_location(reader, Address(reader.system, path))
    except UnknownNameError:
        return []
    return [office.systems.ways_by(location, service) for service in services]


def ask(office: Office, system: str, principals: Sequence[Principal]) -> Iterator[SingleFile]:
    """Yield the files of a service that some people reach by a hand-out or link of the file alone."""
    service = office.systems.service(system)
    if service is None:
        return
    people: dict[str, list[int]] = {}
    logins = {principal.account.login for principal in principals}
    for number, principal in enumerate(service.principals):
        if principal.account.login in logins:
            people.setdefault(principal.person, []).append(number)
    alone = {(one.path, one.id) for one in _alone(service)}
    for path in paths_of(service):
        for ways in ways_at(office, office.readers[system], path, [service]):
            for numbers in people.values():
                if ways.of_file_alone.isdisjoint(numbers):
                    continue
                access = ways.access(numbers)
                theirs = [
                    way for way in access.ways if (path, way.through) in alone and (way.rights or not way.is_known)
                ]
                if theirs:
                    yield SingleFile(Address(system, path), access, tuple(theirs))
