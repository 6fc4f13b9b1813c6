"""The gates on the way into a tree of folders: account, service, share, mount, flags, an administrator's role.

Each says which rights it lets through, and by which entries.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.shares import WRITING, Share, SystemTerms
from neatledger.core.lists.contract import AccessList, Effect, Reason
from neatledger.core.lists.privileges import is_override_doubtful
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import SeenState

__all__ = [
    "Gate",
    "Item",
    "account_gate",
    "entry_gates",
    "lock_gates",
    "mount_gate",
    "pass_all",
    "role_gate",
    "share_gate",
    "system_gate",
]


@dataclass(frozen=True, slots=True)
class Item:
    """A folder on the way, or the last item itself: its path, its list and its owner."""

    path: bytes
    access_list: AccessList
    owner: str
    state: SeenState = SeenState.WHOLE


@dataclass(frozen=True, slots=True)
class Gate:
    """One gate: what it asks, where it stands, the rights that it lets through, and why."""

    name: str
    place: bytes
    passes: Right
    reasons: tuple[Reason, ...]
    is_unsure: bool = False

    @property
    def stops(self) -> bool:
        """Tell whether nothing passes."""
        return not self.passes


def account_gate(principal: Principal) -> Gate:
    """Return the first gate: whether the account is open."""
    state = principal.account.state.value
    if principal.is_doubtful:
        message = "whether it is open was not told, or not in words that could be read"
        reason = Reason(Effect.LIMITS, principal.account.login, Right.NONE, message)
        return Gate("account", b"", EVERY_RIGHT, (reason,), True)
    if principal.is_open:
        return Gate(
            "account", b"", EVERY_RIGHT, (Reason(Effect.GRANTS, principal.account.login, EVERY_RIGHT, state),)
        )
    return Gate("account", b"", Right.NONE, (Reason(Effect.STOPS, principal.account.login, Right.NONE, state),))


def _service_gate(principal: Principal) -> Gate:
    if principal.account.may_use:
        return Gate("service", b"", EVERY_RIGHT, ())
    reason = Reason(
        Effect.STOPS, principal.account.login, Right.NONE, "the service is not switched on for the account"
    )
    return Gate("service", b"", Right.NONE, (reason,))


def entry_gates(principal: Principal) -> list[Gate]:
    """Return the gates before any folder: account, entitlement (where one is asked for), service."""
    gates = [account_gate(principal)]
    account = principal.account
    # Told also where it passes: whoever asks why wants to see which of several licences lets them in.
    if account.admission.entitlements and account.is_entitled:
        message = tuple(
            Reason(Effect.GRANTS, one, EVERY_RIGHT, "they have it") for one in account.admission.entitlements
        )
        gates.append(Gate("entitlement", b"", EVERY_RIGHT, message))
    elif not account.is_entitled:
        reason = Reason(Effect.STOPS, account.login, Right.NONE, "they have no licence for the service")
        gates.append(Gate("entitlement", b"", Right.NONE, (reason,)))
    return [*gates, _service_gate(principal)]


def system_gate(read_only: bool, place: bytes = b"", why: str = "the whole system is mounted read-only") -> Gate:
    """Return the gate of the whole system, or of what is mounted at a place: whether it may be written to."""
    if read_only:
        reason = Reason(Effect.LIMITS, "read-only", WRITING, why)
        return Gate("system", place, EVERY_RIGHT & ~WRITING, (reason,))
    return Gate("system", place, EVERY_RIGHT, ())


def mount_gate(terms: SystemTerms, path: bytes) -> Gate:
    """Return the gate of the mount that is in force at an item: whether it may be written to."""
    mount = terms.mount_over(parts_of(path))
    if mount is None:
        return system_gate(terms.read_only)
    return system_gate(mount.read_only, b"/" + b"/".join(mount.parts), "what is mounted here is read-only")


def lock_gates(terms: SystemTerms, chain: Sequence[Item], *, is_folder: bool) -> list[Gate]:
    """Return the gate of what is kept from everybody on the last of some items; none where nothing is."""
    last, above = chain[-1], chain[-2] if len(chain) > 1 else None
    locked = last.access_list.locked(is_folder=is_folder)
    reasons = []
    if locked:
        message = "a flag of the item itself keeps it from everybody"
        reasons.append(Reason(Effect.LIMITS, "flag", locked, message))
    if above is not None and above.access_list.locked(is_folder=True) & Right.CLEAR:
        reasons.append(
            Reason(Effect.LIMITS, "flag", Right.DELETE, "a flag of the folder above lets nothing go from it")
        )
        locked |= Right.DELETE
    mount = terms.mount_over(parts_of(last.path))
    if is_folder and mount is not None and mount.parts == parts_of(last.path):
        reasons.append(Reason(Effect.LIMITS, "mount", Right.DELETE, "a folder at which something is mounted stays"))
        locked |= Right.DELETE
    return [Gate("flags", last.path, EVERY_RIGHT & ~locked, tuple(reasons))] if reasons else []


def share_gate(share: Share, principal: Principal) -> Gate:
    """Return the gate of a share: its permission and its own switches."""
    decision = share.decide(principal.holder)
    reasons = decision.reasons
    if decision.is_unsure:
        pass  # what it lets through besides is not known: nothing more can be said
    elif not decision.rights:
        reasons += (
            Reason(Effect.STOPS, share.name, Right.NONE, "without reading or writing there is no connection"),
        )
    elif share.is_read_only_for(principal.holder):
        reasons += (Reason(Effect.LIMITS, "read-only", WRITING, "the share is switched to read-only"),)
    elif not decision.rights & WRITING:
        message = "the share permission is read-only"
        reasons += (Reason(Effect.LIMITS, share.name, WRITING, message),)
    return Gate("share", share.path, decision.rights, reasons, decision.is_unsure)


def role_gate(terms: SystemTerms, principal: Principal, override: Reason) -> Gate:
    """Return the gate of an administrator's role; unsure where it is theirs only if they are in some group."""
    if not is_override_doubtful(terms.model, principal.holder):
        return Gate("role", b"", override.rights, (override,))
    message = "by a group whose members were not all told: they may be in it or not"
    return Gate("role", b"", override.rights, (replace(override, effect=Effect.LIMITS, because=message),), True)


def pass_all(gates: Sequence[Gate]) -> Right:
    """Return what passes all of some gates."""
    rights = EVERY_RIGHT
    for gate in gates:
        rights &= gate.passes
    return rights
