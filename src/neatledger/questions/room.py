"""How much a person can still put in a folder, and what stops first."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.lists.contract import Maker
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.room import Newcomer, Room, find_room
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.formats.names import show_address
from neatledger.ledger.locations import Location, locate
from neatledger.questions import limits
from neatledger.questions.office import FoundPerson, Office
from neatledger.questions.views import load_views

__all__ = ["RoomAsker", "ask"]


class RoomAsker:
    """A person in a folder: what the lists say of them there is worked out once, whatever the limits are."""

    def __init__(self, office: Office, name: str, address: Address) -> None:
        """Find the person and the folder; raises `UnknownNameError` where there is no such one."""
        person = office.find_person(name)
        location = locate(office.reader(address.system), address)
        if not location.is_folder:
            raise UnknownNameError("this is a file", show_address(location.address), "name the folder that it is in")
        principals = person.on(address.system)
        self._today = office.today
        group = _group_of_new(office, location, principals) if principals else ""
        self.newcomer = Newcomer(person.id, location.address, group, *_refusal(office, location, person))

    def room(self, plan: Plan, statuses: Sequence[LimitStatus]) -> Room:
        """Return the room by a plan and the state of its limits."""
        return find_room(plan, statuses, self.newcomer, self._today)


def ask(office: Office, name: str, address: Address | str, *, is_of_plan: bool = False) -> Room:
    """Return a person's room in a folder; raises `UnknownNameError`."""
    address = office.address(address)
    asker = RoomAsker(office, name, address)
    return asker.room(office.plan, limits.ask(office, load_views(office), is_of_plan=is_of_plan))


def _refusal(office: Office, location: Location, person: FoundPerson) -> tuple[str, bool]:
    """Return why a person may not add files in a folder, "" where they may, and whether that is not known."""
    system = location.address.system
    if not person.on(system):
        return f"{person.id} has no account on {system}", False
    access = office.systems.access(location, person.on(system))
    if any(way.is_known and way.rights & Right.ADD for way in access.ways):
        return "", False
    if not access.is_known:
        return "whether they may add files here is not known (why tells)", True
    return "they may not add files here (why tells by which gate)", False


def _group_of_new(office: Office, location: Location, principals: Sequence[Principal]) -> str:
    """Return the name of the group that a new file of theirs belongs to there, "" where the system keeps none."""
    system = location.address.system
    reader, model = office.reader(system), location.terms.model
    default = None if location.folder.default < 0 else reader.list_body(location.folder.default)
    account = principals[0].account
    body = reader.list_body(location.folder.list)
    ident = model.group_of(model.new_child(body, default, Maker(account.ident, account.primary), is_folder=False))
    return office.names(system).groups.get(ident, ident)
