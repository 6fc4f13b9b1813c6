"""The files of a POSIX system's accounts: groups made, and members put in or taken out (group(5)); accounts made."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from neatledger.carriers.accountlock import account_files_locked
from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing
from neatledger.carriers.passwdfile import PasswdFile, why_by_hand, why_state_by_hand
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.errors import SourceError, StepError
from neatledger.files import write_file

__all__ = ["GroupFile", "by_hand"]


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where it can be made in a group file."""
    if isinstance(step, GroupStep):
        is_sayable = _is_name(step.name) and step.group.isdecimal() and (not step.first or _is_name(step.first))
        return "" if is_sayable else "a name of this form cannot stand in a group file"
    if isinstance(step, WholeAccountStep) and "passwd" in settings["accounts"]:
        return why_by_hand(step)
    if isinstance(step, AccountStep):
        return why_state_by_hand(step, settings)
    if not isinstance(step, MemberStep):
        return "no file of its accounts tells that: the system's own tools make it"
    if step.is_group:
        return "groups on this system hold no groups"
    return "" if _is_name(step.member) else "a login of this form cannot stand in a group file"


class GroupFile:
    """One group file, changed a line at a time; all else in it stays byte for byte."""

    def __init__(self, context: CarrierContext) -> None:
        setting = context.settings["accounts"]
        self._path = context.office_dir / str(setting["group"])
        shadow = context.office_dir / str(setting["shadow"]) if "shadow" in setting else None
        self._accounts = PasswdFile(context.office_dir / str(setting.get("passwd", "")), shadow)

    def close(self) -> None:
        """Let go of nothing: the file is open only while it is changed."""

    def settle(self) -> None:
        """Do nothing: the file is written whole, and has outlasted a power cut when it stands in its place."""

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the group anew."""
        if isinstance(step, GroupStep):
            return self._look_for_group(step)
        if isinstance(step, WholeAccountStep):
            return self._accounts.look(step)
        if isinstance(step, AccountStep):
            return self._accounts.look_at_state(step)
        assert isinstance(step, MemberStep), "by_hand says so"
        fields = self._find(step, self._lines())[1]
        is_in = step.member in _members(fields)
        if is_in == step.after:
            return Looked(Standing.AFTER)
        return Looked(Standing.BEFORE)

    def prepare(self, step: Step) -> Details:
        """Return who is in the group, in their order: who is put back stands where they stood."""
        if isinstance(step, GroupStep | WholeAccountStep):
            return {}
        if isinstance(step, AccountStep):
            return self._accounts.details_of_state(step)
        assert isinstance(step, MemberStep), "by_hand says so"
        return {"members": _members(self._find(step, self._lines())[1])}

    def make(self, step: Step, details: Details) -> None:
        """Put the member in, or take it out; or make the group or the account, or take it away."""
        if isinstance(step, WholeAccountStep):
            self._accounts.make(step)
            return
        if isinstance(step, AccountStep):
            self._accounts.make_state(step, details)
            return
        if isinstance(step, GroupStep):
            self._make_group(step)
            return
        assert isinstance(step, MemberStep), "by_hand says so"
        with account_files_locked(self._path.parent):
            lines = self._lines()
            number, fields = self._find(step, lines)
            members = [one for one in _members(fields) if one != step.member]
            if step.after:
                members.insert(_place(step.member, members, details.get("members", [])), step.member)
            fields[3] = ",".join(members)
            ending = lines[number][len(lines[number].rstrip("\r\n")) :]
            lines[number] = ":".join(fields) + ending
            write_file(self._path, "".join(lines).encode("utf-8", "surrogateescape"))

    def _look_for_group(self, step: GroupStep) -> Looked:
        alike = [one for one in map(_fields, self._lines()) if step.name == one[0] or step.group in one[2:3]]
        if not alike:
            return Looked(Standing.BEFORE if step.made else Standing.AFTER)
        if len(alike) > 1 or alike[0][0] != step.name or alike[0][2:3] != [step.group]:
            return Looked(Standing.OTHER, "its name or its number is another group's")
        if _members(alike[0]) != ([step.first] if step.first else []):
            return Looked(Standing.OTHER, "others are in it")
        return Looked(Standing.AFTER if step.made else Standing.BEFORE)

    def _make_group(self, step: GroupStep) -> None:
        with account_files_locked(self._path.parent):
            lines = [one for one in self._lines() if _fields(one)[0] != step.name]
            if step.made:
                if lines and not lines[-1].endswith("\n"):
                    lines[-1] += "\n"
                lines.append(f"{step.name}:x:{step.group}:{step.first}\n")
            write_file(self._path, "".join(lines).encode("utf-8", "surrogateescape"))

    def _lines(self) -> list[str]:
        try:
            text = self._path.read_bytes().decode("utf-8", "surrogateescape")
        except OSError as error:
            raise SourceError(f"cannot be read: {error.strerror}", str(self._path)) from None
        return text.splitlines(keepends=True)

    def _find(self, step: MemberStep, lines: list[str]) -> tuple[int, list[str]]:
        for number, line in enumerate(lines):
            fields = _fields(line)
            if len(fields) == 4 and fields[0] == step.name and fields[2] == step.group:
                return number, fields
        raise StepError("the group is not there any more", step.where, "count, and ask again")


def _fields(line: str) -> list[str]:
    return line.rstrip("\r\n").split(":")


def _members(fields: list[str]) -> list[str]:
    return [one for one in fields[3].split(",") if one] if len(fields) > 3 else []


def _place(member: str, members: list[str], was: list[str]) -> int:
    """Return where a member is put: after those whom it stood behind, or at the end."""
    if member not in was:
        return len(members)
    before = set(was[: was.index(member)])
    return max((place + 1 for place, one in enumerate(members) if one in before), default=0)


def _is_name(login: str) -> bool:
    return bool(login) and not set(login) & set(",:\n\r")
