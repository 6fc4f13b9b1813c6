"""The file that groups of a POSIX system are read from (group(5)): members put into a group, or taken out."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.core.steps.members import MemberStep
from neatledger.errors import SourceError, StepError
from neatledger.files import locked, write_file

__all__ = ["GroupFile", "by_hand"]


def by_hand(step: MemberStep, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where it can be made in a group file."""
    setting = settings.get("accounts", "machine")
    if not isinstance(setting, Mapping) or "group" not in setting:
        return "its groups are in no file that the plan names"
    if step.is_group:
        return "groups on this system hold no groups"
    return "" if _is_name(step.member) else "a login of this form cannot stand in a group file"


class GroupFile:
    """One group file, changed a line at a time; all else in it stays byte for byte."""

    def __init__(self, path: Path) -> None:
        self._path = path

    @classmethod
    def of_context(cls, context: CarrierContext) -> GroupFile | None:
        """Return the group file that a system's settings name; None where its accounts are kept elsewhere."""
        setting = context.settings.get("accounts", "machine")
        if not isinstance(setting, Mapping) or "group" not in setting:
            return None
        return cls(context.office_dir / str(setting["group"]))

    def look(self, step: MemberStep) -> Looked:
        """Read the group anew."""
        fields = self._find(step, self._lines())[1]
        is_in = step.member in _members(fields)
        if is_in == step.after:
            return Looked(Standing.AFTER)
        return Looked(Standing.BEFORE)

    def prepare(self, step: MemberStep) -> Details:
        """Return who is in the group, in their order: who is put back stands where they stood."""
        return {"members": _members(self._find(step, self._lines())[1])}

    def make(self, step: MemberStep, details: Details) -> None:
        """Put the member in, or take it out."""
        with locked(self._path.parent):
            lines = self._lines()
            number, fields = self._find(step, lines)
            members = [one for one in _members(fields) if one != step.member]
            if step.after:
                members.insert(_place(step.member, members, details.get("members", [])), step.member)
            fields[3] = ",".join(members)
            ending = lines[number][len(lines[number].rstrip("\r\n")) :]
            lines[number] = ":".join(fields) + ending
            write_file(self._path, "".join(lines).encode("utf-8", "surrogateescape"))

    def _lines(self) -> list[str]:
        try:
            text = self._path.read_bytes().decode("utf-8", "surrogateescape")
        except OSError as error:
            raise SourceError(f"cannot be read: {error.strerror}", str(self._path)) from None
        return text.splitlines(keepends=True)

    def _find(self, step: MemberStep, lines: list[str]) -> tuple[int, list[str]]:
        for number, line in enumerate(lines):
            fields = line.rstrip("\r\n").split(":")
            if len(fields) == 4 and fields[0] == step.name and fields[2] == step.group:
                return number, fields
        raise StepError("the group is not there any more", f"{step.system}: {step.target}", "gather, and ask again")


def _members(fields: list[str]) -> list[str]:
    return [one for one in fields[3].split(",") if one]


def _place(member: str, members: list[str], was: list[str]) -> int:
    """Return where a member is put: after those whom it stood behind, or at the end."""
    if member not in was:
        return len(members)
    before = set(was[: was.index(member)])
    return max((place + 1 for place, one in enumerate(members) if one in before), default=0)


def _is_name(login: str) -> bool:
    return bool(login) and not set(login) & set(",:\n\r")
