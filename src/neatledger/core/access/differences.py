"""The plan beside what was found: where the two differ, and what a person lacks.

The plan speaks of folders that it names; any other folder below one has what that one has. It says who
may look, read, add and manage, and compares with levels found. Who owns a subfolder they made may change
its list on most systems; that alone is no difference, unless the plan says who manages.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.access.ways import Access, Way
from neatledger.core.lists.rights import Level, Right, level_of, spell_rights
from neatledger.core.plan.plan import Plan, PlanFolder
from neatledger.core.tree.address import Address

__all__ = ["COMPARED", "Difference", "FilesFound", "absences_at", "differences_at", "nearest_planned"]

COMPARED = Right.LIST | Right.READ | Right.ADD | Right.MANAGE


@dataclass(frozen=True, slots=True)
class FilesFound:
    """How many files a folder has, and how many of them somebody may read and change, as far as that is known.

    Of those that somebody may perhaps read or change it is not known (`unsure`).
    """

    files: int = 0
    read: int = 0
    change: int = 0
    unsure: int = 0


NO_FILES = FilesFound()
_LOOKS_IN = Right.READ | Right.VIEW


@dataclass(frozen=True, slots=True)
class Difference:
    """What the plan means a person to have on a folder and its files and they have not, and the other way round.

    Where it `is_known` only in part what they have, nothing is said to be missing: it is not known. A folder that
    the plan names and that was not found has nothing for anybody (`is_there` is false).
    """

    person: str
    address: Address
    planned: Right
    found: Right
    is_known: bool = True
    files: FilesFound = NO_FILES
    is_there: bool = True

    @property
    def missing(self) -> Right:
        """Return what is planned and was not found."""
        return self.planned & ~self.found & COMPARED if self.is_known else Right.NONE

    @property
    def beyond(self) -> Right:
        """Return what was found and is not planned."""
        # An owner may change the list of what they own: that alone is nothing beyond the plan.
        return self.found & ~self.planned & (COMPARED & ~Right.MANAGE)

    @property
    def unread(self) -> int:
        """Return how many files they should read and cannot."""
        is_told = self.planned & _LOOKS_IN and self.is_known
        return self.files.files - self.files.read - self.files.unsure if is_told else 0

    @property
    def unchanged(self) -> int:
        """Return how many files they should be able to change and cannot."""
        is_told = self.planned & Right.CHANGE and self.is_known
        return self.files.files - self.files.change - self.files.unsure if is_told else 0

    @property
    def read_beyond(self) -> int:
        """Return how many files they can read and should not."""
        return 0 if self.planned & _LOOKS_IN else self.files.read

    @property
    def changed_beyond(self) -> int:
        """Return how many files they can change and should not."""
        return 0 if self.planned & Right.CHANGE else self.files.change

    @property
    def is_less(self) -> bool:
        """Tell whether they have less than is planned, on the folder or with its files."""
        return bool(self.missing or self.unread or self.unchanged)

    @property
    def is_more(self) -> bool:
        """Tell whether they have more than is planned, on the folder or with its files."""
        return bool(self.beyond or self.read_beyond or self.changed_beyond)

    def __bool__(self) -> bool:
        return self.is_less or self.is_more

    def spell(self) -> str:
        """Say the difference in words."""
        if not self.is_there:
            return "there is no such folder" if self.is_known else "whether there is such a folder was not seen"
        parts = []
        if self.missing:
            parts.append(f"lacks {spell_rights(self.missing)}")
        if self.beyond:
            parts.append(f"has {spell_rights(self.beyond)} more than planned")
        parts += self._spell_files()
        if not self.is_known:
            parts.append("what else they have is not known")
        return "; ".join(parts) or "as planned"

    def _spell_files(self) -> list[str]:
        """Say how many files are otherwise; not what the folder's own rights say already."""
        parts = []
        if self.unread and not self.missing & Right.READ:
            parts.append(f"cannot read {self._of_files(self.unread)}")
        if self.unchanged and not (self.missing & Right.ADD or self.unread == self.unchanged):
            parts.append(f"cannot change {self._of_files(self.unchanged)}")
        if self.read_beyond and not self.beyond & Right.READ:
            parts.append(f"can read {self._of_files(self.read_beyond)} more than planned")
        if self.changed_beyond and not self.beyond & Right.ADD:
            parts.append(f"can change {self._of_files(self.changed_beyond)} more than planned")
        return parts

    def _of_files(self, number: int) -> str:
        files = self.files.files
        return "its one file" if files == 1 else f"{number:,} of its {files:,} files"

    @property
    def planned_level(self) -> Level:
        """Return the level of the plan."""
        return level_of(self.planned)


def nearest_planned(plan: Plan, address: Address) -> PlanFolder | None:
    """Return the folder of the plan that speaks for `address`: itself, or the nearest one above it."""
    above: Iterable[PlanFolder] = (folder for folder in plan.folders if address.is_within(folder.address))
    return max(above, key=lambda folder: len(folder.address.parts), default=None)


def differences_at(plan: Plan, address: Address, asked: Mapping[str, Access]) -> list[Difference]:
    """Compare the sides on one folder, for the plan's people and all others found; administrators apart."""
    found = []
    for person in dict.fromkeys([*plan.people, *asked]):
        planned, _ = plan.rights_at(address, person)
        rights = Right.NONE
        ways = asked[person].ways if person in asked else ()
        # Administrators open everything by their role, which the plan of folders does not speak of.
        admins = {way.principal.account.login for way in ways if way.name == "admin"}
        if person not in plan.people and all(way.principal.account.login in admins for way in ways):
            continue
        others = [way for way in ways if way.principal.account.login not in admins]
        for way in others:
            rights |= way.rights
        is_known = all(way.is_known for way in others)
        numbers = asked[person].files if person in asked else None
        found.append(Difference(person, address, planned, rights, is_known, _files_of(others, numbers)))
    return found


def absences_at(plan: Plan, address: Address, *, is_seen: bool) -> list[Difference]:
    """Return what the plan's people should have on a folder of the plan that was not found.

    Where what it would lie in was not seen whole (not `is_seen`), it may be there all the same.
    """
    meant = {person: plan.rights_at(address, person)[0] for person in plan.people}
    nothing = Right.NONE
    return [
        Difference(person, address, rights, nothing, is_seen, is_there=False)
        for person, rights in meant.items()
        if rights & COMPARED
    ]


def _files_of(ways: Iterable[Way], numbers: Sequence[int] | None) -> FilesFound:
    """Return what some ways give with the files of a folder, by sort; nothing where these were not seen."""
    if numbers is None:
        return NO_FILES
    united = [Right.NONE] * len(numbers)
    for way in ways:
        # What a way gives with files that it is not known of may be anything.
        given = (Right.UNSURE,) * len(numbers) if way.file_rights is None else way.file_rights
        united = [mine | more for mine, more in zip(united, given or united, strict=True)]
    unsure = sum(n for n, rights in zip(numbers, united, strict=True) if rights & Right.UNSURE)
    sure = [(n, rights) for n, rights in zip(numbers, united, strict=True) if not rights & Right.UNSURE]
    read, change = (sum(n for n, rights in sure if rights & each) for each in (_LOOKS_IN, Right.CHANGE))
    return FilesFound(sum(numbers), read, change, unsure)
