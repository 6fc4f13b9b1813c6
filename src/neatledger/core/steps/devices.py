"""Steps on devices: the copies on one erased, which a person must ask for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from neatledger.core.lists.contract import Names
from neatledger.core.steps.sharing import RecordStep
from neatledger.core.survey.shared import Device

__all__ = ["DeviceStep"]


@dataclass(frozen=True, slots=True)
class DeviceStep(RecordStep):
    """One device with copies; once it is erased it holds none, and is not connected any more."""

    kind: ClassVar[str] = "device"
    record: ClassVar[type] = Device
    table: ClassVar[str] = "devices"

    @property
    def target(self) -> str:
        """The device's name in the service."""
        return f"device {self._either.id}"

    def word(self, names: Names) -> str:
        """Say what to do with it."""
        one = self._either
        return (
            f"erase the copies on {one.name or one.id} of {one.owner}"
            if self.after is None
            else f"connect {one.name}"
        )
