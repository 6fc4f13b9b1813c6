"""What is installed apart: which extra brings which library, and what is said where one is missing.

An extra is a name in brackets behind the package's own (PEP 508); pyproject.toml says what each brings.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec

from neatledger.errors import MissingPartError

__all__ = ["EXTRAS", "extras_for", "require_all"]

EXTRAS: dict[str, tuple[str, ...]] = {
    "gather": ("numpy", "mpmath"),
    "smb": ("smbprotocol",),
    "ldap": ("ldap3",),
    "services": ("httpx", "defusedxml"),
    "reports": ("matplotlib", "openpyxl", "jinja2", "icalendar"),
    "demo": ("werkzeug",),
    "complete": ("argcomplete",),
    "parquet": ("pyarrow",),
    "pandas": ("pandas",),
    "groups": ("highspy",),
    "signing": ("cryptography", "bcrypt"),
    "postgres": ("psycopg",),
    "cluster": ("distributed", "dask"),
}
"""Extra → the libraries that it brings, by the names they are imported by."""
_OF_COMMANDS = {
    **dict.fromkeys(("report", "review", "expiring"), ("gather", "reports")),
    "notices": ("gather", "reports"),
    "connect": ("gather", "smb", "ldap", "services"),
}
"""What a command may come to need beside the library that it missed first: all of it is told at once."""
_APART = ("complete", "parquet", "pandas", "groups", "signing", "postgres", "cluster")  # the tour does not need them


def require_all(what: str) -> None:
    """Raise `MissingPartError` unless everything that is installed apart is there: `what` goes through all of it."""
    wanted = [libraries for extra, libraries in EXTRAS.items() if extra not in _APART]
    missing = [library for libraries in wanted for library in libraries if not _is_there(library)]
    if missing:
        names = ", ".join(missing)
        raise MissingPartError(f"needs what is not installed: {names}", what, "pip install 'neatledger[demo]'")


@contextmanager
def extras_for(what: str) -> Iterator[None]:
    """Turn the lack of a library into `MissingPartError`: it names `what` wanted it, and the extra that brings it."""
    try:
        yield
    except ModuleNotFoundError as error:
        library = (error.name or "").partition(".")[0]
        found = next((extra for extra, libraries in EXTRAS.items() if library in libraries), None)
        if found is None:
            raise
        wanted = dict.fromkeys((*_OF_COMMANDS.get(what, ()), found))
        lacking = {extra: [one for one in EXTRAS[extra] if one == library or not _is_there(one)] for extra in wanted}
        names = ", ".join(one for libraries in lacking.values() for one in libraries)
        extras = ",".join(extra for extra, libraries in lacking.items() if libraries)
        raise MissingPartError(
            f"needs what is not installed: {names}", what, f"pip install 'neatledger[{extras}]'"
        ) from None


def _is_there(library: str) -> bool:
    try:
        return find_spec(library) is not None
    except (ImportError, ValueError):
        return False
