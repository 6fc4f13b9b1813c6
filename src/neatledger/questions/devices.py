"""Which devices hold copies of what, and which give cause for worry."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from neatledger.core.lists.rights import Right
from neatledger.core.sharing.devices import judge_device
from neatledger.core.sharing.service import Service
from neatledger.core.space.sizes import show_size
from neatledger.core.survey.shared import Device
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location
from neatledger.questions.links import services_of
from neatledger.questions.office import Office

__all__ = ["JudgedDevice", "ask"]


@dataclass(frozen=True, slots=True)
class JudgedDevice:
    """A device with whose it is, and all that is not in order with it, in words."""

    system: str
    device: Device
    owner: str
    faults: tuple[str, ...]


def ask(office: Office, of: str | None = None) -> list[JudgedDevice]:
    """Return the devices of every system, or those of one person (by id or login); raises `UnknownNameError`."""
    found = []
    owners: dict[str, str] = {}
    for _, service in services_of(office):
        owners |= {principal.account.login: principal.person for principal in service.principals}
        for device in service.shared.devices:
            if of in (None, device.owner, owners.get(device.owner)):
                faults = [one.message for one in judge_device(device, service, office.plan, office.day)]
                if device.state != "erased":
                    faults += _beyond_rights(office, service, device)
                owner = owners.get(device.owner, device.owner)
                found.append(JudgedDevice(service.system, device, owner, tuple(faults)))
    return found


def _beyond_rights(office: Office, service: Service, device: Device) -> Iterator[str]:
    """Say what a device holds that its owner may not take away today, or that is not there."""
    reader = office.readers[service.system]
    principals = [one for one in service.principals if one.account.login == device.owner]
    sizes: list[int | None] = []
    for path in device.folders:
        address = Address(service.system, path)
        try:
            location = find_location(reader, address)
        except UnknownNameError:
            yield f"{address} is not there any more, and the device holds it"
            continue
        sizes.append(_bytes_in(office, service, path))
        access = office.systems.access(location, principals)
        if not access.is_known:
            yield f"what its owner may do in {address} is not known"
        elif not access.rights & (Right.READ | Right.VIEW):
            yield f"its owner can read nothing in {address}, and the device holds it"
        elif not access.rights & Right.READ:
            yield f"its owner may only look at {address}, and the device holds a copy"
    room = sum(size for size in sizes if size is not None)
    is_known = bool(sizes) and None not in sizes and len(sizes) == len(device.folders)
    if device.held_bytes is not None and is_known and device.held_bytes > room:
        yield f"it holds {show_size(device.held_bytes)}, and there is {show_size(room)} in its folders"


def _bytes_in(office: Office, service: Service, path: bytes) -> int | None:
    """Return the bytes of a folder with all below it, where its files lie; None where that was not counted."""
    address = Address(service.system, path)
    over = [one for one in service.shared.teams if one.over and address.is_within(Address(service.system, one.path))]
    for team in over:
        if team.over is not None:
            rest = path[len(team.path.rstrip(b"/")) :]
            address = Address(team.over.system, (team.over.path.rstrip(b"/") + rest) or b"/")
    reader = office.readers.get(address.system)
    row = None if reader is None else reader.find_row(address.path)
    return None if reader is None or row is None else int(reader.table("totals")["bytes"][row])
