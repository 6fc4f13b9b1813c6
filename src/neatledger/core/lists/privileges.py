"""Privileges: what a system lets an account do whatever its lists say.

Source: MS-LSAD section 3.1.1.2.1 (SeBackupPrivilege, SeRestorePrivilege, SeTakeOwnershipPrivilege) and the
access check of MS-DTYP section 2.5.3.2, which grants take-ownership before any entry is looked at.
"""

from __future__ import annotations

from dataclasses import replace

from neatledger.core.lists.contract import Effect, ListModel, Reason
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import ALL_RIGHTS, Right

__all__ = ["PRIVILEGES", "is_override_doubtful", "override_of"]

PRIVILEGES: dict[str, tuple[Right, str]] = {
    "backup": (Right.ENTER | Right.LIST | Right.READ, "may read everything for backups"),
    "restore": (
        Right.ENTER | Right.ADD | Right.CHANGE | Right.DELETE | Right.CLEAR | Right.MANAGE,
        "may write everything and set any list, for restoring",
    ),
    "take-ownership": (Right.MANAGE, "may take ownership of anything, and then change its list"),
    "everything": (ALL_RIGHTS, "an administrator of the server, whatever the lists say"),
}
"""Privilege → what it gives everywhere, and why."""


def is_override_doubtful(model: ListModel, holder: Holder) -> bool:
    """Tell whether privileges that are only perhaps a holder's would give more than those that are."""
    most = model.overrides(holder) if holder.perhaps else None
    if most is None:
        return False
    sure = model.overrides(replace(holder, perhaps=frozenset()))
    return sure is None or most.rights != sure.rights


def override_of(holder: Holder) -> Reason | None:
    """Return what a holder's privileges give whatever the lists say, or None; those that are perhaps theirs too."""
    has = holder.privileges | holder.perhaps
    rights, parts = Right.NONE, []
    for name, (given, because) in PRIVILEGES.items():
        if name in has:
            rights |= given
            parts.append(because)
    if not rights:
        return None
    return Reason(
        Effect.GRANTS,
        f"privilege {', '.join(n for n in PRIVILEGES if n in has)}",
        rights,
        "; ".join(parts),
    )
