"""Random services with all that they share, and a slow evaluator of them that shares no code with the product's own."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, timedelta

from hypothesis import strategies as st

from neatledger.core.access.matrix import Matrix
from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import FileClass, access_to
from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.posix import PosixModel
from neatledger.core.lists.rights import EVERY_RIGHT, LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.lists.role import OPEN, RoleModel
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.sharing.backing import BackingSystem
from neatledger.core.sharing.folder_ways import BackingRights, FolderWays, Ground
from neatledger.core.sharing.holders import principals_beside
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.service_matrix import ServiceMatrix
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.core.survey.shared import Audience, HandOut, Link, Member, Reply, Shared, TeamFolder, Towards
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import Table, folder_paths
from strategies import USERS, posix_bodies, role_bodies, trees

ROLE, POSIX = RoleModel(), PosixModel()
TODAY = date(2026, 6, 15)
DAYS = [None, None, *(TODAY + timedelta(days=days) for days in (-1, 0, 1))]
RIGHTS = [with_view(LEVEL_RIGHTS[level]) for level in LEVEL_RIGHTS]
GROUPS = {"ga": "21", "gb": "22", "gc": "23"}
TEAM_RIGHTS = Right.ENTER | Right.LIST | Right.READ | Right.VIEW | Right.ADD | Right.CHANGE
TEAM_RIGHTS |= Right.DELETE | Right.SHARE | Right.MANAGE | Right.CLEAR
NO_PLAN = Plan("x", "", {}, {}, {}, (), (), (), {})
MAY_BE_OPEN = (AccountState.OPEN, AccountState.UNKNOWN)


@dataclass
class Tree:
    """One system's folders, with the bodies of their lists and the identifiers of their owners."""

    model: object
    folders: Table
    classes: Table
    bodies: list[bytes]
    idents: list[str]

    def paths(self) -> list[bytes]:
        path_of = folder_paths(self.folders)
        return [path_of(row) for row in range(self.folders.rows)]

    def chain(self, row: int) -> tuple[Item, ...]:
        paths, found = self.paths(), []
        while row >= 0:
            parsed = self.model.parse(self.bodies[self.folders["list"][row]])
            owner, state = self.idents[self.folders["owner"][row]], SeenState(int(self.folders["state"][row]))
            found.append(Item(paths[row], parsed, owner, state))
            row = int(self.folders["parent"][row])
        return tuple(found[::-1])

    def files(self, row: int) -> tuple[FileClass, ...] | None:
        if self.folders["state"][row] != SeenState.WHOLE:
            return None
        table = self.classes
        return tuple(
            FileClass(
                self.model.parse(self.bodies[table["list"][n]]),
                self.idents[table["owner"][n]],
                int(table["files"][n]),
            )
            for n in range(table.rows)
            if table["folder"][n] == row
        )


@dataclass
class Office:
    tree: Tree
    share: Tree
    share_principals: list[Principal]
    service: Service
    terms: SystemTerms

    def beneath(self, address: Address, person: str) -> BackingRights:
        paths = self.share.paths()
        if address.path not in paths:
            return BackingRights(Right.NONE, False, None, "not counted")
        row = paths.index(address.path)
        principals = [principal for principal in self.share_principals if principal.person == person]
        files = self.share.files(row)
        if not principals:
            return BackingRights(
                Right.NONE, True, None if files is None else (Right.NONE,) * len(files), "no account"
            )
        asked = access_to(self.share.chain(row), principals, files, terms=SystemTerms(POSIX, True))
        ways = [way for way in asked.ways if way.name == "share"]
        rights = Right.NONE
        for way in ways:
            rights |= way.rights
        # Nobody is an administrator of the share here, so all ways are of the share.
        return BackingRights(rights, all(way.is_known for way in ways), asked.file_rights, "")

    def files_beneath(self, address: Address):
        paths = self.share.paths()
        return self.share.files(paths.index(address.path)) if address.path in paths else None

    def ways(self, row: int) -> FolderWays:
        ground = Ground(
            self.tree.chain(row), self.tree.files(row), True, self.terms, self.beneath, self.files_beneath
        )
        return FolderWays(self.service, ground)

    def matrix(self, is_narrow: bool) -> ServiceMatrix:
        mine: dict[str, list[Principal]] = {}
        for principal in self.share_principals:
            mine.setdefault(principal.person, []).append(principal)
        layers = []
        nobody = Account("", "", "", state=AccountState.DISABLED)
        for place in range(max([len(each) for each in mine.values()], default=1)):
            principals = []
            for principal in self.service.principals:
                theirs = mine.get(principal.person, [])
                empty = Principal(
                    principal.person, "", principal.kind, "barn", nobody, Holder("", "", frozenset()), False
                )
                principals.append(theirs[place] if place < len(theirs) else empty)
            share = self.share
            layers.append(
                Matrix(
                    share.folders,
                    share.classes,
                    share.bodies,
                    share.idents,
                    principals,
                    terms=SystemTerms(POSIX, True),
                )
            )
        tree = self.tree
        return ServiceMatrix(
            tree.folders, tree.classes, tree.bodies, tree.idents, terms=self.terms, service=self.service,
            backing={"barn": BackingSystem(tuple(layers))}, is_narrow=is_narrow,
        )  # fmt: skip


def _principal(
    number: int, system: str, person: str, ident: str, groups, kind=Kind.STAFF, maybe=frozenset(), **account
) -> Principal:
    login = f"l{number}"
    one = Account(login, ident, "", "", f"{login}@{'here' if number % 2 else 'there'}.example", **account)
    privileges = frozenset({"everything"}) if account.get("note") == "admin" else frozenset()
    perhaps = frozenset({"everything"}) if account.get("note") == "perhaps" else frozenset()
    return Principal(
        person,
        person,
        kind,
        system,
        one,
        Holder(login, ident, frozenset(groups), privileges, maybe - groups, perhaps),
        number % 3 != 0,
    )


@st.composite
def principals_of_service(draw) -> list[Principal]:
    found = []
    # The members of some groups may not all be told.
    is_doubtful = draw(st.sampled_from([False, False, True]))
    for number in range(draw(st.integers(2, 9))):
        found.append(
            _principal(
                number,
                "meadow",
                f"p{draw(st.integers(0, number))}",
                draw(st.sampled_from(USERS[1:])) if draw(st.integers(0, 3)) == 0 else f"u{number}",
                draw(st.frozensets(st.sampled_from(sorted(GROUPS.values())))),
                draw(st.sampled_from([Kind.STAFF, Kind.STAFF, Kind.GUEST])),
                draw(st.frozensets(st.sampled_from(sorted(GROUPS.values())), max_size=2))
                if is_doubtful
                else frozenset(),
                state=draw(st.sampled_from([AccountState.OPEN] * 6 + [AccountState.DISABLED, AccountState.UNKNOWN])),
                may_use=draw(st.sampled_from([True] * 5 + [False])),
                is_entitled=draw(st.sampled_from([True] * 5 + [False])),
                note=draw(st.sampled_from([""] * 8 + ["admin", "perhaps"])),
            )
        )
    return found


rules = st.builds(
    SharingRule,
    guests=st.none() | st.sampled_from(list(Guests)),
    domains=st.none() | st.frozensets(st.sampled_from(["here.example", "there.example", "out.example"])),
    open_links=st.none() | st.sampled_from(["nothing", "read", "write"]),
    download=st.sampled_from([None, None, True, False]),
    link_days=st.none() | st.integers(1, 60),
    password=st.none() | st.booleans(),
)  # fmt: skip


@st.composite
def shared(draw, logins: list[str], paths: list[bytes], below: list[bytes]) -> Shared:
    path, login = st.sampled_from(paths), st.sampled_from([*logins, "nobody"])
    rights, day = st.sampled_from(RIGHTS), st.sampled_from(DAYS)
    reply = st.sampled_from([Reply.ACCEPTED] * 4 + [Reply.WAITING, Reply.DECLINED])
    holder = st.tuples(login, st.just(False)) | st.tuples(st.sampled_from(sorted(GROUPS)), st.just(True))
    member = st.builds(lambda who, *rest: Member(*who, *rest), holder, rights, reply)
    over = st.none() | st.sampled_from(below).map(lambda one: Address("barn", one))
    team = st.builds(
        lambda where, *rest: TeamFolder(where, "t" + where.decode(), *rest),
        path, st.lists(member, max_size=4).map(tuple), st.sampled_from([True] * 5 + [False]), over,
        st.sampled_from([True, True, False]), day,
    )  # fmt: skip
    receiver = st.tuples(login, st.just(Towards.PERSON)) | st.tuples(
        st.sampled_from(sorted(GROUPS)), st.just(Towards.GROUP)
    )
    receiver |= st.sampled_from(["x@out.example", "y@here.example"]).map(lambda one: (one, Towards.OUTSIDE))
    hand_out = st.builds(
        lambda giver, to, where, given, until, answer, takes: HandOut(
            "", giver, *to, where, given, expires=until, reply=answer, download=takes
        ),
        login, receiver, path, rights, day, reply, st.sampled_from([True, True, False]),
    )  # fmt: skip
    link = st.builds(
        lambda maker, where, given, audience, named, begins, until, is_on, takes, left: Link(
            "", maker, where, given, audience, named if audience is Audience.NAMED else (), starts=begins,
            expires=until, is_on=is_on, download=takes, uses_left=left,
        ),
        login, path, rights, st.sampled_from(list(Audience)),
        st.lists(st.sampled_from([*logins, "x@out.example"]), max_size=3, unique=True).map(tuple), day, day,
        st.sampled_from([True] * 4 + [False]), st.booleans(), st.sampled_from([None, None, 0, 3]),
    )  # fmt: skip
    placed = st.builds(PlacedRule, st.just(RuleOn.OFFICE), st.just(""), rules)
    placed |= st.builds(PlacedRule, st.just(RuleOn.SYSTEM), st.sampled_from(["meadow", "other"]), rules)
    placed |= st.builds(PlacedRule, st.just(RuleOn.PERSON), login, rules)
    placed |= st.builds(PlacedRule, st.just(RuleOn.FOLDER), path.map(bytes.decode), rules)
    hand_outs = draw(st.lists(hand_out, max_size=14))
    links = draw(st.lists(link, max_size=6))
    return Shared(
        tuple(draw(st.lists(team, max_size=3, unique_by=lambda one: one.path))),
        tuple(replace(one, id=f"h{number}") for number, one in enumerate(hand_outs)),
        tuple(replace(one, id=f"k{number}", fingerprint=f"f{number}") for number, one in enumerate(links)),
        rules=tuple(draw(st.lists(placed, max_size=4))),
        is_running=draw(st.sampled_from([True] * 6 + [False])),
    )


@st.composite
def offices(draw) -> Office:
    def tree(model, bodies, unseen: bool) -> Tree:
        stored = draw(st.lists(bodies, min_size=1, max_size=5))
        folders, classes = draw(trees(len(stored)))
        if not unseen:
            folders.columns["state"][:] = 0
        return Tree(model, folders, classes, stored, USERS)

    unseen = draw(st.sampled_from([False, False, True]))
    mine, share = tree(ROLE, role_bodies() | st.just(OPEN), unseen), tree(POSIX, posix_bodies(), unseen)
    accounts = draw(principals_of_service())
    people = sorted({principal.person for principal in accounts})
    share_principals = [
        _principal(
            number,
            "barn",
            person,
            draw(st.sampled_from(USERS[1:])),
            draw(st.frozensets(st.sampled_from(["21", "22"]))),
        )
        for number, person in enumerate(draw(st.lists(st.sampled_from(people), max_size=6)))
    ]
    given = draw(
        shared([principal.account.login for principal in accounts], mine.paths(), [*share.paths(), b"/gone"])
    )
    principals = [*accounts, *principals_beside("meadow", given, accounts, NO_PLAN)]
    is_shut = draw(st.sampled_from([False] * 5 + [True]))
    service = Service("meadow", given, principals, GROUPS, TODAY, is_shut)
    return Office(mine, share, share_principals, service, SystemTerms(ROLE, False, is_shut))


# The slow evaluator ---------------------------------------------------------------------------------


def _above(path: bytes) -> list[bytes]:
    found = [path]
    while found[-1] != b"/":
        found.append(found[-1].rpartition(b"/")[0] or b"/")
    return found


def _rule(office: Office, path: bytes, login: str) -> dict[str, object]:
    """The tightest of what the four levels say, setting by setting, in the words of the design."""
    guests, domains, links, download = 2, None, 3, True
    for one in office.service.shared.rules:
        counts = (
            one.on is RuleOn.OFFICE
            or (one.on is RuleOn.SYSTEM and one.name == "meadow")
            or (one.on is RuleOn.PERSON and one.name == login)
            or (one.on is RuleOn.FOLDER and one.name.encode() in _above(path))
        )
        if not counts:
            continue
        if one.rule.guests is not None:
            guests = min(guests, int(one.rule.guests))
        if one.rule.domains is not None:
            domains = set(one.rule.domains) if domains is None else domains & one.rule.domains
        if one.rule.open_links is not None:
            links = min(links, ["nothing", "read", "write"].index(one.rule.open_links))
        if one.rule.download is False:
            download = False
    return {"guests": guests, "domains": domains, "links": links, "download": download}


def _may_reach(rule: dict[str, object], principal: Principal) -> bool:
    if principal.kind is not Kind.GUEST:
        return True
    if rule["guests"] == 0 or (rule["guests"] == 1 and not principal.is_planned):
        return False
    mail = principal.account.email or principal.account.login
    return rule["domains"] is None or mail.split("@")[-1] in rule["domains"]


def slow_rights(office: Office) -> dict[tuple[int, int, str], Right]:
    """Return (folder's row, principal's number, way) → rights, by going through everything again and again."""
    service, found = office.service, {}
    paths, principals = office.tree.paths(), service.principals
    writes = Right.ADD | Right.CHANGE | Right.DELETE | Right.CLEAR | Right.CLEAR_OWN | Right.MANAGE
    numbers = {principal.account.login: number for number, principal in enumerate(principals)}
    real = [principal.account.ident.split(":")[0] not in ("outside", "audience") for principal in principals]
    running = service.shared.is_running
    for row, path in enumerate(paths):
        chain = office.tree.chain(row)
        team = next((t for at in _above(path) for t in service.shared.teams if t.path == at), None)
        for number, principal in enumerate(principals):
            is_open = principal.account.state in MAY_BE_OPEN
            enters = (
                is_open and principal.account.may_use and principal.account.is_entitled and running and real[number]
            )
            # What somebody perhaps has is shown with what they have, as unknown.
            if "everything" in principal.holder.privileges | principal.holder.perhaps and is_open and running:
                every = LEVEL_RIGHTS[Level.MANAGE]
                found[row, number, "admin"] = every & ~writes if service.read_only else every
            if not enters:
                continue
            if team is None:
                asked = access_to(
                    chain,
                    [
                        replace(
                            principal, holder=replace(principal.holder, privileges=frozenset(), perhaps=frozenset())
                        )
                    ],
                    (),
                    terms=office.terms,
                )
                found[row, number, "share"] = asked.rights
                continue
            if not team.is_on or (team.ends and team.ends < TODAY):
                continue
            rights = Right.NONE
            for member in team.members:
                is_theirs = (
                    GROUPS.get(member.holder) in principal.holder.groups
                    if member.is_group
                    else member.holder == principal.account.login
                )
                if is_theirs and member.reply is Reply.ACCEPTED:
                    rights |= member.rights
            here = chain[-1]
            listed = here.access_list.decide(ItemContext(here.owner, True), principal.holder).rights
            if path == team.path:
                removed = listed
            else:
                over = chain[-2]
                removed = over.access_list.decide(ItemContext(over.owner, True), principal.holder).rights
            rights &= (
                listed & ~Right.DELETE
                | (Right.DELETE if removed & Right.CLEAR else 0)
                | (listed & Right.DELETE if path == team.path else 0)
            )
            if team.over is not None:
                rest = path[len(team.path.rstrip(b"/")) :].rstrip(b"/")
                below = office.beneath(
                    Address("barn", team.over.path.rstrip(b"/") + rest or b"/"), principal.person
                ).rights
                allowed = below & (Right.ENTER | Right.LIST | Right.READ | Right.ADD | Right.DELETE | Right.MANAGE)
                allowed |= Right.VIEW if below & Right.READ else 0
                allowed |= Right.CHANGE | Right.CLEAR if below & Right.ADD else 0
                rights &= allowed | (Right.SHARE if allowed else 0)
            if not team.download:
                rights &= ~Right.READ
            found[row, number, "team"] = rights & (EVERY_RIGHT & ~writes if service.read_only else EVERY_RIGHT)
        for link in service.shared.links:
            dead = not link.is_on or (link.starts and link.starts > TODAY) or (link.expires and link.expires < TODAY)
            if link.path not in _above(path) or dead or link.uses_left == 0 or not running:
                continue
            rule, rights = _rule(office, path, link.maker), link.rights
            if not link.download or not rule["download"]:
                rights &= ~Right.READ
            if link.audience is Audience.ANYONE:
                rights &= [
                    0,
                    with_view(LEVEL_RIGHTS[Level.READ]),
                    EVERY_RIGHT & ~(Right.MANAGE | Right.SHARE),
                    EVERY_RIGHT,
                ][rule["links"]]
            if link.audience is Audience.GUESTS and rule["guests"] == 0:
                rights = Right.NONE
            names = {"anyone": "anyone with the link", "guests": "any guest", "office": "anyone in the office"}
            who = link.named if link.audience is Audience.NAMED else [names[link.audience.value]]
            for name in who:
                principal = principals[numbers[name]]
                if principal.account.state not in MAY_BE_OPEN or (
                    link.audience is Audience.NAMED and not _may_reach(rule, principal)
                ):
                    continue
                given = rights & ~writes if service.read_only else rights
                key = row, numbers[name], "link"
                found[key] = found.get(key, Right.NONE) | given
    while True:
        before = dict(found)
        for row, path in enumerate(paths):
            for one in service.shared.hand_outs:
                giver = numbers.get(one.giver)
                is_live = one.reply is Reply.ACCEPTED and not (one.expires and one.expires < TODAY)
                if one.path not in _above(path) or not is_live or giver is None:
                    continue
                has = Right.NONE
                for way in ("share", "team", "handed"):
                    has |= found.get((row, giver, way), Right.NONE)
                rule = _rule(office, path, one.giver)
                given = has & one.rights
                if not one.download or not rule["download"]:
                    given &= ~Right.READ
                for number, principal in enumerate(principals):
                    is_theirs = (
                        GROUPS.get(one.receiver) in principal.holder.groups
                        if one.towards is Towards.GROUP
                        else one.receiver == principal.account.login
                    )
                    if (
                        number == giver
                        or not is_theirs
                        or principal.account.state not in MAY_BE_OPEN
                        or not _may_reach(rule, principal)
                    ):
                        continue
                    key = row, number, "handed"
                    found[key] = found.get(key, Right.NONE) | given & EVERY_RIGHT
        if found == before:
            return {key: rights for key, rights in found.items() if rights}
