"""The systems of one count with all that is shared on them, as questions about access are put to them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from functools import cached_property
from typing import TYPE_CHECKING

from neatledger.core.access import Access, FileClass, access_to, access_to_file
from neatledger.core.address import Address
from neatledger.core.people import Seat
from neatledger.core.plan import Plan
from neatledger.core.rights import Right
from neatledger.core.sharing.holders import seats_beside
from neatledger.core.sharing.records import Shared
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.ways import Beneath, FolderWays, Ground
from neatledger.errors import UnknownNameError
from neatledger.ledger.places import Place, find_place
from neatledger.ledger.reader import SurveyReader

if TYPE_CHECKING:
    from neatledger.core.matrix import Matrix
    from neatledger.core.sharing.matrix import ServiceMatrix
    from neatledger.core.sharing.overlay import Under

__all__ = ["Services"]

_NOT_COUNTED = "that folder was not counted, so what its share lets through is unknown"


class Services:
    """Who can be asked about on every system, and by which ways they come to a place.

    Arguments: the plan, the readers of the count, the seats of every system, and the day for which links and
    hand-outs are judged.
    """

    def __init__(
        self, plan: Plan, readers: Mapping[str, SurveyReader], seats: Mapping[str, Sequence[Seat]], day: date
    ) -> None:
        self.plan = plan
        self.readers = readers
        self.day = day
        self._seats = seats
        self._made: dict[str, Service | None] = {}
        self._ways: dict[Address, FolderWays] = {}

    def service(self, system: str, shared: Shared | None = None, more: Sequence[Seat] = ()) -> Service | None:
        """Return a system as a service, None where it shares nothing beside its lists.

        `shared` stands for what it shares, where something else is imagined; `more` are further seats.
        """
        if shared is None and not more and system in self._made:
            return self._made[system]
        reader = self.readers[system]
        found = reader.shared if shared is None else shared
        service = None
        if found is not None:
            seats = [*self._seats.get(system, ())]
            # Receivers stay who they are, whatever is imagined to be gone.
            seats += seats_beside(system, reader.shared or found, seats, self.plan)
            groups = {group.name: group.ident for group in reader.groups}
            day = self.day.isoformat()
            service = Service(system, found, [*seats, *more], groups, day, reader.terms.read_only)
        if shared is None and not more:
            self._made[system] = service
        return service

    @cached_property
    def holders(self) -> dict[str, list[Seat]]:
        """Every system's accounts, with those who hold links and hand-outs without one."""
        found = {}
        for system in self.readers:
            service = self.service(system)
            found[system] = list(self._seats.get(system, ())) if service is None else list(service.seats)
        return found

    # One place ---------------------------------------------------------------------------------------

    def access(self, place: Place, seats: Sequence[Seat]) -> Access:
        """Judge one person's access to a place, by their seats on its system."""
        service = self.service(place.address.system)
        if service is not None:
            return self._ways_to(place, service).access([service.numbers[seat.account.login] for seat in seats])
        if place.is_folder:
            return access_to(place.model, place.chain, seats, place.files, terms=place.terms)
        return access_to_file(place.model, place.chain, seats, terms=place.terms)

    def _ways_to(self, place: Place, service: Service) -> FolderWays:
        if place.address not in self._ways:
            self._ways[place.address] = self.ways(place, service)
        return self._ways[place.address]

    def ways(self, place: Place, service: Service) -> FolderWays:
        """Return the ways into a place of a service, as it is or as it is imagined."""
        ground = Ground(
            place.chain,
            place.files,
            place.is_folder,
            place.model,
            place.terms,
            self._beneath,
            self._files_beneath,
        )
        return FolderWays(service, ground)

    def _place_beneath(self, address: Address) -> Place | None:
        reader = self.readers.get(address.system)
        try:
            return None if reader is None else find_place(reader, address)
        except UnknownNameError:
            return None

    def _beneath(self, address: Address, person: str) -> Beneath:
        place = self._place_beneath(address)
        if place is None:
            return Beneath(Right.NONE, False, None, _NOT_COUNTED)
        seats = [seat for seat in self._seats.get(address.system, ()) if seat.person == person]
        files = place.files
        if not seats:
            nothing = None if files is None else (Right.NONE,) * len(files)
            return Beneath(Right.NONE, True, nothing, f"they have no account on {address.system}")
        # The share's administrators have no more by a team folder than others: that way is their own.
        plain = [replace(seat, holder=replace(seat.holder, privileges=frozenset())) for seat in seats]
        if place.is_folder:
            asked = access_to(place.model, place.chain, plain, files, terms=place.terms)
        else:
            asked = access_to_file(place.model, place.chain, plain, terms=place.terms)
        rights = Right.NONE
        for way in asked.ways:
            rights |= way.rights if way.name == "share" else Right.NONE
        told = "what the share lets through there" if rights else "the share lets them have nothing there"
        return Beneath(rights, asked.is_known, asked.file_rights, told)

    def _files_beneath(self, address: Address) -> tuple[FileClass, ...] | None:
        place = self._place_beneath(address)
        return None if place is None else place.files

    # Everything --------------------------------------------------------------------------------------

    def matrix(
        self,
        reader: SurveyReader,
        without: tuple[str, ...],
        *,
        service: Service,
        is_narrow: bool = False,
    ) -> ServiceMatrix:
        """Return everyone's rights on everything of a service; `without` are columns of folders not needed."""
        from neatledger.core.lists.table import MODELS
        from neatledger.core.sharing.matrix import ServiceMatrix

        over = {team.over.system for team in service.shared.teams if team.over is not None}
        under = {name: self._under(self.readers[name], service) for name in sorted(over) if name in self.readers}
        folders = reader.table("folders", without=without)
        # Thousands of folders are looked up by their names: unpacked at once that is quicker.
        folders.columns["name"] = list(folders.texts("name"))
        return ServiceMatrix(
            MODELS[reader.model],
            folders,
            reader.table("classes", without=("bytes", "occupied", "changed")),
            reader.strings("lists.body"),
            reader.idents(),
            terms=reader.terms,
            service=service,
            under=under,
            is_narrow=is_narrow,
        )

    def _under(self, reader: SurveyReader, service: Service) -> Under:
        from neatledger.core.accounts import Account, AccountState
        from neatledger.core.holders import Holder
        from neatledger.core.sharing.overlay import Under

        theirs: dict[str, list[Seat]] = {}
        for seat in self._seats.get(reader.system, ()):
            plain = replace(seat, holder=replace(seat.holder, privileges=frozenset()))
            theirs.setdefault(seat.person, []).append(plain)
        nobody = Account("", "", "", state=AccountState.DISABLED)
        people = {seat.person for seat in service.seats}
        layers: list[Matrix] = []
        for place in range(max([len(theirs.get(person, ())) for person in people] + [1])):
            seats = []
            for seat in service.seats:
                mine = theirs.get(seat.person, [])
                empty = replace(seat, account=nobody, holder=Holder("", "", frozenset()))
                seats.append(mine[place] if place < len(mine) else empty)
            layers.append(_plain_matrix(reader, seats))
        return Under(tuple(layers))


_FOR_SPACE = ("default", "bytes", "occupied", "changed", "inode", "device", "links", "specials", "first_odd", "odds")


def _plain_matrix(reader: SurveyReader, seats: Sequence[Seat]) -> Matrix:
    from neatledger.core.lists.table import MODELS
    from neatledger.core.matrix import Matrix

    return Matrix(
        MODELS[reader.model],
        reader.table("folders", without=_FOR_SPACE),
        reader.table("classes", without=("bytes", "occupied", "changed")),
        reader.strings("lists.body"),
        reader.idents(),
        seats,
        terms=reader.terms,
    )
