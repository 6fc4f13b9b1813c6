"""Whether what a folder lies on is encrypted: as this machine's devices tell, or by text from another machine.

Only what the device mapper encrypts is seen: a disk that encrypts by itself, or a file system that does, is not.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from neatledger.core.tree.address import lies_within
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext

__all__ = ["encrypted_folders"]

_ESCAPED = re.compile(r"\\([0-7]{3})")
_BLOCK = Path("/sys/dev/block")
_DEEPEST = 16
# cryptsetup(8), status: these types check what is read and hide nothing.
_NO_CIPHER = ("VERITY", "INTEGRITY")


def encrypted_folders(context: SourceContext, told: Iterable[str]) -> dict[bytes, bool]:
    """Return of each folder whether its device is encrypted, as far as that is known; raises `SourceError`."""
    settings = context.settings
    paths = [os.fsencode(path) for path in told]
    devices = settings["protection"].get("devices")
    if devices is not None:
        found = _by_text(context, devices, paths)
    elif settings["source"] == "tree":
        root = os.fsencode(context.office_dir / str(settings["path"]))
        found = {path: _is_encrypted_here(root + path) for path in paths}
    else:
        found = {}
    return {path: is_so for path, is_so in found.items() if is_so is not None}


# This machine -------------------------------------------------------------------------------------------


def _is_encrypted_here(path: bytes) -> bool | None:
    try:
        device = os.stat(path).st_dev
        if not os.major(device):
            # A file system of several subvolumes or of none of its own: its table of mounts names what it lies on.
            device = os.stat(_source_of(device)).st_rdev
    except OSError:
        return None
    return _is_encrypted_device(_BLOCK / f"{os.major(device)}:{os.minor(device)}", _DEEPEST) if device else None


def _source_of(device: int) -> str:
    """Return the device that a mounted file system names (proc(5), mountinfo); raises `OSError`."""
    number = f"{os.major(device)}:{os.minor(device)}"
    for line in Path("/proc/self/mountinfo").read_text("utf-8", "surrogateescape").splitlines():
        first, _, second = line.partition(" - ")
        if first.split()[2] == number:
            return _plain(second.split()[1])
    raise OSError("nothing that is mounted has this number")


def _is_encrypted_device(block: Path, deepest: int) -> bool | None:
    """Tell whether all that a block device lies on is encrypted; `deepest` is how many layers may follow."""
    if not deepest or not block.exists() or (block / "loop").exists():
        return None
    mapper = block / "dm" / "uuid"
    # dm-crypt's devices say so in their identifiers (cryptsetup, lib/libdevmapper.c).
    uuid = mapper.read_text() if mapper.exists() else ""
    if uuid.startswith("CRYPT-") and not uuid.startswith(tuple(f"CRYPT-{word}" for word in _NO_CIPHER)):
        return True
    below = block / "slaves"
    layers = sorted(below.iterdir()) if below.exists() else []
    if not layers:
        return None if uuid else False
    return _all_of(_is_encrypted_device(one.resolve(), deepest - 1) for one in layers)


def _all_of(layers: Iterable[bool | None]) -> bool | None:
    """Tell whether all are so; one that is not settles it, one that is not known leaves it open."""
    found = list(layers)
    return False if False in found else None if None in found or not found else True


# Text from another machine ------------------------------------------------------------------------------


def _by_text(context: SourceContext, devices: Mapping[str, Any], paths: Sequence[bytes]) -> dict[bytes, bool | None]:
    mounts = dict(_mounts(_text(context, devices["mounts"])))
    crypt = _Mapper()
    for name in devices["crypt"]:
        crypt.read(_text(context, name))
    below = os.fsencode(devices.get("below", "/")).rstrip(b"/")
    found: dict[bytes, bool | None] = {}
    for path in paths:
        points = [point for point in mounts if lies_within(below + path, point)]
        found[path] = crypt.is_encrypted(mounts[max(points, key=len)]) if points else None
    return found


def _text(context: SourceContext, name: str) -> str:
    path = context.office_dir / name
    try:
        return path.read_text("utf-8", "surrogateescape")
    except OSError as error:
        raise SourceError(f"what the machine says of its devices cannot be read: {error}", str(path)) from None


def _mounts(text: str) -> Iterator[tuple[bytes, str]]:
    """Yield where something is mounted, and what (fstab(5), fields 1 and 2); of one place the last is seen."""
    for line in text.splitlines():
        words = line.split()
        if len(words) > 2 and not line.startswith("#"):
            yield os.fsencode(_plain(words[1])), _plain(words[0])


def _plain(word: str) -> str:
    return _ESCAPED.sub(lambda code: chr(int(code[1], 8)), word)


_CIPHER = "(cipher)"
_STATUS = re.compile(r"/dev/mapper/(?P<name>\S+) is (?P<not>in)?active\b")
_TYPE = re.compile(r"\s+type:\s+(?P<type>\S+)")
_TABLE = re.compile(r"(?P<name>[^\s:]+): \d+ \d+ (?P<target>\S+) ?(?P<words>.*)")
_LISTED = re.compile(r"(?P<name>\S+)\s+\((?P<major>\d+)[:,] ?(?P<minor>\d+)\)")


@dataclass
class _Mapper:
    """What was said of mapped devices: by name whether they are encrypted, what they lie on, and their numbers."""

    known: dict[str, bool] = field(default_factory=dict)
    layers: dict[str, list[str]] = field(default_factory=dict)
    names: dict[str, str] = field(default_factory=dict)

    def read(self, text: str) -> None:
        """Take in what cryptsetup(8) status, dmsetup(8) table or dmsetup ls printed."""
        active = ""
        for line in text.splitlines():
            if found := _STATUS.match(line):
                active = "" if found["not"] else found["name"]
            elif active and (found := _TYPE.match(line)):
                self.known[active] = found["type"].upper() not in _NO_CIPHER
            elif found := _TABLE.match(line):
                self._take(found["name"], found["target"], found["words"].split())
            elif found := _LISTED.match(line):
                self.names[f"{found['major']}:{found['minor']}"] = found["name"]

    def _take(self, name: str, target: str, words: Sequence[str]) -> None:
        if target == "crypt":
            self.layers.setdefault(name, []).append(_CIPHER)
        elif target == "linear":
            self.layers.setdefault(name, []).append(words[0] if words else "")
        elif target == "striped":
            self.layers.setdefault(name, []).extend(words[2::2])
        else:
            # What another kind of target does is not known here.
            self.layers.setdefault(name, []).append("")

    def is_encrypted(self, device: str, deepest: int = _DEEPEST) -> bool | None:
        """Tell whether a device is encrypted: one that is not mapped is not, what is no device is not known."""
        if device == _CIPHER:
            return True
        name = self.names.get(device) or (
            device.removeprefix("/dev/mapper/") if device.startswith("/dev/mapper/") else ""
        )
        if name:
            if name in self.known:
                return self.known[name]
            return (
                _all_of(self.is_encrypted(one, deepest - 1) for one in self.layers.get(name, ())) if deepest else None
            )
        is_plain = device.startswith("/dev/") and not device.startswith(("/dev/dm-", "/dev/loop", "/dev/md"))
        return False if is_plain else None
