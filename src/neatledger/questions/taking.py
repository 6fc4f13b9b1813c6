"""A count that was made elsewhere, out of its file into the ledger: whole, once, signed by whom the plan names."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from neatledger.errors import FormatError, LedgerError
from neatledger.formats.signature import fingerprint, signer_of
from neatledger.ledger.carried import NAMESPACE, CarriedCount, read_carried
from neatledger.questions.office import Office

__all__ = ["Taken", "take"]


@dataclass(frozen=True, slots=True)
class Taken:
    """A count that was taken: its number, the digest of its file, and who signed it (empty: nobody).

    `is_known` tells whether the plan names who signed; else it is the fingerprint of the key.
    """

    number: int
    digest: str
    signer: str
    is_known: bool


def take(office: Office, file: str) -> Taken:
    """Take the count in a file into the ledger; raises `LedgerError` where it is not whole, or not to be had."""
    try:
        with open(Path(file), "rb") as opened:
            carried = read_carried(opened, file)
            unknown = [one for one in carried.systems if one not in office.plan.systems]
            if unknown:
                hint = f"this office has {', '.join(office.plan.systems)}"
                raise LedgerError(f"it is of {unknown[0]}, which is no system of this plan", file, hint)
            key = _key_of(carried, file)
            name = next((name for name, known in office.plan.signers.items() if known == key), "")
            if office.plan.signers and not name:
                whom = "by a key that the plan does not name" if key else "by nobody"
                hint = f"signers in the plan: {', '.join(office.plan.signers)}"
                raise LedgerError(f"it is signed {whom}", file, hint)
            with closing(office.books.open_ledger(create=True)) as ledger:
                number = ledger.take_count(carried, key)
    except OSError as error:
        raise LedgerError(f"cannot be read: {error.strerror or error}", file) from None
    return Taken(number, carried.digest, name or fingerprint(key), bool(name))


def _key_of(carried: CarriedCount, file: str) -> str:
    if not carried.signature:
        return ""
    try:
        return signer_of(carried.signature, NAMESPACE, carried.manifest)
    except FormatError as error:
        raise LedgerError(f"its signature does not hold: {error}", file, "gather again where it was made") from None
