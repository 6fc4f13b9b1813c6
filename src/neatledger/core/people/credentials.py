"""A user's name and password, on their way to a system; a new password, on its way to whose it is."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import ip_address

__all__ = ["LOOPBACK", "Credentials", "is_loopback", "make_password"]

LOOPBACK = frozenset({"127.0.0.1", "::1", "localhost"})
"""The names of this machine: to it alone a password may go in the clear."""


def is_loopback(host: str) -> bool:
    """Tell whether a host is this machine itself, by name (RFC 6761 section 6.3) or address (RFC 6890)."""
    name = host.rstrip(".").lower()
    if name in LOOPBACK or name.endswith(".localhost"):
        return True
    try:
        address = ip_address(name.strip("[]"))
    except ValueError:
        return False
    mapped = getattr(address, "ipv4_mapped", None)
    return bool(address.is_loopback or (mapped is not None and mapped.is_loopback))


@dataclass(frozen=True, slots=True)
class Credentials:
    """Who signs in, and with what; the password is left out of every text form."""

    user: str
    password: str = field(repr=False)


_LETTERS, _DIGITS = "abcdefghkmnpqrstuvwxyz", "23456789"
"""None of those that look like another one on paper."""


def make_password() -> str:
    """Return a password of four groups, as in ``Kemar-t4vub-bhwre-92kxe``: over 90 bits.

    It has what the usual rules of systems ask for, and can be read out over a telephone.
    """
    # Whoever only signs in need not wait for it.
    import secrets

    groups = ["".join(secrets.choice(_LETTERS + _DIGITS) for _ in range(5)) for _ in range(4)]
    groups[0] = secrets.choice(_LETTERS).upper() + groups[0][1:]
    groups[-1] = secrets.choice(_DIGITS) + groups[-1][1:]
    return "-".join(groups)
