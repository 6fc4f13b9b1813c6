"""A folder's own quota figures over WebDAV: the properties of RFC 4331, asked for with PROPFIND (RFC 4918, 9.1)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from xml.etree.ElementTree import Element

from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.survey.limits import FoundLimit
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.http import Web

__all__ = ["parse_figures", "read_figures"]

_ASK = (
    '<?xml version="1.0" encoding="utf-8"?>'
    '<propfind xmlns="DAV:"><prop><quota-used-bytes/><quota-available-bytes/></prop></propfind>'
)
_MULTI_STATUS = 207  # RFC 4918 section 11.1


def read_figures(context: SourceContext, setting: Mapping[str, Any]) -> FoundLimit:
    """Ask a server for one folder's figures; raises `SourceError`."""
    url = str(setting["url"])
    headers = {"Depth": "0", "Content-Type": "application/xml; charset=utf-8"}
    # Not asked again: figures are one of many things that a system tells, and the rest is there without.
    try:
        with Web(context, url, {"tries": 1, **setting}) as web:
            answer = web.ask("PROPFIND", url, content=_ASK, headers=headers)
    except SourceError as error:
        raise SourceError(f"no answer about quotas: {error.what}", error.where, error.hint) from None
    if answer.status_code != _MULTI_STATUS:
        raise SourceError(f"refused to tell quotas: {answer.status_code} {answer.reason_phrase}", url)
    used, available = parse_figures(answer.content, url)
    limit = UNLIMITED if available is None or used is None else used + available
    return FoundLimit(On.FOLDER, str(setting["folder"]), limit, used=used, by="WebDAV quota properties")


def parse_figures(content: bytes, url: str) -> tuple[int | None, int | None]:
    """Return quota-used-bytes and quota-available-bytes of a multi-status answer; None where a figure is not told.

    A server that tells no available bytes sets no limit (RFC 4331, section 3); raises `SourceError`.
    """
    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        root = fromstring(content)
        found = {word: _figure(root, word) for word in ("quota-used-bytes", "quota-available-bytes")}
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise SourceError(f"an answer about quotas that cannot be read: {error}", url) from None
    return found["quota-used-bytes"], found["quota-available-bytes"]


def _figure(root: Element, word: str) -> int | None:
    for part in root.iter("{DAV:}propstat"):
        status = (part.findtext("{DAV:}status") or "").split()
        text = part.findtext(f"{{DAV:}}prop/{{DAV:}}{word}")
        if len(status) > 1 and status[1] == "200" and text and text.strip():
            figure = int(text)
            if figure < 0:
                raise ValueError(f"{word} is {figure}")
            return figure
    return None
