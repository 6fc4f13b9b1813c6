"""Steps on the people and groups of a service as SCIM requests (RFC 7644): what its carrier sends, and as text.

A member or an account is changed by PATCH of one resource (section 3.5.2), made by POST (section 3.3), and taken away
by DELETE (section 3.6).
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import Account, AccountState

__all__ = ["member_operation", "new_group", "new_user", "patch", "query", "scim_request", "state_operation"]

_GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
_USER = "urn:ietf:params:scim:schemas:core:2.0:User"
_PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

Body = dict[str, Any]


def query(attribute: str, value: str) -> str:
    """Return the query that finds resources by what they are called (section 3.4.2.2)."""
    text = value.replace("\\", "\\\\").replace('"', '\\"')
    return urlencode({"filter": f'{attribute} eq "{text}"', "count": 200})


def patch(operation: Mapping[str, Any]) -> Body:
    """Return the body of a PATCH with one operation."""
    return {"schemas": [_PATCH], "Operations": [operation]}


def member_operation(member: str, *, is_put_in: bool) -> Body:
    """Return the operation that puts a member into a group, or takes it out, by its id."""
    if is_put_in:
        return {"op": "add", "path": "members", "value": [{"value": member}]}
    return {"op": "remove", "path": f'members[value eq "{member}"]'}


def state_operation(step: AccountStep) -> Body:
    """Return the operation that opens or closes an account."""
    return {"op": "replace", "path": "active", "value": step.after is AccountState.OPEN}


def new_group(name: str, first: str) -> Body:
    """Return the body that makes a group with its first member by id, if it has one."""
    return {"schemas": [_GROUP], "displayName": name} | ({"members": [{"value": first}]} if first else {})


def new_user(account: Account) -> Body:
    """Return the body that makes an account."""
    body: Body = {"schemas": [_USER], "userName": account.login, "active": True}
    body |= {"displayName": account.name} if account.name else {}
    return body | ({"emails": [{"value": account.email, "type": "work", "primary": True}]} if account.email else {})


def scim_request(step: Step, base: str) -> list[str]:
    """Return a step as the requests that make it, for whoever signs in to the service; nothing of other steps.

    A resource is known by an id that only the service tells: it is asked for first, a word in capitals stands for it.
    """
    users, groups = f"{base}/Users", f"{base}/Groups"
    match step:
        case AccountStep():
            asked = _asked(users, "userName", step.login, "USER", f"active must be {_active(step.before)} there")
            return [*asked, *_sent(f"PATCH {users}/USER", patch(state_operation(step)))]
        case MemberStep():
            name = step.member_name or step.member
            member = ("displayName", name, groups) if step.is_group else ("userName", step.member, users)
            asked = _asked(member[2], member[0], member[1], "MEMBER")
            asked += _asked(groups, "displayName", step.name, "GROUP")
            operation = member_operation("MEMBER", is_put_in=step.after)
            return [*asked, *_sent(f"PATCH {groups}/GROUP", patch(operation))]
        case GroupStep() if step.made:
            asked = _asked(users, "userName", step.first, "USER") if step.first else []
            return [*asked, *_sent(f"POST {groups}", new_group(step.name, "USER" if step.first else ""))]
        case GroupStep():
            return [*_asked(groups, "displayName", step.name, "GROUP"), f"DELETE {groups}/GROUP"]
        case WholeAccountStep() if step.after is not None:
            return _sent(f"POST {users}", new_user(step.after))
        case WholeAccountStep():
            return [*_asked(users, "userName", step.target, "USER"), f"DELETE {users}/USER"]
        case _:
            return []


def _active(state: AccountState) -> str:
    return "true" if state is AccountState.OPEN else "false"


def _asked(place: str, attribute: str, value: str, word: str, condition: str = "") -> list[str]:
    must = f"; {condition}" if condition else ""
    return [
        f"GET {place}?{query(attribute, value)}",
        f"# one resource must be told: its id stands for {word} below{must}",
    ]


def _sent(request: str, body: Body) -> list[str]:
    return [f"{request} {json.dumps(body, ensure_ascii=False)}"]
