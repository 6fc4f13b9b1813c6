"""The ways into one folder or file of a service: `share`, `team`, `handed`, `link`, `admin`, gate by gate.

The answer is the explanation, as in `core/access.py`; `matrix.py` beside this asks the same for everyone and
everything at once and must agree. Inside a team folder lists alone open nothing: there the way is `team`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, reduce
from operator import or_

from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.tree_gates import Gate, Item, account_gate, entry_gates, pass_all, role_gate, system_gate
from neatledger.core.access.ways import (
    Access,
    FileClass,
    FileCounts,
    Way,
    access_to,
    access_to_file,
    admin_way,
    count_files,
    doubted,
    is_opened,
    is_union_known,
    most_of,
)
from neatledger.core.lists.contract import Effect, ItemContext, Reason
from neatledger.core.lists.doubt import judge
from neatledger.core.lists.rights import EVERY_RIGHT, Right, with_view
from neatledger.core.people.principals import Principal
from neatledger.core.plan.rules import SharingRule
from neatledger.core.sharing.chains import ResolvedHandOut, file_cap, resolve_chains
from neatledger.core.sharing.gates import (
    download_gate,
    given_gates,
    link_gates,
    member_gate,
    published_gate,
    receiver_gate,
    rules_gate,
    running_gates,
)
from neatledger.core.sharing.holders import is_account
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import HandOut, Link, TeamFolder
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState

__all__ = ["BackingRights", "FolderWays", "Ground", "cap_of_share"]

_CLEAR = Right.CLEAR | Right.CLEAR_OWN
_OF_FILES = Right.READ | Right.VIEW | Right.CHANGE | Right.DELETE


def cap_of_share(rights: Right, *, is_folder: bool = True) -> Right:
    """Return what a share's rights on a folder (or file) let through to a team folder that lies over it.

    A share knows nothing of handing on, and on a folder its right to add stands for changing too: what may be
    changed of its files, their own lists say.
    """
    if not is_folder:
        return with_view(rights) | (Right.SHARE if rights else Right.NONE)
    rights = with_view(rights & ~(_CLEAR | Right.CHANGE | Right.SHARE | Right.VIEW))
    if rights & Right.ADD:
        rights |= Right.CHANGE | Right.CLEAR
    return rights | (Right.SHARE if rights else Right.NONE)


@dataclass(frozen=True, slots=True)
class BackingRights:
    """What a person has by the share on the folder beneath; `files` has it for each class of files there."""

    rights: Right
    is_known: bool
    files: tuple[Right, ...] | None
    because: str


@dataclass(frozen=True)
class Ground:
    """Where the ways lead: the folder (or file) with the folders above it, its files and its terms.

    `beneath` gives what a person has on a folder of a share; `files_beneath` the classes of files there.
    """

    chain: tuple[Item, ...]
    files: tuple[FileClass, ...] | None
    is_folder: bool
    terms: SystemTerms
    beneath: Callable[[Address, str], BackingRights]
    files_beneath: Callable[[Address], tuple[FileClass, ...] | None]


@dataclass(frozen=True, slots=True)
class _Passage:
    """A way with what it gives on each class of files; None where that is not known."""

    way: Way
    files: tuple[Right, ...] | None


class FolderWays:
    """All ways of all principals into one folder or file."""

    def __init__(self, service: Service, ground: Ground) -> None:
        self.service = service
        self.ground = ground
        self._own_known: dict[int, list[_Passage]] = {}
        self.path = ground.chain[-1].path
        self.team = service.team_at(self.path)
        over = self.team.beneath(self.path) if self.team else None
        self.over = over
        self.files = ground.files
        if over is not None:
            is_told = ground.chain[-1].state is not SeenState.LIST_UNKNOWN
            self.files = ground.files_beneath(over) if is_told else None

    def access(self, numbers: Sequence[int]) -> Access:
        """Return every way of one person, by the numbers of their principals."""
        found: list[_Passage] = []
        for number in numbers:
            mine = [*self._handed(number), *self._linked(number), *self._admin(number)]
            found += self._own(number) + [replace(each, way=doubted(each.way)) for each in mine]
        united: tuple[Right, ...] | None = None
        most = most_of(self.ground.terms)
        is_known = is_union_known([each.way for each in found], most)
        if self.files is not None and is_known and all(each.files is not None for each in found if each.way.is_known):
            united = tuple(
                reduce(or_, [each.files[n] for each in found if each.files and each.way.is_known], Right.NONE)
                for n in range(len(self.files))
            )
            if is_opened([each.way for each in found], most):
                united = tuple(rights & ~Right.UNSURE for rights in united)
        ways = tuple(
            replace(each.way, counts=self._count(each), file_rights=each.files if each.way.is_known else None)
            for each in found
        )
        person = self.service.principals[numbers[0]].person if numbers else ""
        counts = None if united is None or not self.ground.is_folder else count_files(self.files or (), united)
        sums = None if self.files is None else tuple(each.files for each in self.files)
        return Access(person, ways, counts, self.ground.is_folder, united, most, sums)

    def _count(self, passage: _Passage) -> FileCounts | None:
        is_told = self.ground.is_folder and self.files is not None and passage.files is not None
        if not is_told or not passage.way.is_known:
            return None
        return count_files(self.files or (), passage.files or ())

    def _pass(self, gates: Sequence[Gate]) -> Right:
        return pass_all(gates) & (EVERY_RIGHT if self.ground.is_folder else _OF_FILES)

    # Ways of one's own: by the lists, or as a member ------------------------------------------------

    def _own(self, number: int) -> list[_Passage]:
        if not is_account(self.service.principals[number]):
            return []
        # A giver is asked for once by each of their hand-outs, and each time the answer is the same.
        if number not in self._own_known:
            passage = self._team(number, self.team) if self.team else self._by_lists(number)
            self._own_known[number] = [replace(passage, way=doubted(passage.way))]
        return self._own_known[number]

    def _by_lists(self, number: int) -> _Passage:
        ground, principal = self.ground, self.service.principals[number]
        plain = principal.as_ordinary
        if ground.is_folder:
            asked = access_to(ground.chain, [plain], ground.files, terms=ground.terms)
        else:
            asked = access_to_file(ground.chain, [plain], terms=ground.terms)
        way = replace(asked.ways[0], principal=principal)
        gates = (*way.gates[:1], *running_gates(self.service), *way.gates[1:])
        rights = way.rights & pass_all(gates)
        files, is_known = asked.file_rights, way.is_known
        if not self.service.shared.is_running:
            files, is_known = None if ground.files is None else (Right.NONE,) * len(ground.files), True
        return _Passage(replace(way, gates=gates, rights=rights, is_known=is_known), files)

    def _team(self, number: int, team: TeamFolder) -> _Passage:
        sure = self._team_by(number, team, member_gate(self.service, team, number))
        if not any(self.service.perhaps_memberships(team, number)):
            return sure
        most = member_gate(self.service, team, number, perhaps=True)
        # Roles only add: what is the same with all that they may have, is so for sure.
        widest = self._team_by(number, team, most)
        is_same = sure.way.rights == widest.way.rights and widest.way.is_known
        files = sure.files
        if files is not None and widest.files is not None:
            files = tuple(
                each | (Right.NONE if each == other else Right.UNSURE)
                for each, other in zip(files, widest.files, strict=True)
            )
        gates = tuple(
            replace(one, reasons=most.reasons, is_unsure=True) if one.name == "member" else one
            for one in sure.way.gates
        )
        return _Passage(replace(sure.way, gates=gates, is_known=sure.way.is_known and is_same), files)

    def _team_by(self, number: int, team: TeamFolder, member: Gate) -> _Passage:
        principal = self.service.principals[number]
        gates = [*entry_gates(principal), *running_gates(self.service), system_gate(self.ground.terms.read_only)]
        gates += [published_gate(team, self.service.day), member]
        lists, is_known, files = self._list_gate(principal)
        # Whoever has no role in it is out, and then no list that was not seen matters.
        is_let_in = bool(pass_all(gates))
        # A file of the service's own has a list of its own; what lies over a share has the folder's.
        before = pass_all(gates if self.over is None else [*gates, lists])
        gates.append(lists)
        if self.over is not None:
            beneath = self.ground.beneath(self.over, principal.person)
            cap = cap_of_share(beneath.rights, is_folder=self.ground.is_folder)
            effect = Effect.LIMITS if not beneath.is_known else Effect.GRANTS if beneath.rights else Effect.STOPS
            reason = Reason(effect, str(self.over), cap, beneath.because)
            gates.append(Gate("beneath", self.over.path, cap, (reason,), not beneath.is_known))
            is_known &= beneath.is_known
            # The share knows no difference between looking and taking away: who reads there may do both.
            files = None if beneath.files is None else tuple(with_view(each) for each in beneath.files)
        if not team.download:
            gates.append(download_gate(team))
        capped = file_cap(before if team.download else before & ~Right.READ)
        if not is_let_in and self.files is not None:
            files = (Right.NONE,) * len(self.files)
        elif files is not None:
            # A cap takes rights away and never what is not known, unless nothing is left to be known.
            files = tuple(each & (capped | Right.UNSURE if capped else Right.NONE) for each in files)
        # Where one gate lets nothing through for certain, what others do not tell changes nothing.
        is_stopped = not is_let_in or any(gate.stops and not gate.is_unsure for gate in gates)
        way = Way("team", principal, tuple(gates), self._pass(gates), is_known or is_stopped, None, team.name)
        return _Passage(way, files)

    def _list_gate(self, principal: Principal) -> tuple[Gate, bool, tuple[Right, ...] | None]:
        """Return the gate of the folder's own list, whether it is known, and what lists say of its files."""
        last = self.ground.chain[-1]
        decision = judge(last.access_list, ItemContext(last.owner, self.ground.is_folder), principal.holder)
        rights = decision.rights
        is_known = last.state is not SeenState.LIST_UNKNOWN and not decision.is_unsure
        is_top = self.team is not None and self.path == self.team.path
        if self.ground.is_folder and is_top:
            # Nobody is asked over a team folder: who may remove what is in it may remove it too.
            rights |= Right.DELETE if rights & Right.CLEAR else Right.NONE
        elif len(self.ground.chain) > 1:
            # What lies in a folder goes by that folder's list (unbind, RFC 3744 appendix B), and not by its own.
            above = self.ground.chain[-2]
            folder = judge(above.access_list, ItemContext(above.owner, True), principal.holder)
            removal = Right.DELETE if folder.rights & Right.CLEAR else Right.NONE
            rights = rights & ~Right.DELETE | removal if self.ground.is_folder else rights | removal
            if self.ground.is_folder:
                is_known &= above.state is not SeenState.LIST_UNKNOWN and not folder.is_unsure
        gate = Gate("list", last.path, rights & EVERY_RIGHT, decision.reasons, not is_known)
        files: list[Right] | None = None if self.ground.files is None else []
        for each in self.ground.files or ():
            on_file = judge(each.access_list, ItemContext(each.owner, False), principal.holder)
            given = on_file.rights & (Right.READ | Right.VIEW | Right.CHANGE | Right.DELETE)
            given |= Right.DELETE if decision.rights & Right.CLEAR else Right.NONE
            given |= Right.UNSURE if on_file.is_unsure else Right.NONE
            assert files is not None
            files.append(given)
        return gate, is_known, None if files is None else tuple(files)

    # Handed -----------------------------------------------------------------------------------------

    @cached_property
    def _covering(self) -> list[HandOut]:
        """The hand-outs that speak of this folder or file, live or not."""
        return [one for one in self.service.shared.hand_outs if self._covers(one.path, one.is_file)]

    @cached_property
    def _resolved(self) -> list[ResolvedHandOut]:
        live = [one for one in self._covering if one.is_live(self.service.day)]
        return self.service.resolve(live, self.path)

    @cached_property
    def _handed_to(self) -> dict[int, list[tuple[HandOut, ResolvedHandOut | None, bool]]]:
        """Principal → the hand-outs given to it here, each with what makes it count, and whether only perhaps."""
        ready = {one.hand_out.id: one for one in self._resolved}
        found: dict[int, list[tuple[HandOut, ResolvedHandOut | None, bool]]] = {}
        for one in self._covering:
            for is_doubtful, numbers in enumerate((self.service.receivers(one), self.service.perhaps_receivers(one))):
                for number in numbers:
                    found.setdefault(number, []).append((one, ready.get(one.id), bool(is_doubtful)))
        return found

    @cached_property
    def _links_for(self) -> dict[int, list[Link]]:
        """Seat → the links that are good for it here."""
        found: dict[int, list[Link]] = {}
        for link in self.service.shared.links:
            if self._covers(link.path, link.is_file):
                for number in self.service.link_principals(link):
                    found.setdefault(number, []).append(link)
        return found

    @cached_property
    def of_file_alone(self) -> set[int]:
        """The principals to whom this file is handed out or linked by itself."""
        service = self.service
        found: set[int] = set()
        for one in service.shared.hand_outs:
            if one.is_file and one.path == self.path:
                found.update(service.receivers(one), service.perhaps_receivers(one))
        for link in service.shared.links:
            if link.is_file and link.path == self.path:
                found.update(service.link_principals(link))
        return found

    def _covers(self, path: bytes, is_file: bool) -> bool:
        if is_file:
            return not self.ground.is_folder and path == self.path
        # A folder that is handed out is so with all below it; a file alone by itself.
        return path in (b"/", self.path) or self.path.startswith(path + b"/")

    def _own_rights(self, place: int | None) -> dict[int, int]:
        """Return what givers have of their own, on the folder (or file) itself or on a class of its files."""
        found: dict[int, int] = {}
        for giver in {one.giver for one in self._resolved if one.giver is not None}:
            rights = 0
            for passage in self._own(giver):
                if place is None:
                    rights |= int(passage.way.rights & EVERY_RIGHT)
                    rights |= 0 if passage.way.is_known else Right.UNSURE
                elif passage.files is not None:
                    rights |= int(passage.files[place])
                else:
                    rights |= Right.UNSURE
            found[giver] = rights
        return found

    @cached_property
    def _settled(self) -> tuple[tuple[dict[int, int], dict[int, int]], list[tuple[dict[int, int], dict[int, int]]]]:
        """What givers have of their own and what is handed: here, and for each class of files."""
        of_files = not self.ground.is_folder
        own = self._own_rights(None)
        here = own, resolve_chains(self._resolved, own, of_files=of_files)
        classes = []
        for place in range(len(self.files or ()) if self.ground.is_folder else 0):
            own = self._own_rights(place)
            classes.append((own, resolve_chains(self._resolved, own, of_files=True)))
        return here, classes

    def _handed(self, number: int) -> list[_Passage]:
        principal, found = self.service.principals[number], []
        for hand_out, ready, is_doubtful in self._handed_to.get(number, ()):
            has, files = self._giver_has(hand_out)
            cap = (ready.cap if self.ground.is_folder else ready.file_cap) if ready else 0
            # A hand-out that is not accepted, over, or barred for this receiver gives nothing and is still shown,
            # with its gates.
            if ready is None or number not in (ready.perhaps if is_doubtful else ready.receivers):
                cap = 0
            if is_doubtful:
                found.append(self._perhaps_handed(hand_out, number, has, files, ready if cap else None))
                continue
            gates = self._handed_gates(hand_out, principal, has)
            rights = self._pass(gates)
            is_known = not (has & Right.UNSURE) or not cap
            way = Way("handed", principal, gates, rights, is_known, None, hand_out.id)
            # What is not known of a giver's file is not known of what they hand out of it.
            most = ready.file_cap | Right.UNSURE if cap and ready and ready.file_cap else 0
            given = None if files is None else tuple(Right(each & most) for each in files)
            found.append(_Passage(way, given))
        return found

    def _perhaps_handed(
        self, hand_out: HandOut, number: int, has: int, files: list[int] | None, ready: ResolvedHandOut | None
    ) -> _Passage:
        """Return what somebody may have by a hand-out to a group of which nobody told whether they are in it."""
        principal = self.service.principals[number]
        gates = self._handed_gates(hand_out, principal, has)
        (_, got), classes = self._settled
        # What they are handed otherwise is theirs in any case: only what goes beyond it is in doubt.
        more = self._pass(gates) & ~got.get(number, 0) | (has & Right.UNSURE)
        is_known = ready is None or not more
        gates = (receiver_gate(hand_out, is_unsure=not is_known), *gates)
        way = Way("handed", principal, gates, Right.NONE, is_known, None, hand_out.id)
        if files is None:
            return _Passage(way, None)
        most = ready.file_cap | Right.UNSURE if ready and ready.file_cap else 0
        return _Passage(
            way,
            tuple(
                Right.UNSURE if each & most & ~(of_class.get(number, 0) & EVERY_RIGHT) else Right.NONE
                for each, (_, of_class) in zip(files, classes, strict=True)
            ),
        )

    def _giver_has(self, one: HandOut) -> tuple[int, list[int] | None]:
        """Return what the giver of a hand-out has here, and on each class of files."""
        (own, got), classes = self._settled
        if one.is_untold:
            return int(Right.UNSURE), None if self.files is None else [int(Right.UNSURE)] * len(classes)
        giver = self.service.numbers.get(one.giver)
        has = 0 if giver is None else own.get(giver, 0) | got.get(giver, 0)
        if self.files is None:
            return has, None
        return has, [0 if giver is None else a.get(giver, 0) | b.get(giver, 0) for a, b in classes]

    def _handed_gates(self, one: HandOut, principal: Principal, has: int) -> tuple[Gate, ...]:
        here = Right(has) & EVERY_RIGHT
        if one.is_untold:
            message = "who gave it was not told" if not one.giver else "something that it says could not be read"
            reason = Reason(Effect.LIMITS, one.giver or "not told", Right.NONE, message)
        else:
            message = self._how_giver_has(self.service.numbers.get(one.giver))
            reason = Reason(Effect.GRANTS if here else Effect.STOPS, one.giver, here, message)
        rule = self.service.rule_at(self.path, one.giver)
        lets = self.service.lets(rule, principal)

        def cap(each: SharingRule) -> Right:
            reached = self.service.lets(each, principal)
            return self.service.download_cap(one.download, each) if reached else Right.NONE

        because = "no download" if lets else "this guest may not be reached"
        return (
            Gate("giver", self.path, here, (reason,), bool(has & Right.UNSURE)),
            *given_gates(self.service, one),
            rules_gate(self.service, self.path, one.giver, cap, because),
            account_gate(principal),
        )

    def _how_giver_has(self, giver: int | None) -> str:
        if giver is None:
            return "the giver has no account here any more"
        ways = [each.way for each in self._own(giver) if each.way.rights]
        parts = [f"way {way.name} {way.through}".strip() for way in ways]
        (_, got), _ = self._settled
        if got.get(giver, 0) & EVERY_RIGHT:
            givers = [one.hand_out.giver for one in self._resolved if giver in one.receivers]
            parts.append(f"a hand-out from {', '.join(dict.fromkeys(givers))}")
        return f"has it by {' and '.join(parts)}" if parts else "has nothing here today"

    # Links ------------------------------------------------------------------------------------------

    def _linked(self, number: int) -> list[_Passage]:
        found = []
        principal = self.service.principals[number]
        for link in self._links_for.get(number, ()):
            gates = [*running_gates(self.service), *link_gates(self.service, link, self.path, number)]
            # Said only where it takes something: on a link nobody expects the system's own switch.
            gates += [system_gate(True)] if self.ground.terms.read_only else []
            gates += [account_gate(principal)] if is_account(principal) else []
            if link.is_doubtful:
                message = "something that it says could not be read"
                doubt = Reason(Effect.LIMITS, f"link {link.fingerprint or link.id}", Right.NONE, message)
                gates.append(Gate("carries", link.path, EVERY_RIGHT, (doubt,), True))
            rights = self._pass(gates)
            files = None if self.files is None else (file_cap(rights),) * len(self.files)
            is_known = not (link.is_doubtful and rights)
            found.append(_Passage(Way("link", principal, tuple(gates), rights, is_known, None, link.id), files))
        return found

    # Administrators ---------------------------------------------------------------------------------

    def _admin(self, number: int) -> list[_Passage]:
        principal = self.service.principals[number]
        override = self.ground.terms.model.overrides(principal.holder)
        if not override:
            return []
        gates = [account_gate(principal), *running_gates(self.service)]
        if self.ground.terms.read_only:
            gates.append(system_gate(True))
        gates.append(role_gate(self.ground.terms, principal, override))
        rights = pass_all(gates)
        given = rights & (Right.READ | Right.CHANGE) | (Right.DELETE if rights & Right.CLEAR else Right.NONE)
        files = None if self.files is None else (given,) * len(self.files)
        return [_Passage(admin_way(Way("admin", principal, tuple(gates), rights)), files)]
