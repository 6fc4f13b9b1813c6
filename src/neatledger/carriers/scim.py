"""The carrier of accounts and groups over SCIM: PATCH of one resource a step (RFC 7644 section 3.5.2).

A group or an account is made by POST (section 3.3) and taken away by DELETE (section 3.6).
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from neatledger.carriers.contract import CarrierContext, Details, Looked, Standing, why_not_plain
from neatledger.core.people.credentials import make_password
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.errors import StepError
from neatledger.formats.scimrequests import member_operation, new_group, new_user, patch, query, state_operation
from neatledger.sources.http import Web

__all__ = ["ScimCarrier", "by_hand"]

_SWITCHED = frozenset({AccountState.OPEN, AccountState.DISABLED})


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step; nothing where this carrier can."""
    match step:
        case MemberStep() | GroupStep():
            return ""
        case WholeAccountStep():
            return why_not_plain(step)
        case AccountStep() if {step.before, step.after} == _SWITCHED:
            return ""
        case _:
            return "the service's own console makes it"


class ScimCarrier:
    """Makes steps on the people and groups of one service."""

    def __init__(self, context: CarrierContext) -> None:
        self._base = str(context.settings["accounts"]["scim"]).rstrip("/")
        self._web = Web(context.as_source(), self._base)

    def close(self) -> None:
        """Let go of the service."""
        self._web.__exit__()

    def settle(self) -> None:
        """Do nothing: the service has kept what it says that it has done."""

    def _all(self, kind: str, attribute: str, value: str) -> list[dict[str, Any]]:
        told = self._web.ask_json(f"{self._base}/{kind}?{query(attribute, value)}").get("Resources")
        found = [one for one in told if isinstance(one, dict)] if isinstance(told, list) else []
        # Some services take no filter and send everybody.
        return [one for one in found if str(_folded(one).get(attribute.casefold(), "")) == value]

    def _find(self, step: Step, kind: str, attribute: str, value: str) -> dict[str, Any]:
        """Return a resource by what it is called; raises `StepError` where there is none, or more than one."""
        same = self._all(kind, attribute, value)
        if len(same) != 1 or not same[0].get("id"):
            message = "there is more than one of this name" if same else f"the service has no {value!r} any more"
            raise StepError(message, step.where)
        return _folded(same[0])

    def _group(self, step: MemberStep) -> tuple[str, dict[str, Any]]:
        """Return the id of the member, and the group with those who are in it."""
        group = self._find(step, "Groups", "displayName", step.name)
        if step.is_group:
            member = self._find(step, "Groups", "displayName", step.member_name or step.member)
        else:
            member = self._find(step, "Users", "userName", step.member)
        return str(member["id"]), group

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the account or the group anew."""
        match step:
            case MemberStep():
                member, group = self._group(step)
                return Looked(Standing.AFTER if (member in _inside(group)) == step.after else Standing.BEFORE)
            case GroupStep():
                return self._look_for_group(step)
            case WholeAccountStep():
                found = self._all("Users", "userName", step.target)
                if len(found) > 1:
                    return Looked(Standing.OTHER, "there is more than one of this login")
                return Looked(Standing.AFTER if bool(found) == (step.after is not None) else Standing.BEFORE)
            case AccountStep():
                active = self._find(step, "Users", "userName", step.login).get("active", True)
                if not isinstance(active, bool):
                    return Looked(Standing.OTHER, f"active says {str(active)[:40]!r}")
                state = AccountState.OPEN if active else AccountState.DISABLED
                return Looked(Standing.AFTER if state is step.after else Standing.BEFORE)
        raise StepError("this carrier does not make such a step", step.where)

    def _look_for_group(self, step: GroupStep) -> Looked:
        alike = [_folded(one) for one in self._all("Groups", "displayName", step.name)]
        if not alike:
            return Looked(Standing.BEFORE if step.made else Standing.AFTER)
        if len(alike) > 1:
            return Looked(Standing.OTHER, "there is more than one of this name")
        wanted = {str(self._find(step, "Users", "userName", step.first)["id"])} if step.first else set()
        if _inside(alike[0]) != wanted:
            return Looked(Standing.OTHER, "others are in it")
        return Looked(Standing.AFTER if step.made else Standing.BEFORE)

    def prepare(self, step: Step) -> Details:
        """Return nothing: what a step is of tells how to take it back."""
        return {}

    def make(self, step: Step, details: Details) -> None:
        """Make the step; made twice it changes nothing more."""
        if self.look(step).standing is Standing.AFTER:
            return
        match step:
            case MemberStep():
                member, group = self._group(step)
                operation = member_operation(member, is_put_in=step.after)
                self._patch(step, f"Groups/{group['id']}", operation)
            case GroupStep():
                self._make_group(step)
            case WholeAccountStep():
                self._make_account(step)
            case AccountStep():
                user = self._find(step, "Users", "userName", step.login)
                self._patch(step, f"Users/{user['id']}", state_operation(step))

    def _make_group(self, step: GroupStep) -> None:
        if not step.made:
            group = self._find(step, "Groups", "displayName", step.name)
            self._send(step, "DELETE", f"Groups/{group['id']}", None)
            return
        first = str(self._find(step, "Users", "userName", step.first)["id"]) if step.first else ""
        self._send(step, "POST", "Groups", new_group(step.name, first))

    def _make_account(self, step: WholeAccountStep) -> None:
        if step.after is None:
            user = self._find(step, "Users", "userName", step.target)
            self._send(step, "DELETE", f"Users/{user['id']}", None)
            return
        self._send(step, "POST", "Users", new_user(step.after))

    def first_password(self, login: str) -> str:
        """Give an account a password (RFC 7643 section 4.1.1), and return it."""
        step = WholeAccountStep("", Account(login, login, ""), None)
        user, made = self._find(step, "Users", "userName", login), make_password()
        self._patch(step, f"Users/{user['id']}", {"op": "replace", "path": "password", "value": made})
        return made

    def _patch(self, step: Step, place: str, operation: Mapping[str, Any]) -> None:
        self._send(step, "PATCH", place, patch(operation))

    def _send(self, step: Step, method: str, place: str, body: Mapping[str, Any] | None) -> None:
        content = "" if body is None else json.dumps(body)
        headers = {"Content-Type": "application/scim+json", "Accept": "application/scim+json"}
        answer = self._web.ask(method, f"{self._base}/{place}", content=content, headers=headers)
        # An answer that was lost on its way is asked for again: what was made then is there, or gone, already.
        is_made = answer.status_code == 404 and method == "DELETE"
        is_made |= answer.status_code == 409 and method == "POST" and self.look(step).standing is Standing.AFTER
        if answer.status_code not in (200, 201, 204) and not is_made:
            message = f"the service refuses: {answer.status_code} {answer.reason_phrase}"
            raise StepError(message, step.where, "nothing was changed by this step")


def _inside(group: Mapping[str, Any]) -> set[str]:
    """Return the ids of who is in a group."""
    return {str(one.get("value")) for one in group.get("members") or () if isinstance(one, dict)}


def _folded(resource: Mapping[str, Any]) -> dict[str, Any]:
    """Return a resource with the names of its attributes in small letters (RFC 7643 section 2.1)."""
    return {str(key).casefold(): value for key, value in resource.items()}
