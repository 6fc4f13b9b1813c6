"""Amounts of storage: how they are written, and how they are shown.

Powers of 1000 have the SI prefixes (kB, MB, …: ISO/IEC 80000-1), powers of 1024 the binary ones (KiB, MiB,
…: IEC 80000-13). The two are never mixed: "KB" and bare numbers are refused where people write sizes.
"""

from __future__ import annotations

import re
from typing import Any

from neatledger.core.plan.limits import UNLIMITED, Limit

__all__ = [
    "NO_LIMIT",
    "UNITS",
    "is_binary",
    "parse_limit",
    "parse_size",
    "show_between",
    "show_field",
    "show_limit",
    "show_share",
    "show_size",
    "spell_size",
    "unit_fault",
]

NO_LIMIT: str = UNLIMITED.value
UNITS = {"B": 1}
UNITS |= {f"{letter}B": 1000**power for power, letter in enumerate("kMGTPE", 1)}
UNITS |= {f"{letter}iB": 1024**power for power, letter in enumerate("KMGTPE", 1)}
_SIZE = re.compile(r"^\s*([0-9]{1,20}(?:\.[0-9]{1,20})?)\s*([A-Za-z]+)\s*$")


def parse_size(text: str) -> int:
    """Return the bytes that a text such as ``20 GB`` or ``1.5 TiB`` says; raises `ValueError`."""
    found = _SIZE.match(text)
    if not found or found[2] not in UNITS:
        raise ValueError(f"{text[:40]!r} is no size: write 20 GB (1000s) or 18 GiB (1024s)")
    whole, _, part = found[1].partition(".")
    unit = UNITS[found[2]]
    part_bytes: int = int(part or "0") * unit // 10 ** len(part)
    return int(whole) * unit + part_bytes


def parse_limit(text: str) -> Limit:
    """Return a limit in bytes, or none in so many words; raises `ValueError`."""
    return UNLIMITED if " ".join(text.split()) == NO_LIMIT else parse_size(text)


def show_size(size_bytes: int, *, binary: bool = False) -> str:
    """Show bytes with three figures in the unit that fits; whole ones exactly (``20 GB``, ``1.43 MB``)."""
    sign, amount = ("-", -size_bytes) if size_bytes < 0 else ("", size_bytes)
    step = 1024 if binary else 1000
    names = ["B", *(f"{letter}iB" if binary else f"{letter}B" for letter in ("KMGTPE" if binary else "kMGTPE"))]
    power = 0
    # What would be shown as 1000 of a unit is shown as 1.00 of the next.
    while power < len(names) - 1 and amount >= step**power * (999.5 if power else step):
        power += 1
    unit = step**power
    if amount % unit == 0:
        return f"{sign}{amount // unit:,} {names[power]}"
    value = amount / unit
    digits = 2 if value < 9.995 else 1 if value < 99.95 else 0
    return f"{sign}{value:,.{digits}f} {names[power]}"


def spell_size(size_bytes: int) -> str:
    """Write bytes exactly, in the largest unit in which they are whole."""
    unit = max((word for word, power in UNITS.items() if size_bytes % power == 0), key=UNITS.__getitem__)
    return f"{size_bytes // UNITS[unit]} {unit}" if size_bytes else "0 B"


def show_between(low: int, high: int) -> str:
    """Show two bounds, once where they are one."""
    return show_size(low) if low == high else f"{show_size(low)} to {show_size(high)}"


def show_share(part: int, whole: int) -> str:
    """Show a part in whole percents, rounded down: never 100 % of what is not yet full, nor 0 % of something."""
    if whole <= 0:
        return "-"
    percent = 100 * part // whole
    return "<1 %" if not percent and part else f"{percent:,} %"


def is_binary(size_bytes: Limit) -> bool:
    """Tell whether a size was most likely meant in powers of 1024: it is whole in these and not in 1000s."""
    if not size_bytes or not isinstance(size_bytes, int):
        return False
    return size_bytes % 1024**2 == 0 and size_bytes % 1000**2 != 0


def show_limit(limit: Limit) -> str:
    """Show a limit in the unit that it is whole in, "no limit" in so many words."""
    return NO_LIMIT if limit is UNLIMITED else show_size(limit, binary=is_binary(limit))


def show_field(name: str, value: Any) -> str:
    """Show the value of one of `FIELDS`."""
    match name:
        case "limit":
            return show_limit(value)
        case "enforced":
            return "enforced" if value else "watched"
        case "grace_days":
            return "no grace" if value is None else f"{value} days' grace"
        case _:
            parts = [f"{level} % to {', '.join(who) or 'nobody'}" for level, who in value]
            return "; ".join(parts) or "no warning"


_FACTORS = {(1024 / 1000) ** power: f"{1024**power:,} for {1000**power:,}" for power in range(1, 6)}
_FACTORS |= {1000.0: "a unit too large (1000)", 1024.0: "a unit too large (1024)"}


def unit_fault(limit: int, likely: int) -> str:
    """Say by which slip of a unit one size would be the other; nothing where none explains it."""
    if not limit or not likely or limit == likely:
        return ""
    ratio = max(limit, likely) / min(limit, likely)
    return next((word for factor, word in _FACTORS.items() if abs(ratio / factor - 1) < 1e-6), "")
