"""What a new item gets in a folder, and what pushing the folder's list down would change."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from neatledger.core.lists.contract import Maker
from neatledger.core.people.names import EntryNames
from neatledger.core.tree.address import Address
from neatledger.errors import FormatError, UnknownNameError
from neatledger.formats.names import show_address
from neatledger.ledger.locations import Location, locate
from neatledger.questions.office import Office
from neatledger.questions.systems import plain_matrix

if TYPE_CHECKING:
    from neatledger.core.access.pushing import Pushed

__all__ = ["NewItems", "PushedList", "ask", "ask_push"]


@dataclass(frozen=True, slots=True)
class NewItems:
    """What somebody makes in a folder gets, entry by entry in words, and the folder's own list.

    `is_by_mode` says that the folder has no default list where its system would pass one on, `is_assumed` that
    nothing is passed on and a mode was taken. `group` is the group that a new item gets, empty where items have none,
    and `keeps_group` says that the folder hands its own down.
    """

    address: Address
    made_by: str
    folder: tuple[str, ...]
    file: tuple[str, ...]
    own: tuple[str, ...]
    is_by_mode: bool
    is_assumed: bool
    group: str
    keeps_group: bool


@dataclass(frozen=True, slots=True)
class PushedList:
    """What pushing a folder's list down changes, folder by folder."""

    address: Address
    changes: tuple[tuple[Address, Pushed], ...]
    names: EntryNames


def _folder(office: Office, address: Address) -> Location:
    location = locate(office.reader(address.system), address)
    if not location.is_folder:
        raise UnknownNameError("this is a file", show_address(location.address), "only folders pass anything on")
    return location


def _default(office: Office, location: Location) -> bytes | None:
    number = location.folder.default
    return None if number < 0 else office.reader(location.address.system).list_body(number)


def ask(office: Office, address: Address | str, made_by: str | None = None) -> NewItems:
    """Return what a person, or else the folder's owner, makes there; raises `UnknownNameError`."""
    address = office.address(address)
    location = _folder(office, address)
    system = location.address.system
    reader, names, model = office.reader(system), office.names(system), location.terms.model
    owner = location.folder.owner
    # Whoever owns the folder makes things there with the group that they have.
    primary = next((one.primary for one in reader.accounts if one.ident == owner), "")
    maker, name = Maker(owner, primary), names.owner(owner)
    if made_by:
        person = office.find_person(made_by)
        if not person.on(system):
            raise UnknownNameError(f"{person.id} has no account on {system}", hint="people lists everyone")
        account = person.on(system)[0].account
        maker, name = Maker(account.ident, account.primary), person.id
    body, default = reader.list_body(location.folder.list), _default(office, location)
    try:
        bodies = [model.new_child(body, default, maker, is_folder=is_folder) for is_folder in (True, False)]
    except FormatError:
        if maker.user:
            raise
        # Only some lists ask who makes something in them.
        hint = "say who makes the new item: folders FOLDER --new-item --made-by PERSON"
        raise UnknownNameError(
            "nobody told whom this folder belongs to", show_address(location.address), hint
        ) from None
    made = [
        tuple(model.parse(each).describe(names, is_folder=is_folder))
        for each, is_folder in zip(bodies, (True, False), strict=True)
    ]
    group, above = model.group_of(bodies[0]), model.group_of(body)
    other = model.new_child(body, default, Maker(maker.user, ""), is_folder=True)
    return NewItems(
        location.address,
        name,
        made[0],
        made[1],
        tuple(model.parse(body).describe(names)),
        model.has_defaults and default is None,
        not model.passes_on(body),
        names.group(group) if group else "",
        bool(group) and group == above and model.group_of(other) == above,
    )


def ask_push(office: Office, address: Address | str, *, keeps_own: bool = False) -> PushedList:
    """Return what pushing the list down changes; raises `UnknownNameError` where nothing can be passed on."""
    from neatledger.core.access.pushing import push_down
    from neatledger.core.tree.table import folder_paths

    location = _folder(office, office.address(address))
    system = location.address.system
    default = _default(office, location)
    if location.terms.model.has_defaults and default is None:
        where = show_address(location.address)
        raise UnknownNameError("the folder has no default list, so it passes nothing on", where, "give it one first")
    reader = office.reader(system)
    # By lists alone: what a service shows of other systems is not its own to hand anything down to.
    matrix = plain_matrix(reader, office.principals[system])
    path_of = folder_paths(matrix.folders)
    bodies = reader.strings("lists.body")
    changes = tuple(
        (Address(system, path_of(one.row)), one)
        for one in push_down(matrix, bodies, default, location.folder.row, keeps_own=keeps_own)
    )
    return PushedList(location.address, changes, office.names(system))
