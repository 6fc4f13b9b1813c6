"""Small rules of the core as tables: patterns, levels, subjects, shares, membership, homes, where rules count."""

from __future__ import annotations

import numpy as np
import pytest

from neatledger.core.access.shares import WRITING, Share, SystemTerms, shares_within
from neatledger.core.grouping.tidy import find_oddities
from neatledger.core.lists import nfs4, nt
from neatledger.core.lists.contract import Maker
from neatledger.core.lists.descriptors import Ace, Acl, Descriptor, pack_acl, split_acl
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.ordered import passed_on
from neatledger.core.lists.privileges import override_of
from neatledger.core.lists.rights import (
    ALL_RIGHTS,
    LEVEL_RIGHTS,
    Level,
    Right,
    level_of,
    level_of_file,
    parse_rights,
    spell_rights,
    with_view,
)
from neatledger.core.lists.subjects import Subject
from neatledger.core.lists.table import MODELS
from neatledger.core.people.homes import HomeFolder, accounts_without_home, match_homes
from neatledger.core.people.membership import holders_of
from neatledger.core.people.names import EntryNames
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.notices import About, NoticeRule
from neatledger.core.plan.rules import PlacedRule, RuleOn, SharingRule, tightest
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.shared import Shared
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.patterns import match_folders, match_path, match_text
from strategies import _table

R = Right
L, READ, WRITE = R.LIST | R.ENTER, with_view(LEVEL_RIGHTS[Level.READ]), LEVEL_RIGHTS[Level.WRITE]


# Patterns and order -----------------------------------------------------------------------------------

PATHS = [b"", b"/a", b"/b", b"/a/x", b"/a/y", b"/b/x", b"/a/x/old 1", b"/a/x/x"]


def folders():
    parent = [PATHS.index(path.rpartition(b"/")[0]) if path else -1 for path in PATHS]
    below = [[child for child, above in enumerate(parent) if above == row] for row in range(len(PATHS))]
    columns = {"name": [path.rpartition(b"/")[2] for path in PATHS], "parent": parent}
    columns |= {"first_child": [min(each, default=0) for each in below], "children": [len(each) for each in below]}
    return _table(columns, COLUMNS["folders"])


PATTERNS = [
    (b"/", [b""]), (b"/a", [b"/a"]), (b"/*", [b"/a", b"/b"]), (b"/*/x", [b"/a/x", b"/b/x"]), (b"/**/x", [b"/a/x", b"/b/x", b"/a/x/x"]),
    (b"/a/**", [b"/a", b"/a/x", b"/a/y", b"/a/x/x", b"/a/x/old 1"]), (b"/**", PATHS), (b"/a/**/x", [b"/a/x", b"/a/x/x"]),
    (b"/**/old *", [b"/a/x/old 1"]), (b"/a/x/x/x", []), (b"/A", []), (b"/**/x/x", [b"/a/x/x"]), (b"/?", []),
]  # fmt: skip


@pytest.mark.parametrize(("pattern", "paths"), PATTERNS, ids=[each[0].decode() for each in PATTERNS])
def test_a_pattern_fits_these_folders(pattern: bytes, paths: list[bytes]) -> None:
    found = [PATHS[row] for row in match_folders(pattern, folders())]
    assert sorted(found) == sorted(paths)
    assert sorted(path for path in PATHS if match_path(pattern, path or b"/")) == sorted(paths)


def test_texts_fit_with_any_run_of_characters() -> None:
    fits = {
        ("barn:*", "barn:/a/b"): True,
        ("*", ""): True,
        ("a*c", "abbc"): True,
        ("a*c", "abd"): False,
        ("a.c", "abc"): False,
    }
    assert {key: match_text(*key) for key in fits} == fits and match_text("a*", "a\nb")


def test_reading_order_has_each_folder_before_what_is_in_it() -> None:
    order = TreeOrder(folders())
    assert [PATHS[row] for row in order.order] == [
        b"",
        b"/a",
        b"/a/x",
        b"/a/x/old 1",
        b"/a/x/x",
        b"/a/y",
        b"/b",
        b"/b/x",
    ]
    assert order.size.tolist() == [8, 5, 2, 3, 1, 1, 1, 1] and order.levels == [(0, 1), (1, 3), (3, 6), (6, 8)]
    assert [PATHS[row] for row in order.below(3)] == [b"/a/x", b"/a/x/old 1", b"/a/x/x"]
    assert (
        order.find_row((b"a", b"x", b"x")) == 7 and order.find_row((b"a", b"z")) is None and order.find_row(()) == 0
    )
    assert order.find_many([(b"b",), (b"b", b"x"), (b"c",)]) == {(): 0, (b"b",): 2, (b"b", b"x"): 5, (b"c",): None}
    assert order.roll_up(np.ones(len(PATHS), dtype=np.int64)).tolist() == order.size.tolist()


# Rights -----------------------------------------------------------------------------------------------

LEVELS = [
    (R.NONE, "none", "none"), (L, "list", "none"), (R.ENTER, "mixed", "none"), (READ, "read", "read"), (L | R.VIEW, "view", "view"),
    (R.ENTER | R.ADD, "add-only", "none"), (WRITE, "write", "write"), (WRITE | R.DELETE, "write", "write"), (ALL_RIGHTS, "manage", "manage"),
    (READ | R.DELETE, "mixed", "read"), (R.LIST | R.ADD, "mixed", "none"), (R.VIEW, "mixed", "view"), (R.MANAGE, "mixed", "mixed"),
    (R.LIST | R.VIEW | R.ADD, "mixed", "view"), (R.SHARE, "mixed", "none"), (R.VIEW | R.CHANGE, "mixed", "mixed"), (R.LIST, "mixed", "none"),
    (R.LIST | R.READ, "read", "read"), (R.READ, "mixed", "read"), (R.ADD, "add-only", "none"), (R.LIST | R.READ | R.ADD, "write", "read"), (R.CHANGE, "none", "mixed"),
    (R.LIST | R.READ | R.ADD | R.MANAGE, "manage", "mixed"), (R.LIST | R.READ | R.ADD | R.MANAGE | R.DELETE, "manage", "mixed"), (R.DELETE, "mixed", "mixed"),
    (R.READ | R.CHANGE, "mixed", "write"), (R.READ | R.CHANGE | R.MANAGE, "mixed", "manage"),
]  # fmt: skip


@pytest.mark.parametrize(("rights", "folder", "file"), LEVELS, ids=range(len(LEVELS)))
def test_levels_name_usual_sets_of_rights(rights: Right, folder: str, file: str) -> None:
    assert (level_of(rights).value, level_of_file(rights).value) == (folder, file)


def test_words_for_rights_come_back() -> None:
    for level, rights in LEVEL_RIGHTS.items():
        assert parse_rights(level.value.upper()) == with_view(rights) and level_of(rights) is level
    assert parse_rights("list Read") == R.LIST | R.READ | R.VIEW and parse_rights("delete") == R.DELETE | R.CLEAR
    assert parse_rights(spell_rights(READ)) == READ and with_view(R.LIST) == R.LIST
    for text in ("", "reed", "read reed"):
        with pytest.raises(ValueError, match="neither a level"):
            parse_rights(text)


# Whom entries name, and privileges ----------------------------------------------------------------------

ADA, BOB = Holder("ada", "u1", frozenset({"g1"})), Holder("bob", "u2", frozenset({"g1", "u1"}))
NAMED = [
    (Subject.USER, "u1", "ada"), (Subject.USER, "g1", ""), (Subject.GROUP, "g1", "ada bob"), (Subject.GROUP, "u1", "bob"),
    (Subject.EITHER, "u1", "ada bob"), (Subject.EITHER, "u2", "bob"), (Subject.OWNER, "", "owners"), (Subject.EVERYONE, "", "ada bob"),
    (Subject.SIGNED_IN, "", "ada bob"), (Subject.UNKNOWN, "u1", ""),
]  # fmt: skip


@pytest.mark.parametrize(("subject", "ident", "whom"), NAMED, ids=range(len(NAMED)))
def test_an_entry_names_one_as_it_names_many(subject: Subject, ident: str, whom: str) -> None:
    crowd = Crowd([ADA, BOB])
    for owns in (False, True):
        named = [holder.login for holder in (ADA, BOB) if subject.names(ident, holder, owns)]
        assert named == (["ada", "bob"] * owns if whom == "owners" else whom.split())
        assert subject.among(ident, crowd, owns) == sum(
            1 << n for n, one in enumerate((ADA, BOB)) if one.login in named
        )


@pytest.mark.parametrize(("names", "has", "lacks"), [
    ({"backup"}, R.ENTER | R.LIST | R.READ, R.ADD | R.MANAGE), ({"restore"}, R.ADD | R.CLEAR | R.MANAGE, R.READ | R.LIST),
    ({"take-ownership"}, R.MANAGE, R.READ | R.ADD), ({"everything"}, ALL_RIGHTS, R.NONE), ({"backup", "restore"}, R.READ | R.MANAGE, R.NONE),
])  # fmt: skip
def test_privileges_give_whatever_lists_say(names, has: Right, lacks: Right) -> None:
    given = override_of(Holder("x", "u", frozenset(), frozenset(names)))
    assert given.rights & has == has and not given.rights & lacks
    assert all(name in given.entry for name in names)
    assert override_of(Holder("x", "u", frozenset(), frozenset({"other"}))) is None


# Shares -----------------------------------------------------------------------------------------------

MASKS = [
    # the permission, read-only → what it lets a named user do, and whether it lets them write at all
    (0x1F01FF, False, True, True), (0x1F01FF, True, True, False), (0x1200A9, False, True, False), (0x2, False, True, True),
    (0x20000, False, False, False), (0x0, False, False, False),
]  # fmt: skip


@pytest.mark.parametrize(("mask", "read_only", "connects", "writes"), MASKS, ids=range(len(MASKS)))
def test_a_permission_lets_in_one_as_it_lets_in_many(
    mask: int, read_only: bool, connects: bool, writes: bool
) -> None:
    body = nt.pack_body(Descriptor("", "", Acl((Ace(0, 0, mask, "S-1-5-21-1-2-3-9"),))))
    share = Share("s", b"/s", body, read_only)
    asked = [Holder("x", "S-1-5-21-1-2-3-9", frozenset()), Holder("y", "S-1-5-21-1-2-3-8", frozenset())]
    decided = [share.decide(one).rights for one in asked]
    sets = share.decide_all(Crowd(asked))
    assert (bool(decided[0]), bool(decided[0] & WRITING), decided[1]) == (connects, writes, R.NONE)
    assert sets[R.NONE] == int(connects) and all(sets[right] in (0, 1) for right in sets)
    assert {right for right, who in sets.items() if who and right} == {
        right for right in sets if right and right & decided[0]
    }


def test_shares_come_back_and_cover_what_lies_in_them() -> None:
    body = nt.pack_body(Descriptor("", "", Acl(())))
    inner, outer, hidden = (
        Share("i", b"/a/x", body, True, "C:\\a\\x"),
        Share("o", b"/a", body, place="C:\\A"),
        Share("h$", b"/ab", body),
    )
    assert [Share.of_facts(one.to_facts()) for one in (inner, outer, hidden)] == [inner, outer, hidden]
    terms = SystemTerms(MODELS["nt"], False, shares=(inner, outer, hidden))
    assert [one.name for one in terms.covering([b"a", b"x", b"y"])] == ["o", "i"] and terms.covering([b"b"]) == []
    assert [one.name for one in terms.covering([b"ab"])] == ["h$"] and hidden.is_hidden and not inner.is_hidden
    assert shares_within((inner, outer, hidden)) == [(inner, outer)]
    twin = Share("t", b"/t", body, place="c:/a")
    assert shares_within((outer, twin)) == [(twin, outer)]


# People -----------------------------------------------------------------------------------------------


def test_groups_are_those_of_members_of_primaries_and_of_groups_in_groups() -> None:
    accounts = [Account("ada", "1", "g1"), Account("bob", "2", "g2"), Account("cy", "2", "")]
    groups = [
        Group("staff", "g1", ("bob",)), Group("vets", "g2", (), ("staff",)), Group("ring", "g3", ("cy",), ("vets", "ring")),
        Group("staff", "g9", ("cy",)),
    ]  # fmt: skip
    found = holders_of(accounts, groups, frozenset({"all"}), {"g3": ["backup"], "1": ["restore"]})
    # Who has a group as their primary one is in the groups that contain it; two lines of one name stay two groups.
    assert [sorted(one.groups) for one in found] == [
        ["all", "g1", "g2", "g3"],
        ["all", "g1", "g2", "g3"],
        ["all", "g2", "g3", "g9"],
    ]
    assert [sorted(one.privileges) for one in found] == [["backup", "restore"], ["backup"], ["backup"]]
    assert [(one.login, one.user) for one in found] == [("ada", "1"), ("bob", "2"), ("cy", "2")]


HOMES = [
    ("ada", ["ada"], "named as the login"), ("ADA", ["ada"], "but for case"), ("7", ["bob"], "the account's number"), ("8", ["x8", "y8"], "several accounts"),
    ("9", ["9", "z"], "the login of one"), ("Cy", ["CY", "cy"], "differ from this in case only"), ("none", [], "owned by ada"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "logins", "because"), HOMES, ids=[each[0] for each in HOMES])
def test_a_home_goes_with_the_accounts_it_is_named_after(name: str, logins: list[str], because: str) -> None:
    numbers = {"ada": "1", "bob": "7", "x8": "8", "y8": "8", "9": "2", "z": "9", "cy": "3", "CY": "4"}
    accounts = [Account(login, number, "") for login, number in numbers.items()]
    (match,) = match_homes([HomeFolder(Address("barn", b"/Homes/" + name.encode()), "1")], accounts)
    assert sorted(one.login for one in match.accounts) == sorted(logins) and because in match.because
    left = [one.login for one in accounts_without_home([match], accounts)]
    assert left == [login for login in numbers if login not in logins]


# Where rules count --------------------------------------------------------------------------------------

COVERS = [
    (PlacedRule(RuleOn.OFFICE, "", SharingRule()), True, True), (PlacedRule(RuleOn.SYSTEM, "meadow", SharingRule()), True, False),
    (PlacedRule(RuleOn.SYSTEM, "", SharingRule()), True, True), (PlacedRule(RuleOn.PERSON, "ada", SharingRule()), True, False),
    (PlacedRule(RuleOn.PERSON, "bob", SharingRule()), False, False), (PlacedRule(RuleOn.FOLDER, "/t", SharingRule()), True, False),
    (PlacedRule(RuleOn.FOLDER, "/t/x", SharingRule()), True, False), (PlacedRule(RuleOn.FOLDER, "/t/x/y", SharingRule()), False, False),
    (PlacedRule(RuleOn.FOLDER, "/t", SharingRule(), "loft"), False, False), (PlacedRule(RuleOn.FOLDER, "/", SharingRule()), True, True),
]  # fmt: skip


@pytest.mark.parametrize(("placed", "here", "elsewhere"), COVERS, ids=range(len(COVERS)))
def test_a_placed_rule_covers_this(placed: PlacedRule, here: bool, elsewhere: bool) -> None:
    assert placed.covers("meadow", ("ada", "a"), b"/t/x") == here
    assert placed.covers("other", ("eve",), b"/u") == elsewhere
    assert PlacedRule.of_facts(placed.to_facts()).rule == placed.rule and placed.describe()


def test_of_many_rules_the_tightest_holds() -> None:
    placed = [
        PlacedRule(RuleOn.OFFICE, "", SharingRule(link_days=days, open_links=word))
        for days, word in ((9, "read"), (5, "write"), (7, None))
    ]
    assert tightest(placed) == SharingRule(link_days=5, open_links="read") and tightest([]) == SharingRule()


def test_what_a_ledger_of_before_kept_of_a_limit_is_read_as_it_was_meant() -> None:
    facts = {"teams": [], "hand_outs": [], "links": [], "devices": [], "running": True, "wants": ""}

    def largest(said: object, **more: object) -> object:
        rule = {"on": "office", "name": "", "rule": {"largest": said}}
        return Shared.of_facts({**facts, "rules": [rule], **more}).rules[0].rule.largest

    assert largest(0) is UNLIMITED and largest(5) == 5
    now = Shared(
        rules=(
            PlacedRule(RuleOn.OFFICE, "", SharingRule(largest=0)),
            PlacedRule(RuleOn.OFFICE, "", SharingRule(largest=UNLIMITED)),
        )
    )
    assert Shared.of_facts(now.to_facts()) == now
    with pytest.raises(ValueError, match="newer version"):
        Shared.of_facts(now.to_facts() | {"version": 99})


def test_lists_say_in_words_what_they_hold() -> None:
    names = EntryNames([Account("ada", "S-1-5-21-1-2-3-9", "")], [], MODELS["nt"])
    said = {
        None: ["no list at all: everyone may do everything"],
        (): ["an empty list: nobody may do anything"],
        (Ace(0, 3, 0x1200A9, "S-1-5-21-1-2-3-9"),): ["allow ada: read"],
        (Ace(1, 0, 0x1F01FF, "S-1-5-21-1-2-3-9"),): ["deny ada: manage [only here]"],
        (Ace(0, 0x12, 0x1200A9, "S-1-1-0"),): ["allow Everyone: read [here, and for folders below, from above]"],
        (Ace(0, 0xB, 0x1200A9, "S-1-1-0"),): ["allow Everyone: read [only for files and folders below]"],
        (Ace(0, 0x5, 0x1200A9, "S-1-1-0"),): ["allow Everyone: read [here, and for files one level down]"],
        (Ace(0, 0x8, 0x1200A9, "S-1-1-0"),): ["allow Everyone: read [nowhere]"],
    }
    for aces, words in said.items():
        dacl = None if aces is None else Acl(aces)
        found = MODELS["nt"].parse(nt.pack_body(Descriptor("", "", dacl))).describe(names)
        assert [line.casefold() for line in found] == [line.casefold() for line in words]


PASSED = [
    # flags above → on a new file, on a new folder
    (0x0, None, None), (0x1, 0, 0x9), (0x2, None, 0x2), (0x3, 0, 0x3), (0x5, 0, None), (0x6, None, 0), (0x7, 0, 0), (0x9, 0, 0x9), (0xB, 0, 0x3),
    (0xF, 0, 0), (0x4, None, None), (0x8, None, None),
]  # fmt: skip


@pytest.mark.parametrize(("flags", "on_file", "on_folder"), PASSED, ids=[hex(each[0]) for each in PASSED])
def test_entries_are_passed_on_as_their_flags_say(flags: int, on_file: int | None, on_folder: int | None) -> None:
    assert passed_on(flags, is_folder=False) == on_file and passed_on(flags, is_folder=True) == on_folder


def test_a_list_is_written_as_its_picture_has_it() -> None:
    # MS-DTYP 2.4.5, 2.4.4.1, 2.4.2.2: revision, 0, size, entries, 0; type, flags, size, mask; the identifier.
    picture = "02 00 1c00 0100 0000" + "01 03 1400 a9001200" + "01 01 000000000005 12000000"
    assert pack_acl(Acl((Ace(1, 3, 0x1200A9, "S-1-5-18"),))) == bytes.fromhex(picture)
    assert split_acl(bytes.fromhex(picture))[0] == 2


def test_entries_that_are_kept_as_they_came_say_so() -> None:
    body = bytes(9)
    assert str(nt.NtEntry(Ace(0x20, 0, 0, "", raw=body))) == "entry of type 0x20, kept as it is (9 bytes)"
    assert str(nt.NtEntry(Ace(0x00, 0, 0, "", raw=body))) == "entry of type 0x00, kept as it is (9 bytes)"
    assert str(nt.NtEntry(Ace(0x00, 0, 0, "", raw=b""))) == "a list that could not be read"
    assert str(nt.NtEntry(Ace(0x04, 0, 1, "S-1-1-0"))) == "entry of type 0x04, kept as it is (0 bytes)"
    assert str(nt.NtEntry(Ace(0x02, 0, 0x1200A9, "S-1-1-0"))) == "record:S-1-1-0:read"


def test_where_nothing_is_passed_on_an_nfsv4_child_is_its_makers() -> None:
    model, above = MODELS["nfs4"], nfs4.pack_body("g", [nfs4.Entry(nfs4.ALLOW, 0, 0x1F01FF, nfs4.EVERYONE)])
    for is_folder, mask in ((True, 0x1601FF), (False, 0x1601BF)):
        made = model.new_child(above, None, Maker("u", "h"), is_folder=is_folder)
        assert made == nfs4.pack_body("h", [nfs4.Entry(nfs4.ALLOW, 0, mask, nfs4.OWNER)])


@pytest.mark.parametrize(
    ("size", "apart", "is_told"),
    [
        (3, 1, True),
        (2, 1, False),
        (19, 2, False),
        (20, 2, True),
        (20, 3, False),
        (29, 3, False),
        (30, 3, True),
        (12, 0, False),
    ],
)
def test_groups_are_nearly_the_same_where_one_in_ten_differs(size: int, apart: int, is_told: bool) -> None:
    people = [f"p{n}" for n in range(size)]
    groups = {"one": frozenset(people[: size - apart]), "other": frozenset(people)}
    if apart == 1:
        # One more is few in any group, if enough are in both.
        groups["other"] = frozenset([*people[: size - apart], "more"])
        groups["one"] |= {people[-1]} if size > 2 else frozenset()
    kinds = [one.kind for one in find_oddities(groups, ["one", "other"])]
    assert ("nearly the same" in kinds) == (is_told and len(groups["one"] & groups["other"]) >= 3)


def test_what_is_not_said_of_a_notice_is_as_the_manual_has_it() -> None:
    rule = NoticeRule(About.LIMIT)
    assert (rule.who, rule.at, rule.within_days, rule.checks, rule.every) == ((), (90, 97), 14, (), 0)
