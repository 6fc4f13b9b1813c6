"""People and groups by SCIM 2.0: resources of RFC 7643, lists with filter and paging of RFC 7644 (section 3.4.2)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from werkzeug.wrappers import Request, Response

from neatledger.demo.service.scimabout import resource_types, schemas
from neatledger.demo.service.scimfilter import FilterError, parse_filter
from neatledger.demo.service.scimpatch import PatchError, patch
from neatledger.demo.service.store import Store

__all__ = ["answer_scim"]

_CORE = "urn:ietf:params:scim:schemas:core:2.0"
_MESSAGES = "urn:ietf:params:scim:api:messages:2.0"
_MOST = 100


def answer_scim(request: Request, store: Store, rest: str) -> Response:
    """Answer a request below /scim/v2."""
    kind, _, ident = rest.partition("/")
    if request.method == "PATCH" and kind in ("Users", "Groups") and ident:
        return _patched(request, store, kind, ident)
    if kind in ("Users", "Groups") and request.method == ("DELETE" if ident else "POST"):
        if ident:
            return _removed(store, kind, ident)
        return _made_user(request, store) if kind == "Users" else _made_group(request, store)
    if request.method != "GET":
        refused = _error(405, "people and groups are read, made, changed by PATCH, and removed")
        refused.headers["Allow"] = "GET, PATCH" if ident else "GET"
        return refused
    if kind in ("ServiceProviderConfig", "ResourceTypes", "Schemas"):
        return _answer_about(kind, ident, request)
    makers = {"Users": _users, "Groups": _groups}
    if kind not in makers:
        return _error(404, f"there are no {kind}")
    resources = makers[kind](store, request.url_root)
    if ident:
        found = next((each for each in resources if each["id"] == ident), None)
        return _error(404, f"{kind} has no {ident}") if found is None else _json(200, _cut(found, request))
    if "filter" in request.args:
        try:
            test = parse_filter(request.args["filter"])
        except FilterError as error:
            return _error(400, str(error), "invalidFilter")
        resources = [each for each in resources if test(each)]
    try:
        start = max(1, int(request.args.get("startIndex", 1)))
        count = min(_MOST, max(0, int(request.args.get("count", _MOST))))
    except ValueError:
        return _error(400, "startIndex and count are whole numbers", "invalidValue")
    page = [_cut(each, request) for each in resources[start - 1 : start - 1 + count]]
    answer = {"schemas": [f"{_MESSAGES}:ListResponse"], "totalResults": len(resources), "startIndex": start}
    return _json(200, answer | {"itemsPerPage": len(page), "Resources": page})


def _patched(request: Request, store: Store, kind: str, ident: str) -> Response:
    """Change one account or group, and say nothing more (RFC 7644 section 3.5.2)."""
    known = {each for each, *_ in (store.users() if kind == "Users" else store.groups())}
    if ident not in known:
        return _error(404, f"{kind} has no {ident}")
    try:
        patch(store, kind, ident, request.get_json(silent=True, force=True))
    except PatchError as error:
        return _error(400, str(error), error.kind)
    return Response(status=204)


def _made_user(request: Request, store: Store) -> Response:
    """Make an account, without a password unless one is told (RFC 7644 section 3.3, RFC 7643 section 4.1)."""
    body = request.get_json(silent=True, force=True)
    login = body.get("userName") if isinstance(body, Mapping) else None
    if not isinstance(body, Mapping) or not isinstance(login, str) or not login:
        return _error(400, "an account has a userName", "invalidValue")
    emails = [each for each in body.get("emails") or () if isinstance(each, Mapping)]
    user = {
        "login": login, "name": str(body.get("displayName", "")), "email": str(emails[0]["value"]) if emails else "",
        "active": body.get("active", True) is True, "type": str(body.get("userType", "")), "roles": ["user"],
        "entitlements": [],
    }  # fmt: skip
    ident = store.make_user(user)
    if ident is None:
        return _error(409, "there is an account of this userName", "uniqueness")
    if isinstance(body.get("password"), str):
        store.set_password(login, body["password"])
    return _created(next(one for one in _users(store, request.url_root) if one["id"] == ident))


def _created(made: dict[str, Any]) -> Response:
    answer = _json(201, made)
    answer.headers["Location"] = made["meta"]["location"]
    return answer


def _made_group(request: Request, store: Store) -> Response:
    """Make a group with members (RFC 7644 section 3.3)."""
    body = request.get_json(silent=True, force=True)
    name = body.get("displayName") if isinstance(body, Mapping) else None
    members = body.get("members", []) if isinstance(body, Mapping) else []
    idents = {ident: user["login"] for ident, user in store.users()}
    values = [each.get("value") if isinstance(each, Mapping) else None for each in members]
    if not isinstance(name, str) or not name or any(value not in idents for value in values):
        return _error(400, "a group has a displayName, and members who are there", "invalidValue")
    ident = store.make_group(name, [idents[str(value)] for value in values])
    if ident is None:
        return _error(409, "there is a group of this name", "uniqueness")
    return _created(next(one for one in _groups(store, request.url_root) if one["id"] == ident))


def _removed(store: Store, kind: str, ident: str) -> Response:
    """Take an account or a group away (RFC 7644 section 3.6)."""
    is_gone = store.remove_user(ident) if kind == "Users" else store.remove_group(ident)
    return Response(status=204) if is_gone else _error(404, f"{kind} has no {ident}")


def _answer_about(kind: str, ident: str, request: Request) -> Response:
    """Answer what the service can do, and what its resources are (RFC 7644 section 4)."""
    if "filter" in request.args:
        return _error(403, "what the service says of itself is not filtered")
    if kind == "ServiceProviderConfig":
        return _error(404, "there is one") if ident else _json(200, _config())
    found = resource_types(request.url_root) if kind == "ResourceTypes" else schemas(request.url_root)
    if ident:
        one = next((each for each in found if each["id"] == ident), None)
        return _error(404, f"{kind} has no {ident}") if one is None else _json(200, one)
    answer = {"schemas": [f"{_MESSAGES}:ListResponse"], "totalResults": len(found), "startIndex": 1}
    return _json(200, answer | {"itemsPerPage": len(found), "Resources": found})


def _cut(resource: dict[str, Any], request: Request) -> dict[str, Any]:
    """Return a resource with the attributes asked for (RFC 7644 section 3.9); id and schemas are always told."""
    wanted, unwanted = ({word.strip().lower() for word in request.args.get(name, "").split(",") if word.strip()}
                        for name in ("attributes", "excludedAttributes"))  # fmt: skip
    if not wanted and not unwanted:
        return resource
    found = {}
    for name, value in resource.items():
        kept = _cut_value(name.lower(), value, wanted, unwanted)
        if name in ("id", "schemas"):
            found[name] = value
        elif kept not in (None, {}, []):
            found[name] = kept
    return found


def _cut_value(name: str, value: Any, wanted: set[str], unwanted: set[str]) -> Any:
    """Return what is left of an attribute, None for nothing: it may be named whole, or by its parts."""
    is_part_wanted = any(each.startswith(f"{name}.") for each in wanted)
    if name in unwanted or (wanted and name not in wanted and not is_part_wanted):
        return None
    if isinstance(value, list):
        parts = [_cut_value(name, each, wanted, unwanted) if isinstance(each, dict) else each for each in value]
        return [each for each in parts if each not in (None, {})]
    if not isinstance(value, dict):
        return value
    is_whole = not wanted or name in wanted
    return {
        key: part
        for key, part in value.items()
        if (is_whole or f"{name}.{key.lower()}" in wanted) and f"{name}.{key.lower()}" not in unwanted
    }


def _users(store: Store, root: str) -> list[dict[str, Any]]:
    groups = store.groups()
    found = []
    for ident, user in store.users():
        one: dict[str, Any] = {
            "schemas": [f"{_CORE}:User"],
            "id": ident,
            "userName": user["login"],
            "displayName": user["name"],
            "active": user.get("active", True),
            "userType": user["type"],
            "roles": [{"value": role} for role in user["roles"]],
            "entitlements": [{"value": each} for each in user["entitlements"]],
            "groups": [{"value": g, "display": name} for g, name, inside in groups if user["login"] in inside],
            "meta": {"resourceType": "User", "location": f"{root}scim/v2/Users/{ident}"},
        }
        if user["email"]:
            one["emails"] = [{"value": user["email"], "type": "work", "primary": True}]
        found.append(one)
    return found


def _groups(store: Store, root: str) -> list[dict[str, Any]]:
    idents = {user["login"]: ident for ident, user in store.users()}
    return [
        {
            "schemas": [f"{_CORE}:Group"],
            "id": ident,
            "displayName": name,
            "members": [{"value": idents[login], "type": "User"} for login in members if login in idents],
            "meta": {"resourceType": "Group", "location": f"{root}scim/v2/Groups/{ident}"},
        }
        for ident, name, members in store.groups()
    ]


def _config() -> dict[str, Any]:
    """Return what the service can do (RFC 7643 section 5)."""
    unsupported = {"supported": False}
    return {
        "schemas": [f"{_CORE}:ServiceProviderConfig"],
        "patch": {"supported": True},
        "bulk": {**unsupported, "maxOperations": 0, "maxPayloadSize": 0},
        "filter": {"supported": True, "maxResults": _MOST},
        "changePassword": unsupported,
        "sort": unsupported,
        "etag": unsupported,
        "authenticationSchemes": [
            {"type": "oauthbearertoken", "name": "Bearer token", "description": "RFC 6750"},
            {"type": "httpbasic", "name": "Basic", "description": "RFC 7617"},
        ],
    }


def _json(status: int, body: Mapping[str, Any]) -> Response:
    return Response(json.dumps(body), status, mimetype="application/scim+json")


def _error(status: int, detail: str, kind: str = "") -> Response:
    """Return an error (RFC 7644 section 3.12)."""
    body = {"schemas": [f"{_MESSAGES}:Error"], "status": str(status), "detail": detail}
    return _json(status, body | ({"scimType": kind} if kind else {}))
