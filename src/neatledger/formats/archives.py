"""Archives of others (ISO/IEC 21320-1), looked at before anything of them is unpacked."""

from __future__ import annotations

import struct
import zipfile
import zlib
from typing import IO

from neatledger import errors
from neatledger.errors import FormatError

__all__ = ["UNREADABLE", "check_archive"]

UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    EOFError,
    OSError,
    *errors.UNREADABLE,
    struct.error,
    SyntaxError,  # XML that is not well-formed is told as that
    RuntimeError,  # encrypted, of a newer version, or too deep
)
"""What reading an archive of another's making raises."""

_MOST_PARTS = 1000
_RATIO, _SMALL = 200, 1 << 22


def check_archive(file: IO[bytes], most: int) -> None:
    """Raise `FormatError` where an archive cannot be read, or unpacks to more than `most` bytes or beyond measure.

    What is unpacked is never more than it says there.
    """
    try:
        with zipfile.ZipFile(file) as archive:
            parts = archive.infolist()
    except UNREADABLE as error:
        raise FormatError(f"it cannot be read ({type(error).__name__})") from None
    size, packed = sum(part.file_size for part in parts), sum(part.compress_size for part in parts)
    if len(parts) > _MOST_PARTS or len({part.filename for part in parts}) < len(parts):
        raise FormatError(f"it has {len(parts):,} parts, or one twice")
    if size > most or (size > _SMALL and size > packed * _RATIO):
        raise FormatError(f"it would unpack from {packed:,} to {size:,} bytes, which none of its kind does")
    if any(part.flag_bits & 0x1 for part in parts):
        raise FormatError("it is encrypted")
