"""A service over HTTP: WebDAV (RFC 4918), SCIM (RFC 7644), and beside them a listing of what is shared."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

from neatledger.errors import SourceError
from neatledger.probes.contract import Hints, Proposal
from neatledger.probes.directory import account_setting, is_directory
from neatledger.sources.contract import SourceContext

__all__ = ["probe"]

_OK, _MULTI, _REFUSED = 200, 207, (401, 403)
_SCIM_PLACES = ("", "scim/v2", "scim")
_SHARING_PLACES = ("sharing",)


def probe(address: str, hints: Hints) -> Proposal:
    """Ask an address, and the usual places beside it, what they are."""
    from neatledger.sources.http import Web

    web: dict[str, Any] = {}
    user = hints.text("user", f"Who signs in at {urlsplit(address).hostname}? [nobody] ")
    if user:
        web["user"] = user
    if hints.said.get("token"):
        web["token-url"] = str(hints.said["token"])
    if hints.said.get("ca"):
        web["ca"] = str(Path(hints.said["ca"]).resolve())
    settings: dict[str, Any] = {"source": "dav", **({"web": web} if web else {})}
    context = SourceContext(hints.system, hints.office_dir, settings, date.today(), lambda _: None, hints.credentials)
    base = address if address.endswith("/") else address + "/"
    root = urljoin(base, "/")
    with Web(context, address) as asked:
        dav = next((place for place in dict.fromkeys([base, urljoin(root, "dav/")]) if _is_dav(asked, place)), "")
        scim = next((place for place in _places(base, root, _SCIM_PLACES) if _is_scim(asked, place)), "")
        sharing = next((place for place in _places(base, root, _SHARING_PLACES) if _is_sharing(asked, place)), "")
    return _proposal(dav, scim, sharing, web, address, hints)


def _proposal(dav: str, scim: str, sharing: str, web: dict[str, Any], address: str, hints: Hints) -> Proposal:
    if not dav and not scim:
        hint = "is it another address? who signs in: --user; where a token is got: --token URL"
        raise SourceError("neither WebDAV nor SCIM is spoken there", address, hint)
    found = Proposal({"source": "dav" if dav else "directory"})
    if dav:
        found.put("url", dav, "it speaks WebDAV")
    if web:
        found.put("web", web)
    accounts = str(hints.said.get("accounts") or "")
    if scim:
        found.put("accounts", {"scim": scim}, "people and groups over SCIM")
    elif is_directory(accounts):
        setting, notes, lacking = account_setting(accounts, hints)
        found.put("accounts", setting)
        found.notes += notes
        found.lacking += lacking
    else:
        found.lacking.append("who its people are: no SCIM service was found beside it: --accounts with its address")
    if sharing:
        found.put("sharing", {"url": sharing}, "team folders, hand-outs and links")
    elif dav:
        found.notes.append("No listing of what is shared was found beside it: links and hand-outs stay unknown.")
    return found


def _places(base: str, root: str, names: tuple[str, ...]) -> list[str]:
    tried = [urljoin(place, name).rstrip("/") for name in names for place in (base, root)]
    return list(dict.fromkeys(tried))


def _ask(web: Any, method: str, url: str, headers: dict[str, str]) -> Any:
    answer = web.ask(method, url, headers=headers, tries=2)
    if answer.status_code in _REFUSED:
        hint = "who signs in: --user; the password from the environment or keyring; a token's address: --token URL"
        raise SourceError(f"it refuses to answer ({answer.status_code})", url, hint)
    return answer


def _is_dav(web: Any, url: str) -> bool:
    """Tell whether a collection is there (RFC 4918 sections 9.1 and 10.1)."""
    answer = _ask(web, "PROPFIND", url, {"Depth": "0"})
    return bool(answer.status_code == _MULTI)


def _is_scim(web: Any, url: str) -> bool:
    """Tell whether a SCIM service is there: it says what it can do, or lists users (RFC 7644, 4 and 3.4.2)."""
    for place in ("ServiceProviderConfig", "Users?count=1"):
        answer = _ask(web, "GET", f"{url}/{place}", {"Accept": "application/scim+json, application/json"})
        if answer.status_code == _OK and b"urn:ietf:params:scim" in answer.content:
            return True
    return False


def _is_sharing(web: Any, url: str) -> bool:
    """Tell whether the listing of docs/sharing.md is there: pages of rows by table."""
    answer = _ask(web, "GET", f"{url}/links?from=0&count=1", {"Accept": "application/json"})
    if answer.status_code != _OK:
        return False
    try:
        told = answer.json()
    except ValueError:
        return False
    return isinstance(told, dict) and {"items", "total"} <= told.keys()
