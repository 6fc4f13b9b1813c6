"""What kept old versions cost: measured where the system shows them, else bounded by what was seen to change.

A count tells of each class of files (folder, list, owner, kind) when one of them was last changed. Between
two counts at least one file of a class that was touched changed, and at most all of them did; files that are
new by then made no version. Of every change one version is kept, and of every file no more than the number
that is kept, each about as large as the file. So the bounds are those of *seen* changes: a file that is
saved ten times between two counts is seen to change once.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.plan.space import SpaceRules

__all__ = ["Changes", "KeptVersions", "bound_versions"]


@dataclass(frozen=True, slots=True)
class Changes:
    """What one count shows of a kind: its files and their bytes, classes touched since the last, and their files."""

    files: int
    size: int
    touched_classes: int = 0
    touched_files: int = 0


@dataclass(frozen=True, slots=True)
class KeptVersions:
    """One kind: its files now, how many versions of each are kept, and what these take (bytes).

    `measured` is None where the system does not show versions. `low` and `high` bound what the changes seen
    make, `worst` is every file with all its versions. The same for another number kept is in `then_…`.
    """

    kind: str
    files: int
    size: int
    kept: int
    measured: int | None
    low: int
    high: int
    worst: int
    then_kept: int | None = None
    then_low: int | None = None
    then_high: int | None = None
    then_worst: int | None = None

    @property
    def expected(self) -> tuple[int, int]:
        """What versions take: as measured, else between the bounds."""
        return (self.measured, self.measured) if self.measured is not None else (self.low, self.high)

    @property
    def freed(self) -> tuple[int, int] | None:
        """What the other number would free at least and at most (below zero: cost), None where none is asked."""
        if self.then_kept is None or self.then_low is None or self.then_high is None:
            return None
        if self.measured is None:
            ends = self.low - self.then_low, self.high - self.then_high
            return min(ends), max(ends)
        if not self.kept or self.then_kept == self.kept:
            return (0, 0) if self.then_kept == self.kept else (self.measured - self.then_high, self.measured)
        if not self.then_kept:
            # All of them go, however many each file has.
            return self.measured, self.measured
        # At most each file has all the versions that are kept now: so much of these goes, or is added.
        part = self.measured - self.measured * self.then_kept // self.kept
        return min(0, part), max(0, part)


def bound_versions(
    history: Sequence[Mapping[str, Changes]],
    measured: Mapping[str, int] | None,
    rules: SpaceRules,
    keep: Mapping[str, int] | None = None,
) -> list[KeptVersions]:
    """Bound what versions take, by kind, the largest worst case first.

    Arguments: what each count shows by kind, the oldest first; what versions take by kind where the system
    shows them; how many are kept; and other numbers to compare with, by kind ("": all that are not named; where that
    is missing these keep what they have).
    """
    now = history[-1] if history else {}
    found = []
    for kind, here in now.items():
        if not here.files:
            continue
        low = high = 0
        before = None
        for count in history:
            each = count.get(kind, Changes(0, 0))
            if before is not None:
                # New files were changed too, and have no old version yet.
                new = max(0, each.files - before.files)
                low += max(0, each.touched_classes - new)
                high += max(0, each.touched_files - new)
            before = each

        def sizes(kept: int, low: int = low, high: int = high, here: Changes = here) -> tuple[int, int, int]:
            # More versions than are kept of every file there cannot be, however often it was saved.
            most = kept * here.files
            return (
                min(low, most) * here.size // here.files,
                min(high, most) * here.size // here.files,
                kept * here.size,
            )

        kept = rules.kept_versions(kind)
        other = None if keep is None else keep.get(kind, keep.get("", kept))
        then = (None, None, None, None) if other is None else (other, *sizes(other))
        known = None if measured is None else measured.get(kind, 0)
        found.append(KeptVersions(kind, here.files, here.size, kept, known, *sizes(kept), *then))
    found.sort(key=lambda one: (-one.worst, -one.size, one.kind))
    return found
