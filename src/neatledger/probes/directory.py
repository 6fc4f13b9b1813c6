"""A directory: what it says of itself (RFC 4512 section 5.1), where its people lie, and how it is signed in to."""

from __future__ import annotations

import ssl
from collections.abc import Mapping
from contextlib import suppress
from datetime import date
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from neatledger.errors import SourceError
from neatledger.probes.contract import Hints, Proposal
from neatledger.sources.contract import SourceContext

__all__ = ["account_setting", "is_directory", "probe"]

_HEADS = ("ldap://", "ldaps://")


def probe(address: str, hints: Hints) -> Proposal:
    """Look at a directory, or at its export."""
    found = Proposal({"source": "directory"})
    setting, notes, lacking = account_setting(address, hints)
    found.put("accounts", setting, "people and groups alone")
    found.notes, found.lacking = notes, lacking
    return found


def is_directory(address: str) -> bool:
    """Tell whether an address is a directory's, or the name of a directory's export."""
    return address.casefold().startswith(_HEADS) or address.casefold().endswith(".ldif")


def account_setting(address: str, hints: Hints) -> tuple[dict[str, Any], list[str], list[str]]:
    """Return what `accounts` in a plan says for a directory, what is there, and what could not be known."""
    from neatledger.sources.ldapaccounts import read_ldap_accounts

    notes: list[str] = []
    lacking: list[str] = []
    if not address.casefold().startswith(_HEADS):
        path = Path(address).expanduser().resolve()
        setting: dict[str, Any] = {"ldif": str(path)}
    else:
        setting = {"ldap": _live(address, hints, notes)}
    if hints.said.get("ids"):
        setting["ids"] = str(hints.said["ids"])
    context = _context(hints, {"source": "directory", "accounts": setting})
    accounts, groups, not_seen = read_ldap_accounts(context, setting)
    notes.append(f"{len(accounts)} accounts and {len(groups)} groups are read there.")
    if not accounts and groups and "ids" not in setting:
        lacking.append("the accounts: perhaps they have identifiers of the other sort: --ids sid or --ids number")
    notes += [f"Not read: {one.why}" for one in not_seen[:3]]
    return setting, notes, lacking


def _context(hints: Hints, settings: Mapping[str, Any]) -> SourceContext:
    words = hints.system, hints.office_dir, settings
    return SourceContext(*words, date.today(), lambda _: None, hints.account_credentials)


def _live(address: str, hints: Hints, notes: list[str]) -> dict[str, Any]:
    import ldap3
    from ldap3.core.exceptions import LDAPException

    from neatledger.sources.ldapaccounts import in_words, make_connection, starts_tls, told_entries

    setting: dict[str, Any] = {"url": address}
    if hints.said.get("ca"):
        setting["ca"] = str(Path(hints.said["ca"]).resolve())
    if hints.said.get("plain"):
        setting["allow-plain"] = True
    if hints.said.get("sign-in"):
        setting["sign-in"] = str(hints.said["sign-in"])
    context = _context(hints, {})
    connection = make_connection(context, setting, "")
    try:
        connection.open()
        if starts_tls(setting):
            connection.start_tls()
        # Whoever asks may read what a directory says of itself.
        connection.bind()
        connection.search("", "(objectClass=*)", ldap3.BASE, attributes=["*", "+"])
        rows = told_entries(connection)
    except (LDAPException, OSError, ssl.SSLError) as error:
        message, hint = in_words(error)
        raise SourceError(f"the directory cannot be asked: {message}", address, _as_options(hint)) from None
    finally:
        with suppress(Exception):
            connection.unbind()
        with suppress(Exception):
            # What never was open the library leaves behind.
            connection.socket.close()
    told = {key.casefold(): values for key, values in (rows[0]["raw_attributes"].items() if rows else ())}
    bases = [value.decode("utf-8", "replace") for value in told.get("namingcontexts", ())]
    usual = [value.decode("utf-8", "replace") for value in told.get("defaultnamingcontext", ())]
    base = hints.text("base") or (usual or bases or [""])[0]
    if len(bases) > 1 and not hints.said.get("base"):
        notes.append(f"It holds {', '.join(bases)}; the people are taken to be below {base}.")
    if not base:
        base = hints.text("base", f"Below which entry of {urlsplit(address).hostname} do the people lie? ")
    if not base:
        hint = "--base 'dc=office,dc=example'"
        raise SourceError("below which entry the people lie is not known", address, hint)
    setting["base"] = base
    user = hints.text("user", f"Who signs in at {urlsplit(address).hostname}, as a distinguished name? [nobody] ")
    if user:
        setting["user"] = user
    return setting


def _as_options(hint: str) -> str:
    """Return a hint that speaks of the plan's keys in the words of the call."""
    for key, option in (("ca: FILE", "--ca FILE"), ("allow-plain: true", "--plain"), ("in the plan", "in the call")):
        hint = hint.replace(key, option)
    return hint
