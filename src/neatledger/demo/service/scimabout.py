"""What the service says of its resources: resource types (RFC 7643 section 6) and schemas (section 7)."""

from __future__ import annotations

from typing import Any

__all__ = ["resource_types", "schemas"]

_CORE = "urn:ietf:params:scim:schemas:core:2.0"
_OF_USERS = (
    ("userName", "string", ()),
    ("displayName", "string", ()),
    ("active", "boolean", ()),
    ("userType", "string", ()),
    ("emails", "complex", ("value", "type", "primary")),
    ("roles", "complex", ("value",)),
    ("entitlements", "complex", ("value",)),
    ("groups", "complex", ("value", "display")),
)
_OF_GROUPS = (("displayName", "string", ()), ("members", "complex", ("value", "type")))
_KINDS = (("User", "Users", "An account", _OF_USERS), ("Group", "Groups", "A group of accounts", _OF_GROUPS))


def resource_types(root: str) -> list[dict[str, Any]]:
    """Return the resource types; `root` is the address of the service."""
    return [
        {
            "schemas": [f"{_CORE}:ResourceType"],
            "id": name,
            "name": name,
            "endpoint": f"/{endpoint}",
            "description": what,
            "schema": f"{_CORE}:{name}",
            "meta": {"resourceType": "ResourceType", "location": f"{root}scim/v2/ResourceTypes/{name}"},
        }
        for name, endpoint, what, _ in _KINDS
    ]


def schemas(root: str) -> list[dict[str, Any]]:
    """Return the schemas: the attributes that the service tells, all of them only read."""
    return [
        {
            "schemas": [f"{_CORE}:Schema"],
            "id": f"{_CORE}:{name}",
            "name": name,
            "description": what,
            "attributes": [_attribute(*each) for each in attributes],
            "meta": {"resourceType": "Schema", "location": f"{root}scim/v2/Schemas/{_CORE}:{name}"},
        }
        for name, _, what, attributes in _KINDS
    ]


def _attribute(name: str, kind: str, parts: tuple[str, ...]) -> dict[str, Any]:
    found: dict[str, Any] = {
        "name": name,
        "type": kind,
        "multiValued": kind == "complex",
        "required": name == "userName",
        "caseExact": False,
        "mutability": "readOnly",
        "returned": "default",
        "uniqueness": "server" if name == "userName" else "none",
    }
    if parts:
        found["subAttributes"] = [
            _attribute(part, "boolean" if part == "primary" else "string", ()) for part in parts
        ]
    return found
