"""A count that was made elsewhere, out of its file into the ledger: whole, once, signed by whom the plan names."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from neatledger.core.plan.plan import Signer
from neatledger.errors import FormatError, LedgerError
from neatledger.formats.signature import fingerprint, signer_of
from neatledger.ledger.carried import NAMESPACE, CarriedCount, read_carried
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office

__all__ = ["DANGERS", "Taken", "take"]

DANGERS = ("future", "office", "older", "source")
"""What a count may be refused for though it is whole and signed: the words that allow it."""

_AHEAD = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Taken:
    """A count that was taken: its number, the digest of its file, and who signed it (empty: nobody).

    `is_known` tells whether the plan names who signed; else it is the fingerprint of the key.
    """

    number: int
    digest: str
    signer: str
    is_known: bool


def take(office: Office, file: str, now: datetime, allowed: Collection[str] = ()) -> Taken:
    """Take the count in a file into the ledger; raises `LedgerError` where it is not whole, or not to be had.

    What `DANGERS` names is refused unless it is allowed by its word; `now` is what the clock says.
    """
    try:
        with open(Path(file), "rb") as opened:
            carried = read_carried(opened, file)
            names = [one.system for one in carried.systems]
            unknown = [name for name in names if name not in office.plan.systems]
            if unknown:
                hint = f"this office has {', '.join(office.plan.systems)}"
                raise LedgerError(f"it is of {unknown[0]}, which is no system of this plan", file, hint)
            key = _key_of(carried, file)
            name = _signer_for(office.plan.signers, key, names, file)
            with closing(office.books.open_ledger(create=True)) as ledger:
                signer = office.plan.signers.get(name)
                expected = signer.office if signer is not None else office.plan.office
                for danger, why in _dangers(office, carried, expected, ledger.counts(), now):
                    if danger not in allowed:
                        raise LedgerError(why, file, f"if it is meant: --allow {danger}")
                number = ledger.take_count(carried, key)
    except OSError as error:
        raise LedgerError(f"cannot be read: {error.strerror or error}", file) from None
    return Taken(number, carried.digest, name or fingerprint(key), bool(name))


def _signer_for(signers: Mapping[str, Signer], key: str, systems: Sequence[str], file: str) -> str:
    """Return whose name in the plan a key is; raises `LedgerError` where it does not speak for these systems."""
    if not signers:
        return ""
    named = [name for name, signer in signers.items() if signer.key == key]
    if not named:
        whom = "by a key that the plan does not name" if key else "by nobody"
        raise LedgerError(f"it is signed {whom}", file, f"signers in the plan: {', '.join(signers)}")
    for name in named:
        if set(systems) <= set(signers[name].systems):
            return name
    signer = signers[named[0]]
    foreign = next(system for system in systems if system not in signer.systems)
    message = f"{named[0]} signed it, and speaks for {', '.join(signer.systems)}, not for {foreign}"
    raise LedgerError(message, file, "see signers in the plan")


def _dangers(
    office: Office, carried: CarriedCount, expected: str, known: Sequence[CountInfo], now: datetime
) -> Iterator[tuple[str, str]]:
    """Yield what speaks against taking a count: the word that allows it, and why."""
    if carried.office != expected:
        yield "office", f"it is of the office {carried.office!r}, and {expected!r} was expected"
    if carried.taken_at > now + _AHEAD:
        yield "future", f"it is dated {carried.taken_at:%Y-%m-%d}, in the future: until then it would be the newest"
    for one in carried.systems:
        planned = office.plan.systems[one.system]
        if one.source != planned.source:
            yield "source", f"{one.system} was read there as {one.source}, and the plan reads it as {planned.source}"
        model = str(planned.settings.get("lists") or one.model)
        if one.model != model:
            yield "source", f"{one.system} has lists of the sort {one.model} there, and {model} in the plan"
        newest = max(
            (info.taken_at for count in known for info in count.surveys if info.system == one.system), default=None
        )
        if newest is not None and carried.taken_at < newest:
            before = f"before the newest count of {one.system} ({newest:%Y-%m-%d %H:%M})"
            yield "older", f"it was taken {carried.taken_at:%Y-%m-%d %H:%M}, {before}"


def _key_of(carried: CarriedCount, file: str) -> str:
    if not carried.signature:
        return ""
    try:
        return signer_of(carried.signature, NAMESPACE, carried.manifest)
    except FormatError as error:
        raise LedgerError(f"its signature does not hold: {error}", file, "count again where it was made") from None
