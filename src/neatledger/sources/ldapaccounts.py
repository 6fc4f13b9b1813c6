"""People and groups of a directory: live over LDAP (RFC 4511 to 4519), or from its LDIF export.

A live directory is read in pages (RFC 2696) over TLS (LDAPS or StartTLS, RFC 4513); without it only where the
plan says so, since names and a password would pass in the clear. A referral (RFC 4511 4.1.10, 4.5.3) is never
followed: it names a host that nobody here trusted with the password. What lies there is said not to be seen.
"""

from __future__ import annotations

import ssl
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from neatledger.core.survey.accounts import Account, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError
from neatledger.formats.directory import Entry, accounts_of
from neatledger.formats.ldif import parse_ldif
from neatledger.sources.contract import SourceContext

__all__ = ["read_ldap_accounts"]

_FILTER = (
    "(|(objectClass=person)(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account)"
    "(objectClass=posixGroup)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=group))"
)
_REFERRAL = 10  # RFC 4511 appendix A.1
_WANTED = [
    "objectClass", "uid", "sAMAccountName", "cn", "displayName", "gecos", "mail", "homeDirectory", "loginShell",
    "uidNumber", "gidNumber", "objectSid", "sambaSID", "primaryGroupID", "member", "uniqueMember", "memberUid",
    "userAccountControl", "nsAccountLock", "loginDisabled", "pwdAccountLockedTime", "sambaAcctFlags", "shadowExpire",
    "accountExpires", "lastLogonTimestamp", "lastLogon", "authTimestamp", "pwdLastSuccess",
]  # fmt: skip


def read_ldap_accounts(
    context: SourceContext, setting: Mapping[str, Any]
) -> tuple[list[Account], list[Group], list[NotSeen]]:
    """Read the directory of ``ldif`` or ``ldap`` in the settings; raises `SourceError`."""
    not_seen: list[NotSeen] = []
    if "ldif" in setting:
        path = context.office_dir / setting["ldif"]
        try:
            text = Path(path).read_text("utf-8-sig", "surrogateescape")
        except OSError as error:
            raise SourceError(f"cannot read the directory's export: {error.strerror}", str(path)) from None
        entries, faults = parse_ldif(text, str(path))
        not_seen = [
            NotSeen.of_source(fault.where, f"found {fault.found}; expected {fault.expected}") for fault in faults
        ]
    else:
        entries = _read_live(context, setting["ldap"], not_seen)
    default = "sid" if context.settings["source"] == "smb" or context.settings.get("lists") == "nt" else "number"
    by_sid = str(setting.get("ids", default)) == "sid"
    accounts, groups = accounts_of(entries, context.today, by_sid=by_sid)
    return accounts, groups, not_seen


def _read_live(context: SourceContext, setting: Mapping[str, Any], not_seen: list[NotSeen]) -> list[Entry]:
    import ldap3
    from ldap3.core.exceptions import LDAPException

    url = urlsplit(str(setting["url"]))
    where, timeout = str(setting["url"]), max(1, int(setting.get("timeout", 30)))
    if url.scheme not in ("ldap", "ldaps") or not url.hostname:
        raise SourceError("not the address of a directory", where, "write it as ldaps://host or ldap://host:389")
    is_plain = bool(setting.get("allow-plain", False))
    user = str(setting.get("user", ""))
    words: dict[str, Any] = {"receive_timeout": timeout, "raise_exceptions": True, "read_only": True}
    words["auto_referrals"] = False
    if user:
        found = context.credentials(user, url.hostname)
        words |= {"user": found.user, "password": found.password, "authentication": ldap3.SIMPLE}
    try:
        tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=_file(context, setting.get("ca")))
        server = ldap3.Server(
            url.hostname,
            url.port,
            use_ssl=url.scheme == "ldaps",
            tls=tls,
            get_info=ldap3.NONE,
            connect_timeout=timeout,
        )
        connection = ldap3.Connection(server, auto_bind=False, **words)
        try:
            connection.open()
            if url.scheme == "ldap" and not is_plain:
                connection.start_tls()
            connection.bind()
            return _search(context, connection, setting, not_seen)
        finally:
            # Also where signing in failed half way: a connection is not to be left open.
            with suppress(LDAPException, OSError):
                connection.unbind()
    except (LDAPException, OSError, ssl.SSLError) as error:
        message = str(error).splitlines()[0] if str(error) else type(error).__name__
        hint = "see url, user and base in the plan; allow-plain: true does without TLS"
        raise SourceError(f"cannot read the directory: {message}", where, hint) from None


def _file(context: SourceContext, name: str | None) -> str | None:
    if not name:
        return None
    path = context.office_dir / name
    if not path.is_file():
        raise SourceError("there is no file of authorities to trust", str(path), "see ca in the plan")
    return str(path)


def _search(
    context: SourceContext, connection: Any, setting: Mapping[str, Any], not_seen: list[NotSeen]
) -> list[Entry]:
    entries = []
    found = connection.extend.standard.paged_search(
        str(setting["base"]),
        str(setting.get("filter", _FILTER)),
        attributes=_WANTED,
        paged_size=int(setting.get("page", 500)),
        generator=True,
    )
    for row in found:
        if row.get("type") == "searchResEntry":
            values = {key.lower().partition(";")[0]: list(each) for key, each in row["raw_attributes"].items()}
            entries.append(Entry(row["dn"], values))
            context.progress(1)
        elif row.get("type") == "searchResRef":
            places = " or ".join(map(str, row.get("uri", ())))
            not_seen.append(NotSeen.of_source(places, "part of the directory is said to be there; it was not asked"))
    answer = connection.result or {}
    if answer.get("result") == _REFERRAL:
        # The library raises for every other refusal; an empty answer here would pass for an empty directory.
        places = " or ".join(map(str, answer.get("referrals") or ()))
        hint = "name that server in the plan, if it is one of the office's"
        where = str(setting["url"])
        raise SourceError(f"the directory refers to another, which was not asked: {places}", where, hint)
    return entries
