"""Security identifiers that mean the same on every system (MS-DTYP section 2.4.2.4)."""

from __future__ import annotations

__all__ = [
    "AUTHENTICATED",
    "BUILTIN",
    "CREATOR_GROUP",
    "CREATOR_OWNER",
    "EVERYONE",
    "NETWORK",
    "NEVER_OVER_NETWORK",
    "OWNER_RIGHTS",
    "WELL_KNOWN",
    "short_number",
]

EVERYONE, NETWORK, AUTHENTICATED = "S-1-1-0", "S-1-5-2", "S-1-5-11"
BUILTIN = "S-1-5-32"
"""The domain of the groups that every system has, such as its administrators."""

CREATOR_OWNER, CREATOR_GROUP, OWNER_RIGHTS = "S-1-3-0", "S-1-3-1", "S-1-3-4"

WELL_KNOWN = {
    "S-1-0-0": "Nobody",
    EVERYONE: "Everyone",
    "S-1-2-0": "Local",
    CREATOR_OWNER: "Creator Owner",
    CREATOR_GROUP: "Creator Group",
    OWNER_RIGHTS: "Owner Rights",
    "S-1-5-1": "Dialup",
    NETWORK: "Network",
    "S-1-5-3": "Batch",
    "S-1-5-4": "Interactive",
    "S-1-5-6": "Service",
    "S-1-5-7": "Anonymous",
    "S-1-5-9": "Enterprise Domain Controllers",
    "S-1-5-10": "Self",
    AUTHENTICATED: "Authenticated Users",
    "S-1-5-12": "Restricted",
    "S-1-5-13": "Terminal Server Users",
    "S-1-5-14": "Remote Interactive",
    "S-1-5-15": "This Organization",
    "S-1-5-18": "System",
    "S-1-5-19": "Local Service",
    "S-1-5-20": "Network Service",
    "S-1-5-32-544": "Administrators",
    "S-1-5-32-545": "Users",
    "S-1-5-32-546": "Guests",
    "S-1-5-32-547": "Power Users",
    "S-1-5-32-548": "Account Operators",
    "S-1-5-32-549": "Server Operators",
    "S-1-5-32-550": "Print Operators",
    "S-1-5-32-551": "Backup Operators",
    "S-1-5-32-552": "Replicator",
    "S-1-5-32-555": "Remote Desktop Users",
    "S-1-16-4096": "Low Level",
    "S-1-16-8192": "Medium Level",
    "S-1-16-12288": "High Level",
}


NEVER_OVER_NETWORK = frozenset(ident for ident in WELL_KNOWN if not ident.startswith(f"{BUILTIN}-")) - {
    EVERYONE,
    NETWORK,
    AUTHENTICATED,
    "S-1-5-15",
}
"""What nobody has who signs in over the network with a name: other ways of signing in, and the system itself.

Whether S-1-5-15 (This Organization) is had depends on how somebody signs in, and is not told.
"""


def short_number(sid: str) -> int | None:
    """Return the last number of an account's identifier (``S-1-5-21-…-1105`` → 1105), None for others."""
    parts = sid.split("-")
    return int(parts[-1]) if len(parts) > 4 and parts[:4] == ["S", "1", "5", "21"] and parts[-1].isdecimal() else None
