"""Which devices hold copies of what, and which give cause for worry."""

from __future__ import annotations

from dataclasses import dataclass

from neatledger.core.sharing.devices import judge_device
from neatledger.core.survey.shared import Device
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
                faults = judge_device(device, service, office.plan, office.day)
                owner = owners.get(device.owner, device.owner)
                found.append(JudgedDevice(service.system, device, owner, tuple(one.message for one in faults)))
    return found
