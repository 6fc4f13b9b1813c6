"""The tree by WebDAV (RFC 4918), with quota (RFC 4331) and access control (RFC 3744) properties; only read."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from email.utils import formatdate
from typing import Any
from urllib.parse import quote
from xml.etree.ElementTree import Element, ParseError, SubElement, tostring

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring
from werkzeug.wrappers import Request, Response

from neatledger.core.lists.rights import Right
from neatledger.core.lists.role import Entry
from neatledger.core.lists.subjects import Subject
from neatledger.demo.service.refusals import not_allowed
from neatledger.demo.service.store import Store
from neatledger.formats.rolelist import entries_from_text

__all__ = ["answer_dav"]

_D = "{DAV:}"
# The shortest words for what a list gives (RFC 3744 section 3).
_PRIVILEGES = (
    ("read", Right.READ | Right.LIST),
    ("write-content", Right.CHANGE),
    ("bind", Right.ADD),
    ("unbind", Right.CLEAR),
    ("write-acl", Right.MANAGE),
)
_ALL = "all", Right.SHARE
_ALLPROP = ("resourcetype", "getcontentlength", "getlastmodified", "displayname")
_KNOWN = (*_ALLPROP, "owner", "acl", "quota-used-bytes", "quota-available-bytes")
_METHODS = "OPTIONS, PROPFIND, GET, HEAD"


def answer_dav(request: Request, store: Store, rest: str) -> Response:
    """Answer a request below /dav."""
    answer = _answer(request, store, "/" + rest.strip("/"))
    # What it keeps to, in every answer (RFC 4918 section 10.1, RFC 3744 section 7.2).
    answer.headers["DAV"] = "1, 3, access-control"
    return answer


def _answer(request: Request, store: Store, path: str) -> Response:
    if request.method == "OPTIONS":
        return Response(status=204, headers={"Allow": _METHODS})
    node = store.node(path)
    if node is None:
        return Response("there is nothing of this name", 404)
    if request.method in ("GET", "HEAD"):
        if node["kind"] == "folder":
            return not_allowed("OPTIONS, PROPFIND", "a collection has no contents of its own")
        return Response(b"\0" * min(node["size"], 1 << 20), mimetype="application/octet-stream")
    if request.method != "PROPFIND":
        return not_allowed(_METHODS, "this service is only read over WebDAV")
    depth = request.headers.get("Depth", "infinity").lower()
    if depth not in ("0", "1", "infinity"):
        return Response("a depth is 0, 1 or infinity", 400)
    if depth == "infinity":
        # RFC 4918 section 9.1: a server may refuse.
        body = '<?xml version="1.0"?><error xmlns="DAV:"><propfind-finite-depth/></error>'
        return Response(body, 403, mimetype="application/xml")
    try:
        wanted, only_names = _asked(request.get_data())
    except (ParseError, DefusedXmlException, ValueError) as error:
        return Response(f"a body that cannot be read: {error}", 400)
    nodes = [node, *(store.children(path) if depth == "1" and node["kind"] == "folder" else ())]
    answer = Element(f"{_D}multistatus")
    for each in nodes:
        _add_response(answer, each, wanted, store, only_names=only_names)
    return Response(tostring(answer, "utf-8", xml_declaration=True), 207, mimetype="application/xml")


def _asked(body: bytes) -> tuple[tuple[str, ...], bool]:
    """Return the properties asked for (section 14.20), and whether only their names are wanted.

    For allprop, and for no body at all, those that this specification defines, and what is included besides: lists
    are not among them (RFC 3744 section 5). Raises `ValueError` for what is no question.
    """
    if not body:
        return _ALLPROP, False
    asked = fromstring(body)
    if asked.tag != f"{_D}propfind":
        raise ValueError(f"no propfind: {asked.tag}")
    prop = asked.find(f"{_D}prop")
    if prop is not None:
        return tuple(each.tag for each in prop), False
    if asked.find(f"{_D}propname") is not None:
        return _KNOWN, True
    if asked.find(f"{_D}allprop") is None:
        raise ValueError("neither prop, propname nor allprop")
    include = asked.find(f"{_D}include")
    return (*_ALLPROP, *(each.tag for each in (include if include is not None else ()))), False


def _add_response(
    answer: Element, node: Mapping[str, Any], wanted: Iterable[str], store: Store, *, only_names: bool
) -> None:
    response = SubElement(answer, f"{_D}response")
    is_folder = node["kind"] == "folder"
    href = "/dav" + quote(node["path"].rstrip("/")) + ("/" if is_folder else "")
    SubElement(response, f"{_D}href").text = href
    found: list[Element] = []
    missing: list[Element] = []
    for name in wanted:
        element = Element(name if name.startswith("{") else f"{_D}{name}")
        is_told = _fill(element, node, is_folder, store)
        if only_names:
            element = Element(element.tag)
        (found if is_told else missing).append(element)
    if only_names:
        # What a resource does not have is no property of it (section 9.1).
        missing.clear()
    for elements, status in ((found, "HTTP/1.1 200 OK"), (missing, "HTTP/1.1 404 Not Found")):
        if elements:
            part = SubElement(response, f"{_D}propstat")
            SubElement(part, f"{_D}prop").extend(elements)
            SubElement(part, f"{_D}status").text = status


def _fill(element: Element, node: Mapping[str, Any], is_folder: bool, store: Store) -> bool:
    """Fill in a property; tell whether the resource has it."""
    match element.tag.removeprefix(_D):
        case "resourcetype":
            if is_folder:
                SubElement(element, f"{_D}collection")
        case "getcontentlength" if not is_folder:
            element.text = str(node["size"])
        case "getlastmodified":
            element.text = formatdate(node["changed"], usegmt=True)
        case "displayname":
            element.text = node["path"].rpartition("/")[2]
        case "owner" if node["owner"]:
            SubElement(element, f"{_D}href").text = f"/principals/users/{quote(node['owner'])}"
        case "acl" if node["list"]:
            _fill_acl(element, node["list"])
        case "quota-used-bytes" if is_folder:
            element.text = str(store.used())
        case "quota-available-bytes" if is_folder:
            element.text = str(max(0, store.quota - store.used()))
        case _:
            return False
    return True


def _fill_acl(acl: Element, text: str) -> None:
    for entry in entries_from_text(text, lambda name, _: name):
        ace = SubElement(acl, f"{_D}ace")
        _fill_principal(SubElement(ace, f"{_D}principal"), entry)
        message = SubElement(ace, f"{_D}grant" if entry.allows else f"{_D}deny")
        words = [word for word, rights in _PRIVILEGES if entry.rights & rights]
        for word in ["all"] if entry.rights & _ALL[1] else words:
            SubElement(SubElement(message, f"{_D}privilege"), f"{_D}{word}")


def _fill_principal(principal: Element, entry: Entry) -> None:
    match entry.subject:
        case Subject.OWNER:
            SubElement(SubElement(principal, f"{_D}property"), f"{_D}owner")
        case Subject.EVERYONE | Subject.SIGNED_IN:
            SubElement(principal, f"{_D}{'all' if entry.subject is Subject.EVERYONE else 'authenticated'}")
        case _:
            kind = {Subject.USER: "users", Subject.GROUP: "groups"}.get(entry.subject, "all")
            SubElement(principal, f"{_D}href").text = f"/principals/{kind}/{quote(entry.ident)}"
