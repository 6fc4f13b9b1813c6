"""Devices with copies: which of them should give cause for worry."""

from __future__ import annotations

from datetime import date

from neatledger.core.plan.plan import Plan
from neatledger.core.plan.posts import Devices
from neatledger.core.sharing.judging import Breach
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import Device
from neatledger.core.tree.address import Address

__all__ = ["judge_device"]


def judge_device(device: Device, service: Service, plan: Plan, today: date) -> list[Breach]:
    """Return what is not in order with a device."""
    found: list[Breach] = []
    if device.state == "erased":
        return found
    number = service.numbers.get(device.owner)
    person = None if number is None else plan.people.get(service.principals[number].person)
    if number is None or not service.principals[number].is_open:
        found.append(Breach("device-of-leaver", f"{device.owner} has no open account any more, and it holds copies"))
    elif person is not None and person.end is not None and person.end < today:
        found.append(Breach("device-of-leaver", f"{person.name} left on {person.end}, and it is still connected"))
    if device.state == "lost":
        found.append(Breach("device-lost", "it is lost, and was not erased"))
    held = [plan.posts[one.post] for one in plan.posts_of(person.id)] if person is not None else []
    if held and device.state != "lost":
        most = max((one.devices for one in held), key=list(Devices).index)
        if most is Devices.NONE:
            found.append(Breach("device-beyond-post", f"no post of {device.owner} is for copies on devices"))
        elif most is Devices.MANAGED and device.managed is False:
            found.append(
                Breach("device-beyond-post", f"nobody manages it, and the post of {device.owner} asks for that")
            )
    sensitive = [
        str(address)
        for address in (Address(service.system, path) for path in device.folders)
        if plan.sharing.is_sensitive(address) or any(one.is_within(address) for one in plan.sharing.sensitive)
    ]
    if sensitive and device.managed is False:
        found.append(Breach("unmanaged-device", f"nobody manages it, and it holds copies of {', '.join(sensitive)}"))
    return found
