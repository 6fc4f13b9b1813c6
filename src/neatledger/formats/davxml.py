"""Answers of a WebDAV server (RFC 4918 section 13) with access control (RFC 3744) and quota (RFC 4331) properties."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC
from email.utils import parsedate_to_datetime
from urllib.parse import unquote, unquote_to_bytes, urlsplit
from xml.etree.ElementTree import Element

from neatledger.core.lists.rights import Right
from neatledger.core.lists.role import Entry
from neatledger.core.lists.subjects import Subject
from neatledger.errors import FormatError

__all__ = ["ASK", "Resource", "parse_resources"]

ASK = (
    '<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/>'
    "<getlastmodified/><owner/><acl/><quota-used-bytes/><quota-available-bytes/></prop></propfind>"
)
_D = "{DAV:}"
_OK, _NOT_FOUND = 200, 404
# RFC 3744 section 3, with what each aggregate holds (section 3.12 leaves more to servers: they list it themselves).
_PRIVILEGES = {
    "read": Right.ENTER | Right.LIST | Right.READ | Right.VIEW,
    "write-content": Right.CHANGE,
    "bind": Right.ADD,
    "unbind": Right.CLEAR,
    "write": Right.CHANGE | Right.ADD | Right.CLEAR,
    "write-acl": Right.MANAGE,
    "all": Right.ENTER | Right.LIST | Right.READ | Right.VIEW | Right.CHANGE | Right.ADD | Right.CLEAR
    | Right.MANAGE | Right.SHARE,
}  # fmt: skip
_SPECIAL = {"all": Subject.EVERYONE, "authenticated": Subject.SIGNED_IN, "self": Subject.UNKNOWN}


@dataclass(frozen=True, slots=True)
class Resource:
    """One resource: its path on the server, and what the server tells of it; None where it does not.

    `changed` is Unix seconds. `entries` name principals by the last part of their addresses; where there are none,
    `list_status` is the status with which the server kept its list to itself (0: it says nothing of one). `status` is
    that of the whole resource, or of what sort of thing it is: unless it is 200, nothing else is known of it.
    """

    path: bytes
    is_folder: bool
    size: int
    changed: int
    owner: str
    entries: tuple[Entry, ...] | None
    list_status: int
    status: int
    used_bytes: int | None
    available_bytes: int | None


def parse_resources(content: bytes) -> list[Resource]:
    """Parse a multi-status answer; raises `FormatError`."""
    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root = fromstring(content)
        if root.tag != f"{_D}multistatus":
            raise FormatError(f"an answer that is no multistatus but {root.tag[:60]!r}")
        return [resource for each in root.iter(f"{_D}response") for resource in _resources(each)]
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise FormatError(f"an answer that cannot be read: {error}") from None


def _status(text: str | None) -> int:
    words = (text or "").split()
    return int(words[1]) if len(words) > 1 and words[1].isdigit() else 0


def _resources(response: Element) -> Iterator[Resource]:
    """Yield what one response speaks of: one resource, or several by a bare status (RFC 4918 section 14.24)."""
    hrefs = [(each.text or "").strip() for each in response.findall(f"{_D}href")]
    if not hrefs or not all(hrefs):
        raise ValueError("a response without an address")
    props: dict[str, Element] = {}
    statuses: dict[str, int] = {}
    for part in response.findall(f"{_D}propstat"):
        status = _status(part.findtext(f"{_D}status"))
        for prop in part.findall(f"{_D}prop"):
            statuses |= {each.tag: status for each in prop}
            props |= {each.tag: each for each in prop} if status == _OK else {}
    kind = props.get(f"{_D}resourcetype")
    acl = props.get(f"{_D}acl")
    bare = response.find(f"{_D}status")
    # What sort of thing it is may be kept to itself alone; a server that knows no such property holds plain files.
    whole = _status(bare.text) if bare is not None else statuses.get(f"{_D}resourcetype", 0)
    for href in hrefs:
        yield Resource(
            unquote_to_bytes(urlsplit(href).path),
            kind is not None and kind.find(f"{_D}collection") is not None,
            _number(props.get(f"{_D}getcontentlength")) or 0,
            _moment(props.get(f"{_D}getlastmodified")),
            _principal(props.get(f"{_D}owner")),
            None if acl is None else tuple(_entries(acl)),
            statuses.get(f"{_D}acl", 0),
            _OK if whole == _NOT_FOUND and bare is None else whole,
            _number(props.get(f"{_D}quota-used-bytes")),
            _number(props.get(f"{_D}quota-available-bytes")),
        )


def _number(found: Element | None) -> int | None:
    text = "" if found is None else (found.text or "").strip()
    # A number of more digits than any ledger keeps is none.
    if text and not (text.isdecimal() and len(text) <= 18):
        raise ValueError(f"not a number: {text[:40]!r}")
    return int(text) if text else None


def _moment(found: Element | None) -> int:
    """Return an HTTP date (RFC 9110 section 5.6.7) in Unix seconds, 0 where none is told."""
    text = "" if found is None else (found.text or "").strip()
    if not text:
        return 0
    try:
        moment = parsedate_to_datetime(text)
    except (TypeError, OverflowError):
        raise ValueError(f"{text[:40]!r} is no date") from None
    return max(0, int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()))


def _principal(found: Element | None) -> str:
    """Return the last part of a principal's address."""
    href = "" if found is None else (found.findtext(f"{_D}href") or "").strip()
    return unquote(urlsplit(href).path.rstrip("/").rpartition("/")[2])


def _entries(acl: Element) -> Iterator[Entry]:
    for ace in acl.findall(f"{_D}ace"):
        who = ace.find(f"{_D}principal")
        is_inverted = who is None
        if who is None:
            who = ace.find(f"{_D}invert/{_D}principal")
        inherited = ace.find(f"{_D}inherited") is not None
        for word, allows in (("grant", True), ("deny", False)):
            message = ace.find(f"{_D}{word}")
            if message is None or who is None:
                continue
            rights = Right.NONE
            for privilege in message.findall(f"{_D}privilege"):
                for each in privilege:
                    rights |= _PRIVILEGES.get(each.tag.removeprefix(_D), Right.NONE)
            subject, ident = _whom(who)
            if rights and subject is not None:
                # "All but these" cannot be put to a holder here; it may count or not.
                yield Entry(Subject.UNKNOWN if is_inverted else subject, ident, rights, allows, inherited)


def _whom(principal: Element) -> tuple[Subject | None, str]:
    """Return whom a principal names (RFC 3744 section 5.5.1); nobody, where only strangers are meant."""
    if principal.find(f"{_D}href") is not None:
        return Subject.EITHER, _principal(principal)
    for word, subject in _SPECIAL.items():
        if principal.find(f"{_D}{word}") is not None:
            return subject, word if subject is Subject.UNKNOWN else ""
    named = principal.find(f"{_D}property")
    if named is not None:
        is_owner = named.find(f"{_D}owner") is not None
        return (Subject.OWNER, "") if is_owner else (Subject.UNKNOWN, "a property")
    return (None, "") if principal.find(f"{_D}unauthenticated") is not None else (Subject.UNKNOWN, "a principal")
