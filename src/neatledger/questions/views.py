"""The space of every system in the plan's terms, as all questions about space load it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from neatledger.core.tree.address import Address
from neatledger.ledger.locations import unknown_folder
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office, names_of

__all__ = ["CountedFolder", "find_folder", "link_views", "load_views", "owner_names", "view_of"]


@dataclass(frozen=True, slots=True)
class CountedFolder:
    """A folder that was asked for: its address, the view of its system, and its row there."""

    address: Address
    view: SpaceView
    row: int


def view_of(office: Office, reader: SurveyReader, *, with_principals: bool = True) -> SpaceView:
    """Return one system's space in the plan's terms."""
    plan = office.plan.space
    principals = office.principals.get(reader.system, []) if with_principals else []
    return SpaceView(reader, plan.rules_of(reader.system), plan.same_as, principals)


def load_views(office: Office) -> dict[str, SpaceView]:
    """Return every system of the count."""
    views = {name: view_of(office, reader) for name, reader in office.readers.items()}
    link_views(views.values())
    return views


def link_views(views: Iterable[SpaceView]) -> None:
    """Let systems of one machine know of each other, for one tree may be reached in several."""
    machines: dict[str, list[SpaceView]] = {}
    for view in views:
        if view.machine:
            machines.setdefault(view.machine, []).append(view)
            view.mates = machines[view.machine]


def find_folder(office: Office, views: Mapping[str, SpaceView], text: str) -> CountedFolder:
    """Find a counted folder by its address as typed, or as machine formats write it; raises `UnknownNameError`."""
    address = office.find_folder(text)
    view = views[address.system]
    row = view.row_of(address.path)
    if row is None:
        raise unknown_folder(view.reader, address, "folder")
    return CountedFolder(address, view, row)


def owner_names(view: SpaceView) -> Callable[[str], str]:
    """Return what names an owner by their identifier: the person, or else as lists name them."""
    people = {principal.account.ident: principal.person for principal in view.principals}
    names = names_of(view.reader)
    return lambda ident: people.get(ident) or names.owner(ident)
