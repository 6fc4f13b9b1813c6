"""The entry of an account in a directory, made like those that are there, and found again.

Which classes hold people and what an entry of each must have: RFC 4519 section 3.12 (person: cn, sn), RFC 2798
(inetOrgPerson), RFC 2307 section 4 (posixAccount). A new entry has no password: nobody signs in with it before one is
set.
"""

from __future__ import annotations

from collections import Counter

from neatledger.carriers.contract import Looked, Standing, why_not_plain
from neatledger.carriers.entrychanges import WholeEntry, encoded
from neatledger.core.steps.accounts import WholeAccountStep
from neatledger.core.survey.accounts import Account
from neatledger.errors import StepError
from neatledger.formats.directory import Entry, Places

__all__ = ["account_entry", "escaped", "look_for_account", "new_account_entry", "why_by_hand"]

_KNOWN = ("top", "person", "organizationalPerson", "inetOrgPerson", "account", "posixAccount", "shadowAccount")
_OF_DOMAIN = "user"


def why_by_hand(step: WholeAccountStep) -> str:
    """Say why such an account must be made by a person; nothing where an entry can say it."""
    account = step.account
    if account.ident.startswith("S-1-") or account.primary.startswith("S-1-"):
        return "accounts of a domain are made with its own tools, which set a password too"
    return why_not_plain(step)


def look_for_account(step: WholeAccountStep, places: Places) -> Looked:
    """Tell how an account stands in a directory."""
    account = step.account
    by_number = [
        one for one in places.people.values() if account.ident.isdecimal() and one.text("uidnumber") == account.ident
    ]
    found = places.people.get(account.login)
    is_made = step.after is not None
    if found is None:
        if by_number:
            return Looked(Standing.OTHER, "its number is another account's")
        return Looked(Standing.BEFORE if is_made else Standing.AFTER)
    if account.ident.isdecimal() and by_number != [found]:
        return Looked(Standing.OTHER, "there is another account of this login")
    return Looked(Standing.AFTER if is_made else Standing.BEFORE)


def new_account_entry(step: WholeAccountStep, places: Places) -> WholeEntry:
    """Return the entry of an account that is to be made.

    It stands beside most of the accounts that are there, and is of their classes. Raises `StepError` where the
    directory has none that could be its pattern.
    """
    account = step.account
    patterns = [one for one in places.people.values() if _is_pattern(one, account)]
    if not patterns:
        raise StepError("the directory has no account that this one could be made like", step.where, "make it there")
    key_of = {id(one): _key(one) for one in patterns}
    parent, classes, naming = Counter(key_of.values()).most_common(1)[0][0]
    like = next(one for one in patterns if key_of[id(one)] == (parent, classes, naming))
    words = account.name.split()
    values = {
        "objectClass": [one for one in _KNOWN if one.lower() in classes],
        "uid": [account.login],
        "cn": [account.name or account.login],
        "sn": [words[-1] if words else account.login],
        "givenName": words[:1],
        "displayName": [account.name] if account.name else [],
        "gecos": [account.name] if account.name.isascii() and account.name else [],
        "mail": [account.email] if account.email else [],
        "uidNumber": [account.ident],
        "gidNumber": [account.primary],
        "homeDirectory": [account.home or f"/home/{account.login}"],
        "loginShell": [account.shell] if account.shell else [],
    }
    must = {"objectclass", naming} | ({"cn", "sn"} if "person" in classes or "inetorgperson" in classes else set())
    must |= {"uid", "cn", "uidnumber", "gidnumber", "homedirectory"} if "posixaccount" in classes else set()
    attributes = {
        name: tuple(encoded(one) for one in some)
        for name, some in values.items()
        if some and (name.lower() in must or name.lower() in like.attributes)
    }
    name = account.login if naming == "uid" else account.name or account.login
    return WholeEntry(f"{naming}={escaped(name)},{parent}", attributes)


def _key(entry: Entry) -> tuple[str, frozenset[str], str]:
    first, _, parent = entry.name.partition(",")
    return parent, frozenset(entry.classes & set(map(str.lower, _KNOWN))), first.partition("=")[0].strip().lower()


def _is_pattern(entry: Entry, account: Account) -> bool:
    """Tell whether a new account may be made like an entry: numbered as it, and named by uid or cn."""
    is_numbered = bool(entry.text("uidnumber")) == account.ident.isdecimal()
    naming = entry.name.partition("=")[0].strip().lower()
    return is_numbered and naming in ("uid", "cn") and _OF_DOMAIN not in entry.classes


def account_entry(step: WholeAccountStep, places: Places) -> Entry | None:
    """Return the entry of a step's account."""
    return places.people.get(step.account.login)


def escaped(text: str) -> str:
    """Escape a value of a distinguished name (RFC 4514 section 2.4)."""
    found = "".join(f"\\{one}" if one in ',+"\\<>;=' else one for one in text)
    found = f"\\{found}" if found.startswith(("#", " ")) else found
    return f"{found[:-1]}\\ " if found.endswith(" ") and len(text) > 1 else found
