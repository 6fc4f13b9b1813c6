"""The probes by what an address begins with, or a file ends in; adding one is a file beside this one and a row."""

from __future__ import annotations

from importlib import import_module

from neatledger.errors import UsageError
from neatledger.probes.contract import Hints, Probe, Proposal

__all__ = ["PROBES", "probe"]

PROBES: dict[str, tuple[tuple[str, ...], tuple[str, ...], str]] = {
    "smb": (("smb://",), (), "a live SMB server: smb://loft.office.example"),
    "directory": (("ldap://", "ldaps://"), (".ldif",), "a directory: ldaps://people.office.example, or its export"),
    "web": (("https://", "http://"), (), "WebDAV or SCIM: https://files.office.example/dav/"),
    "listing": ((), (".csv", ".tsv", ".txt"), "tables exported elsewhere: folders.csv people.csv"),
    "tree": (("/", "./", "../", "~", "."), (), "a folder on this machine: /srv/barn"),
}
"""Module → what addresses begin with, what files end in, and an example."""


def probe(addresses: list[str], hints: Hints) -> Proposal:
    """Return what one address, or the files of one listing, come to; raises `UsageError` and `SourceError`."""
    first = addresses[0].casefold()
    # A file in a folder that is named from the root is still a file.
    by_end = [name for name, (_, ends, _) in PROBES.items() if ends and first.endswith(ends)]
    by_head = [name for name, (heads, _, _) in PROBES.items() if heads and first.startswith(heads)]
    name = next((one for one in (*by_end, *by_head)), "")
    if not name:
        examples = "; ".join(example for _, _, example in PROBES.values())
        raise UsageError(f"it is not plain what {addresses[0]!r} is the address of", hint=examples)
    if name != "listing" and len(addresses) > 1:
        raise UsageError("one system has one address; several files make a listing", hint="connect one at a time")
    look: Probe = import_module(f"neatledger.probes.{name}").probe
    return look("\n".join(addresses), hints)
