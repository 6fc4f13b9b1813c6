"""What in a directory closes an account: the switch that its entry has, or its directory's password policy honours.

Source of the attributes: MS-ADTS 2.2.16 (userAccountControl), RFC 2307 section 4 (shadowExpire, which machines go by,
and not the directory), draft-behera-ldap-password-policy sections 5.3.3 (pwdAccountLockedTime), 5.2.11 (pwdLockout).
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum

from neatledger.formats.directory import Entry, normal_name

__all__ = ["Switch", "switch_of"]


class Switch(Enum):
    """What closes an account, by the attribute that says it."""

    CONTROL = "userAccountControl"
    FLAGS = "sambaAcctFlags"
    LOCK = "nsAccountLock"
    LOGIN = "loginDisabled"
    POLICY = "pwdAccountLockedTime"
    EXPIRE = "shadowExpire"


def _locks(entry: Entry, lockouts: Mapping[str, bool]) -> bool:
    """Tell whether an account that is locked by its password policy is kept out.

    Which policy holds an entry may say; where it does not, and a policy keeps the day of its password, all must.
    """
    named = entry.text("pwdpolicysubentry")
    if named:
        return lockouts.get(normal_name(named), False)
    return bool(entry.text("pwdchangedtime") and lockouts) and all(lockouts.values())


def switch_of(entry: Entry, lockouts: Mapping[str, bool]) -> Switch | None:
    """Return what closes an account; None where nothing in its entry does. `lockouts` are those of `Places`."""
    for switch in (Switch.CONTROL, Switch.FLAGS, Switch.LOCK, Switch.LOGIN):
        if entry.text(switch.value.lower()):
            return switch
    if _locks(entry, lockouts):
        return Switch.POLICY
    return Switch.EXPIRE if "shadowaccount" in entry.classes else None
