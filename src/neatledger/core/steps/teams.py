"""Steps on team folders: published, ended, without download, and who is a member with which role."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Level, level_of, spell_rights
from neatledger.core.steps.sharing import RecordStep
from neatledger.core.survey.shared import Member, TeamFolder
from neatledger.core.tree.address import Address

__all__ = ["TeamStep"]


def _level(member: Member) -> str:
    level = level_of(member.rights)
    return spell_rights(member.rights) if level in (Level.MIXED, Level.NONE) else level.value


def _member_lines(before: TeamFolder, after: TeamFolder) -> list[str]:
    old, new = ({(one.is_group, one.holder): one for one in team.members} for team in (before, after))
    lines = []
    for key in dict.fromkeys([*old, *new]):
        word = f"the group {key[1]}" if key[0] else key[1]
        if key not in new:
            lines.append(f"take {word} out")
        elif key not in old:
            lines.append(f"let {word} in with {_level(new[key])}")
        elif old[key] != new[key]:
            lines.append(f"give {word} {_level(new[key])} in place of {_level(old[key])}")
    return lines


@dataclass(frozen=True, slots=True)
class TeamStep(RecordStep):
    """One team folder, whole: its switch, its members with their roles, its end, and whether one may download."""

    kind: ClassVar[str] = "team folder"
    record: ClassVar[type] = TeamFolder
    table: ClassVar[str] = "teams"

    @classmethod
    def key(cls, record: Any) -> Any:
        """Return the team folder's path."""
        return record.path

    @property
    def target(self) -> str:
        """The team folder's path."""
        path: bytes = self._either.path
        return path.decode("utf-8", "surrogateescape")

    @property
    def place(self) -> Address:
        """The team folder."""
        return Address(self.system, self._either.path)

    def word(self, names: Names) -> str:
        """Say what to do with it."""
        if self.after is None:
            return "end its sharing as a team folder"
        if self.before is None:
            lines = _member_lines(TeamFolder(self.after.path, self.after.name), self.after)
            return f"make it a team folder: {'; '.join(lines) or 'without members'}"
        parts = _member_lines(self.before, self.after)
        if self.before.is_on != self.after.is_on:
            parts.insert(0, "switch it on as a team folder" if self.after.is_on else "switch it off as a team folder")
        if self.before.ends != self.after.ends:
            parts.append(f"let it end on {self.after.ends}" if self.after.ends else "let it have no end")
        if self.before.download != self.after.download:
            parts.append("allow downloading" if self.after.download else "allow no downloading")
        return "; ".join(parts) or "change it"
