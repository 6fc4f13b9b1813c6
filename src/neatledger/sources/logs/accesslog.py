"""A directory's own log over LDAP: entries that slapo-accesslog(5) writes of every operation, sign-ins too.

Values of what was changed are not taken over: they may be passwords.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from neatledger.core.trail.records import Did, Record
from neatledger.errors import FormatError, SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.ldapaccounts import close, in_words, make_connection, sign_in, starts_tls
from neatledger.sources.logs.names import first_name, is_of_log, members_changed

__all__ = ["LogEntry", "entries_after", "record_of_entry"]

LogEntry = Mapping[str, list[str]]
_WANTED = ["reqStart", "reqType", "reqDN", "reqAuthzID", "reqResult", "reqMod"]
_DONE = {"bind": Did.SIGN_IN, "add": Did.ACCOUNT, "modify": Did.ACCOUNT, "delete": Did.ACCOUNT, "modrdn": Did.ACCOUNT}
_PAGE = 1_000
_WRONG_PASSWORD, _NO_ACCESS = 49, 50  # RFC 4511 appendix A.1


def entries_after(
    context: SourceContext, setting: Mapping[str, Any], base: str, after: str, lost: list[str]
) -> Iterator[tuple[str, LogEntry]]:
    """Yield the entries of a log that began after a moment, by their moments in order; raises `SourceError`.

    `lost` takes a word where the entry of that moment, the last that was read, is not there any more.
    """
    import ldap3
    from ldap3.core.exceptions import LDAPException

    where = f"{setting['url']}/{base}"
    connection = make_connection(context, setting, str(setting.get("user", "")))
    later = f"(reqStart>={after})" if after else ""
    try:
        sign_in(connection, starts_tls=starts_tls(setting))
        found = connection.extend.standard.paged_search(
            base, f"(&(objectClass=auditObject){later})", ldap3.LEVEL, attributes=_WANTED,
            paged_size=int(setting.get("page", _PAGE)),
            generator=False,
        )  # fmt: skip
    except (LDAPException, OSError) as error:
        message, hint = in_words(error)
        raise SourceError(f"the log of the directory cannot be read: {message}", where, hint) from None
    finally:
        close(connection)
    entries = [one["raw_attributes"] for one in found if one.get("type") == "searchResEntry"]
    told = [
        {key: [value.decode("utf-8", "backslashreplace") for value in values] for key, values in one.items()}
        for one in entries
    ]
    if after and not any(_first(one, "reqStart") == after for one in told):
        # The directory removes old entries by itself (logpurge): others may have gone with it unread.
        lost.append("the last entry that was read is gone from the log, and perhaps others after it")
    for one in sorted(told, key=lambda each: _first(each, "reqStart")):
        start = _first(one, "reqStart")
        if start > after:
            yield start, one


def record_of_entry(entry: LogEntry) -> Record | None:
    """Return what an entry says that somebody did; None for what nobody did. Raises `FormatError`."""
    kind, result, start, dn = (_first(entry, one) for one in ("reqType", "reqResult", "reqStart", "reqDN"))
    did = _DONE.get(kind)
    if did is None:
        return None
    code = int(result) if result.isdecimal() else -1
    if code not in (0, _WRONG_PASSWORD, _NO_ACCESS):
        return None
    moment = _moment(start)
    if did is Did.SIGN_IN:
        # Whoever signs in as nobody (RFC 4513 section 5.1.1) is nobody.
        return Record(moment, first_name(dn), did, is_done=code == 0, detail=dn) if dn else None
    who = first_name(_first(entry, "reqAuthzID").removeprefix("dn:"))
    changed = list(dict.fromkeys(one.partition(":")[0].lower() for one in entry.get("reqMod", ())))
    what = {"add": "made", "delete": "removed", "modrdn": "renamed"}.get(kind, "")
    if kind == "modify":
        did, what = members_changed(changed)
    if is_of_log(dn):
        did = Did.LOGGING
    return Record(moment, who or "?", did, is_done=code == 0, detail=f"{dn}: {what}")


def _first(entry: LogEntry, name: str) -> str:
    return next(iter(entry.get(name, ())), "")


def _moment(text: str) -> datetime:
    """Return a generalized time (RFC 4517 section 3.3.13), as the log writes it; raises `FormatError`."""
    try:
        return datetime.strptime(text[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        raise FormatError("no moment", text[:40]) from None
