"""What the plan says of sharing: rules at four levels, sensitive folders, and days for guests and links."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from neatledger.core.plan.rules import PlacedRule, SharingRule, tightest
from neatledger.core.tree.address import Address

__all__ = ["DAYS", "SharingPlan", "days_of"]

DAYS: Mapping[str, int] = {
    "guest-idle-days": 90,
    "guest-remove-days": 180,
    "invitation-days": 30,
    "link-unused-days": 180,
    "administrator-link-days": 30,
    "password-days": 365,
    "unused-entitlement-days": 90,
    "account-idle-days": 180,
}
"""Days that the plan's settings may say otherwise."""


def days_of(settings: Mapping[str, int], name: str) -> int:
    """Return a number of days from the plan's settings, or the default."""
    return settings.get(name, DAYS[name])


@dataclass(frozen=True, slots=True)
class SharingPlan:
    """The plan's sharing rules, and the folders that are sensitive with all below them."""

    rules: tuple[PlacedRule, ...] = ()
    sensitive: tuple[Address, ...] = ()

    def rules_at(self, address: Address, person: Iterable[str]) -> list[PlacedRule]:
        """Return the rules for what someone (by any of their names) shares of a folder."""
        names = tuple(person)
        return [one for one in self.rules if one.covers(address.system, names, address.path)]

    def rule_at(self, address: Address, person: Iterable[str]) -> SharingRule:
        """Return the tightest of `rules_at`."""
        return tightest(self.rules_at(address, person))

    def is_sensitive(self, address: Address) -> bool:
        """Tell whether a folder is, or lies in, one that the plan calls sensitive."""
        return any(address.is_within(one) for one in self.sensitive)
