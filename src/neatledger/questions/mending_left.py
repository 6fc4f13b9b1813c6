"""What of the differences no step ends, and the reasons why."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from neatledger.core.access.differences import Difference
from neatledger.core.people.matching import propose
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import find_location
from neatledger.questions.office import Office

__all__ = ["ABSENT", "GATES", "SEVERAL", "Left", "Reasons"]


@dataclass(frozen=True, slots=True)
class Left:
    """A difference that no step ends, and why: a person must look at it."""

    difference: Difference
    why: str


ABSENT = {
    True: "there is no such folder: make it, or put its name right in the plan",
    False: "whether there is such a folder was not seen: ledger --not-seen says why",
}
SEVERAL = "whose account it is must be said in the plan: match shows who it may be"
GATES = {
    "account": "the account is not open",
    "service": "the service is not switched on for it",
    "entitlement": "they lack the licence for the service",
    "share": "the permission of the share keeps it back",
    "published": "it is not switched on as a team folder",
    "enter": "a folder above keeps them out, and the plan says so",
    "download": "the team folder allows no downloading",
    "beneath": "the share beneath lets less through",
    "list": "its list cannot give it",
    "running": "the service is not running",
    "rules": "the rules for sharing keep it back",
    "until": "it has ended",
    "system": "the system is read-only",
}


class Reasons:
    """Why steps leave a difference, asked of an office as it would be after them."""

    def __init__(self, office: Office) -> None:
        self._office = office

    def of_files(self, then: Office, state: ImaginedReader, one: Difference) -> str:
        """Say why nothing brings the files of a folder to the plan that agrees itself."""
        users = {each.account.ident for each in then.principals[state.system] if each.person == one.person}
        owners = {sort.owner for sort in state.file_sorts(one.address.path)}
        if one.is_more and owners & users:
            return "they own files there: give these another owner"
        return "the lists of its files cannot give just that: a person must set these"

    def beyond(self, then: Office, state: ImaginedReader, one: Difference) -> str:
        """Say why nothing takes away what somebody has beyond the plan."""
        system, item = state.system, state.folder_state(one.address.path)
        accounts = [each for each in then.principals[system] if each.person == one.person]
        if item is not None and any(each.holder.user == item.owner for each in accounts):
            return "they own it: give it another owner"
        principals = [each for each in then.systems.holders[system] if each.person == one.person]
        access = then.systems.access(find_location(then.readers[system], one.address), principals)
        ways = {way.name for way in access.ways if way.rights & one.beyond}
        if ways and ways <= {"handed", "link"}:
            return "a hand-out or a link gives it: links shows which"
        if any(each.is_planned for each in accounts):
            return "something gives it that no entry alone decides: why shows what"
        logins = {(system, each.account.login) for each in accounts} & self._proposals.keys()
        if not logins:
            return "the plan does not know them: no person of the plan seems to be meant"
        is_clear = any(self._proposals[login] for login in logins)
        return "once: people --match --write, for it is clear whose accounts these are" if is_clear else SEVERAL

    @cached_property
    def _proposals(self) -> dict[tuple[str, str], bool]:
        """Accounts that the plan knows nobody for and somebody may be meant by: whether it is clear who."""
        found = propose(self._office.plan, self._office.principals)
        return {(one.system, one.account.login): one.is_clear for one in found if one.candidates}
