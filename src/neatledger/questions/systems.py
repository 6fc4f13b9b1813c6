"""The systems of one count with all that is shared on them, as questions about access are put to them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from functools import cached_property
from typing import TYPE_CHECKING

from neatledger.core.access.ways import Access, FileClass, access_to, access_to_file
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan
from neatledger.core.sharing.folder_ways import BackingRights, FolderWays, Ground
from neatledger.core.sharing.holders import principals_beside
from neatledger.core.sharing.service import Service
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import Location, find_location
from neatledger.ledger.reader import SurveyReader

if TYPE_CHECKING:
    from neatledger.core.access.everyone import Everyone
    from neatledger.core.access.matrix import Matrix
    from neatledger.core.sharing.backing import BackingSystem
    from neatledger.core.sharing.service_matrix import ServiceMatrix

__all__ = ["Systems"]

_NOT_COUNTED = "that folder was not counted, so what its share lets through is unknown"


class Systems:
    """Who can be asked about on every system, and by which ways they come to a location.

    Arguments: the plan, the readers of the count, the principals of every system, and the day for which links and
    hand-outs are judged.
    """

    def __init__(
        self,
        plan: Plan,
        readers: Mapping[str, SurveyReader],
        principals: Mapping[str, Sequence[Principal]],
        day: date,
    ) -> None:
        self.plan = plan
        self.readers = readers
        self.day = day
        self._principals = principals
        self._made: dict[str, Service | None] = {}
        self._ways: dict[Address, FolderWays] = {}
        self._locations: dict[Address, Location | None] = {}
        self._people: dict[str, dict[str, list[Principal]]] = {}

    def service(self, system: str) -> Service | None:
        """Return a system as a service, None where it shares nothing beside its lists."""
        if system not in self._made:
            reader, service = self.readers[system], None
            if reader.shared is not None:
                principals = [*self._principals.get(system, ())]
                principals += principals_beside(system, reader.shared, principals, self.plan)
                groups = {group.name: group.ident for group in reader.groups}
                service = Service(system, reader.shared, principals, groups, self.day, reader.terms.read_only)
            self._made[system] = service
        return self._made[system]

    @cached_property
    def holders(self) -> dict[str, list[Principal]]:
        """Every system's accounts, with those who hold links and hand-outs without one."""
        found = {}
        for system in self.readers:
            service = self.service(system)
            found[system] = list(self._principals.get(system, ())) if service is None else list(service.principals)
        return found

    # One location ---------------------------------------------------------------------------------------

    def access(self, location: Location, principals: Sequence[Principal]) -> Access:
        """Judge one person's access to a location, by their principals on its system."""
        service = self.service(location.address.system)
        if service is not None:
            return self._ways_to(location, service).access(
                [service.numbers[principal.account.login] for principal in principals]
            )
        return _by_lists(location, principals)

    def _ways_to(self, location: Location, service: Service) -> FolderWays:
        if location.address not in self._ways:
            self._ways[location.address] = self.ways_by(location, service)
        return self._ways[location.address]

    def ways_by(self, location: Location, service: Service) -> FolderWays:
        """Return all ways into a location as a service has them, or would have them."""
        here = location.chain, location.files, location.is_folder, location.terms
        return FolderWays(service, Ground(*here, self._beneath, self._files_beneath))

    def _backing_location(self, address: Address) -> Location | None:
        """Return a place of a share; looked up once for all who are asked about."""
        if address not in self._locations:
            reader = self.readers.get(address.system)
            try:
                self._locations[address] = None if reader is None else find_location(reader, address)
            except UnknownNameError:
                self._locations[address] = None
        return self._locations[address]

    def _beneath(self, address: Address, person: str) -> BackingRights:
        location = self._backing_location(address)
        if location is None:
            return BackingRights(Right.NONE, False, None, _NOT_COUNTED)
        principals = self._of_person(address.system).get(person, [])
        files = location.files
        if not principals:
            nothing = None if files is None else (Right.NONE,) * len(files)
            return BackingRights(Right.NONE, True, nothing, f"they have no account on {address.system}")
        asked = _by_lists(location, principals)
        rights = Right.NONE
        for way in asked.ways:
            rights |= way.rights if way.name == "share" else Right.NONE
        message = "what the share lets through there" if rights else "the share lets them have nothing there"
        return BackingRights(rights, asked.is_known, asked.file_rights, message)

    def _files_beneath(self, address: Address) -> tuple[FileClass, ...] | None:
        location = self._backing_location(address)
        return None if location is None else location.files

    def _of_person(self, system: str) -> dict[str, list[Principal]]:
        """Return person → their principals on a share, as ordinary people.

        The share's administrators have no more by a team folder than others: that way is their own.
        """
        if system not in self._people:
            found: dict[str, list[Principal]] = {}
            for principal in self._principals.get(system, ()):
                found.setdefault(principal.person, []).append(principal.as_ordinary)
            self._people[system] = found
        return self._people[system]

    # Everything --------------------------------------------------------------------------------------

    def everyone(self, system: str, principals: Sequence[Principal], *, is_narrow: bool = False) -> Everyone:
        """Return a system's table of access for some of its principals.

        With `is_narrow` all ways into a service but an administrator's are one, and principals may be there that it
        does not have.
        """
        from neatledger.core.access.everyone import Everyone

        reader, service = self.readers[system], self.service(system)
        if service is None:
            return Everyone(plain_matrix(reader, principals))
        more = [principal for principal in principals if principal.account.login not in service.numbers]
        service = replace(service, principals=[*service.principals, *more]) if more else service
        shown = {service.numbers[principal.account.login] for principal in principals}
        return Everyone(self.matrix(reader, service, is_narrow=is_narrow), shown)

    def matrix(self, reader: SurveyReader, service: Service, *, is_narrow: bool = False) -> ServiceMatrix:
        """Return everyone's rights on everything of a service."""
        from neatledger.core.sharing.service_matrix import ServiceMatrix

        over = {team.over.system for team in service.shared.teams if team.over is not None}
        backing = {name: self._backing(self.readers[name], service) for name in sorted(over) if name in self.readers}
        folders = reader.table("folders")
        # Thousands of folders are looked up by their names: unpacked at once that is quicker.
        folders = folders.with_column("name", list(folders.texts("name")))
        return ServiceMatrix(
            folders,
            reader.table("classes"),
            reader.strings("lists.body"),
            reader.idents(),
            terms=reader.terms,
            service=service,
            backing=backing,
            is_narrow=is_narrow,
        )

    def _backing(self, reader: SurveyReader, service: Service) -> BackingSystem:
        from neatledger.core.sharing.backing import BackingSystem

        theirs = self._of_person(reader.system)
        account, holder = Account("", "", "", state=AccountState.DISABLED), Holder("", "", frozenset())
        people = {principal.person for principal in service.principals}
        layers: list[Matrix] = []
        for number in range(max([len(theirs.get(person, ())) for person in people] + [1])):
            principals = []
            for principal in service.principals:
                mine = theirs.get(principal.person, [])
                nobody = number >= len(mine)
                principals.append(replace(principal, account=account, holder=holder) if nobody else mine[number])
            layers.append(plain_matrix(reader, principals))
        return BackingSystem(tuple(layers))


def _by_lists(location: Location, principals: Sequence[Principal]) -> Access:
    if location.is_folder:
        return access_to(location.chain, principals, location.files, terms=location.terms)
    return access_to_file(location.chain, principals, terms=location.terms)


def plain_matrix(reader: SurveyReader, principals: Sequence[Principal]) -> Matrix:
    """Return some principals' rights on everything by lists and shares."""
    from neatledger.core.access.matrix import Matrix

    return Matrix(
        reader.table("folders"),
        reader.table("classes"),
        reader.strings("lists.body"),
        reader.idents(),
        principals,
        terms=reader.terms,
    )
