"""Devices that hold copies: those of people who left, lost ones, and those that nobody manages."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.sharing.devices import judge_device
from neatledger.core.space.sizes import show_size

__all__ = ["CHECKS"]


def _find(name: str) -> Callable[[OfficeFacts], Iterable[Finding]]:
    def find(office: OfficeFacts) -> Iterator[Finding]:
        for facts in office.services:
            for device in facts.service.shared.devices:
                for breach in judge_device(device, facts.service, office.plan, office.today):
                    if breach.check == name:
                        held = "" if device.held_bytes is None else f" ({show_size(device.held_bytes)})"
                        place = f"{facts.service.system}:{device.owner}"
                        yield Finding(name, place, f"{device.name}{held}: {breach.message}")

    return find


CHECKS = (
    Check(
        "device-of-leaver",
        Severity.HIGH,
        "somebody who left still has copies on a device",
        "erase it from afar, or have it brought back",
        _find("device-of-leaver"),
    ),
    Check("device-lost", Severity.HIGH, "a lost device was not erased", "erase it from afar", _find("device-lost")),
    Check(
        "unmanaged-device",
        Severity.MEDIUM,
        "an unmanaged device holds copies of a sensitive folder",
        "leave the folder out of what it syncs, or manage it",
        _find("unmanaged-device"),
    ),
    Check(
        "device-beyond-post",
        Severity.LOW,
        "the device holds copies that the post does not need",
        "take the copies off it, manage it, or say in the plan that the post is for that",
        _find("device-beyond-post"),
    ),
)
