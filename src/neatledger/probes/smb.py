"""An SMB server: its shares, whether it tells permissions and accounts to whoever signs in."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from neatledger.errors import SourceError
from neatledger.probes.contract import Hints, Proposal
from neatledger.probes.directory import account_setting, is_directory

__all__ = ["probe"]

_PORT = 445
_HIDDEN = ("IPC$", "ADMIN$", "print$")


def probe(address: str, hints: Hints) -> Proposal:
    """Sign in, and ask for shares, and for users and groups."""
    from neatledger.sources.smberrors import Refused
    from neatledger.sources.smbnames import read_directory, read_shares
    from neatledger.sources.smbsession import Terms
    from neatledger.sources.smbsteady import SteadySession

    parts = urlsplit(address)
    if not parts.hostname:
        raise SourceError("no server is named", address, "write it as smb://loft.office.example")
    found = Proposal({"source": "smb"})
    found.put("host", parts.hostname)
    if parts.port and parts.port != _PORT:
        found.put("port", parts.port)
    by_ticket = hints.said.get("sign-in") == "kerberos"
    user = "" if by_ticket else hints.text("user", f"Who signs in at {parts.hostname}? ") or str(parts.username or "")
    if by_ticket:
        found.put("sign-in", "kerberos", "with the ticket of whoever runs this")
    elif not user:
        raise SourceError(
            "who signs in there is not known", address, "--user NAME, an account that may read all lists"
        )
    else:
        found.put("user", user, "the password comes from the environment, the keyring or a prompt")
    for word in ("allow-unsigned", "allow-guest"):
        if hints.said.get(word):
            found.put(word, True)
    terms = Terms.of_settings(found.settings)
    with SteadySession(terms, terms.credentials(user, hints.credentials)) as session:
        try:
            shares = [one for one in session.ask(read_shares) if one.name not in _HIDDEN]
            _shares(found, hints, shares)
        except Refused as error:
            found.lacking.append(f"its shares, which it does not list ({error}): --share NAME, as often as needed")
            if hints.said.get("shares"):
                found.put("shares", list(hints.said["shares"]))
        try:
            told = session.ask(read_directory)
            found.notes.append(f"It tells {len(told.accounts)} accounts and {len(told.groups)} groups of its own.")
        except Refused as error:
            found.lacking.append(f"its accounts ({error}): --accounts ldaps://… where a directory keeps them")
        found.notes.append("Signed" + (" and encrypted." if session.is_encrypted else ", not encrypted."))
    if is_directory(str(hints.said.get("accounts") or "")):
        setting, notes, lacking = account_setting(str(hints.said["accounts"]), hints)
        found.put("accounts", setting, "of a directory")
        found.notes += notes
        found.lacking += lacking
    return found


def _shares(found: Proposal, hints: Hints, shares: list[Any]) -> None:
    names = [one.name for one in shares]
    wanted = list(hints.said.get("shares") or ())
    if not wanted and names:
        answer = hints.ask(f"Which shares of {', '.join(names)}? [all] ")
        wanted = [one.strip() for one in answer.split(",") if one.strip()]
    strange = [one for one in wanted if one not in names]
    if strange:
        found.lacking.append(f"shares of these names, which it does not list: {', '.join(strange)}")
    # All of them by name: one that is made later is not read without anybody's knowing.
    found.put("shares", wanted or names, "all that it lists" if not wanted else "")
    untold = [one.name for one in shares if one.permission is None and one.name in (wanted or names)]
    if untold:
        found.lacking.append(f"the permission of {', '.join(untold)}: permissions: {{SHARE: SDDL}} says it")
