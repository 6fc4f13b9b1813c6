"""Every gate, each alone: what it stops for one person it stops in the table of everybody too."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest

import neatledger
from neatledger.core.access.everyone import Column, Everyone, RowFilter, flag_rights
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.shares import Mount, Share, SystemTerms
from neatledger.core.access.ways import Access, access_to
from neatledger.core.lists import nt, posix, role
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.sharing.holders import principals_beside
from neatledger.core.sharing.service import Service
from neatledger.core.sharing.takeback import take_back
from neatledger.core.survey.accounts import Account, AccountState, Admission
from neatledger.core.survey.shared import Audience, HandOut, Link, Member, Reply, Shared, TeamFolder, Towards
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS, SeenState
from neatledger.errors import UnknownNameError
from shared_offices import NO_PLAN, Office, Tree
from shared_offices import TODAY as DAY
from strategies import _table

READ = with_view(LEVEL_RIGHTS[Level.READ])
LATE = DAY - timedelta(days=1)
OPEN_POSIX, SHUT_POSIX, WIDE_POSIX = (posix.pack_body(0o700 | others, 99) for others in (5, 0, 7))
EVERYONE, NOBODY = (nt.pack_body(Descriptor("S-1-5-18", "", Acl(aces)))
                    for aces in ((Ace(0, 3, 0x1200A9, "S-1-1-0"),), ()))  # fmt: skip


def tree(model: str, *bodies: bytes, state: SeenState = SeenState.WHOLE) -> Tree:
    """A root with one folder ``t`` in it, each with a list of its own; three files in ``t`` have the folder's."""
    folders = {"name": [b"", b"t"], "parent": [-1, 0], "first_child": [1, 2], "children": [1, 0]}
    folders |= {"list": [0, 1], "default": [0, 0], "owner": [0, 0], "state": [SeenState.WHOLE, state]}
    classes = {name: [0] for name in COLUMNS["classes"]} | {"folder": [1], "list": [1], "files": [3]}
    tables = _table(folders, COLUMNS["folders"]), _table(classes, COLUMNS["classes"])
    return Tree(MODELS[model], *tables, list(bodies), ["0"])


def principal(login: str, system: str = "meadow", *, kind: Kind = Kind.STAFF, **account) -> Principal:
    one = Account(login, f"u{login}", "", "", f"{login}@out.example", **account)
    privileges = frozenset({"everything"}) if login == "root" else frozenset()
    return Principal(login, login, kind, system, one, Holder(login, one.ident, frozenset(), privileges), True)


TEAM = TeamFolder(b"/t", "t", (Member("ada", False, READ),))
HANDED = HandOut("h", "bob", "ada", Towards.PERSON, b"/t", READ)
GIVER = TeamFolder(b"/t", "t", (Member("bob", False, READ),))
LINK = Link("k", "bob", b"/t", READ, Audience.NAMED, ("ada",))


def office(ada: Principal | None = None, *, beneath: bytes = OPEN_POSIX, rule: SharingRule | None = None,
           read_only: bool = False, listed: bytes = role.OPEN, **shared) -> Office:  # fmt: skip
    """A service with ``ada`` and ``bob``; its folder ``t`` may lie over the one of a share."""
    rules = () if rule is None else (PlacedRule(RuleOn.OFFICE, "", rule),)
    people = [ada or principal("ada"), principal("bob")]
    given = Shared(rules=rules, **shared)
    people += principals_beside("meadow", given, people, NO_PLAN)
    service = Service("meadow", given, people, {"vets": "g9"}, DAY, read_only)
    below = [principal("ada", "barn"), principal("bob", "barn")]
    terms = SystemTerms(MODELS["role"], False, read_only)
    nothing = role.pack_body([])
    listed = listed if "teams" in shared else nothing
    return Office(tree("role", nothing, listed), tree("posix", OPEN_POSIX, beneath), below, service, terms)


class Plain:
    """One system of folders alone, asked both ways."""

    def __init__(self, model: str, *bodies: bytes, who: Principal | None = None, **terms) -> None:
        self.tree, self.terms = tree(model, *bodies), SystemTerms(MODELS[model], model == "posix", **terms)
        self.who = who or principal("ada", "barn")

    def alone(self) -> Access:
        return access_to(self.tree.chain(1), [self.who], self.tree.files(1), terms=self.terms)

    def matrix(self, _: bool) -> Matrix:
        here = self.tree
        return Matrix(here.folders, here.classes, here.bodies, here.idents, [self.who], terms=self.terms)


def at_once(matrix) -> tuple[Right, int]:
    everyone, found, reads = Everyone(matrix), Right.NONE, -1
    for block in everyone.blocks(RowFilter.ALL):
        rows = zip(block.folder, block.column, block.flags.tolist(), block.counts.read.tolist(), strict=True)
        for row, column, flags, read in rows:
            if row == 1 and set(everyone.columns[column].principals) == {0}:
                found, reads = found | flag_rights(flags), max(reads, read)
    return found, reads


def ask(one: Office | Plain) -> list[tuple[Right, int]]:
    """Return ada's rights in ``t`` and how many files she reads: asked for alone, and in the table of everybody."""
    alone = one.alone() if isinstance(one, Plain) else one.ways(1).access([0])
    return [(alone.rights, alone.counts.read if alone.counts else -1), at_once(one.matrix(False))]


OVER = replace(TEAM, over=Address("barn", b"/t"))
SHARE = Share("s", b"/t", EVERYONE, False)
NO_LICENCE = principal("ada", is_entitled=False, admission=Admission(entitlements=()))
SHUT, OFF = principal("ada", state=AccountState.DISABLED), principal("ada", may_use=False)
GUEST = principal("ada", kind=Kind.GUEST)
OF_POSIX = OPEN_POSIX, OPEN_POSIX
FLAGGED = [posix.pack_body(0o777, 0, flags=flag) for flag in (posix.IMMUTABLE, posix.APPEND_ONLY)]
# Gate → an office in which ada may read, and the same with that gate shut.
GATES = {
    "account": [(Plain("posix", *OF_POSIX), Plain("posix", *OF_POSIX, who=SHUT)),
                (office(teams=(TEAM,)), office(SHUT, teams=(TEAM,))),
                (office(links=(LINK,)), office(SHUT, links=(LINK,))),
                (office(teams=(GIVER,), hand_outs=(HANDED,)), office(SHUT, teams=(GIVER,), hand_outs=(HANDED,)))],
    "service": [(office(teams=(TEAM,)), office(OFF, teams=(TEAM,)))],
    "entitlement": [(office(teams=(TEAM,)), office(NO_LICENCE, teams=(TEAM,)))],
    "share": [(Plain("nt", EVERYONE, EVERYONE, shares=(SHARE,)),
               Plain("nt", EVERYONE, EVERYONE, shares=(replace(SHARE, body=NOBODY),))),
              (Plain("nt", EVERYONE, EVERYONE, shares=(SHARE,)), Plain("nt", EVERYONE, EVERYONE, shares=()))],
    "enter": [(Plain("posix", *OF_POSIX), Plain("posix", SHUT_POSIX, OPEN_POSIX))],
    "list": [(Plain("posix", *OF_POSIX), Plain("posix", OPEN_POSIX, SHUT_POSIX)),
             (office(teams=(TEAM,)), office(listed=role.pack_body([]), teams=(TEAM,)))],
    "running": [(office(teams=(TEAM,)), office(teams=(TEAM,), is_running=False)),
                (office(links=(LINK,)), office(links=(LINK,), is_running=False)),
                (office(teams=(GIVER,), hand_outs=(HANDED,)),
                 office(teams=(GIVER,), hand_outs=(HANDED,), is_running=False))],
    "published": [(office(teams=(TEAM,)), office(teams=(replace(TEAM, is_on=False),))),
                  (office(teams=(replace(TEAM, ends=DAY),)), office(teams=(replace(TEAM, ends=LATE),)))],
    "member": [(office(teams=(TEAM,)), office(teams=(replace(TEAM, members=()),))),
               (office(teams=(TEAM,)),
                office(teams=(replace(TEAM, members=(replace(TEAM.members[0], reply=Reply.WAITING),)),)))],
    "beneath": [(office(teams=(OVER,)), office(teams=(OVER,), beneath=SHUT_POSIX))],
    "given": [(office(teams=(GIVER,), hand_outs=(HANDED,)),
               office(teams=(GIVER,), hand_outs=(replace(HANDED, rights=Right.NONE),)))],
    "until": [(office(teams=(GIVER,), hand_outs=(replace(HANDED, expires=DAY),)),
               office(teams=(GIVER,), hand_outs=(replace(HANDED, expires=LATE),)))],
    "accepted": [(office(teams=(GIVER,), hand_outs=(HANDED,)),
                  office(teams=(GIVER,), hand_outs=(replace(HANDED, reply=Reply.DECLINED),)))],
    "giver": [(office(teams=(GIVER,), hand_outs=(HANDED,)), office(hand_outs=(HANDED,)))],
    "rules": [(office(GUEST, teams=(GIVER,), hand_outs=(HANDED,)),
               office(GUEST, teams=(GIVER,), hand_outs=(HANDED,), rule=SharingRule(guests=Guests.NONE))),
              (office(GUEST, links=(LINK,)),
               office(GUEST, links=(LINK,), rule=SharingRule(domains=frozenset({"in.example"}))))],
    "carries": [(office(links=(LINK,)), office(links=(replace(LINK, rights=Right.NONE),)))],
    "live": [(office(links=(replace(LINK, expires=DAY),)), office(links=(replace(LINK, expires=LATE),))),
             (office(links=(replace(LINK, starts=DAY),)), office(links=(replace(LINK, starts=DAY + (DAY - LATE)),))),
             (office(links=(replace(LINK, uses_left=1),)), office(links=(replace(LINK, uses_left=0),))),
             (office(links=(LINK,)), office(links=(replace(LINK, is_on=False),)))],
    "role": [(Plain("posix", OPEN_POSIX, SHUT_POSIX, who=principal("root", "barn")),
              Plain("posix", OPEN_POSIX, SHUT_POSIX))],
}  # fmt: skip
# Gate → the same, where it takes some rights and leaves the others.
NARROWING = {
    "system": [tuple(Plain("posix", WIDE_POSIX, WIDE_POSIX, read_only=flag) for flag in (False, True)),
               tuple(Plain("posix", WIDE_POSIX, WIDE_POSIX, mounts=(Mount((b"t",), flag),)) for flag in (False, True))],
    "flags": [(Plain("posix", WIDE_POSIX, WIDE_POSIX), Plain("posix", WIDE_POSIX, one)) for one in FLAGGED]
             + [(Plain("posix", WIDE_POSIX, WIDE_POSIX), Plain("posix", FLAGGED[1], WIDE_POSIX)),
                (Plain("posix", WIDE_POSIX, WIDE_POSIX),
                 Plain("posix", WIDE_POSIX, WIDE_POSIX, mounts=(Mount((b"t",), False),)))],
    "download": [(office(teams=(replace(TEAM, over=None),)), office(teams=(replace(TEAM, download=False),)))],
}  # fmt: skip


def in_vets(system: str = "meadow", **holder: frozenset[str]) -> Principal:
    one = principal("ada", system)
    return replace(one, holder=replace(one.holder, **holder))


SURE, PERHAPS = ({word: frozenset({"g9"})} for word in ("groups", "maybe"))
ADMIN, PERHAPS_ADMIN = ({word: frozenset({"everything"})} for word in ("privileges", "perhaps"))
TO_VETS = replace(HANDED, receiver="vets", towards=Towards.GROUP)
VETS = replace(TEAM, members=(Member("vets", True, READ),))
# Gate → the same, where it is not known whether it lets ada pass.
DOUBTING = {
    "receiver": [tuple(office(in_vets(**how), teams=(GIVER,), hand_outs=(TO_VETS,)) for how in (SURE, PERHAPS))],
    "member": [tuple(office(in_vets(**how), teams=(VETS,)) for how in (SURE, PERHAPS))],
    "role": [tuple(Plain("nt", EVERYONE, NOBODY, who=in_vets("barn", **how)) for how in (ADMIN, PERHAPS_ADMIN)),
             tuple(office(in_vets(**how)) for how in (ADMIN, PERHAPS_ADMIN))],
}  # fmt: skip


@pytest.mark.parametrize(("name", "cases"), DOUBTING.items(), ids=list(DOUBTING))
def test_what_hangs_on_who_is_in_a_group_is_unknown_both_ways(name: str, cases) -> None:
    for sure, doubtful in cases:
        for found, reads in ask(sure):
            assert found & Right.READ and reads == 3, name
        for one, is_known in ((sure, True), (doubtful, False)):
            alone = one.alone() if isinstance(one, Plain) else one.ways(1).access([0])
            everyone = Everyone(one.matrix(False))
            mine = [place for place, column in enumerate(everyone.columns) if column == Column("any", (0,))]
            unknown = {
                flag
                for block in everyone.blocks(RowFilter.ALL)
                for row, column, flag in zip(block.folder, block.column, block.unknown.tolist(), strict=True)
                if row == 1 and (column in mine or not mine)
            }
            assert alone.is_known == is_known and (True in unknown) == (not is_known), (name, unknown)
            doubts = [gate.name for way in alone.ways for gate in way.gates if gate.is_unsure]
            assert doubts == ([] if is_known else [name])


@pytest.mark.parametrize(
    ("name", "number"), [(name, number) for name, cases in GATES.items() for number in range(len(cases))]
)
def test_a_shut_gate_shuts_both_ways_of_asking(name: str, number: int) -> None:
    is_open, is_shut = GATES[name][number]
    for found, reads in ask(is_open):
        assert found & Right.READ and reads == 3, (name, found, reads)
    assert ask(is_shut) == [(Right.NONE, 0), (Right.NONE, 0)]


@pytest.mark.parametrize(("name", "cases"), NARROWING.items(), ids=list(NARROWING))
def test_a_gate_that_narrows_does_so_both_ways(name: str, cases) -> None:
    for wide, narrow in cases:
        for (before, reads), (after, still) in zip(ask(wide), ask(narrow), strict=True):
            assert after and before & ~after and reads == 3
            # What may only be looked at still counts as read: the level says that it is not taken away.
            assert bool((before & ~after) & Right.READ) == (name == "download") and still == 3


def test_no_gate_of_the_code_is_left_out_here() -> None:
    core = Path(neatledger.__file__).parent / "core"
    named = re.compile(r"(?:\bGate|_gate|_asks)\(\s*\"([a-z]+)\"")
    assert {name for path in core.rglob("*.py") for name in named.findall(path.read_text())} == {
        *GATES,
        *NARROWING,
        *DOUBTING,
    }


def test_the_reasons_of_a_link_say_whom_it_is_for() -> None:
    for link, words in ((LINK, "for those it names"), (replace(LINK, audience=Audience.OFFICE), "for office")):
        given = office(links=(link,))
        everybody = range(len(given.service.principals))
        ways = [way for number in everybody for way in given.ways(1).access([number]).ways if way.name == "link"]
        assert any(words in reason.because for way in ways for gate in way.gates for reason in gate.reasons), words


def test_who_has_two_accounts_has_a_column_for_both_together() -> None:
    here = tree("posix", *OF_POSIX)
    two = [principal("ada", "barn"), replace(principal("eve", "barn"), person="ada"), principal("bob", "barn")]
    everyone = Everyone(Matrix(here.folders, here.classes, here.bodies, here.idents, two, terms=SystemTerms(MODELS["posix"], True)))  # fmt: skip
    columns = [(column.way, column.principals) for column in everyone.columns]
    assert columns == [("share", (0,)), ("share", (1,)), ("share", (2,)), ("any", (0, 1))]
    assert everyone.single == [False, False, True]


def test_gates_stand_in_the_order_in_which_they_are_passed() -> None:
    asked = (
        office(teams=(OVER,), hand_outs=(HANDED,), links=(LINK,), is_running=False, read_only=True)
        .ways(1)
        .access([0])
    )
    assert {way.name: [gate.name for gate in way.gates] for way in asked.ways} == {
        "team": ["account", "service", "running", "system", "published", "member", "list", "beneath"],
        "handed": ["giver", "given", "accepted", "rules", "account"],
        "link": ["running", "live", "carries", "rules", "system", "account"],
    }
    (way,) = office(is_running=False).ways(1).access([0]).ways
    assert [gate.name for gate in way.gates] == ["account", "running", "service", "system", "list"]
    alone = Plain("posix", *OF_POSIX).alone().ways[0]
    assert [gate.name for gate in alone.gates] == ["account", "service", "system", "enter", "list"]
    shared = Plain("nt", EVERYONE, EVERYONE, shares=(SHARE,)).alone().ways[0]
    assert [gate.name for gate in shared.gates] == ["account", "service", "share", "system", "list"]


@pytest.mark.parametrize("on", [RuleOn.FOLDER, RuleOn.PERSON, RuleOn.SYSTEM, RuleOn.OFFICE])
def test_a_rule_counts_where_it_is_placed_and_below(on: RuleOn) -> None:
    name = {RuleOn.FOLDER: "/t", RuleOn.PERSON: "bob", RuleOn.SYSTEM: "meadow", RuleOn.OFFICE: ""}[on]
    whole = office(
        teams=(replace(GIVER, path=b"/"),), hand_outs=(replace(HANDED, path=b"/"),), links=(replace(LINK, path=b"/"),)
    )
    rules = (PlacedRule(on, name, SharingRule(download=False)),)
    shared = replace(whole.service.shared, rules=rules)
    people = whole.service.principals
    asked = replace(
        whole, tree=tree("role", role.OPEN, role.OPEN), service=Service("meadow", shared, people, {}, DAY)
    )
    everyone = Everyone(asked.matrix(False))
    for row in (0, 1):
        alone = {way.name: way.rights for way in asked.ways(row).access([0]).ways}
        for block in everyone.blocks(RowFilter.ALL):
            for here, column, flags in zip(block.folder, block.column, block.flags.tolist(), strict=True):
                way = everyone.columns[column]
                if here == row and way.principals == (0,) and way.way in ("handed", "link"):
                    is_cut = row == 1 or on is not RuleOn.FOLDER
                    assert bool(flag_rights(flags) & Right.READ) == bool(alone[way.way] & Right.READ) == (not is_cut)
                    assert flag_rights(flags) & Right.VIEW


@pytest.mark.parametrize("who", [None, SHUT, NO_LICENCE], ids=["in", "shut", "without licence"])
@pytest.mark.parametrize("sort", ["plain", "team", "own"])
def test_a_list_not_seen_is_unknown_to_those_alone_who_come_so_far(who: Principal | None, sort: str) -> None:
    unseen = tree("role" if sort != "plain" else "posix", *(OF_POSIX if sort == "plain" else (role.OPEN, role.OPEN)), state=SeenState.LIST_UNKNOWN)  # fmt: skip
    if sort == "plain":
        one: Office | Plain = Plain("posix", *OF_POSIX, who=who)
        one.tree = unseen
        alone = one.alone()
    else:
        one = replace(office(who, **({"teams": (TEAM,)} if sort == "team" else {})), tree=unseen)
        alone = one.ways(1).access([0])
    everyone = Everyone(one.matrix(False))
    told = {
        everyone.columns[column].way: bool(unknown)
        for block in everyone.blocks(RowFilter.ALL)
        for row, column, unknown in zip(block.folder, block.column, block.unknown, strict=True)
        if row == 1 and everyone.columns[column].principals == (0,)
    }
    assert any(told.values()) == (not alone.is_known) == (who is None)
    assert {way.name: not way.is_known for way in alone.ways}.items() <= told.items()


def test_files_beneath_that_nobody_saw_are_not_counted_either_way() -> None:
    for state, reads in ((SeenState.WHOLE, 3), (SeenState.NOT_OPENED, -1)):
        one = office(teams=(OVER,))
        one = replace(one, share=tree("posix", *OF_POSIX, state=state))
        assert [found[1] for found in ask(one)] == [reads, reads]
        assert all(found[0] & Right.READ for found in ask(one))


TAKEN = [
    ("member:/t=ada", "the membership of ada in /t", b"/t"), ("member:t=ada", "the membership of ada in t", b"/t"),
    ("link:k", "the link k", b"/t"), ("hand-out:h", "the hand-out h", b"/t"), ("guest:bob", "bob", b"/"),
]  # fmt: skip


@pytest.mark.parametrize(("what", "words", "below"), TAKEN, ids=[each[0] for each in TAKEN])
def test_what_is_taken_back_is_that_and_no_more(what: str, words: str, below: bytes) -> None:
    two = replace(TEAM, members=(*TEAM.members, Member("bob", False, READ)))
    given = office(teams=(two, replace(two, path=b"/u", name="u")), hand_outs=(HANDED, replace(HANDED, id="h2")), links=(LINK, replace(LINK, id="k2"))).service  # fmt: skip
    after, said, folder = take_back(given, what)
    assert (said, folder) == (words, below)
    kind = what.partition(":")[0]
    left = after.shared
    assert [len(team.members) for team in left.teams] == ([1, 2] if kind == "member" else [2, 2])
    assert [one.id for one in left.hand_outs] == (["h2"] if kind == "hand-out" else ["h", "h2"])
    assert [one.id for one in left.links] == (["k2"] if kind == "link" else ["k", "k2"])
    assert [one.account.login for one in after.principals if not one.is_open] == (["bob"] if kind == "guest" else [])
    if kind == "member":
        assert [one.holder for one in left.teams[0].members] == ["bob"]


@pytest.mark.parametrize("what", ["member:t=eve", "member:x=ada", "link:z", "hand-out:z", "guest:z", "team:t", "t"])
def test_what_is_not_there_cannot_be_taken_back(what: str) -> None:
    with pytest.raises(UnknownNameError, match="has no"):
        take_back(office(teams=(TEAM,), links=(LINK,), hand_outs=(HANDED,)).service, what)
