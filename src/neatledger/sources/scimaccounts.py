"""People and groups over SCIM 2.0 (RFC 7643, RFC 7644): page by page, and again where rows moved between pages.

Names of attributes are compared without regard to case (RFC 7643 section 2.1), and true and false may come as words.
A service without /Groups may tell groups by the `groups` of its users (section 4.1.2).
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

from neatledger.core.survey.accounts import ADMINISTRATOR, TOP, USER, Account, AccountState, Admission, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.http import MOST_PAGES, Web

__all__ = ["read_scim_accounts"]

_PAGE, _ROUNDS = 200, 4
_ABSENT = (403, 404, 405, 501)  # a service need not have groups, or show them
_NOT_THERE = "not there"
_STATES = {
    **dict.fromkeys(("true", "1", "yes", "none"), AccountState.OPEN),
    **dict.fromkeys(("false", "0", "no"), AccountState.DISABLED),
}
_GUEST_WORDS = frozenset({"guest", "external"})


def read_scim_accounts(
    context: SourceContext, setting: Mapping[str, Any]
) -> tuple[list[Account], list[Group], list[NotSeen], bool]:
    """Read /Users and /Groups; resources that make no account or group are noted; raises `SourceError`.

    Last comes whether groups were told at all.
    """
    base = str(setting["scim"]).rstrip("/")
    page = int(setting.get("page", _PAGE))
    not_seen: list[NotSeen] = []
    with Web(context, base) as web:
        for _ in range(_ROUNDS):
            users = _read_all(web, f"{base}/Users", page, "userName", context) or []
            told = _read_groups(web, base, page, users, context, not_seen)
            groups = told or []
            known = {_text(one, "id") for one in (*users, *groups)}
            # A member whom nobody is may have come after the users were read.
            if all(_text(each, "value") in known for one in groups for each in _objects(one.get("members"))):
                break
    accounts: list[Account] = []
    logins: dict[str, str] = {}
    for one in users:
        try:
            account = _account(one)
            if account.state is AccountState.UNKNOWN:
                said = f"{account.login}: active says {str(one.get('active'))[:40]!r}: whether it is open is unknown"
                not_seen.append(NotSeen.of_source(f"{base}/Users", said))
        except (ValueError, TypeError, AttributeError) as error:
            not_seen.append(NotSeen.of_source(f"{base}/Users", f"a user that cannot be read: {error}"))
            continue
        accounts.append(account)
        logins[_text(one, "id")] = account.login
    names = {_text(one, "id"): _text(one, "displayName") for one in groups}
    users_known = {_text(one, "id") for one in users}
    found = []
    for one in groups:
        ident, name = _text(one, "id"), _text(one, "displayName")
        if not ident or not name:
            not_seen.append(NotSeen.of_source(f"{base}/Groups", "a group without an id or a displayName"))
            continue
        # Who is a user that could not be read has no account here: nobody else is in doubt for them.
        inside = [_text(member, "value") for member in _objects(one.get("members"))]
        strange = tuple(each for each in inside if each not in users_known and each not in names)
        members = tuple(logins[each] for each in inside if each in logins)
        # Lists name groups by what they are called.
        nested = tuple(names[each] for each in inside if each in names)
        found.append(Group(name, name, members, nested, strange))
    return accounts, found, not_seen, told is not None


def _read_groups(
    web: Web, base: str, page: int, users: list[dict[str, Any]], context: SourceContext, not_seen: list[NotSeen]
) -> list[dict[str, Any]] | None:
    """Read /Groups; where there is none, the groups that users say they are in; raises `SourceError`.

    None where neither tells of any.
    """
    told = _read_all(web, f"{base}/Groups", page, "displayName", context, _ABSENT)
    if told is not None:
        return told
    found: dict[str, dict[str, Any]] = {}
    for user in users:
        for one in _objects(user.get("groups")):
            ident = _text(one, "value")
            group = found.setdefault(
                ident, {"id": ident, "displayname": _text(one, "display") or ident, "members": []}
            )
            group["members"].append({"value": _text(user, "id")})
    if not found:
        message = "there are no groups, and users name none of theirs: who is in any group is not told"
        if not any(one.why == message for one in not_seen):
            not_seen.append(NotSeen.of_source(f"{base}/Groups", message))
    return list(found.values()) or None


def _folded(value: Any) -> Any:
    """Return JSON with the names of all attributes in small letters."""
    if isinstance(value, dict):
        return {str(key).casefold(): _folded(each) for key, each in value.items()}
    return [_folded(each) for each in value] if isinstance(value, list) else value


def _read_all(
    web: Web, url: str, page: int, name: str, context: SourceContext, absent: Collection[int] = ()
) -> list[dict[str, Any]] | None:
    """Read all resources of a kind; None where there are none, by a status of `absent`; raises `SourceError`.

    Paging is not a snapshot: where the total changes, a resource or its `name` comes twice, or the ids asked for once
    more are others, all of it is read again, and after some rounds that is an error.
    """
    fault = ""
    for _ in range(_ROUNDS):
        found, fault = _read_pages(web, url, page, "", context, absent)
        if fault == _NOT_THERE:
            return None
        if not fault and len({_text(one, name) for one in found.values()}) < len(found):
            fault = f"two resources of one {name}"
        if not fault and len(found) > page:
            again, fault = _read_pages(web, url, page, "id", context)
            if not fault and again.keys() != found.keys():
                fault = "resources came or went between pages"
        if not fault:
            return list(found.values())
    raise SourceError(f"the pages do not fit together: {fault}", url, "count again later")


def _read_pages(
    web: Web, url: str, page: int, attributes: str, context: SourceContext, absent: Collection[int] = ()
) -> tuple[dict[str, dict[str, Any]], str]:
    """Read page by page (RFC 7644 section 3.4.2.4: startIndex and count, from 1), and say what does not fit.

    `attributes` (section 3.4.2.5) are those asked for, all where it is empty.
    """
    found: dict[str, dict[str, Any]] = {}
    total: int | None = None
    start, pages = 1, 0
    while total is None or start <= total:
        pages += 1
        if pages > MOST_PAGES:
            raise SourceError(f"more than {MOST_PAGES:,} pages", url, "let page in the plan be larger")
        words = {"startIndex": start, "count": page} | ({"attributes": attributes} if attributes else {})
        answer = _folded(web.ask_json(f"{url}?{urlencode(words)}", absent))
        if not answer and absent:
            return found, _NOT_THERE
        now = answer.get("totalresults")
        resources = _objects(answer.get("resources"))
        if not isinstance(now, int):
            raise SourceError("an answer without totalResults: this is no SCIM list", url)
        if total is not None and now != total:
            return found, f"the total changed from {total} to {now} between pages"
        if not resources and start <= now:
            return found, f"a page without resources at {start} of {now}"
        total = now
        for one in resources:
            ident = _text(one, "id")
            if not ident or ident in found:
                return found, f"a resource twice, or without an id: {ident or 'no id'}"
            found[ident] = one
        start += len(resources)
        context.progress(len(resources))
    return found, "" if len(found) == total else f"{len(found)} resources of {total}"


def _objects(value: Any) -> list[dict[str, Any]]:
    return [each for each in value if isinstance(each, dict)] if isinstance(value, list) else []


def _text(one: Mapping[str, Any], key: str) -> str:
    value = one.get(key.casefold())
    return value.strip() if isinstance(value, str) else ""


def _values(one: Mapping[str, Any], key: str) -> Iterator[str]:
    """Yield the values of a multi-valued attribute (RFC 7643 section 2.4), the primary one first."""
    for each in sorted(_objects(one.get(key)), key=lambda each: not each.get("primary")):
        if _text(each, "value"):
            yield _text(each, "value")


def _account(one: Mapping[str, Any]) -> Account:
    """Return the account of a user resource (RFC 7643 section 4.1)."""
    login = _text(one, "userName")
    if not login or not _text(one, "id"):
        raise ValueError("it has no id or no userName")
    name = one.get("name") if isinstance(one.get("name"), dict) else {}
    assert isinstance(name, dict)
    shown = _text(one, "displayName") or _text(name, "formatted")
    shown = shown or f"{_text(name, 'givenName')} {_text(name, 'familyName')}".strip()
    parts = [each.casefold() for each in _values(one, "roles")]
    roles = frozenset(parts) & {USER, ADMINISTRATOR, TOP} if parts else None
    if roles is not None and "both" in parts:
        roles |= {USER, ADMINISTRATOR}
    state = _STATES.get(str(one.get("active", True)).strip().casefold(), AccountState.UNKNOWN)
    admission = Admission(
        roles, tuple(_values(one, "entitlements")), is_guest=_text(one, "userType").casefold() in _GUEST_WORDS
    )
    # Lists and hand-outs of a service name people by their login.
    return Account(
        login, login, "", shown, next(_values(one, "emails"), ""),
        state=state, admission=admission,
    )  # fmt: skip
