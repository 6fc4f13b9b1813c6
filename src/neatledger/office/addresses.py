"""Folder addresses as people write them."""

from __future__ import annotations

import os

from neatledger.core.tree.address import Address

__all__ = ["parse_address"]


def parse_address(text: str) -> Address:
    """Parse ``system:/path``; a closing slash and doubled ones do not matter."""
    system, _, path = text.partition(":")
    parts = [part for part in os.fsencode(path).split(b"/") if part]
    return Address(system, b"/" + b"/".join(parts))
