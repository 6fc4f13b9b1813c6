"""What undoes a saving or a deletion of single files where they are: old versions and the bin, never a copy."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from neatledger.core.plan.limits import Limit, Unlimited
from neatledger.core.plan.space import SpaceRules

__all__ = ["Undoing"]


@dataclass(frozen=True, slots=True)
class Undoing:
    """How many old versions a system keeps, and for how many days its bin does; None: nobody says.

    `versions` are by kind of file, "" for all others. `versions_seen` and `bin_seen` are the files that lie there;
    None where the system does not show them. `less` says what the system itself tells and the plan says more of.
    """

    versions: Mapping[str, int] | None = None
    bin_days: Limit | None = None
    versions_seen: int | None = None
    bin_seen: int | None = None
    less: tuple[str, ...] = ()

    @classmethod
    def of(
        cls,
        rules: SpaceRules,
        told_versions: int | None,
        told_days: Limit | None,
        versions_seen: int | None,
        bin_seen: int | None,
    ) -> Undoing:
        """Return what holds: what the system itself tells, and the plan's word where it tells nothing."""
        return cls(
            rules.versions if told_versions is None else {"": told_versions},
            rules.bin_days if told_days is None else told_days,
            versions_seen,
            bin_seen,
            tuple(_less(rules, told_versions, told_days)),
        )

    @property
    def undoes_savings(self) -> bool:
        """Tell whether what was there before a saving comes back, of any kind of file."""
        return bool(self.versions) and any((self.versions or {}).values())

    @property
    def undoes_deletions(self) -> bool:
        """Tell whether what was deleted comes back."""
        return self.bin_days is not None and self.bin_days != 0


def _less(rules: SpaceRules, versions: int | None, days: Limit | None) -> Iterator[str]:
    most = max((rules.versions or {"": 0}).values())
    if versions is not None and versions < most:
        yield f"it keeps {versions} old versions, and the plan says {most}"
    wanted = rules.bin_days
    if days is None or wanted is None or isinstance(days, Unlimited):
        return
    if isinstance(wanted, Unlimited) or days < wanted:
        said = "forever" if isinstance(wanted, Unlimited) else f"for {wanted}"
        yield f"its bin keeps for {days} days, and the plan says {said}"
