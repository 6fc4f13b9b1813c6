"""Holders beside the accounts of a service: those who stand for many, and receivers outside.

"Anyone with the link", "any guest" and "anyone in the office" hold what links of that audience give: nobody can say
which person has a link's address. Receivers who have no account on the service are outside; one whose e-mail address
is that of a person of the plan is that person.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neatledger.core.lists.holders import Holder
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.survey.accounts import Account
from neatledger.core.survey.shared import Audience, Shared, Towards

__all__ = [
    "ANYONE",
    "ANY_GUEST",
    "AUDIENCES",
    "IN_OFFICE",
    "OUTSIDE",
    "is_account",
    "is_outside",
    "principals_beside",
]

ANYONE, ANY_GUEST, IN_OFFICE = "anyone with the link", "any guest", "anyone in the office"
OUTSIDE, _AUDIENCE = "outside:", "audience:"
AUDIENCES: Mapping[Audience, tuple[str, Kind]] = {
    Audience.ANYONE: (ANYONE, Kind.ANYONE),
    Audience.GUESTS: (ANY_GUEST, Kind.GUEST),
    Audience.OFFICE: (IN_OFFICE, Kind.STAFF),
}


def is_outside(principal: Principal) -> bool:
    """Tell whether a principal is somebody's who has no account on the system."""
    return principal.account.ident.startswith(OUTSIDE)


def is_account(principal: Principal) -> bool:
    """Tell whether a principal is a real account of the system."""
    return not principal.account.ident.startswith((OUTSIDE, _AUDIENCE))


def principals_beside(system: str, shared: Shared, principals: Sequence[Principal], plan: Plan) -> list[Principal]:
    """Return a principal for each audience that any link has, and one for each receiver outside."""
    found = []
    audiences = {link.audience for link in shared.links}
    for audience, (name, kind) in AUDIENCES.items():
        if audience in audiences:
            found.append(_principal(name, name, kind, system, _AUDIENCE + audience.value, name))
    known = {principal.account.login for principal in principals}
    mails = {person.email.casefold(): person for person in plan.people.values() if person.email}
    outside = [one.receiver for one in shared.hand_outs if one.towards is Towards.OUTSIDE]
    outside += [name for link in shared.links for name in link.named if name not in known]
    for name in dict.fromkeys(outside):
        person = mails.get(name.casefold())
        if person is None:
            found.append(_principal(name, name, Kind.GUEST, system, OUTSIDE + name, name))
        else:
            account = Account(name, OUTSIDE + name, "", person.name, name)
            holder = Holder(name, OUTSIDE + name, frozenset())
            found.append(Principal(person.id, person.name, person.kind, system, account, holder, True))
    return found


def _principal(person: str, name: str, kind: Kind, system: str, ident: str, login: str) -> Principal:
    account = Account(login, ident, "", name, login if "@" in login else "")
    return Principal(person, name, kind, system, account, Holder(login, ident, frozenset()), False)
